//! The families of all names, told apart by a hash: they are worked out once, when they are first asked for.

use ahash::RandomState;

use super::{Catalog, EntryId};
use crate::naming::{Family, write_family};

impl Catalog {
    /// A hash of each entry's family, or of its name if that is of none, by the entry's number; with keys that
    /// nobody knows. Takes eight bytes an entry from then on. Nothing while the catalog still grows.
    pub fn family_hashes(&self) -> Option<&[u64]> {
        self.finished.then(|| &**self.family_hashes.get_or_init(|| self.hash_families()))
    }

    fn hash_families(&self) -> Box<[u64]> {
        let hasher = RandomState::new();
        let mut hashes = vec![0; self.len()].into_boxed_slice();
        let threads = std::thread::available_parallelism().map_or(1, usize::from).min(8);
        let part = self.len().div_ceil(threads).max(16_384);
        std::thread::scope(|scope| {
            for (number, hashes) in hashes.chunks_mut(part).enumerate() {
                let hasher = &hasher;
                scope.spawn(move || {
                    let mut spare = Family::new();
                    for (place, hash) in hashes.iter_mut().enumerate() {
                        let id = EntryId((number * part + place) as u32);
                        *hash = hasher.hash_one(self.family_of(id, &mut spare));
                    }
                });
            }
        });
        hashes
    }

    /// The family of an entry's name, or the name itself if it is of none.
    pub(crate) fn family_of<'a>(&'a self, id: EntryId, spare: &'a mut Family) -> &'a [u8] {
        let name = self.name_bytes(id);
        if write_family(name, spare) { spare } else { name }
    }
}
