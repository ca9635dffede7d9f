//! What rules take from a scan, and why.

use anyhow::Result;
use fondaco_core::catalog::Catalog;
use fondaco_core::kernel::Kind;
use fondaco_core::leftovers::Usual;
use fondaco_core::rule::{
    Frees, Keeper, Match, ProgramMatch, Rule, RuleSet, RuleState, RuleTrial, Sum, Takes, TryOut,
    VolumeFacts,
};
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, grouped};
use serde_json::{Map, Value, json};

use super::Answer;
use super::cells::{binary, bytes, text};
use super::leftovers::name_of_whole;
use crate::output::{Grid, left, path_value, put_path, right, say};

/// How many entries of a rule are listed, unless all are asked for.
const FEW: usize = 5;

/// Rules, tried on a scan.
pub struct Tried<'a> {
    /// The rules of the file.
    pub rules: RuleSet,
    /// What they were tried on.
    pub catalog: &'a Catalog,
    /// Its file systems, with their levels.
    pub volumes: Vec<VolumeFacts>,
    /// What came of it.
    pub out: TryOut,
    /// List all entries.
    pub all: bool,
}

impl Tried<'_> {
    fn rule(&self, found: &Match) -> &Rule {
        &self.rules.rules[usize::from(found.rule)]
    }

    /// Why an entry goes: the words that hold, its place among the generations, the cap.
    pub fn why(&self, found: &Match) -> String {
        let mut why = self.rule(found).words.clone();
        why.extend(Some(self.place(found)).filter(|place| !place.is_empty()));
        why.join(", ")
    }

    /// Its place among the generations, and how far its group was over the cap; empty if its rule counts neither.
    pub fn place(&self, found: &Match) -> String {
        let rule = self.rule(found);
        let mut place = Vec::new();
        if let Some((number, of)) = found.generation
            && (rule.keep.is_some() || rule.thin.is_some())
        {
            place.push(format!("generation {} of {}", grouped(number.into()), grouped(of.into())));
        }
        if let Some(over) = found.over {
            place.push(format!("{} over the cap", binary(over)));
        }
        place.join(", ")
    }

    /// What would keep an entry.
    fn keeps(&self, found: &Match) -> String {
        let rule = self.rule(found);
        let mut keeps = Vec::new();
        if let (Some((place, _)), true) = (found.generation, rule.keep.is_some()) {
            keeps.push(format!("keep = {place}"));
        }
        if let (Some(over), Some(total)) = (found.over, rule.total) {
            keeps.push(format!("total = {}", binary(total + over)));
        }
        if rule.lens.has_ages()
            && rule.takes == Takes::Files
            && let Some(time) = rule.ages.of(self.catalog, found.entry)
        {
            keeps.push(format!("an age above {}", time.age(self.catalog.now())));
        }
        keeps.push("protect".to_owned());
        keeps.join(" or ")
    }

    /// How old an entry is, by the time that its rule counts from.
    pub fn age(&self, found: &Match) -> String {
        let catalog = self.catalog;
        let time = match catalog.kind(found.entry) {
            Kind::Directory => catalog.newest(found.entry),
            _ => self
                .rule(found)
                .ages
                .of(catalog, found.entry)
                .unwrap_or(catalog.modified(found.entry)),
        };
        time.age(catalog.now()).to_string()
    }

    /// The levels of the volumes now, and with what the rules would free.
    fn levels(&self) -> Vec<String> {
        let line = |volume: &VolumeFacts| {
            let frees = self.out.frees_on(self.catalog, volume.device);
            format!("{}: {}", Shown(&volume.mount_point), level_words(volume, frees, binary))
        };
        self.volumes.iter().map(line).collect()
    }

    fn print_rule(&self, number: usize, trial: &RuleTrial) -> Result<()> {
        let rule = &self.rules.rules[number];
        let takes = &trial.takes;
        say!("{}  {}  {}", number + 1, shown(&rule.title), rule.action.words());
        match &trial.state {
            RuleState::Off => {
                say!("   off: nothing is taken");
                return Ok(());
            }
            RuleState::Rests(why) => {
                say!("   rests: {why}");
                return Ok(());
            }
            RuleState::OverLimit(why) => {
                say!("   over its limit, so that nothing is done: {why}");
            }
            RuleState::Acts if takes.entries == 0 => say!("   takes nothing"),
            RuleState::Acts => say!(
                "   takes {}, {}, which frees {}",
                counted_entries(takes.entries),
                binary(takes.allocated),
                binary(trial.frees)
            ),
        }
        say!(
            "   looks at {}, {}",
            counted_entries(trial.looked_at.entries),
            binary(trial.looked_at.allocated)
        );
        for (by, sum) in self.out.keepers(self.catalog, number) {
            let Sum { entries, allocated } = sum;
            say!(
                "   stays: {}, {}, {}",
                counted_entries(entries),
                binary(allocated),
                self.kept_by(by)
            );
        }
        if trial.still_over > Bytes::ZERO {
            say!("   still over the cap: {}", binary(trial.still_over));
        }
        let mine: Vec<&Match> =
            self.out.matches.iter().filter(|found| usize::from(found.rule) == number).collect();
        let most = if self.all { usize::MAX } else { FEW };
        for found in mine.iter().take(most) {
            let path = self.catalog.path(found.entry);
            say!(
                "   {:>10}  {:>5}  {}\n{:24}{}; kept by {}",
                binary(self.catalog.allocated(found.entry)),
                self.age(found),
                Shown(&path),
                "",
                self.why(found),
                self.keeps(found)
            );
        }
        if mine.len() > most {
            say!("   … {} more; --all lists them", grouped((mine.len() - most) as u64));
        }
        let by_program = self.out.by_program.iter();
        for found in by_program.filter(|found| usize::from(found.rule) == number) {
            say!(
                "   {:>10}  {:>5}  {}\n{:24}{}; removed {}",
                binary(found.item.allocated),
                found.item.since.age(self.catalog.now()).to_string(),
                name_of_whole(self.catalog, &found.item),
                "",
                found.item.note,
                by_which(found)
            );
        }
        Ok(())
    }

    /// What keeps an entry back, in words.
    fn kept_by(&self, by: Keeper) -> String {
        let title = |rule: u16| shown(&self.rules.rules[usize::from(rule)].title);
        match by {
            Keeper::TakenBefore(rule) => format!("taken by {}", title(rule)),
            Keeper::KeptBefore(rule) => format!("kept by {}", title(rule)),
            other => keeper_word(other).to_owned(),
        }
    }
}

/// How a leftover goes that a rule takes as a whole.
fn by_which(found: &ProgramMatch) -> &'static str {
    match (found.group.group().usual, found.is_held()) {
        (Usual::Vacuum, _) => "by journalctl",
        (_, false) => "by the package manager",
        (_, true) => "by setting all its parts aside",
    }
}

/// The level of a volume now, with what rules free at once, and with what they set aside purged too.
pub fn level_words(volume: &VolumeFacts, frees: Frees, size: impl Fn(Bytes) -> String) -> String {
    let rest = match volume.to_find(frees.at_once) {
        Bytes::ZERO => format!("below the waterline of {}", volume.waterline),
        missing => format!("{} still to find to {}", size(missing), volume.waterline),
    };
    let purged = match frees.in_all > frees.at_once {
        true => format!("; {} once what is set aside is purged", volume.level_after(frees.in_all)),
        false => String::new(),
    };
    format!("level {} → {}, {rest}{purged}", volume.level(), volume.level_after(frees.at_once))
}

/// The word for what keeps an entry, in documents too.
pub fn keeper_word(by: Keeper) -> &'static str {
    match by {
        Keeper::Protected => "protected",
        Keeper::TakenBefore(_) => "taken by an earlier rule",
        Keeper::KeptBefore(_) => "kept by an earlier rule",
        Keeper::Generation => "among the generations that stay",
        Keeper::Named => "named in keep_named",
        Keeper::Fits => "fits under the cap",
        Keeper::InUse => "in use",
        Keeper::Enough => "enough is free without it",
        Keeper::Limit => "the rule is over its limit",
    }
}

/// The word for what became of a rule.
pub(super) fn state_word(state: &RuleState) -> &'static str {
    match state {
        RuleState::Acts => "acts",
        RuleState::Off => "off",
        RuleState::Rests(_) => "rests",
        RuleState::OverLimit(_) => "over-limit",
    }
}

pub(super) fn counted_entries(count: u64) -> String {
    match count {
        1 => "1 entry".to_owned(),
        more => format!("{} entries", grouped(more)),
    }
}

impl Answer for Tried<'_> {
    fn head(&self) -> Value {
        json!({
            "fondaco": 1,
            "kind": "rules-tried",
            "scanned": self.catalog.now().rfc3339(),
            "of": self.catalog.roots().iter().map(|root| path_value(&root.path)).collect::<Value>(),
        })
    }

    fn grid(&self) -> Grid {
        let mut grid = Grid::new(&[
            right("number", "rule"),
            left("rule", "title"),
            left("action", "action"),
            right("allocated", "on disk"),
            right("age", "age"),
            left("path", "path"),
            left("why", "why"),
            left("kept_by", "kept by"),
        ]);
        for found in &self.out.matches {
            let rule = self.rule(found);
            grid.row(vec![
                ((found.rule + 1).to_string(), (found.rule + 1).into()),
                text(shown(&rule.title)),
                text(rule.action.words()),
                bytes(self.catalog.allocated(found.entry)),
                text(self.age(found)),
                text(shown(self.catalog.path(found.entry))),
                text(shown(self.why(found))),
                text(self.keeps(found)),
            ]);
        }
        for found in &self.out.by_program {
            let rule = &self.rules.rules[usize::from(found.rule)];
            grid.row(vec![
                ((found.rule + 1).to_string(), (found.rule + 1).into()),
                text(shown(&rule.title)),
                text(rule.action.words()),
                bytes(found.item.allocated),
                text(found.item.since.age(self.catalog.now()).to_string()),
                text(name_of_whole(self.catalog, &found.item)),
                text(found.item.note.to_string()),
                text(by_which(found)),
            ]);
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let mut document = self.head();
        let rule = |(number, trial): (usize, &RuleTrial)| {
            let rule = &self.rules.rules[number];
            let sum = |sum: Sum| json!({ "entries": sum.entries, "allocated": sum.allocated });
            let mut row = json!({
                "rule": rule.title,
                "action": rule.action,
                "state": state_word(&trial.state),
                "looks_at": sum(trial.looked_at),
                "takes": sum(trial.takes),
                "frees": trial.frees,
                "enough": trial.enough,
                "still_over": trial.still_over,
            });
            if let RuleState::Rests(why) | RuleState::OverLimit(why) = &trial.state {
                row["reason"] = why.as_str().into();
            }
            let keepers = self.out.keepers(self.catalog, number);
            row["stays"] = keepers
                .into_iter()
                .map(|(by, of)| {
                    let mut row = sum(of);
                    row["by"] = keeper_word(by).into();
                    if let Keeper::TakenBefore(rule) | Keeper::KeptBefore(rule) = by {
                        row["rule"] = self.rules.rules[usize::from(rule)].title.as_str().into();
                    }
                    row
                })
                .collect();
            row
        };
        document["rules"] = self.out.rules.iter().enumerate().map(rule).collect();
        let entry = |found: &Match| {
            let mut row = Map::new();
            put_path(&mut row, &self.catalog.path(found.entry));
            let rule = self.rule(found);
            row.insert("rule".into(), rule.title.as_str().into());
            row.insert("action".into(), json!(rule.action));
            row.insert("allocated".into(), self.catalog.allocated(found.entry).get().into());
            if let Some((place, of)) = found.generation {
                row.insert("generation".into(), json!({ "place": place, "of": of }));
            }
            if let Some(over) = found.over {
                row.insert("over".into(), over.get().into());
            }
            row.insert("why".into(), self.why(found).into());
            row.insert("kept_by".into(), self.keeps(found).into());
            Value::Object(row)
        };
        document["entries"] = self.out.matches.iter().map(entry).collect();
        let by_program = |found: &ProgramMatch| {
            json!({
                "rule": self.rules.rules[usize::from(found.rule)].title,
                "group": found.group.group().key,
                "name": name_of_whole(self.catalog, &found.item),
                "allocated": found.item.allocated,
                "entries": found.item.entries,
                "note": &*found.item.note,
                "removed": by_which(found),
            })
        };
        if !self.out.by_program.is_empty() {
            document["by_program"] = self.out.by_program.iter().map(by_program).collect();
        }
        let volume = |volume: &VolumeFacts| {
            let frees = self.out.frees_on(self.catalog, volume.device);
            json!({
                "volume": path_value(&volume.mount_point),
                "level": volume.level().share(),
                "level_after": volume.level_after(frees.at_once).share(),
                "level_purged": volume.level_after(frees.in_all).share(),
                "waterline": volume.waterline.share(),
                "to_find": volume.to_find(frees.at_once),
            })
        };
        document["volumes"] = self.volumes.iter().map(volume).collect();
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        if !columns.is_empty() {
            return self.grid().print(columns);
        }
        for (number, trial) in self.out.rules.iter().enumerate() {
            self.print_rule(number, trial)?;
        }
        let takes = self.out.takes();
        say!(
            "all rules: {}, {}, which frees {}",
            counted_entries(takes.entries),
            binary(takes.allocated),
            binary(self.out.frees())
        );
        for line in self.levels() {
            say!("{line}");
        }
        Ok(())
    }
}
