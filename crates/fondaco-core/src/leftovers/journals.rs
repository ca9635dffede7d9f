//! Closed files of the system journal (systemd-journald.service(8)): when each begins, by its name.

use std::io;
use std::path::{Path, PathBuf};

use crate::kernel;
use crate::units::Time;

/// When a closed file begins: `NAME@SEQUENCE-NUMBER-TIME.journal`, or `NAME@TIME-RANDOM.journal~` if it was not closed well.
/// Times are microseconds since 1970 in hexadecimal. Nothing of the file that is written to.
pub fn begin(file: &Path) -> Option<Time> {
    let name = file.file_name()?.to_str()?;
    let (_, after) = name.split_once('@')?;
    let (text, place) = match after.strip_suffix(".journal~") {
        Some(text) => (text, 0),
        None => (after.strip_suffix(".journal")?, 2),
    };
    let text = text.split('-').nth(place)?;
    let micros = u64::from_str_radix(text, 16).ok()?;
    Some(Time::at((micros / 1_000_000) as i64))
}

/// A moment before which just these files begin and no other closed one does; nothing if there is none.
///
/// # Errors
///
/// As `getdents(2)` of the directory.
pub fn cutoff(directory: &Path, files: &[PathBuf]) -> io::Result<Option<Time>> {
    let names = kernel::names_in(directory)?;
    let others = names.iter().map(|name| directory.join(name)).filter(|file| !files.contains(file));
    let first_other = others.filter_map(|file| begin(&file)).min();
    let last = files
        .iter()
        .filter_map(|file| begin(file))
        .filter(|begin| first_other.is_none_or(|other| *begin < other));
    Ok(last
        .max()
        .map(|last| Time::at(last.sec + 1))
        .filter(|cut| first_other.is_none_or(|other| *cut <= other)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_that_begin_before_the_others_are_told_apart_from_them() {
        let directory = tempfile::tempdir().unwrap();
        let name = |day: u64| {
            let micros = (2_000_000_000 + day * 86_400) * 1_000_000;
            format!("system@0123456789abcdef0123456789abcdef-{day:016x}-{micros:016x}.journal")
        };
        let files: Vec<PathBuf> = (0..4).map(|day| directory.path().join(name(day))).collect();
        for file in &files {
            std::fs::write(file, "").unwrap();
        }
        std::fs::write(directory.path().join("system.journal"), "").unwrap();
        assert_eq!(begin(&files[1]), Some(Time::at(2_000_086_400)));
        assert_eq!(begin(&directory.path().join("system.journal")), None);
        let cut = |files: &[PathBuf]| cutoff(directory.path(), files).unwrap().map(|cut| cut.sec);
        assert_eq!(cut(&files[..2]), Some(2_000_086_401));
        assert_eq!(cut(&files[2..]), None, "older ones would go too");
        assert_eq!(
            cut(&[files[0].clone(), files[3].clone()]),
            Some(2_000_000_001),
            "what lies between stays"
        );
    }
}
