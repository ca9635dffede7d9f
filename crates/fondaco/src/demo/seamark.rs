//! What lies on the Seamark observatory's volume. All names and figures are made up.

use std::collections::BTreeMap;
use std::fs::{DirBuilder, File};
use std::io::{self, Write};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use fondaco_core::kernel;
use fondaco_core::units::Time;
use rustix::fs::{AtFlags, CWD, Timespec, Timestamps};

use super::content::{Texture, fill};

const KIB: usize = 1024;
const HOUR: i64 = 3600;
const DAY: i64 = 24 * HOUR;

const ACOUSTICS: u32 = 60_101;
const BUOYOPS: u32 = 60_102;
const MODELLING: u32 = 60_103;
const NOBODY_ANY_MORE: u32 = 60_104;
const GROUP: u32 = 60_100;

/// The names of the demo's accounts, by number. One owner has none.
pub(super) fn accounts() -> BTreeMap<String, String> {
    let known = [
        (ACOUSTICS, "acoustics"),
        (BUOYOPS, "buoyops"),
        (MODELLING, "modelling"),
        (GROUP, "seamark"),
    ];
    known.iter().map(|(number, name)| (number.to_string(), (*name).to_owned())).collect()
}

/// Makes the files below `root`, which must not exist yet.
///
/// # Errors
///
/// The first call that fails. Owners are set only by root.
pub(super) fn lay_out(root: &Path, now: Time) -> io::Result<()> {
    DirBuilder::new().recursive(true).mode(0o755).create(root)?;
    let is_root = kernel::effective_user() == 0;
    let mut station = Station {
        root: root.to_owned(),
        now,
        is_root,
        buffer: Vec::new(),
        directories: BTreeMap::new(),
    };
    station.hydrophone()?;
    station.model_runs()?;
    station.surveys()?;
    station.cameras()?;
    station.tide_gauges()?;
    station.telemetry()?;
    station.chart_tiles()?;
    station.field_kits()?;
    station.backups()?;
    station.odds_and_ends()?;
    station.date_directories()
}

struct Station {
    root: PathBuf,
    now: Time,
    is_root: bool,
    buffer: Vec<u8>,
    /// Age of the newest thing in each directory, and its owner.
    directories: BTreeMap<PathBuf, (i64, u32)>,
}

impl Station {
    fn file(
        &mut self,
        path: &str,
        size: usize,
        texture: Texture,
        age: i64,
        owner: u32,
    ) -> io::Result<()> {
        let seed = path.to_owned();
        self.file_as(path, &seed, size, texture, age, owner)
    }

    /// A file whose contents are those of the name `seed`: the same seed, the same contents.
    fn file_as(
        &mut self,
        path: &str,
        seed: &str,
        size: usize,
        texture: Texture,
        age: i64,
        owner: u32,
    ) -> io::Result<()> {
        let whole = self.place(path, age, owner)?;
        fill(&mut self.buffer, seed, size, texture);
        let mut file = File::create_new(&whole)?;
        file.write_all(&self.buffer)?;
        if texture == Texture::Hole {
            file.set_len(size as u64)?;
        }
        drop(file);
        self.date(&whole, age, owner)
    }

    /// A small file with this text.
    fn text(&mut self, path: &str, text: &str, age: i64, owner: u32) -> io::Result<()> {
        let whole = self.place(path, age, owner)?;
        File::create_new(&whole)?.write_all(text.as_bytes())?;
        self.date(&whole, age, owner)
    }

    /// A directory in which there is nothing.
    fn directory(&mut self, path: &str, age: i64, owner: u32) -> io::Result<()> {
        let whole = self.place(&format!("{path}/nothing"), age, owner)?;
        whole.parent().map_or(Ok(()), |directory| self.date(directory, age, owner))
    }

    /// Gives a file the head that the kernel gives the memory of a crashed program (`core(5)`).
    fn as_dump(&mut self, path: &str, program: &str, age: i64, owner: u32) -> io::Result<()> {
        let mut head = vec![0u8; 512];
        head[..6].copy_from_slice(b"\x7fELF\x02\x01");
        // a dump, with one part at 64 that is a list of notes at 128
        (head[16], head[32], head[54], head[56]) = (4, 64, 56, 1);
        (head[64], head[72]) = (4, 128);
        // a note `CORE` of 136 bytes about the process, with its name at 40
        (head[128], head[132], head[136]) = (5, 136, 3);
        head[140..144].copy_from_slice(b"CORE");
        head[188..188 + program.len()].copy_from_slice(program.as_bytes());
        let whole = self.root.join(path);
        let mut file = File::options().write(true).open(&whole)?;
        file.write_all(&head)?;
        drop(file);
        self.date(&whole, age, owner)
    }

    /// A bin with two things that were thrown away, one of them without saying where it was.
    fn bin(&mut self, bin: &str) -> io::Result<()> {
        for (name, days) in [("sketches", 90), ("draft-chart.png", 40)] {
            for sheet in 1..=4 {
                let path = match name {
                    "sketches" => format!("{bin}/files/{name}/sheet-{sheet}.png"),
                    _ if sheet > 1 => continue,
                    _ => format!("{bin}/files/{name}"),
                };
                self.file(&path, 16 * KIB, Texture::Noise, 300 * DAY, ACOUSTICS)?;
            }
            // without the date of deletion, which would be another in every demo: the time of the file itself counts then
            let info = format!("[Trash Info]\nPath=home/acoustics/{name}\n");
            self.text(&format!("{bin}/info/{name}.trashinfo"), &info, days * DAY, ACOUSTICS)?;
        }
        self.file(
            &format!("{bin}/files/unsorted.tif"),
            16 * KIB,
            Texture::Noise,
            300 * DAY,
            ACOUSTICS,
        )
    }

    fn link(&mut self, path: &str, to: &str, age: i64, owner: u32) -> io::Result<()> {
        let whole = self.place(path, age, owner)?;
        std::os::unix::fs::symlink(to, &whole)?;
        self.date(&whole, age, owner)
    }

    /// Makes the directories above a path and remembers their ages.
    fn place(&mut self, path: &str, age: i64, owner: u32) -> io::Result<PathBuf> {
        let whole = self.root.join(path);
        let mut above = Path::new(path).parent();
        while let Some(directory) = above.filter(|d| !d.as_os_str().is_empty()) {
            let entry = self.directories.entry(directory.to_owned());
            let known = entry.or_insert((age, owner));
            known.0 = known.0.min(age);
            above = directory.parent();
        }
        if let Some(parent) = whole.parent() {
            DirBuilder::new().recursive(true).mode(0o755).create(parent)?;
        }
        Ok(whole)
    }

    fn date(&self, path: &Path, age: i64, owner: u32) -> io::Result<()> {
        if self.is_root {
            std::os::unix::fs::lchown(path, Some(owner), Some(GROUP))?;
        }
        let spec = |sec| Timespec { tv_sec: sec, tv_nsec: 0 };
        let written = self.now.sec - age;
        // everything was last read some time between its writing and now
        let times =
            Timestamps { last_access: spec(written + age / 3), last_modification: spec(written) };
        Ok(rustix::fs::utimensat(CWD, path, &times, AtFlags::SYMLINK_NOFOLLOW)?)
    }

    fn date_directories(&mut self) -> io::Result<()> {
        let directories = std::mem::take(&mut self.directories);
        for (path, (age, owner)) in directories.iter().rev() {
            self.date(&self.root.join(path), *age, *owner)?;
        }
        let newest = directories.values().map(|(age, _)| *age).min().unwrap_or(0);
        // the volume's own root is the administrator's, as on a real one
        self.date(&self.root, newest, kernel::effective_user())
    }

    fn hydrophone(&mut self) -> io::Result<()> {
        for (station, years, per_year, size) in
            [("north-basin", 2035..2042, 14, 460), ("south-reef", 2038..2042, 10, 380)]
        {
            for year in years {
                for take in 0..per_year {
                    let age = (2041 - year) * 365 * DAY + i64::from(take) * 23 * DAY + 2 * DAY;
                    let size = (size + take * 7) as usize * KIB;
                    let (month, day) = (12 - take * 11 / per_year, 1 + take * 37 % 28);
                    let path = format!(
                        "hydrophone/{station}/{year}/{station}-{year}-{month:02}-{day:02}.wav"
                    );
                    self.file(&path, size, Texture::Noise, age, ACOUSTICS)?;
                }
            }
        }
        for pistonphone in 1..=6 {
            let path = format!("hydrophone/calibration/pistonphone-{pistonphone}.wav");
            self.file(&path, 180 * KIB, Texture::Noise, 700 * DAY, ACOUSTICS)?;
        }
        self.file("hydrophone/calibration/README", 2 * KIB, Texture::Table, 700 * DAY, ACOUSTICS)
    }

    fn model_runs(&mut self) -> io::Result<()> {
        let runs = [
            ("2039-autumn", 800, 8),
            ("2040-spring", 610, 10),
            ("2040-autumn", 420, 12),
            ("2041-spring", 30, 14),
        ];
        for (run, days, steps) in runs {
            for step in 0..steps {
                let age = days * DAY + i64::from(steps - step) * 5 * HOUR;
                let path = format!("model-runs/{run}/restart-{step:04}.nc");
                self.file(&path, 620 * KIB, Texture::Noise, age, MODELLING)?;
                for field in ["salinity", "current-u", "current-v"] {
                    let path = format!("model-runs/{run}/fields/{field}-{step:04}.nc");
                    self.file(&path, 44 * KIB, Texture::Noise, age, MODELLING)?;
                }
            }
            let path = format!("model-runs/{run}/run.log");
            self.file(&path, 96 * KIB, Texture::Table, days * DAY, MODELLING)?;
        }
        for part in 0..40u32 {
            let path = format!("model-runs/scratch/.tmp-{:08x}", part.wrapping_mul(0x9e37_79b1));
            self.file(&path, 70 * KIB, Texture::Noise, 200 * DAY, MODELLING)?;
        }
        self.file(
            "model-runs/2041-spring/current.log",
            40 * KIB,
            Texture::Table,
            3 * HOUR,
            MODELLING,
        )
    }

    fn surveys(&mut self) -> io::Result<()> {
        for (name, mebibytes, days) in [("2037", 6, 1500), ("2038", 20, 1160), ("2040", 11, 400)] {
            let path = format!("surveys/survey-{name}.raw");
            self.file(&path, mebibytes * 1024 * KIB, Texture::Noise, days * DAY, NOBODY_ANY_MORE)?;
            let path = format!("surveys/survey-{name}.track.csv");
            self.file(&path, 300 * KIB, Texture::Table, days * DAY, NOBODY_ANY_MORE)?;
        }
        // a length without blocks: apparent size alone misleads
        self.file("surveys/preallocated.grid", 96 << 20, Texture::Hole, 390 * DAY, NOBODY_ANY_MORE)
    }

    fn cameras(&mut self) -> io::Result<()> {
        for (camera, shots) in [("jetty", 260), ("lighthouse", 180)] {
            for shot in 0..shots {
                let (month, day, hour) = (1 + shot / 28 % 12, 1 + shot % 28, 6 + shot % 3 * 6);
                let age = (shots - shot) * 36 * HOUR;
                let path = format!("cameras/{camera}/2041/{month:02}/{day:02}-{hour:02}00.jpg");
                self.file(&path, (48 + shot as usize % 24) * KIB, Texture::Noise, age, BUOYOPS)?;
            }
        }
        Ok(())
    }

    fn tide_gauges(&mut self) -> io::Result<()> {
        for gauge in ["harbour", "outer-mole", "skerry"] {
            for day in 0..520i64 {
                let (year, month, date) = (2041 - day / 336, 12 - day / 28 % 12, 28 - day % 28);
                let path =
                    format!("tide-gauges/{gauge}/{year}/tide-{year}-{month:02}-{date:02}.csv");
                let size = (5 + day as usize % 4) * KIB;
                self.file(&path, size, Texture::Table, day * DAY + 9 * HOUR, BUOYOPS)?;
            }
        }
        Ok(())
    }

    fn telemetry(&mut self) -> io::Result<()> {
        for buoy in 1..=8i64 {
            // somebody switched on a more verbose log three weeks ago
            let path = format!("telemetry/buoy-{buoy:02}/telemetry.log");
            self.file(&path, 548 * KIB, Texture::Table, buoy * 600, BUOYOPS)?;
            for generation in 1..=12i64 {
                let path = format!("telemetry/buoy-{buoy:02}/telemetry.log.{generation}");
                let size = match generation {
                    1 => 540,
                    2 => 500,
                    3 => 404,
                    _ => 68,
                };
                self.file(&path, size * KIB, Texture::Table, generation * 7 * DAY, BUOYOPS)?;
            }
        }
        Ok(())
    }

    fn chart_tiles(&mut self) -> io::Result<()> {
        for zoom in 6..11i64 {
            for tile in 0..(zoom - 4) * 60 {
                let path =
                    format!("chart-tiles/{zoom}/{}/{}.png", 500 + tile / 12, 300 + tile % 12);
                let size = (5 + tile as usize % 6) * KIB;
                self.file(&path, size, Texture::Noise, 260 * DAY + tile * HOUR, BUOYOPS)?;
            }
        }
        Ok(())
    }

    /// One kit, copied over and over by hand: the old copy of the second is all in the second, which has new editions of
    /// a few sheets of the first.
    fn field_kits(&mut self) -> io::Result<()> {
        for (copy, days) in [("kit-a", 520), ("kit-b", 310), ("kit-b (old)", 480)] {
            for item in 0..60 {
                let edition = if copy == "kit-a" || item < 56 { "" } else { ", new edition" };
                let seed = format!("kit item {item}{edition}");
                let age = days * DAY + i64::from(item) * HOUR;
                let path = format!("field-kits/{copy}/manuals/sheet-{item:03}.pdf");
                self.file_as(&path, &seed, 140 * KIB, Texture::Noise, age, BUOYOPS)?;
            }
            let path = format!("field-kits/{copy}/checklist.txt");
            let seed = copy.trim_end_matches(" (old)");
            self.file_as(&path, seed, 3 * KIB, Texture::Table, days * DAY, BUOYOPS)?;
        }
        // the third shares its inodes with the first: removing one of them frees nothing
        for item in 0..60 {
            let path = format!("field-kits/kit-a linked/manuals/sheet-{item:03}.pdf");
            let linked = self.place(&path, 500 * DAY, BUOYOPS)?;
            let first = format!("field-kits/kit-a/manuals/sheet-{item:03}.pdf");
            std::fs::hard_link(self.root.join(first), linked)?;
        }
        Ok(())
    }

    fn backups(&mut self) -> io::Result<()> {
        for (generation, days) in [("1", 12), ("2", 42), ("3", 73), ("4", 103)] {
            for part in ["catalogue", "stations", "journals"] {
                let path = format!("backups/weekly-{generation}/{part}.db");
                self.file(&path, 1100 * KIB, Texture::Noise, days * DAY, GROUP)?;
            }
        }
        Ok(())
    }

    fn odds_and_ends(&mut self) -> io::Result<()> {
        self.file("incoming/bathymetry.zip.part", 3400 * KIB, Texture::Noise, 95 * DAY, ACOUSTICS)?;
        self.file("incoming/core.2464", 5032 * KIB, Texture::Noise, 61 * DAY, MODELLING)?;
        self.as_dump("incoming/core.2464", "regrid", 61 * DAY, MODELLING)?;
        for empty in ["READY", "lock", "report.csv"] {
            self.file(&format!("incoming/{empty}"), 0, Texture::Table, 61 * DAY, MODELLING)?;
        }
        self.link("incoming/latest", "bathymetry-2036.zip", 400 * DAY, ACOUSTICS)?;
        self.link("surveys/current", "survey-2040.raw", 400 * DAY, NOBODY_ANY_MORE)?;
        // names that try to drive a terminal, and one that is no UTF-8
        self.file(
            "incoming/\u{1b}[31mred\u{1b}[0m.log",
            8 * KIB,
            Texture::Table,
            30 * DAY,
            ACOUSTICS,
        )?;
        self.file("incoming/chart\u{202e}gpj.sh", 8 * KIB, Texture::Table, 30 * DAY, ACOUSTICS)?;
        self.file("incoming/line\nbreak.txt", 4 * KIB, Texture::Table, 30 * DAY, ACOUSTICS)?;
        for cached in 0..90 {
            let path = format!("home/acoustics/.cache/spectrogram/{cached:03}.bin");
            self.file(&path, 44 * KIB, Texture::Noise, 80 * DAY, ACOUSTICS)?;
        }
        self.text(
            "home/acoustics/.cache/spectrogram/CACHEDIR.TAG",
            "Signature: 8a477f597d28d172789f06886806bc55\n# pictures of recordings, made again when they are looked at\n",
            80 * DAY,
            ACOUSTICS,
        )?;
        self.bin(".Trash-60101")?;
        self.file("home/acoustics/notes.txt~", 12 * KIB, Texture::Table, 40 * DAY, ACOUSTICS)?;
        self.file(
            "model-runs/scratch/field.nc.tmp",
            24 * KIB,
            Texture::Noise,
            200 * DAY,
            MODELLING,
        )?;
        self.directory("incoming/2041/quarantine", 75 * DAY, ACOUSTICS)?;
        self.file("home/acoustics/notes.txt", 12 * KIB, Texture::Table, 5 * DAY, ACOUSTICS)?;
        self.file("home/buoyops/shift-plan.csv", 22 * KIB, Texture::Table, DAY, BUOYOPS)?;
        self.file("home/modelling/bin/regrid", 900 * KIB, Texture::Noise, 820 * DAY, MODELLING)
    }
}
