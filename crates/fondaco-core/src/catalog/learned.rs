//! What can be told from names and is asked for again and again: it is worked out once of a finished catalog.

use ahash::RandomState;

use super::keys::{HashedKeys, Keys};
use super::{Catalog, EntryId};
use crate::kernel::Kind;
use crate::naming::{Family, FileKind, extension, write_family};
use crate::parallel;

/// What names tell that may be different for each entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum InName {
    /// The family, or the name itself if it is of none.
    Family,
    /// The ending of a file's name in small letters; [`NO_FILE`] for what is no file.
    Ending,
}

/// Stands for the ending of what is no file; no name has these bytes.
pub(crate) const NO_FILE: &[u8] = b"/no file";

impl Catalog {
    /// Works out kinds, endings and families now, so that who asks for them later need not wait. Takes nine
    /// bytes an entry from then on. Nothing while the catalog still grows.
    pub fn learn(&self) {
        self.learn_kinds();
        self.numbered(InName::Ending);
        self.numbered(InName::Family);
    }

    /// The number of what each entry's name tells. Nothing while the catalog still grows.
    pub(crate) fn numbered(&self, what: InName) -> Option<&Keys> {
        let known = match what {
            InName::Family => &self.families,
            InName::Ending => &self.endings,
        };
        self.finished.then(|| known.get_or_init(|| self.number(what)))
    }

    fn number(&self, what: InName) -> Keys {
        let hasher = RandomState::new();
        let dealt =
            parallel::each(parallel::split(0..self.len() as u32, parallel::ENTRIES), |part| {
                let (mut dealt, mut spare) = (HashedKeys::new(), Family::new());
                for id in part.map(EntryId) {
                    dealt.push(id, hasher.hash_one(self.in_name(what, id, &mut spare)));
                }
                dealt
            });
        Keys::number(self.len(), &dealt)
    }

    /// What an entry's name tells; `spare` is used for it if need be.
    pub(crate) fn in_name<'a>(
        &'a self,
        what: InName,
        id: EntryId,
        spare: &'a mut Family,
    ) -> &'a [u8] {
        match what {
            InName::Family => {
                let name = self.name_bytes(id);
                if write_family(name, spare) { spare } else { name }
            }
            InName::Ending if self.kind(id) != Kind::File => NO_FILE,
            InName::Ending => {
                spare.clear();
                spare.extend(extension(self.own_name(id)).iter().map(u8::to_ascii_lowercase));
                spare
            }
        }
    }

    /// Works out the kinds of all entries by their names, unless that has been done or the catalog still grows.
    pub(crate) fn learn_kinds(&self) {
        if self.finished {
            self.kinds.get_or_init(|| {
                let kinds = |part: std::ops::Range<u32>| {
                    part.map(|id| self.kind_by_name(EntryId(id))).collect::<Vec<_>>()
                };
                let parts = parallel::split(0..self.len() as u32, parallel::ENTRIES);
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

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet};

    use super::*;
    use crate::catalog::Batch;
    use crate::kernel;
    use crate::units::Time;

    /// A catalog of one directory with these names; every fifth is a link.
    fn of_names(names: &[String]) -> Catalog {
        let mut catalog = Catalog::new(Time::at(0));
        let stat = kernel::stat_path(std::path::Path::new("/")).unwrap();
        let roots = catalog.add_roots(&[("/seamark".into(), stat)]).unwrap();
        let mut batch = Batch::new(Time::at(0));
        for (number, name) in names.iter().enumerate() {
            let kind = if number % 5 == 4 { Kind::Link } else { Kind::File };
            let mode = u32::from(kind.mode_bits());
            batch.push(name.as_bytes(), &kernel::Stat { kind, mode, links: 1, ..stat });
        }
        catalog.append(roots[0], None, &batch).unwrap();
        catalog
    }

    #[test]
    fn what_is_worked_out_once_is_what_every_name_says() {
        let names: Vec<String> = (0..40_000)
            .map(|number: u32| match number % 4 {
                0 => format!("tide-{number}.csv"),
                1 => format!("buoy-{:x}.WAV", number.wrapping_mul(2_654_435_761)),
                2 => format!("chart.{}", number / 4),
                _ => format!("log-2041-{:02}-{:02}.zst", number % 12 + 1, number % 28 + 1),
            })
            .collect();
        let mut catalog = of_names(&names);
        assert!(catalog.numbered(InName::Family).is_none(), "it still grows");
        catalog.finish(true);
        let kinds: Vec<FileKind> = catalog.ids().map(|id| catalog.file_kind(id)).collect();
        catalog.learn();
        assert!(catalog.kinds.get().is_some());
        assert!(catalog.ids().map(|id| catalog.file_kind(id)).eq(kinds));
        for (what, one) in [(InName::Family, &b"log-#.zst"[..]), (InName::Ending, b"wav")] {
            // one number for each family or ending, and one of them for each number
            let keys = catalog.numbered(what).unwrap();
            let mut spare = Family::new();
            let mut told = BTreeMap::<usize, BTreeSet<Vec<u8>>>::new();
            for id in catalog.ids() {
                assert!(keys.of(id) < keys.end());
                let bytes = catalog.in_name(what, id, &mut spare).to_owned();
                told.entry(keys.of(id)).or_default().insert(bytes);
            }
            assert!(told.values().all(|members| members.len() == 1), "{what:?}");
            let all: BTreeSet<_> = told.values().flatten().collect();
            assert_eq!(all.len(), told.len());
            assert!(all.contains(&one.to_vec()), "{what:?}");
            assert_eq!(all.contains(&NO_FILE.to_vec()), what == InName::Ending);
        }
    }
}
