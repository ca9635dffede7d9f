//! The size of pictures, the length of sounds.

use std::fs::File;
use std::io::{BufReader, Seek, SeekFrom};

use lofty::config::ParseOptions;
use lofty::file::AudioFile;
use lofty::probe::Probe;

use super::{Inside, LimitedReader};

/// So much is read of one, wherever it lies.
const READ: u64 = 8 << 20;

pub(super) fn look(file: &mut File, head: &[u8]) -> Option<(String, Inside)> {
    let found = infer::get(head)?;
    let facts = match found.matcher_type() {
        infer::MatcherType::Image => picture(file),
        infer::MatcherType::Audio => sound(file),
        _ => None,
    };
    file.seek(SeekFrom::Start(0)).ok()?;
    Some((found.mime_type().to_owned(), Inside::Media(facts?)))
}

fn picture(file: &mut File) -> Option<Vec<(&'static str, String)>> {
    let size = imagesize::reader_size(BufReader::new(LimitedReader::new(file, READ))).ok()?;
    let pixels = size.width as f64 * size.height as f64 / 1e6;
    Some(vec![
        ("size", format!("{} × {}", size.width, size.height)),
        ("pixels", format!("{pixels:.1} million")),
    ])
}

fn sound(file: &mut File) -> Option<Vec<(&'static str, String)>> {
    let probe =
        Probe::new(BufReader::new(LimitedReader::new(file, READ))).guess_file_type().ok()?;
    let probe = probe.options(ParseOptions::new().read_tags(false).read_cover_art(false));
    let sound = probe.read().ok()?;
    let known = sound.properties();
    let seconds = known.duration().as_secs_f64();
    let duration = match seconds {
        s if s < 60.0 => format!("{s:.1} s"),
        s if s < 3600.0 => format!("{:.0} min {:.0} s", (s / 60.0).floor(), s % 60.0),
        s => format!("{:.0} h {:.0} min", (s / 3600.0).floor(), s % 3600.0 / 60.0),
    };
    let mut facts = vec![("duration", duration)];
    facts.extend(known.sample_rate().map(|rate| ("samples a second", rate.to_string())));
    facts.extend(known.channels().map(|channels| ("channels", channels.to_string())));
    facts.extend(known.bit_depth().map(|bits| ("bits a sample", bits.to_string())));
    facts.extend(known.audio_bitrate().map(|rate| ("kbit a second", rate.to_string())));
    Some(facts)
}
