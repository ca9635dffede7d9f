//! Actions in text, for a handful and for a hundred thousand: few are listed one by one, many are summed up by what
//! chose them and by directory.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use anyhow::Result;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, counted, grouped};

use super::binary;
use crate::output::{Lean, Table, say};

/// How many are listed one by one, unless all are asked for.
const FEW: usize = 40;
/// The most lines that a summary has.
const GROUPS: usize = 20;
/// Of those that went as they should, so many are shown in full.
const FIRST: usize = 5;
/// Of those that did not, so many.
const WORST: usize = 20;

/// One action, and what became of it or will.
pub(super) struct ActionLine {
    pub(super) number: u32,
    /// What is done to it, or its state.
    pub(super) word: &'static str,
    pub(super) target: PathBuf,
    /// What chose it.
    pub(super) reason: String,
    pub(super) bytes: Bytes,
    /// What there is to say beside that, one line each.
    pub(super) notes: Vec<String>,
    /// It did not go as it should.
    pub(super) is_trouble: bool,
}

impl ActionLine {
    fn print(&self) -> Result<()> {
        let Self { number, word, target, bytes, notes, .. } = self;
        say!("{number:>5}  {word:<9}  {:>10}  {}", binary(*bytes), Shown(target));
        for note in notes {
            say!("       {note}");
        }
        Ok(())
    }
}

/// Prints `count` actions: all of them if there are few or if that is asked for. Of many only their sums are kept.
pub(super) fn print(
    count: usize,
    lines: impl IntoIterator<Item = ActionLine>,
    all: bool,
) -> Result<()> {
    if all || count <= FEW {
        return lines.into_iter().try_for_each(|line| line.print());
    }
    let mut summary = Summary::default();
    lines.into_iter().for_each(|line| summary.add(line));
    let mut table = Table::new(&[
        ("actions", Lean::Right),
        ("bytes", Lean::Right),
        ("what", Lean::Left),
        ("chosen by", Lean::Left),
        ("below", Lean::Left),
    ]);
    let mut sums: Vec<_> = summary.sums.as_far_as_there_is_room().into_iter().collect();
    sums.sort_by_key(|(group, sum)| (Reverse(sum.bytes), group.directory.clone()));
    for (group, sum) in sums.iter().take(GROUPS) {
        table.row(vec![
            grouped(sum.actions),
            binary(sum.bytes),
            group.word.to_owned(),
            shown(&group.reason),
            Shown(&group.directory).to_string(),
        ]);
    }
    table.print()?;
    if let Some(rest) = sums.get(GROUPS..).filter(|rest| !rest.is_empty()) {
        let actions: u64 = rest.iter().map(|(_, sum)| sum.actions).sum();
        say!("and {} in other places", counted(actions, "action"));
    }
    summary.first.iter().chain(&summary.worst).try_for_each(ActionLine::print)?;
    let left = count.saturating_sub(summary.first.len() + summary.worst.len());
    if left > 0 {
        say!("{} more are not listed: --all lists them", grouped(left as u64));
    }
    Ok(())
}

/// What is told of many actions.
#[derive(Default)]
struct Summary {
    sums: Sums,
    /// The first that went as they should.
    first: Vec<ActionLine>,
    /// The largest that did not, the largest of them first.
    worst: Vec<ActionLine>,
}

impl Summary {
    fn add(&mut self, line: ActionLine) {
        self.sums.add(&line);
        if line.is_trouble {
            let at = self.worst.partition_point(|other| other.bytes >= line.bytes);
            self.worst.insert(at, line);
            self.worst.truncate(WORST);
        } else if self.first.len() < FIRST {
            self.first.push(line);
        }
    }
}

/// What is summed up together.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Group {
    /// What they are.
    word: &'static str,
    /// What chose them.
    reason: String,
    directory: PathBuf,
}

#[derive(Clone, Copy, Default)]
struct Sum {
    actions: u64,
    bytes: Bytes,
}

impl Sum {
    fn add(&mut self, other: Self) {
        self.actions += other.actions;
        self.bytes += other.bytes;
    }
}

/// Sums by directory, down to a depth at which they are not too many.
struct Sums {
    depth: usize,
    sums: BTreeMap<Group, Sum>,
    /// Those of the last directory: neighbours mostly lie in one.
    last: Option<(Group, Sum)>,
}

impl Default for Sums {
    fn default() -> Self {
        Self { depth: usize::MAX, sums: BTreeMap::new(), last: None }
    }
}

impl Sums {
    /// How many groups are kept.
    const MOST: usize = 20_000;

    fn add(&mut self, line: &ActionLine) {
        let parent = line.target.parent().unwrap_or(Path::new("/"));
        let one = Sum { actions: 1, bytes: line.bytes };
        match &mut self.last {
            Some((group, sum))
                if group.directory.as_os_str() == parent.as_os_str()
                    && group.word == line.word
                    && group.reason == line.reason =>
            {
                sum.add(one);
            }
            _ => {
                self.end_last();
                let (reason, directory) = (line.reason.clone(), parent.to_owned());
                self.last = Some((Group { word: line.word, reason, directory }, one));
            }
        }
    }

    fn end_last(&mut self) {
        let Some((group, sum)) = self.last.take() else { return };
        self.sums.entry(cut(&group, self.depth)).or_default().add(sum);
        while self.sums.len() > Self::MOST {
            let deepest = self.sums.keys().map(depth).max().unwrap_or(1);
            self.depth = deepest.saturating_sub(1).max(1);
            self.sums = folded(&self.sums, self.depth);
            if self.depth == 1 {
                break;
            }
        }
    }

    /// By directories that are as far down as a screen has room for.
    fn as_far_as_there_is_room(&mut self) -> BTreeMap<Group, Sum> {
        self.end_last();
        let deepest = self.sums.keys().map(depth).max().unwrap_or(1);
        let mut sums = folded(&self.sums, 1);
        for depth in 2..=deepest {
            let deeper = folded(&self.sums, depth);
            if deeper.len() > GROUPS {
                break;
            }
            sums = deeper;
        }
        sums
    }
}

fn depth(group: &Group) -> usize {
    group.directory.components().count()
}

fn cut(group: &Group, depth: usize) -> Group {
    Group { directory: group.directory.components().take(depth).collect(), ..group.clone() }
}

fn folded(sums: &BTreeMap<Group, Sum>, depth: usize) -> BTreeMap<Group, Sum> {
    let mut folded: BTreeMap<Group, Sum> = BTreeMap::new();
    for (group, sum) in sums {
        folded.entry(cut(group, depth)).or_default().add(*sum);
    }
    folded
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_are_summed_as_far_down_as_there_is_room() {
        let line = |number: u32| ActionLine {
            number,
            word: "delete",
            target: format!("/srv/logs/{}/{}/{number}.log", number % 3, number % 30).into(),
            reason: "rule: old".into(),
            bytes: Bytes::new(10),
            notes: Vec::new(),
            is_trouble: false,
        };
        let mut few = Sums::default();
        (0..300).for_each(|number| few.add(&line(number)));
        let sums = few.as_far_as_there_is_room();
        let directories: Vec<_> =
            sums.keys().map(|group| group.directory.to_str().unwrap()).collect();
        assert_eq!(directories, ["/srv/logs/0", "/srv/logs/1", "/srv/logs/2"]);
        assert!(sums.values().all(|sum| (sum.actions, sum.bytes) == (100, Bytes::new(1000))));
    }

    #[test]
    fn of_very_many_directories_those_above_are_kept() {
        let mut sums = Sums::default();
        for number in 0..30_000u32 {
            sums.add(&ActionLine {
                number,
                word: "delete",
                target: format!("/srv/{}/{number}/x", number % 7).into(),
                reason: "rule: old".into(),
                bytes: Bytes::new(1),
                notes: Vec::new(),
                is_trouble: false,
            });
        }
        assert!(sums.sums.len() <= Sums::MOST);
        let sums = sums.as_far_as_there_is_room();
        assert_eq!(sums.len(), 7);
        assert_eq!(sums.values().map(|sum| sum.actions).sum::<u64>(), 30_000);
    }
}
