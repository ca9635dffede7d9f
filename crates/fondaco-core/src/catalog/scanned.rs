//! What a catalog knows of one entry, to be held against what the entry is now.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::batch::clamped;
use super::columns::DAY;
use super::{Catalog, EntryId, Reading};
use crate::compact_form::{append, path_as_bytes, take};
use crate::kernel::{Kind, Stat};
use crate::packed_list::Packable;
use crate::units::{Bytes, Time};

/// An entry as the scan found it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ScannedEntry {
    /// Where it was.
    #[serde(with = "path_as_bytes")]
    pub path: PathBuf,
    /// Device number of its file system when it was scanned.
    pub device: u64,
    /// What it was.
    pub kind: Kind,
    /// Inode number; not in scans that an earlier version saved.
    inode: Option<u64>,
    /// Length in bytes; of a directory it follows from what it holds.
    size: Option<u64>,
    /// Seconds since 1970, as a catalog keeps them.
    written: u32,
    /// As `written`. Not of what has several names: removing another of them changes it.
    changed: Option<u32>,
    /// When it was last read, as `written`.
    read: u32,
    /// `changed` and `read` are known to the day.
    by_day: bool,
    owner: (u32, u32),
    /// Permission bits, if they were kept.
    permissions: Option<u16>,
    /// Of a directory that was read to its end: entries with itself, and bytes on disk.
    pub whole: Option<(u64, Bytes)>,
}

impl Catalog {
    /// What it knows of an entry.
    pub fn scanned_entry(&self, id: EntryId) -> ScannedEntry {
        let facts = self.facts(id);
        let is_directory = facts.kind == Kind::Directory;
        let is_whole = is_directory && self.is_finished() && self.is_whole(id);
        let permissions = facts.mode & 0o7777;
        ScannedEntry {
            path: self.path(id),
            device: self.device(id),
            kind: facts.kind,
            inode: (facts.inode != 0).then_some(facts.inode),
            size: (!is_directory).then_some(facts.size),
            written: facts.mtime,
            changed: (!is_directory && !self.is_multi_linked(id)).then_some(facts.ctime),
            read: facts.atime,
            by_day: self.times_by_day,
            owner: facts.owner,
            permissions: (permissions != 0).then_some(permissions),
            whole: is_whole.then(|| (self.entries(id), self.allocated(id))),
        }
    }

    /// Whether a directory and all below it were read to their end, and nothing was kept out.
    fn is_whole(&self, id: EntryId) -> bool {
        let path = self.path(id);
        self.reading(id) == Some(Reading::Done)
            && self.excluded() == super::ExcludedSums::default()
            && !self.unreadable.iter().any(|place| place.path.starts_with(&path))
    }
}

impl ScannedEntry {
    /// Its length in bytes, and when it was last written, in seconds since 1970: all that is known of an object of a store.
    pub(crate) fn length_and_written(&self) -> (u64, i64) {
        (self.size.unwrap_or(0), i64::from(self.written))
    }
}

impl Packable for ScannedEntry {
    fn pack(&self, out: &mut Vec<u8>) -> bool {
        append(self, out)
    }

    fn unpack(bytes: &mut &[u8]) -> Option<Self> {
        take(bytes)
    }
}

impl ScannedEntry {
    /// What is different now, if anything is. `reading_counts`: it was chosen by when it was last read.
    pub fn difference(&self, now: &Stat, reading_counts: bool) -> Option<String> {
        let differs = |what: &str, then: String, now: String| {
            (then != now).then(|| format!("its {what} was {then} and is {now}"))
        };
        let stamp = |seconds: u32| match self.by_day {
            true => Time::at(i64::from(seconds / DAY * DAY)).rfc3339()[..10].to_owned(),
            false => Time::at(i64::from(seconds)).rfc3339(),
        };
        let second = |seconds: u32| Time::at(i64::from(seconds)).rfc3339();
        let only = |known: bool, difference: Option<String>| difference.filter(|_| known);
        let (written, changed, read) =
            (clamped(now.mtime.sec), clamped(now.ctime.sec), clamped(now.atime.sec));
        differs("kind", self.kind.word().into(), now.kind.word().into())
            .or_else(|| {
                let then = self.inode.unwrap_or(now.ino);
                (then != now.ino).then(|| "it is another one of the same name".to_owned())
            })
            .or_else(|| {
                let then = self.size.unwrap_or(now.size);
                differs("length", then.to_string(), now.size.to_string())
            })
            .or_else(|| differs("last writing", second(self.written), second(written)))
            .or_else(|| {
                let then = self.changed.unwrap_or(changed);
                differs("last change", stamp(then), stamp(changed))
            })
            .or_else(|| {
                only(reading_counts, differs("last reading", stamp(self.read), stamp(read)))
            })
            .or_else(|| {
                let words = |(user, group)| format!("user {user}, group {group}");
                differs("owner", words(self.owner), words((now.uid, now.gid)))
            })
            .or_else(|| {
                let now = now.mode as u16 & 0o7777;
                let then = self.permissions.unwrap_or(now);
                differs("mode", format!("{then:o}"), format!("{now:o}"))
            })
    }

    /// What is different below a directory, by how many entries and bytes a look at it found.
    pub fn difference_below(&self, entries: u64, allocated: Bytes) -> Option<String> {
        let (then, bytes) = self.whole?;
        if then != entries {
            return Some(format!("it had {then} entries and has {entries}"));
        }
        (bytes != allocated)
            .then(|| format!("it took {} bytes on disk and takes {}", bytes.get(), allocated.get()))
    }
}
