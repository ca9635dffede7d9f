//! What the rules of a file do, in words.

use std::path::Path;

use anyhow::Result;
use fondaco_core::lens::AgeSource;
use fondaco_core::rule::{Enough, Rule, RuleSet, Takes};
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{counted, grouped};
use serde_json::{Value, json};

use super::cells::binary;
use super::rules::counted_entries;
use crate::output::{path_value, say};

/// What the rules of a file do, in words.
pub struct RuleWords<'a> {
    /// Where the rules stand.
    pub file: &'a Path,
    /// The rules of that file.
    pub rules: &'a RuleSet,
}

impl RuleWords<'_> {
    /// The document for programs.
    pub fn document(&self) -> Value {
        let rule = |rule: &Rule| {
            json!({
                "rule": rule.title,
                "on": rule.on,
                "action": rule.action,
                "words": rule_words(rule),
            })
        };
        json!({
            "fondaco": 1,
            "kind": "rules",
            "file": path_value(self.file),
            "protect": self.rules.protect.iter().map(|place| path_value(place)).collect::<Value>(),
            "rules": self.rules.rules.iter().map(rule).collect::<Value>(),
        })
    }

    /// Writes it for people.
    ///
    /// # Errors
    ///
    /// If standard output cannot be written.
    pub fn print(&self) -> Result<()> {
        for (number, rule) in self.rules.rules.iter().enumerate() {
            let off = if rule.on { "" } else { "  (off)" };
            say!("{}  {}{off}", number + 1, shown(&rule.title));
            for line in rule_words(rule) {
                say!("   {}", shown(line));
            }
        }
        for place in &self.rules.protect {
            say!("protected from all of them: {}", Shown(place));
        }
        Ok(())
    }
}

/// What a rule does, a line for each thing that it says.
pub fn rule_words(rule: &Rule) -> Vec<String> {
    let groups: Vec<&str> = rule.leftovers.iter().map(|name| name.group().key).collect();
    let what = match (&rule.store, groups.is_empty(), rule.takes) {
        (Some(store), ..) => format!("members of store:{store}"),
        (None, false, _) => format!("leftovers ({})", groups.join(", ")),
        (None, true, Takes::Files) => "files".to_owned(),
        (None, true, Takes::Directories) => "whole directories".to_owned(),
    };
    let with = match rule.words.as_slice() {
        [] if !groups.is_empty() => String::new(),
        [] => " with anything".to_owned(),
        words => format!(" with {}", words.join(", ")),
    };
    let mut lines = vec![format!("{}: {what}{with}", rule.action.words())];
    if rule.leftovers.iter().any(|name| name.group().goes_through_program()) {
        lines.push("removed by programs of their own, which keep nothing to put back".to_owned());
    }
    let mut say = |line: String| lines.push(line);
    if rule.lens.has_ages() && rule.ages != AgeSource::default() {
        say(format!("ages count from when they were {}", rule.ages.word()));
    }
    if let Some(keep) = rule.keep {
        say(format!("the {} newest of {} stay", grouped(keep.into()), rule.of.words()));
    }
    if let Some(thin) = rule.thin {
        let periods = [
            (thin.daily, "day"),
            (thin.weekly, "week"),
            (thin.monthly, "month"),
            (thin.yearly, "year"),
        ];
        let periods: Vec<String> = periods
            .into_iter()
            .filter(|(count, _)| *count > 0)
            .map(|(count, noun)| counted(count.into(), noun))
            .collect();
        say(format!("one for each of {} stays, in {}", periods.join(", "), rule.of.words()));
    }
    if !rule.keep_named.is_empty() {
        let count = counted(rule.keep_named.len() as u64, "pattern");
        say(format!("what {count} of keep_named name stays"));
    }
    if let Some(total) = rule.total {
        say(format!("only until {} of {} are left", binary(total), rule.of.words()));
    }
    match rule.until {
        None => {}
        Some(Enough::Waterline) => say("stops when the level is at the waterline".to_owned()),
        Some(Enough::Level(level)) => say(format!("stops when the level is {level}")),
        Some(Enough::Free(free)) => say(format!("stops when {} are free", binary(free))),
    }
    if let Some(to) = &rule.to {
        say(format!("what it moves goes below {}", Shown(to)));
    }
    if let Some(after) = rule.purge_after {
        say(format!("what it sets aside is due to be purged after {after}"));
    }
    if let Some(above) = rule.above {
        say(format!("only if the level is above {above}"));
    }
    if let Some(above) = rule.inodes_above {
        say(format!("only if more than {above} of the inodes are used"));
    }
    let limits = &rule.at_most;
    if let Some(entries) = limits.entries {
        say(format!("never more than {}", counted_entries(entries)));
    }
    if let Some(size) = limits.size {
        say(format!("never more than {}", binary(size)));
    }
    if let Some(share) = limits.share {
        say(format!("never more than {share} of what it looks at"));
    }
    lines
}
