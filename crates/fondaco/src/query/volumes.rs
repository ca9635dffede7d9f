//! Volumes with their levels and where they are going.

use anyhow::Result;
use fondaco_chart::{Chart, Context, Level as Bar};
use fondaco_core::drive::{Drive, Drives, Health};
use fondaco_core::history::{Forecast, Outlook};
use fondaco_core::kernel::{Capacity, LevelFor, Quota};
use fondaco_core::shown::{Shown, shown};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Level, Time, UnitStyle, counted};
use fondaco_core::volume::{Place, Volume, interfaces};
use serde_json::{Map, Value, json};

use super::cells::{bytes, text};
use super::{Answer, Paper};
use crate::output::{Grid, left, path_value, put_path, right, say};
use crate::words::{full_in, in_words, owner_name, quota_line, range, rise};

/// Volumes, as they were asked.
#[derive(Debug)]
pub struct Volumes {
    /// Each with where it is going.
    pub known: Vec<(Volume, Outlook)>,
    /// The disks behind each, in the same order; nothing where they were not asked.
    pub drives: Vec<Drives>,
    /// When they were asked.
    pub asked: Time,
    /// Names of the owners of limits.
    pub state: State,
}

impl Answer for Volumes {
    fn head(&self) -> Value {
        json!({ "fondaco": 1, "kind": "volumes", "asked": self.asked.rfc3339() })
    }

    fn grid(&self) -> Grid {
        grid(&self.known, &self.drives)
    }

    fn document(&self) -> Result<Value> {
        let one = |(number, (volume, outlook)): (usize, &(Volume, Outlook))| {
            let mut one = document(volume, outlook, &self.state);
            if let Some(drives) = self.drives.get(number) {
                one["drives"] = drives_document(drives);
            }
            one
        };
        let mut document = self.head();
        document["volumes"] = self.known.iter().enumerate().map(one).collect();
        document["kernel_interfaces"] = interfaces().into();
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        self.grid().print(columns)?;
        for ((volume, _), drives) in self.known.iter().zip(&self.drives) {
            if matches!(drives.health(), Health::Failing | Health::Worn) {
                say!("{}: {}", Shown(&volume.mount_point), drives.verdict());
                for reason in reasons(drives) {
                    say!("  {reason}");
                }
            }
        }
        print_notes(&self.known, &self.state)
    }

    /// Those that do not answer are left out.
    fn chart(&self, paper: &Paper) -> Option<Chart> {
        let bar = |(volume, _): &(Volume, Outlook)| {
            let capacity = volume.capacity.as_ref().ok()?;
            Some(Bar {
                name: shown(&volume.mount_point),
                used: capacity.used,
                capacity: volume.whole()?,
                level: volume.level()?.share(),
                waterline: volume.waterline.share(),
            })
        };
        let bars: Vec<Bar> = self.known.iter().filter_map(bar).collect();
        let of = counted(bars.len() as u64, "volume");
        let Paper { units, look, size, .. } = *paper;
        let date = self.asked.local();
        Some(fondaco_chart::levels(&bars, &Context { of, date, lens: None, units, look, size }))
    }
}

/// What speaks against the disks behind a volume, with the names of the disks.
pub fn reasons(drives: &Drives) -> Vec<String> {
    let bad = drives.disks.iter().filter(|disk| disk.health > Health::Good);
    let of_disk = |disk: &Drive| {
        let told: Vec<String> =
            disk.reasons.iter().map(|reason| format!("{}: {reason}", disk.name)).collect();
        told
    };
    bad.flat_map(of_disk).chain(drives.troubles.iter().cloned()).collect()
}

/// The disks behind a volume.
fn drives_document(drives: &Drives) -> Value {
    let disk = |disk: &Drive| {
        let own = disk.own.clone().unwrap_or_default();
        json!({
            "name": disk.name,
            "model": disk.model(),
            "health": disk.health,
            "reasons": disk.reasons,
            "state": disk.kernel.state,
            "rotational": disk.kernel.rotational,
            "temperature": disk.temperature(),
            "wear_percent": own.wear,
            "spare_percent": own.spare,
            "reallocated_sectors": own.reallocated,
            "pending_sectors": own.pending,
            "media_errors": own.media_errors,
            "hours": own.hours,
            "passed": own.passed,
        })
    };
    json!({
        "health": drives.health(),
        "verdict": drives.verdict(),
        "troubles": drives.troubles,
        "disks": drives.disks.iter().map(disk).collect::<Vec<_>>(),
    })
}

fn document(volume: &Volume, outlook: &Outlook, state: &State) -> Value {
    let percent = |level: Level| (level.share() * 1000.0).round() / 10.0;
    let mut document = Map::new();
    put_path(&mut document, &volume.mount_point);
    document.insert("source".into(), path_value(&volume.source));
    document.insert("type".into(), volume.fs_type.clone().into());
    document.insert("class".into(), volume.class.word().into());
    document.insert("read_only".into(), volume.read_only.into());
    document.insert("removable".into(), volume.removable.into());
    document.insert("root".into(), path_value(&volume.root));
    document.insert("also_mounted".into(), volume.also.iter().map(place).collect());
    document.insert("waterline".into(), percent(volume.waterline).into());
    match &volume.capacity {
        Ok(capacity) => {
            let level = capacity.level_for(volume.level_for);
            document.insert("level".into(), percent(level).into());
            document.insert("level_for".into(), volume.level_for.word().into());
            for whom in [LevelFor::Users, LevelFor::Root] {
                let key = format!("level_{}", whom.word());
                document.insert(key, percent(capacity.level_for(whom)).into());
            }
            document.insert("to_find".into(), volume.to_find(Bytes::ZERO).get().into());
            document.insert("inode_level".into(), json!(capacity.inode_level().map(percent)));
            document.insert("short_of_inodes".into(), volume.short_of_inodes().into());
            document.insert("capacity".into(), json!(capacity));
            document.insert("trend".into(), json!(outlook.trend()));
            document.insert("full_in_days".into(), json!(forecast(outlook)));
            let quotas = volume.quotas.iter().map(|quota| quota_document(quota, state));
            document.insert("quotas".into(), quotas.collect());
        }
        Err(reason) => {
            document.insert("error".into(), reason.to_string().into());
        }
    }
    Value::Object(document)
}

fn place(place: &Place) -> Value {
    json!({
        "path": path_value(&place.mount_point),
        "root": path_value(&place.root),
        "read_only": place.read_only,
    })
}

fn forecast(outlook: &Outlook) -> Option<Forecast> {
    match outlook {
        Outlook::Full(_, forecast) => Some(*forecast),
        _ => None,
    }
}

fn quota_document(quota: &Quota, state: &State) -> Value {
    let percent = |level: Level| (level.share() * 1000.0).round() / 10.0;
    let mut document = json!(quota);
    document["name"] = json!(owner_name(quota, state));
    document["level"] = json!(quota.level().map(percent));
    document["inode_level"] = json!(quota.inode_level().map(percent));
    document
}

fn print_notes(volumes: &[(Volume, Outlook)], state: &State) -> Result<()> {
    for (volume, outlook) in volumes {
        let at = Shown(&volume.mount_point);
        if let Err(reason) = &volume.capacity {
            say!("{at}: {reason}");
        }
        for place in &volume.also {
            say!("{at}: also at {}, the same space", in_words(place));
        }
        for quota in &volume.quotas {
            say!("{at}: {}", quota_line(quota, state, UnitStyle::Binary));
        }
        if let Outlook::Full(_, forecast) = outlook {
            say!("{at}: full in {}", range(forecast));
        }
    }
    say!("{} of the kernel's own file systems, which hold no data, are not listed", interfaces());
    Ok(())
}

/// Volumes with their levels.
fn grid(volumes: &[(Volume, Outlook)], drives: &[Drives]) -> Grid {
    let mut grid = Grid::new(&[
        right("level", "level"),
        right("waterline", "waterline"),
        right("to_find", "to find"),
        right("used", "used"),
        right("free_root", "free to root"),
        right("free_users", "to users"),
        right("inodes", "inodes"),
        right("rise", "rise a day"),
        right("full_in", "full in"),
        left("disks", "disks"),
        left("type", "type"),
        left("class", "class"),
        left("source", "source"),
        left("mounted_at", "mounted at"),
    ]);
    for (number, (volume, outlook)) in volumes.iter().enumerate() {
        let capacity = volume.capacity.as_ref().ok();
        let of = |what: fn(&Capacity) -> Bytes| {
            capacity.map_or_else(|| ("?".to_owned(), Value::Null), |c| bytes(what(c)))
        };
        let in_percent = |share: f64| Value::from((share * 1000.0).round() / 10.0);
        let level = volume.level();
        let to_find = volume.to_find(Bytes::ZERO);
        let inodes = capacity.and_then(Capacity::inode_level);
        let warning = if volume.short_of_inodes() { "! " } else { "" };
        let trend = outlook.trend().map(|trend| trend.rise.round());
        grid.row(vec![
            (
                level.map_or_else(|| "?".to_owned(), |level| level.to_string()),
                level.map_or(Value::Null, |level| in_percent(level.share())),
            ),
            (volume.waterline.to_string(), in_percent(volume.waterline.share())),
            match to_find {
                Bytes::ZERO => (String::new(), 0.into()),
                to_find => bytes(to_find),
            },
            of(|c| c.used),
            of(|c| c.free_root),
            of(|c| c.free_users),
            (
                inodes.map_or_else(String::new, |level| format!("{warning}{level}")),
                inodes.map_or(Value::Null, |level| in_percent(level.share())),
            ),
            (rise(outlook, UnitStyle::Binary), trend.map_or(Value::Null, Value::from)),
            text(full_in(outlook)),
            text(disks_word(drives.get(number))),
            text(volume.fs_type.clone()),
            text(class(volume)),
            text(shown(&volume.source)),
            text(shown(&volume.mount_point)),
        ]);
    }
    grid
}

/// How the disks behind a volume do, in a word; nothing where there are none.
fn disks_word(drives: Option<&Drives>) -> &'static str {
    match drives {
        Some(drives) if drives.none.is_none() => drives.health().word(),
        _ => "",
    }
}

fn class(volume: &Volume) -> String {
    let more = [(volume.removable, ", removable"), (volume.read_only, ", read-only")];
    let more: String = more.iter().filter(|(is, _)| *is).map(|(_, word)| *word).collect();
    format!("{}{more}", volume.class.word())
}
