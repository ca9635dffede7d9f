//! Which directory is contained in which: what share of the bytes of one is in another, wherever in it.
//!
//! Pairs that could be telling are found by an upper bound, what is told of them is counted file by file.

use rustc_hash::{FxHashMap, FxHashSet};

use super::Set;
use crate::catalog::{Catalog, EntryId, Seen};
use crate::kernel::Kind;
use crate::units::Bytes;

/// Files and their bytes; an inode with several names counts its bytes once.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Count {
    /// How many names there are.
    pub files: u64,
    /// Their lengths together.
    pub bytes: Bytes,
}

/// How much of a tree is in another one.
#[derive(Clone, Debug, PartialEq)]
pub struct Contained {
    /// The directory whose files are looked for.
    pub tree: EntryId,
    /// The tree that it is in.
    pub within: EntryId,
    /// The share of its bytes that is there, from 0 to 1.
    pub share: f64,
    /// There at the same path below the tree.
    pub same: Count,
    /// There at another path.
    pub elsewhere: Count,
    /// Not there, and nothing has its path.
    pub only_here: Count,
    /// Not there, and something else has its path.
    pub differs: Count,
    /// How many of those were written later here than there.
    pub newer_here: u64,
    /// Bytes on disk that go if all that is there too goes here.
    pub relief: Bytes,
}

impl Contained {
    /// Where files of a relation are counted, and whether the tree is relieved of them.
    fn count_of(&mut self, relation: Relation) -> (&mut Count, bool) {
        match relation {
            Relation::Same => (&mut self.same, true),
            Relation::Elsewhere => (&mut self.elsewhere, true),
            Relation::Differs { .. } => (&mut self.differs, false),
            Relation::OnlyHere => (&mut self.only_here, false),
        }
    }
}

/// What a file of a tree is in relation to another tree. Of an inode with several names the first of these that one of
/// its names has counts for its bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Relation {
    /// The same contents have the same path there.
    Same,
    /// The same contents are there at another path.
    Elsewhere,
    /// Something else has its path there, which is older or newer.
    Differs {
        /// What is here was written later.
        newer_here: bool,
    },
    /// Nothing of it is there.
    OnlyHere,
}

/// A file in a catalog with what its contents are.
#[derive(Clone, Copy)]
struct File {
    entry: EntryId,
    /// Which contents it has, if something else has them too.
    content: Option<u32>,
    length: u64,
}

/// The contents of a scan, ready for comparing its directories.
pub struct Containment<'a> {
    catalog: &'a Catalog,
    /// All files that are seen, in the order of the tree.
    files: Vec<File>,
    /// Where the files of a directory lie in `files`.
    spans: FxHashMap<EntryId, (u32, u32)>,
    /// Directories, those above before those below.
    directories: Vec<EntryId>,
    /// For each contents the places of its files in `files`, in order.
    places: Vec<Vec<u32>>,
    /// By entry, its place in `files`.
    by_entry: FxHashMap<EntryId, u32>,
    /// Of files that have all their blocks in common with others, the first and the last place in `files` of all of them.
    same_blocks: FxHashMap<EntryId, (u32, u32)>,
}

/// A file with more copies than this in different directories counts for every directory when candidates are sought.
const WIDE: usize = 32;
/// So many trees are compared with one at most, the smallest first.
const COMPARED: usize = 24;

impl<'a> Containment<'a> {
    /// Takes what is seen of some directories, and the sets of equal files in them.
    pub fn new(seen: Seen<'a>, at: &[EntryId], sets: &[Set]) -> Self {
        let catalog = seen.catalog();
        let mut content_of: FxHashMap<EntryId, u32> = FxHashMap::default();
        for (number, set) in sets.iter().enumerate() {
            for copy in &set.copies {
                content_of.insert(*copy, number as u32);
            }
        }
        let mut this = Self {
            catalog,
            files: Vec::new(),
            spans: FxHashMap::default(),
            directories: Vec::new(),
            places: Vec::new(),
            by_entry: FxHashMap::default(),
            same_blocks: FxHashMap::default(),
        };
        for root in at {
            this.walk(seen, *root);
        }
        this.number_contents(&content_of, sets.len() as u32);
        for group in sets.iter().flat_map(|set| &set.same_blocks) {
            let places = group.iter().filter_map(|member| this.by_entry.get(member).copied());
            if let (Some(first), Some(last)) = (places.clone().min(), places.max()) {
                this.same_blocks.extend(group.iter().map(|member| (*member, (first, last))));
            }
        }
        this
    }

    /// Lists the files below a directory in the order of the tree.
    fn walk(&mut self, seen: Seen<'a>, root: EntryId) {
        // a directory is met twice: before and after what it holds
        let mut open = vec![(root, false)];
        while let Some((id, is_done)) = open.pop() {
            if is_done {
                if let Some(span) = self.spans.get_mut(&id) {
                    span.1 = self.files.len() as u32;
                }
                continue;
            }
            if self.catalog.is_directory(id) {
                self.spans.insert(id, (self.files.len() as u32, 0));
                self.directories.push(id);
                open.push((id, true));
                open.extend(seen.children(id).map(|child| (child, false)));
            } else if self.catalog.kind(id) == Kind::File && seen.has(id) {
                self.by_entry.insert(id, self.files.len() as u32);
                let length = self.catalog.apparent(id).get();
                self.files.push(File { entry: id, content: None, length });
            }
        }
    }

    /// Gives names of one inode and members of one set the same number, and empty files one of their own.
    fn number_contents(&mut self, content_of: &FxHashMap<EntryId, u32>, sets: u32) {
        let (empty, mut next) = (sets, sets + 1);
        let mut inodes: FxHashMap<(u64, u64), u32> = FxHashMap::default();
        for file in &self.files {
            if let Some(content) = content_of.get(&file.entry)
                && self.catalog.is_multi_linked(file.entry)
            {
                inodes.insert(self.catalog.device_and_inode(file.entry), *content);
            }
        }
        for file in &mut self.files {
            let inode = || self.catalog.device_and_inode(file.entry);
            let is_linked = self.catalog.is_multi_linked(file.entry);
            file.content = match content_of.get(&file.entry) {
                _ if file.length == 0 => Some(empty),
                Some(content) => Some(*content),
                None if is_linked => Some(*inodes.entry(inode()).or_insert_with(|| {
                    next += 1;
                    next - 1
                })),
                None => None,
            };
        }
        self.places = vec![Vec::new(); next as usize];
        for (place, file) in self.files.iter().enumerate() {
            if let Some(content) = file.content {
                self.places[content as usize].push(place as u32);
            }
        }
    }

    fn span(&self, directory: EntryId) -> std::ops::Range<usize> {
        let (from, to) = self.spans.get(&directory).copied().unwrap_or_default();
        from as usize..to as usize
    }

    /// Whether some contents lie in a tree.
    fn is_in(&self, content: u32, tree: EntryId) -> bool {
        self.first_in(content, tree).is_some()
    }

    /// What every file of a tree is in relation to another one, in the order of the tree.
    pub fn relations(
        &self,
        tree: EntryId,
        within: EntryId,
    ) -> impl Iterator<Item = (EntryId, Relation)> + '_ {
        self.files[self.span(tree)]
            .iter()
            .map(move |file| (file.entry, self.relation(file, tree, within)))
    }

    fn relation(&self, file: &File, tree: EntryId, within: EntryId) -> Relation {
        let there = self.counterpart(file.entry, tree, within);
        let there = there.and_then(|there| self.by_entry.get(&there));
        let there = there.map(|place| &self.files[*place as usize]);
        if let Some(content) = file.content {
            if there.is_some_and(|there| there.content == file.content) {
                return Relation::Same;
            }
            if self.is_in(content, within) {
                return Relation::Elsewhere;
            }
        }
        match there {
            Some(there) => Relation::Differs {
                newer_here: self.catalog.modified(file.entry) > self.catalog.modified(there.entry),
            },
            None => Relation::OnlyHere,
        }
    }

    /// The files of a tree whose contents are in another one, each with the file there that has them: at the same path, or
    /// else the first one.
    pub fn copies(
        &self,
        tree: EntryId,
        within: EntryId,
    ) -> impl Iterator<Item = (EntryId, EntryId)> + '_ {
        self.files[self.span(tree)].iter().filter_map(move |file| {
            let copy = match self.relation(file, tree, within) {
                Relation::Same => self.counterpart(file.entry, tree, within)?,
                Relation::Elsewhere => self.first_in(file.content?, within)?,
                _ => return None,
            };
            Some((file.entry, copy))
        })
    }

    fn first_in(&self, content: u32, tree: EntryId) -> Option<EntryId> {
        let span = self.span(tree);
        let places = &self.places[content as usize];
        let first = places.partition_point(|place| (*place as usize) < span.start);
        let place = places.get(first).filter(|place| (**place as usize) < span.end)?;
        Some(self.files[*place as usize].entry)
    }

    /// What has the path in another tree that an entry has in its own.
    fn counterpart(&self, entry: EntryId, tree: EntryId, within: EntryId) -> Option<EntryId> {
        let mut names = Vec::new();
        let mut at = entry;
        while at != tree {
            names.push(self.catalog.name(at));
            at = self.catalog.parent(at)?;
        }
        names.iter().rev().try_fold(within, |at, name| self.catalog.find_in(at, name))
    }

    /// Whether what goes of a tree frees the blocks of a file: no file elsewhere has them, and of those in the tree it is
    /// the last.
    fn has_own_blocks(&self, entry: EntryId, tree: EntryId) -> bool {
        let Some((first, last)) = self.same_blocks.get(&entry) else { return true };
        let span = self.span(tree);
        let all_go = span.contains(&(*first as usize)) && span.contains(&(*last as usize));
        all_go && self.by_entry.get(&entry) == Some(last)
    }

    /// Counts what of a tree is in another one.
    pub fn compare(&self, tree: EntryId, within: EntryId) -> Contained {
        let mut row = Contained {
            tree,
            within,
            share: 0.0,
            same: Count::default(),
            elsewhere: Count::default(),
            only_here: Count::default(),
            differs: Count::default(),
            newer_here: 0,
            relief: Bytes::ZERO,
        };
        // of inodes with several names: how many of them the tree has, and the relation that counts for the bytes
        let mut linked: FxHashMap<(u64, u64), (u32, Relation, EntryId)> = FxHashMap::default();
        for file in &self.files[self.span(tree)] {
            let relation = self.relation(file, tree, within);
            if let Relation::Differs { newer_here: true } = relation {
                row.newer_here += 1;
            }
            let is_linked = self.catalog.is_multi_linked(file.entry);
            let (count, relief) = row.count_of(relation);
            count.files += 1;
            if is_linked {
                let inode = self.catalog.device_and_inode(file.entry);
                let (names, best, _) = linked.entry(inode).or_insert((0, relation, file.entry));
                *names += 1;
                *best = relation.min(*best);
                continue;
            }
            count.bytes += Bytes::new(file.length);
            if relief && self.has_own_blocks(file.entry, tree) {
                row.relief += self.catalog.allocated(file.entry);
            }
        }
        for (names, relation, entry) in linked.into_values() {
            let (count, relief) = row.count_of(relation);
            count.bytes += self.catalog.apparent(entry);
            // freed with the last of its names
            let all = self.catalog.names_of_inode(entry);
            let all = all.map_or(u32::MAX, |(met, elsewhere)| met.len() as u32 + elsewhere);
            if relief && names >= all {
                row.relief += self.catalog.allocated(entry);
            }
        }
        let there = row.same.bytes + row.elsewhere.bytes;
        let whole = there + row.only_here.bytes + row.differs.bytes;
        if whole > Bytes::ZERO {
            row.share = there.get() as f64 / whole.get() as f64;
        }
        row
    }

    /// The pairs of trees of which one is in the other by `least` of its bytes, largest relief first: each tree with the
    /// trees that hold most of it, the smallest of those that lie in one another, or the one that is built like it. What follows from a row about directories above is left out.
    pub fn rows(&self, least: f64) -> Vec<Contained> {
        let bounds = self.bounds();
        let mut rows: Vec<Contained> = Vec::new();
        // the rows of directories above, by tree
        let mut above: FxHashMap<EntryId, Vec<(EntryId, f64)>> = FxHashMap::default();
        for tree in &self.directories {
            let inherited: Vec<(EntryId, f64)> = self
                .catalog
                .parent(*tree)
                .and_then(|parent| above.get(&parent))
                .cloned()
                .unwrap_or_default();
            let mut found = Vec::new();
            if let Some(bound) = bounds.get(tree) {
                found = self.telling(*tree, bound, least);
                found.retain(|row| {
                    let follows = |(within, _): &(EntryId, f64)| {
                        row.within == *within || self.catalog.is_below(row.within, *within)
                    };
                    !inherited.iter().any(follows)
                });
            }
            let mut all = inherited;
            all.extend(found.iter().map(|row| (row.within, row.share)));
            if !all.is_empty() {
                above.insert(*tree, all);
            }
            rows.extend(found);
        }
        rows.sort_by(|a, b| {
            let by_size = b.relief.cmp(&a.relief).then(b.share.total_cmp(&a.share));
            by_size
                .then_with(|| self.catalog.compare_paths(a.tree, b.tree))
                .then_with(|| self.catalog.compare_paths(a.within, b.within))
        });
        rows
    }

    /// For each tree an upper bound of the bytes that it has in common with directories, by the directory that holds the
    /// copies directly; and of what has copies in very many directories.
    fn bounds(&self) -> FxHashMap<EntryId, Bound> {
        let mut bounds: FxHashMap<EntryId, Bound> = FxHashMap::default();
        let files = self.files.iter().enumerate();
        for (at, file) in files.filter(|(_, file)| file.length > 0) {
            let Some(content) = file.content else { continue };
            let Some(parent) = self.catalog.parent(file.entry) else { continue };
            let places = &self.places[content as usize];
            if places.len() < 2 {
                continue;
            }
            let bound = bounds.entry(parent).or_default();
            if places.len() > WIDE {
                // the copies that lie next to it stand for all of them
                let own = places.partition_point(|place| *place < at as u32);
                let near = own.saturating_sub(WIDE / 2)..(own + WIDE / 2).min(places.len());
                bound.wide += file.length;
                for place in &places[near] {
                    if let Some(holder) = self.catalog.parent(self.files[*place as usize].entry) {
                        bound.by_holder.entry(holder).or_default();
                    }
                }
                continue;
            }
            let holders = places.iter().map(|place| self.files[*place as usize].entry);
            let holders: FxHashSet<EntryId> =
                holders.filter_map(|entry| self.catalog.parent(entry)).collect();
            for holder in holders {
                *bound.by_holder.entry(holder).or_default() += file.length;
            }
        }
        // from below: what is in a directory is in those above it
        for directory in self.directories.iter().rev() {
            let Some(bound) = bounds.get(directory).cloned() else { continue };
            let Some(parent) = self.catalog.parent(*directory) else { continue };
            if self.spans.contains_key(&parent) {
                bounds.entry(parent).or_default().take_in(bound);
            }
        }
        bounds
    }

    /// The rows of one tree.
    fn telling(&self, tree: EntryId, bound: &Bound, least: f64) -> Vec<Contained> {
        let span = self.span(tree);
        let mut met = FxHashSet::default();
        let is_new = |file: &&File| {
            let (catalog, entry) = (self.catalog, file.entry);
            !catalog.is_multi_linked(entry) || met.insert(catalog.device_and_inode(entry))
        };
        let whole: u64 =
            self.files[span.clone()].iter().filter(is_new).map(|file| file.length).sum();
        if whole == 0 {
            return Vec::new();
        }
        let enough = |bytes: u64| (bytes + bound.wide) as f64 >= least * whole as f64 * 0.999_999;
        let total: u64 = bound.by_holder.values().sum();
        if !enough(total) {
            return Vec::new();
        }
        // the bound of every directory is the sum of those below it
        let mut of: FxHashMap<EntryId, u64> = FxHashMap::default();
        for (holder, bytes) in &bound.by_holder {
            let mut at = Some(*holder);
            while let Some(directory) = at {
                if !self.spans.contains_key(&directory) {
                    break;
                }
                *of.entry(directory).or_default() += bytes;
                at = self.catalog.parent(directory);
            }
        }
        let is_apart = |other: &EntryId| {
            let theirs = self.span(*other);
            *other != tree
                && (theirs.end <= span.start || theirs.start >= span.end)
                && !self.catalog.is_below(tree, *other)
        };
        let mut others: Vec<EntryId> = of
            .iter()
            .filter(|(other, bytes)| enough(**bytes) && is_apart(other))
            .map(|(other, _)| *other)
            .collect();
        // those below come before those above
        others.sort_by_cached_key(|other| {
            let depth = self.catalog.depth(*other);
            (self.span(*other).len(), std::cmp::Reverse(depth), self.catalog.path(*other))
        });
        let mut found: Vec<Contained> = Vec::new();
        for other in others.into_iter().take(COMPARED) {
            let row = self.compare(tree, other);
            if row.share < least {
                continue;
            }
            // of trees that lie in one another a larger one is told if it holds more, and a smaller one unless more files
            // have their old places in the larger one
            let lies_in = |smaller: &Contained| self.catalog.is_below(smaller.within, other);
            let says_it = |smaller: &Contained| {
                smaller.share >= row.share - 1e-9 && smaller.same.files >= row.same.files
            };
            if found.iter().any(|smaller| lies_in(smaller) && says_it(smaller)) {
                continue;
            }
            found.retain(|smaller| !lies_in(smaller) || smaller.same.files >= row.same.files);
            found.push(row);
        }
        found
    }
}

/// An upper bound of what a tree has in common with others.
#[derive(Clone, Debug, Default)]
struct Bound {
    by_holder: FxHashMap<EntryId, u64>,
    wide: u64,
}

impl Bound {
    fn take_in(&mut self, other: Self) {
        self.wide += other.wide;
        if self.by_holder.is_empty() {
            self.by_holder = other.by_holder;
            return;
        }
        for (holder, bytes) in other.by_holder {
            *self.by_holder.entry(holder).or_default() += bytes;
        }
    }
}
