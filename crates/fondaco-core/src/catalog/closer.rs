//! What a scan leaves out because most never ask: births, attributes of the file system, kinds by contents.

use rustc_hash::FxHashMap;

use super::EntryId;
use crate::kernel::Stat;
use crate::naming::FileKind;
use crate::units::Time;

/// Births and attributes of all entries that could be looked at; the others are not known.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Closer {
    /// Seconds since 1970; 0 if it is not known.
    born: Vec<u32>,
    attributes: Vec<u8>,
    /// By the contents of files whose names tell nothing; nothing if they were not looked into.
    contents: Option<FxHashMap<u32, FileKind>>,
}

const IMMUTABLE: u8 = 1;
const APPEND_ONLY: u8 = 2;

impl Closer {
    /// About so many entries nothing is known yet.
    pub fn new(entries: usize) -> Self {
        Self { born: vec![0; entries], attributes: vec![0; entries], contents: None }
    }

    /// Takes in what is known about an entry.
    pub fn put(&mut self, id: EntryId, stat: &Stat) {
        let at = id.0 as usize;
        let Some(born) = self.born.get_mut(at) else { return };
        let seconds = stat.btime.map_or(0, |born| born.sec.clamp(0, i64::from(u32::MAX)));
        *born = seconds as u32;
        let append_only = if stat.append_only { APPEND_ONLY } else { 0 };
        self.attributes[at] = if stat.immutable { IMMUTABLE } else { 0 } | append_only;
    }

    /// Says what kind a file is by its contents.
    pub fn put_content(&mut self, id: EntryId, kind: FileKind) {
        self.contents.get_or_insert_default().insert(id.0, kind);
    }

    /// Files were looked into, even if that told nothing.
    pub fn set_looked_into(&mut self) {
        self.contents.get_or_insert_default();
    }

    /// Whether files were looked into.
    pub fn has_contents(&self) -> bool {
        self.contents.is_some()
    }

    /// The kind of a file by its contents, if they tell one.
    pub fn content(&self, id: EntryId) -> Option<FileKind> {
        self.contents.as_ref()?.get(&id.0).copied()
    }

    /// When it was made, where the volume keeps that.
    pub fn born(&self, id: EntryId) -> Option<Time> {
        let seconds = self.born.get(id.0 as usize).copied().filter(|seconds| *seconds > 0)?;
        Some(Time::at(i64::from(seconds)))
    }

    /// Whether it cannot be changed or removed by anyone.
    pub fn is_immutable(&self, id: EntryId) -> bool {
        self.has(id, IMMUTABLE)
    }

    /// Whether it can only be appended to.
    pub fn is_append_only(&self, id: EntryId) -> bool {
        self.has(id, APPEND_ONLY)
    }

    fn has(&self, id: EntryId, attribute: u8) -> bool {
        self.attributes.get(id.0 as usize).is_some_and(|its| its & attribute != 0)
    }
}
