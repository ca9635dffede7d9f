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
    type Sum = ();

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
        /// In words, if they differ; nothing is put into words as long as they do not.
        fn differs<T: PartialEq + Copy>(
            what: &str,
            then: Option<T>,
            now: T,
            word: impl Fn(T) -> String,
        ) -> Option<String> {
            let then = then.filter(|then| *then != now)?;
            Some(format!("its {what} was {} and is {}", word(then), word(now)))
        }
        // what is known to the day is only compared so
        let stamp = |seconds: u32| if self.by_day { seconds / DAY * DAY } else { seconds };
        let second = |seconds: u32| Time::at(i64::from(seconds)).rfc3339();
        let day_or_second = |seconds: u32| match self.by_day {
            true => second(seconds)[..10].to_owned(),
            false => second(seconds),
        };
        let (written, changed, read) =
            (clamped(now.mtime.sec), clamped(now.ctime.sec), clamped(now.atime.sec));
        let last_read = Some(stamp(self.read)).filter(|_| reading_counts);
        differs("kind", Some(self.kind), now.kind, |kind| kind.word().to_owned())
            .or_else(|| {
                let is_another = self.inode.is_some_and(|inode| inode != now.ino);
                is_another.then(|| "it is another one of the same name".to_owned())
            })
            .or_else(|| differs("length", self.size, now.size, |size| size.to_string()))
            .or_else(|| differs("last writing", Some(self.written), written, second))
            .or_else(|| {
                differs("last change", self.changed.map(stamp), stamp(changed), day_or_second)
            })
            .or_else(|| differs("last reading", last_read, stamp(read), day_or_second))
            .or_else(|| {
                let words = |(user, group): (u32, u32)| format!("user {user}, group {group}");
                differs("owner", Some(self.owner), (now.uid, now.gid), words)
            })
            .or_else(|| {
                let mode = |mode: u16| format!("{mode:o}");
                differs("mode", self.permissions, now.mode as u16 & 0o7777, mode)
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
