//! Finds the pairs of directories that say something: by an upper bound of what they have in common, from below, so that
//! few of them need be compared file by file.

use std::cmp::Reverse;

use rustc_hash::{FxHashMap, FxHashSet};

use super::{Contained, Containment, NONE, Tree};
use crate::catalog::EntryId;
use crate::parallel;
use crate::units::Bytes;

/// A file with more copies than this in different directories counts for every directory when candidates are sought.
const WIDE: usize = 32;
/// So many of those copies on either side, in the order of the tree, say which directories that may be.
const NEAR: usize = 4;
/// So many trees are compared with one at most, the smallest first.
const COMPARED: usize = 24;
/// In so many parts the trees of each thread are dealt out, since some take much longer than others.
const PARTS: usize = 64;

impl Containment<'_> {
    /// The pairs of trees of which one is in the other by `least` of its bytes, largest relief first: each tree with the
    /// trees that hold most of it, the smallest of those that lie in one another, or the one that is built like it. What
    /// follows from a row about directories above is left out.
    pub fn rows(&self, least: f64) -> Vec<Contained> {
        // large trees come first, so that no thread is left with one of them at the end
        let searched = self.candidates(least);
        let part = parallel::part_of(searched.len(), 1).div_ceil(PARTS);
        let found = parallel::each(searched.chunks(part.max(1)), |searched| {
            searched.iter().map(|one| self.telling(one, least)).collect::<Vec<_>>()
        });
        let mut found = searched.iter().map(|one| one.tree).zip(found.into_iter().flatten());
        let mut next = found.next();
        let mut rows: Vec<Contained> = Vec::new();
        // what the rows of directories above say, by tree
        let mut above: FxHashMap<EntryId, Vec<EntryId>> = FxHashMap::default();
        for Tree { directory, .. } in &self.trees {
            let parent = self.catalog.parent(*directory);
            let inherited = parent.and_then(|parent| above.get(&parent)).cloned();
            let mut all = inherited.unwrap_or_default();
            if next.as_ref().is_some_and(|(tree, _)| tree == directory)
                && let Some((_, mut new)) = std::mem::replace(&mut next, found.next())
            {
                new.retain(|row| {
                    !all.iter().any(|above| self.catalog.is_below(row.within, *above))
                });
                all.extend(new.iter().map(|row| row.within));
                rows.extend(new);
            }
            if !all.is_empty() {
                above.insert(*directory, all);
            }
        }
        rows.sort_by(|a, b| {
            let by_size = b.relief.cmp(&a.relief).then(b.share.total_cmp(&a.share));
            by_size
                .then_with(|| self.catalog.compare_paths(a.tree, b.tree))
                .then_with(|| self.catalog.compare_paths(a.within, b.within))
        });
        rows
    }

    /// The trees that may be in others by `least` of their bytes, those above before those below.
    fn candidates(&self, least: f64) -> Vec<Searched> {
        let mut bounds = self.own_bounds();
        let mut sums = Sums::new(self.trees.len());
        let mut found = Vec::new();
        // from below: what is in a directory is in those above it
        for (place, whole) in self.whole_bytes().into_iter().enumerate().rev() {
            let Some(bound) = bounds.remove(&(place as u32)) else { continue };
            found.extend(self.searched(place, whole, &bound, least, &mut sums));
            let above = self.trees[place].above;
            if above != NONE {
                bounds.entry(above).or_default().take_in(bound);
            }
        }
        found.reverse();
        found
    }

    /// The bytes of each tree, every inode once.
    fn whole_bytes(&self) -> Vec<u64> {
        let mut whole = vec![0; self.trees.len()];
        for file in self.files.iter().filter(|file| !self.catalog.is_multi_linked(**file)) {
            if let Some(above) = self.holder(*file) {
                whole[above as usize] += self.catalog.apparent(*file).get();
            }
        }
        for (place, tree) in self.trees.iter().enumerate().rev() {
            if tree.above != NONE {
                whole[tree.above as usize] += whole[place];
            }
        }
        for (tree, whole) in self.trees.iter().zip(&mut whole) {
            let place = |at: u32| self.linked.partition_point(|place| *place < at);
            let linked = &self.linked[place(tree.files.0)..place(tree.files.1)];
            let mut met = FxHashSet::default();
            for place in linked {
                let entry = self.files[*place as usize];
                if met.insert(self.catalog.device_and_inode(entry)) {
                    *whole += self.catalog.apparent(entry).get();
                }
            }
        }
        whole
    }

    /// The place of the tree that holds a file directly.
    fn holder(&self, file: EntryId) -> Option<u32> {
        self.catalog.parent(file).and_then(|parent| self.tree_place(parent))
    }

    /// For each directory an upper bound of what the files directly in it have in common with directories, by the directory
    /// that holds the copies directly; and of what has copies in very many directories.
    fn own_bounds(&self) -> FxHashMap<u32, Bound> {
        let mut bounds: FxHashMap<u32, Bound> = FxHashMap::default();
        let holder = |place: &u32| self.holder(self.files[*place as usize]);
        let mut holders: Vec<u32> = Vec::new();
        for (at, (file, content)) in self.files.iter().zip(&self.contents).enumerate() {
            let length = self.catalog.apparent(*file).get();
            if *content == NONE || length == 0 {
                continue;
            }
            let (Some(parent), places) = (self.holder(*file), self.places(*content)) else {
                continue;
            };
            if places.len() < 2 {
                continue;
            }
            let bound = bounds.entry(parent).or_default();
            let one = Shared { bytes: length, files: 1 };
            if places.len() > WIDE {
                // the copies that lie next to it stand for all of them
                let own = places.partition_point(|place| *place < at as u32);
                let near = own.saturating_sub(NEAR)..(own + NEAR + 1).min(places.len());
                bound.wide.add(one);
                for holder in places[near].iter().filter_map(holder) {
                    bound.by_holder.entry(holder).or_default();
                }
                continue;
            }
            holders.clear();
            holders.extend(places.iter().filter_map(holder));
            holders.sort_unstable();
            holders.dedup();
            for holder in &holders {
                bound.by_holder.entry(*holder).or_default().add(one);
            }
        }
        bounds
    }

    /// The other trees that a tree may be in by `least` of its bytes.
    fn searched(
        &self,
        place: usize,
        whole: u64,
        bound: &Bound,
        least: f64,
        sums: &mut Sums,
    ) -> Option<Searched> {
        let enough =
            |bytes: u64| (bytes + bound.wide.bytes) as f64 >= least * whole as f64 * 0.999_999;
        let total: u64 = bound.by_holder.values().map(|shared| shared.bytes).sum();
        if whole == 0 || !enough(total) {
            return None;
        }
        // the bound of every directory is the sum of those below it
        for (holder, shared) in &bound.by_holder {
            let mut at = *holder;
            while at != NONE {
                sums.add(at, *shared);
                at = self.trees[at as usize].above;
            }
        }
        let tree = self.trees[place];
        let is_apart = |other: &Tree| {
            other.directory != tree.directory
                && (other.files.1 <= tree.files.0 || other.files.0 >= tree.files.1)
                && !self.catalog.is_below(tree.directory, other.directory)
        };
        let others = sums.take().map(|(place, shared)| (self.trees[place as usize], shared));
        let others = others.filter(|(other, shared)| enough(shared.bytes) && is_apart(other));
        // those below come before those above
        let key = |other: &Tree| {
            (other.files.1 - other.files.0, Reverse(self.catalog.depth(other.directory)))
        };
        let mut others: Vec<_> =
            others.map(|(other, shared)| (key(&other), other.directory, shared)).collect();
        others.sort_unstable_by(|one, other| {
            one.0.cmp(&other.0).then_with(|| self.catalog.compare_paths(one.1, other.1))
        });
        others.truncate(COMPARED);
        let at_most = |shared: Shared| Shared {
            bytes: (shared.bytes + bound.wide.bytes).min(whole),
            files: shared.files + bound.wide.files,
        };
        let others: Vec<(EntryId, Shared)> =
            others.into_iter().map(|(_, other, shared)| (other, at_most(shared))).collect();
        (!others.is_empty()).then_some(Searched { tree: tree.directory, whole, others })
    }

    /// The rows of one tree.
    fn telling(&self, searched: &Searched, least: f64) -> Vec<Contained> {
        let Searched { tree, whole, others } = searched;
        let is_empty = |place: &usize| self.catalog.apparent(self.files[*place]) == Bytes::ZERO;
        let empty = self.span(*tree).filter(is_empty).count() as u64;
        let mut found: Vec<Contained> = Vec::new();
        for (other, at_most) in others {
            let lies_in = |smaller: &Contained| self.catalog.is_below(smaller.within, *other);
            // of trees that lie in one another a larger one is told if it holds more, and a smaller one unless more files
            // have their old places in the larger one
            let says_it = |smaller: &Contained, share: f64, same: u64| {
                lies_in(smaller) && smaller.share >= share - 1e-9 && smaller.same.files >= same
            };
            let (share, same) = (at_most.bytes as f64 / *whole as f64, at_most.files + empty);
            // no more can be in it than a smaller one has
            if found.iter().any(|smaller| says_it(smaller, share, same)) {
                continue;
            }
            let row = self.compare(*tree, *other);
            let is_said = found.iter().any(|smaller| says_it(smaller, row.share, row.same.files));
            if row.share < least || is_said {
                continue;
            }
            found.retain(|smaller| !lies_in(smaller) || smaller.same.files >= row.same.files);
            found.push(row);
        }
        found
    }
}

/// A tree, and others that it may be in.
struct Searched {
    tree: EntryId,
    /// Its bytes, every inode once.
    whole: u64,
    /// The smallest first, each with what the tree has in common with it at most.
    others: Vec<(EntryId, Shared)>,
}

/// Files, and their bytes.
#[derive(Clone, Copy, Debug, Default)]
struct Shared {
    bytes: u64,
    files: u64,
}

impl Shared {
    fn add(&mut self, other: Self) {
        self.bytes += other.bytes;
        self.files += other.files;
    }
}

/// Sums by the place of a tree, used again and again.
struct Sums {
    /// Nothing where nothing has been added, not even none.
    all: Vec<Option<Shared>>,
    /// The places at which something has been added.
    places: Vec<u32>,
}

impl Sums {
    fn new(trees: usize) -> Self {
        Self { all: vec![None; trees], places: Vec::new() }
    }

    fn add(&mut self, place: u32, shared: Shared) {
        match &mut self.all[place as usize] {
            Some(sum) => sum.add(shared),
            none => {
                *none = Some(shared);
                self.places.push(place);
            }
        }
    }

    /// Takes all sums out.
    fn take(&mut self) -> impl Iterator<Item = (u32, Shared)> + '_ {
        let all = &mut self.all;
        self.places.drain(..).filter_map(|place| Some((place, all[place as usize].take()?)))
    }
}

/// An upper bound of what a tree has in common with others, by the place of the tree that holds it directly.
#[derive(Debug, Default)]
struct Bound {
    by_holder: FxHashMap<u32, Shared>,
    wide: Shared,
}

impl Bound {
    fn take_in(&mut self, mut other: Self) {
        self.wide.add(other.wide);
        // the smaller table goes into the larger one
        if self.by_holder.len() < other.by_holder.len() {
            std::mem::swap(&mut self.by_holder, &mut other.by_holder);
        }
        for (holder, shared) in other.by_holder {
            self.by_holder.entry(holder).or_default().add(shared);
        }
    }
}
