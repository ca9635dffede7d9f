//! Bins: what was thrown away and still takes space, by the trash specification of freedesktop.org.
//!
//! A bin holds in `files` what was thrown away and in `info`, under the same name with `.trashinfo` behind it, where it
//! was and when it went. Both go together.

use std::ffi::{OsStr, OsString};
use std::io::Read;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::found::{Leftover, What};
use super::group::GroupName;
use crate::catalog::{Catalog, EntryId};
use crate::kernel;
use crate::units::Time;

/// Longer files of this kind are none.
const LONGEST: u64 = 64 << 10;
const ENDING: &[u8] = b".trashinfo";

/// What an info file says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Info {
    /// Where it was: a whole path, or one below the directory that the bin lies in.
    pub(super) path: PathBuf,
    /// When it was thrown away.
    pub(super) deleted: Option<Time>,
}

/// Reads the text of an info file. Nothing if it is none.
pub(super) fn parse(text: &[u8]) -> Option<Info> {
    let mut lines = text.split(|byte| *byte == b'\n').map(<[u8]>::trim_ascii);
    lines.find(|line| *line == b"[Trash Info]")?;
    let (mut path, mut deleted) = (None, None);
    // the first of each counts; another group ends it
    for line in lines.take_while(|line| !line.starts_with(b"[")) {
        if let Some(value) = line.strip_prefix(b"Path=") {
            path = path.or(Some(decoded(value)));
        } else if let Some(value) = line.strip_prefix(b"DeletionDate=") {
            deleted = deleted.or(std::str::from_utf8(value).ok().and_then(local_time));
        }
    }
    Some(Info { path: path?, deleted })
}

/// The time that a bin writes: the local time of who threw it away.
fn local_time(text: &str) -> Option<Time> {
    let date: jiff::civil::DateTime = text.parse().ok()?;
    let zoned = date.to_zoned(jiff::tz::TimeZone::system()).ok()?;
    Some(Time::at(zoned.timestamp().as_second()))
}

/// Undoes the escapes of a URL (RFC 2396).
fn decoded(text: &[u8]) -> PathBuf {
    let digit = |byte: &u8| char::from(*byte).to_digit(16);
    let mut out = Vec::with_capacity(text.len());
    let mut rest = text;
    while let [first, tail @ ..] = rest {
        match tail {
            [a, b, after @ ..] if *first == b'%' && digit(a).is_some() && digit(b).is_some() => {
                out.push((digit(a).unwrap_or(0) * 16 + digit(b).unwrap_or(0)) as u8);
                rest = after;
            }
            _ => {
                out.push(*first);
                rest = tail;
            }
        }
    }
    PathBuf::from(OsString::from_vec(out))
}

/// Where something in a bin was, as far as its info file is believed: a bin of a volume names places on that volume only.
pub(super) fn place_of(bin: &Path, info: &Info) -> Option<PathBuf> {
    let name = bin.file_name()?.as_bytes();
    let top = match name {
        b"Trash" => {
            // below a home, such as that of a backup, only what was in it; on this machine also what lay elsewhere
            let home = bin.parent()?.parent()?.parent()?;
            let is_home = home.parent() == Some(Path::new("/home")) || home == Path::new("/root");
            let is_believed = is_home && info.path.is_absolute() || info.path.starts_with(home);
            return is_believed.then(|| info.path.clone());
        }
        _ if name.starts_with(b".Trash-") => bin.parent()?,
        _ => bin.parent()?.parent()?,
    };
    let plain = info.path.components().all(|part| matches!(part, std::path::Component::Normal(_)));
    match plain {
        true => Some(top.join(&info.path)),
        // written by programs that do not keep to the specification
        false => info.path.starts_with(top).then(|| info.path.clone()),
    }
}

fn read(directory: &Path, name: &OsStr) -> Option<Info> {
    let directory = kernel::open_root(directory).ok()?;
    let file = kernel::open_file(directory, name).ok()?;
    let mut text = Vec::new();
    file.take(LONGEST).read_to_end(&mut text).ok()?;
    parse(&text)
}

/// What lies in a bin. `looks`: its info files are read.
pub(super) fn contents(catalog: &Catalog, bin: EntryId, looks: bool) -> Vec<(GroupName, Leftover)> {
    let inside = |name: &str| catalog.find_in(bin, OsStr::new(name));
    let (Some(files), Some(infos)) = (inside("files"), inside("info")) else { return Vec::new() };
    let (bin_path, info_path) = (catalog.path(bin), catalog.path(infos));
    let info_of: std::collections::HashMap<&[u8], EntryId> = catalog
        .children(infos)
        .filter_map(|id| Some((catalog.own_name(id).strip_suffix(ENDING)?, id)))
        .collect();
    let mut found = Vec::new();
    let least = GroupName::Bins.group().least_age().secs() as i64;
    let mut push = |mut item: Leftover| {
        if catalog.now().sec.saturating_sub(item.since.sec) < least {
            item = item.that_stays("thrown away less than a week ago");
        }
        found.push((GroupName::Bins, item));
    };
    for id in catalog.children(files) {
        let name = catalog.own_name(id);
        let Some(info) = info_of.get(name).copied() else {
            push(Leftover::entry(
                catalog,
                id,
                Arc::from("in a bin, without the file that says where it was"),
            ));
            continue;
        };
        let whole = Leftover::entry(catalog, id, Arc::from("in a bin"));
        let whole = Leftover {
            what: What::Entries(Box::new([id, info])),
            allocated: whole.allocated + catalog.exclusive(info),
            entries: whole.entries + 1,
            // an entry keeps its own times when it is thrown away; the info file is new then
            since: catalog.modified(info),
            ..whole
        };
        let said =
            if looks { read(&info_path, OsStr::from_bytes(catalog.own_name(info))) } else { None };
        push(match said {
            None => whole,
            Some(said) => {
                let note = match place_of(&bin_path, &said) {
                    Some(place) => format!("was {}", crate::shown::Shown(&place)),
                    None => "where it was is not said".to_owned(),
                };
                let since = said.deleted.unwrap_or(whole.since);
                Leftover { note: note.into(), since, ..whole }
            }
        });
    }
    let names: std::collections::HashSet<&[u8]> =
        catalog.children(files).map(|id| catalog.own_name(id)).collect();
    for (_, id) in info_of.iter().filter(|(name, _)| !names.contains(*name)) {
        push(Leftover::entry(
            catalog,
            *id,
            Arc::from("says where something was that is no longer in the bin"),
        ));
    }
    found
}

/// Where a leftover of a bin was, if its info file says so: read anew.
pub fn original_place(catalog: &Catalog, item: &Leftover) -> Option<PathBuf> {
    let [id, info] = item.ids() else { return None };
    let infos = catalog.parent(*info)?;
    let bin = catalog.parent(infos)?;
    let is_info = catalog.own_name(*info).strip_suffix(ENDING) == Some(catalog.own_name(*id));
    let name = OsStr::from_bytes(catalog.own_name(*info));
    let said = is_info.then(|| read(&catalog.path(infos), name)).flatten()?;
    place_of(&catalog.path(bin), &said)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_info_file_says_where_it_was_and_damaged_ones_say_nothing() {
        let text = b"[Trash Info]\nPath=/home/acoustics/a%20b%FF%0A\nDeletionDate=2041-03-07T11:12:13\nPath=/x\n";
        let info = parse(text).unwrap();
        assert_eq!(info.path.as_os_str().as_bytes(), b"/home/acoustics/a b\xff\n");
        assert!(info.deleted.is_some());
        for damaged in
            [&b""[..], b"[Trash Info]\n", b"Path=/x\n", b"[Trash Info]\n[Other]\nPath=/x"]
        {
            assert_eq!(parse(damaged), None, "{damaged:?}");
        }
        assert_eq!(parse(b"[Trash Info]\nPath=%\nDeletionDate=soon").unwrap().path, Path::new("%"));
        let place = |bin: &str, path: &str| {
            place_of(Path::new(bin), &Info { path: path.into(), deleted: None })
        };
        assert_eq!(place("/home/a/.local/share/Trash", "/home/a/x"), Some("/home/a/x".into()));
        assert_eq!(place("/home/a/.local/share/Trash", "x"), None);
        let of_backup = "/backup/home/a/.local/share/Trash";
        assert_eq!(place(of_backup, "/home/a/x"), None);
        assert_eq!(place(of_backup, "/backup/home/a/x"), Some("/backup/home/a/x".into()));
        assert_eq!(place("/srv/.Trash-7", "a/x"), Some("/srv/a/x".into()));
        assert_eq!(place("/srv/.Trash/7", "a/x"), Some("/srv/a/x".into()));
        assert_eq!(place("/srv/.Trash/7", "../etc/passwd"), None);
        assert_eq!(place("/srv/.Trash-7", "/etc/passwd"), None);
    }
}
