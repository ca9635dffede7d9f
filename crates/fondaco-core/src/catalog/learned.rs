//! What can be told from names and is asked for again and again: it is worked out once of a finished catalog.

use ahash::RandomState;

use super::keys::{Dealt, Keys};
use super::{Catalog, EntryId};
use crate::kernel::Kind;
use crate::naming::{Family, FileKind, write_family};
use crate::parallel;

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
        let dealt =
            parallel::each(parallel::split(0..self.len() as u32, parallel::ENTRIES), |part| {
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
        assert!(catalog.families().is_none(), "it still grows");
        catalog.finish(true);
        let kinds: Vec<FileKind> = catalog.ids().map(|id| catalog.file_kind(id)).collect();
        catalog.learn();
        assert!(catalog.kinds.get().is_some());
        assert!(catalog.ids().map(|id| catalog.file_kind(id)).eq(kinds));
        // one number for each family, and one family for each number
        let keys = catalog.families().unwrap();
        let mut spare = Family::new();
        let mut families = BTreeMap::<usize, BTreeSet<Vec<u8>>>::new();
        for id in catalog.ids() {
            let family = catalog.family_of(id, &mut spare).to_owned();
            assert!(keys.of(id) < keys.end());
            families.entry(keys.of(id)).or_default().insert(family);
        }
        assert!(families.values().all(|members| members.len() == 1));
        let all: BTreeSet<_> = families.values().flatten().collect();
        assert_eq!(all.len(), families.len());
        assert!(all.contains(&b"log-#.zst".to_vec()), "{:?}", all.iter().next());
    }
}
