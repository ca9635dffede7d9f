//! Which directory is contained in which: what share of the bytes of one is in another, wherever in it.
//!
//! What two directories have in common is counted file by file; which pairs are worth that is in [`rows`].

mod counterparts;
mod rows;

use std::ops::Range;

use rustc_hash::FxHashMap;

use self::counterparts::Counterparts;
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

/// No contents that something else has too, or no place.
const NONE: u32 = u32::MAX;

/// A directory, and where the files of its tree lie among all.
#[derive(Clone, Copy)]
struct Tree {
    directory: EntryId,
    files: (u32, u32),
    /// The place of the tree of the directory that holds it, or [`NONE`].
    above: u32,
}

/// The contents of a scan, ready for comparing its directories.
pub struct Containment<'a> {
    catalog: &'a Catalog,
    /// All files that are seen, in the order of the tree.
    files: Vec<EntryId>,
    /// Of each of them the number of its contents, if something else has them too.
    contents: Vec<u32>,
    /// Those of them whose inodes have several names, by their places.
    linked: Vec<u32>,
    /// Directories, those above before those below.
    trees: Vec<Tree>,
    /// By entry, its place in `files` or `trees`.
    place_of: Vec<u32>,
    /// For each contents the places of its files in `files`, in order: where they begin, and all of them one behind the other.
    copies: (Vec<u32>, Vec<u32>),
    /// Of files that have all their blocks in common with others, the first and the last place in `files` of all of them.
    same_blocks: FxHashMap<EntryId, (u32, u32)>,
}

impl<'a> Containment<'a> {
    /// Takes what is seen of some directories, and the sets of equal files in them.
    pub fn new(seen: Seen<'a>, at: &[EntryId], sets: &[Set]) -> Self {
        let catalog = seen.catalog();
        let mut this = Self {
            catalog,
            files: Vec::new(),
            contents: Vec::new(),
            linked: Vec::new(),
            trees: Vec::new(),
            place_of: vec![NONE; catalog.ids().len()],
            copies: (Vec::new(), Vec::new()),
            same_blocks: FxHashMap::default(),
        };
        for root in at {
            this.walk(seen, *root);
        }
        this.number_contents(sets);
        for group in sets.iter().flat_map(|set| &set.same_blocks) {
            let places = group.iter().filter_map(|member| this.file_place(*member));
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
            let place = &mut self.place_of[id.0 as usize];
            if is_done {
                self.trees[*place as usize].files.1 = self.files.len() as u32;
            } else if self.catalog.is_directory(id) {
                let from = self.files.len() as u32;
                *place = self.trees.len() as u32;
                let above = self.catalog.parent(id).and_then(|parent| self.tree_place(parent));
                let above = above.unwrap_or(NONE);
                self.trees.push(Tree { directory: id, files: (from, from), above });
                open.push((id, true));
                open.extend(seen.children(id).map(|child| (child, false)));
            } else if self.catalog.kind(id) == Kind::File && seen.has(id) {
                *place = self.files.len() as u32;
                if self.catalog.is_multi_linked(id) {
                    self.linked.push(self.files.len() as u32);
                }
                self.files.push(id);
            }
        }
    }

    /// Gives names of one inode and members of one set the same number, and empty files one of their own.
    fn number_contents(&mut self, sets: &[Set]) {
        let (empty, mut next) = (sets.len() as u32, sets.len() as u32 + 1);
        let mut contents = vec![NONE; self.files.len()];
        let mut inodes: FxHashMap<(u64, u64), u32> = FxHashMap::default();
        for (number, set) in sets.iter().enumerate() {
            for copy in &set.copies {
                if let Some(place) = self.file_place(*copy) {
                    contents[place as usize] = number as u32;
                    if self.catalog.is_multi_linked(*copy) {
                        inodes.insert(self.catalog.device_and_inode(*copy), number as u32);
                    }
                }
            }
        }
        for place in &self.linked {
            let inode = self.catalog.device_and_inode(self.files[*place as usize]);
            let content = inodes.entry(inode).or_insert_with(|| {
                next += 1;
                next - 1
            });
            contents[*place as usize] = *content;
        }
        let mut starts = vec![0u32; next as usize + 1];
        for (file, content) in self.files.iter().zip(&mut contents) {
            if self.catalog.apparent(*file) == Bytes::ZERO {
                *content = empty;
            }
            if *content != NONE {
                starts[*content as usize + 1] += 1;
            }
        }
        for number in 1..starts.len() {
            starts[number] += starts[number - 1];
        }
        let mut places = vec![0; starts.last().map_or(0, |all| *all as usize)];
        let mut at = starts.clone();
        for (place, content) in contents.iter().enumerate().filter(|(_, one)| **one != NONE) {
            let at = &mut at[*content as usize];
            places[*at as usize] = place as u32;
            *at += 1;
        }
        (self.contents, self.copies) = (contents, (starts, places));
    }

    /// The place of a file that is seen.
    fn file_place(&self, entry: EntryId) -> Option<u32> {
        let place = self.place_of[entry.0 as usize];
        (place != NONE && !self.catalog.is_directory(entry)).then_some(place)
    }

    /// The place of the tree of a directory, if it was looked there.
    fn tree_place(&self, directory: EntryId) -> Option<u32> {
        let place = self.place_of[directory.0 as usize];
        (place != NONE && self.catalog.is_directory(directory)).then_some(place)
    }

    /// Where the files of a directory lie in `files`.
    fn span(&self, directory: EntryId) -> Range<usize> {
        let place = self.tree_place(directory);
        let (from, to) = place.map_or((0, 0), |place| self.trees[place as usize].files);
        from as usize..to as usize
    }

    /// The places of the files with some contents, in order.
    fn places(&self, content: u32) -> &[u32] {
        let (starts, places) = &self.copies;
        &places[starts[content as usize] as usize..starts[content as usize + 1] as usize]
    }

    /// What every file of a tree is in relation to another one, in the order of the tree.
    pub fn relations(
        &self,
        tree: EntryId,
        within: EntryId,
    ) -> impl Iterator<Item = (EntryId, Relation)> + '_ {
        let mut counterparts = Counterparts::new(self.catalog, tree, within);
        let span = self.span(within);
        self.span(tree).map(move |place| {
            let entry = self.files[place];
            (entry, self.relation(place, counterparts.of(entry), &span))
        })
    }

    /// What a file is in relation to another tree: `there` has its path in it, and its files lie in `span`.
    fn relation(&self, place: usize, there: Option<EntryId>, span: &Range<usize>) -> Relation {
        let (entry, content) = (self.files[place], self.contents[place]);
        let there = there.and_then(|there| self.file_place(there));
        if content != NONE {
            if there.is_some_and(|there| self.contents[there as usize] == content) {
                return Relation::Same;
            }
            if self.first_in(content, span).is_some() {
                return Relation::Elsewhere;
            }
        }
        match there {
            Some(there) => Relation::Differs {
                newer_here: self.catalog.modified(entry)
                    > self.catalog.modified(self.files[there as usize]),
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
        let mut counterparts = Counterparts::new(self.catalog, tree, within);
        let span = self.span(within);
        self.span(tree).filter_map(move |place| {
            let entry = self.files[place];
            let there = counterparts.of(entry);
            let copy = match self.relation(place, there, &span) {
                Relation::Same => there?,
                Relation::Elsewhere => {
                    self.files[self.first_in(self.contents[place], &span)? as usize]
                }
                _ => return None,
            };
            Some((entry, copy))
        })
    }

    /// The place of the first file in a tree that has some contents.
    fn first_in(&self, content: u32, span: &Range<usize>) -> Option<u32> {
        let places = self.places(content);
        let first = places.partition_point(|place| (*place as usize) < span.start);
        places.get(first).copied().filter(|place| (*place as usize) < span.end)
    }

    /// Whether what goes of a tree frees the blocks of a file: no file elsewhere has them, and of those in the tree it is
    /// the last.
    fn has_own_blocks(&self, place: usize, span: &Range<usize>) -> bool {
        let Some((first, last)) = self.same_blocks.get(&self.files[place]) else { return true };
        let all_go = span.contains(&(*first as usize)) && span.contains(&(*last as usize));
        all_go && place == *last as usize
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
        let mut counterparts = Counterparts::new(self.catalog, tree, within);
        let (span, there) = (self.span(tree), self.span(within));
        for place in span.clone() {
            let entry = self.files[place];
            let relation = self.relation(place, counterparts.of(entry), &there);
            if let Relation::Differs { newer_here: true } = relation {
                row.newer_here += 1;
            }
            let is_linked = self.catalog.is_multi_linked(entry);
            let (count, relief) = row.count_of(relation);
            count.files += 1;
            if is_linked {
                let inode = self.catalog.device_and_inode(entry);
                let (names, best, _) = linked.entry(inode).or_insert((0, relation, entry));
                *names += 1;
                *best = relation.min(*best);
                continue;
            }
            count.bytes += self.catalog.apparent(entry);
            if relief && self.has_own_blocks(place, &span) {
                row.relief += self.catalog.allocated(entry);
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
}
