//! Actions in text, for a handful and for a hundred thousand: few are listed one by one, many are summed up by what
//! chose them and by directory.

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

/// Prints actions: all of them if there are few or if that is asked for.
pub(super) fn print(lines: &[ActionLine], all: bool) -> Result<()> {
    if all || lines.len() <= FEW {
        return lines.iter().try_for_each(ActionLine::print);
    }
    let mut table = Table::new(&[
        ("actions", Lean::Right),
        ("bytes", Lean::Right),
        ("what", Lean::Left),
        ("chosen by", Lean::Left),
        ("below", Lean::Left),
    ]);
    let mut sums = sums(lines);
    sums.sort_by_key(|sum| (std::cmp::Reverse(sum.bytes), sum.directory.clone()));
    for sum in sums.iter().take(GROUPS) {
        table.row(vec![
            grouped(sum.actions),
            binary(sum.bytes),
            sum.word.to_owned(),
            shown(&sum.reason),
            Shown(&sum.directory).to_string(),
        ]);
    }
    table.print()?;
    if let Some(rest) = sums.get(GROUPS..).filter(|rest| !rest.is_empty()) {
        let actions: u64 = rest.iter().map(|sum| sum.actions).sum();
        say!("and {} in other places", counted(actions, "action"));
    }
    let (bad, good): (Vec<_>, Vec<_>) = lines.iter().partition(|line| line.is_trouble);
    good.iter().take(FIRST).try_for_each(|line| line.print())?;
    let mut bad = bad;
    bad.sort_by_key(|line| std::cmp::Reverse(line.bytes));
    bad.iter().take(WORST).try_for_each(|line| line.print())?;
    let left = good.len().saturating_sub(FIRST) + bad.len().saturating_sub(WORST);
    if left > 0 {
        say!("{} more are not listed: --all lists them", grouped(left as u64));
    }
    Ok(())
}

struct Sum {
    word: &'static str,
    reason: String,
    directory: PathBuf,
    actions: u64,
    bytes: Bytes,
}

/// By what they are, what chose them and the directory, which is as far down as a screen has room for.
fn sums(lines: &[ActionLine]) -> Vec<Sum> {
    let deepest = lines.iter().map(|line| parts(&line.target)).max().unwrap_or(1);
    let mut sums = sums_at(lines, 1);
    for depth in 2..=deepest {
        let deeper = sums_at(lines, depth);
        if deeper.len() > GROUPS {
            break;
        }
        sums = deeper;
    }
    sums
}

fn parts(target: &Path) -> usize {
    target.parent().map_or(1, |parent| parent.components().count())
}

fn sums_at(lines: &[ActionLine], depth: usize) -> Vec<Sum> {
    let mut sums: BTreeMap<(&str, &str, PathBuf), Sum> = BTreeMap::new();
    for line in lines {
        let parent = line.target.parent().unwrap_or(Path::new("/"));
        let directory: PathBuf = parent.components().take(depth).collect();
        let key = (line.word, line.reason.as_str(), directory.clone());
        let sum = sums.entry(key).or_insert_with(|| Sum {
            word: line.word,
            reason: line.reason.clone(),
            directory,
            actions: 0,
            bytes: Bytes::ZERO,
        });
        sum.actions += 1;
        sum.bytes += line.bytes;
    }
    sums.into_values().collect()
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
        let lines: Vec<_> = (0..300).map(line).collect();
        let sums = sums(&lines);
        let directories: Vec<_> = sums.iter().map(|sum| sum.directory.to_str().unwrap()).collect();
        assert_eq!(directories, ["/srv/logs/0", "/srv/logs/1", "/srv/logs/2"]);
        assert!(sums.iter().all(|sum| (sum.actions, sum.bytes) == (100, Bytes::new(1000))));
    }
}
