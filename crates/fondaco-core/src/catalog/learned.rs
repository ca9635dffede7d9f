//! What can be told from names and is asked for again and again: it is worked out once of a finished catalog.

use ahash::RandomState;

use super::keys::{Dealt, Keys};
use super::{Catalog, EntryId};
use crate::kernel::Kind;
use crate::naming::{Family, FileKind, write_family};
use crate::parallel;

/// Smaller parts are not worth a thread.
const PART: u32 = 16_384;

impl Catalog {
    /// Works out families and kinds now, so that who asks for them later need not wait. Takes five bytes an
    /// entry from then on. Nothing while the catalog still grows.
    pub fn learn(&self) {
        self.learn_kinds();
        self.families();
    }

    /// The number of each entry's family, or of its name if that is of none. Nothing while the catalog still
    /// grows.
    pub(crate) fn families(&self) -> Option<&Keys> {
        self.finished.then(|| self.families.get_or_init(|| self.number_families()))
    }

    fn number_families(&self) -> Keys {
        let hasher = RandomState::new();
        let dealt = parallel::each(parallel::split(0..self.len() as u32, PART), |part| {
            let (mut dealt, mut spare) = (Dealt::new(), Family::new());
            for id in part.map(EntryId) {
                dealt.push(id, hasher.hash_one(self.family_of(id, &mut spare)));
            }
            dealt
        });
        Keys::number(self.len(), &dealt)
    }

    /// The family of an entry's name, or the name itself if it is of none.
    pub(crate) fn family_of<'a>(&'a self, id: EntryId, spare: &'a mut Family) -> &'a [u8] {
        let name = self.name_bytes(id);
        if write_family(name, spare) { spare } else { name }
    }

    /// Works out the kinds of all entries by their names, unless that has been done or the catalog still grows.
    pub(crate) fn learn_kinds(&self) {
        if self.finished {
            self.kinds.get_or_init(|| {
                let kinds = |part: std::ops::Range<u32>| {
                    part.map(|id| self.kind_by_name(EntryId(id))).collect::<Vec<_>>()
                };
                let parts = parallel::split(0..self.len() as u32, PART);
                parallel::each(parts, kinds).concat().into_boxed_slice()
            });
        }
    }

    /// The kind of an entry, by what it is and by its name's ending; if that tells nothing and files were looked
    /// into, by its contents.
    pub fn file_kind(&self, id: EntryId) -> FileKind {
        let kind = match self.kinds.get() {
            Some(kinds) => kinds[id.0 as usize],
            None => self.kind_by_name(id),
        };
        let closer = self.closer.as_ref().filter(|_| kind == FileKind::unknown());
        closer.and_then(|closer| closer.content(id)).unwrap_or(kind)
    }

    fn kind_by_name(&self, id: EntryId) -> FileKind {
        match self.kind(id) {
            Kind::File => FileKind::of_name(self.name_bytes(id)),
            Kind::Directory => FileKind::directory(),
            Kind::Link => FileKind::link(),
            Kind::Special => FileKind::special(),
        }
    }
}
