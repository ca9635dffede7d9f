//! What rules would have done on the kept scans of a place, day by day.

use std::path::PathBuf;

use anyhow::Result;
use fondaco_chart::{Chart, Context, PastLevel};
use fondaco_core::rule::{DayTried, PastDay, PastLevels, RuleState};
use fondaco_core::shown::shown;
use fondaco_core::units::grouped;
use serde_json::{Value, json};

use super::cells::{binary, bytes, text};
use super::rules::state_word;
use super::{Answer, Paper};
use crate::output::{Grid, left, path_value, right, say};

/// Rules, tried on the kept scans of a place.
#[derive(Debug)]
pub struct Past {
    /// The directory whose kept scans were taken.
    pub place: PathBuf,
    /// The titles of the rules, in the order of the file.
    pub titles: Vec<String>,
    /// The days of which a scan is kept, oldest first.
    pub days: Vec<PastDay>,
}

impl Past {
    /// The days whose scans could be read and whose levels are known.
    pub fn levels(&self) -> impl DoubleEndedIterator<Item = (&PastDay, PastLevels)> {
        self.days.iter().filter_map(|day| Some((day, day.outcome.as_ref().ok()?.levels?)))
    }

    /// Whether the waterline would have held, in a sentence.
    pub fn verdict(&self) -> String {
        let (mut known, mut was, mut held) = (0u64, 0u64, 0u64);
        for (_, levels) in self.levels() {
            known += 1;
            was += u64::from(levels.without <= levels.waterline);
            held += u64::from(levels.would_have_held());
        }
        let Some((_, last)) = self.levels().next_back() else {
            return "The level of the volume is not known for any of these days.".to_owned();
        };
        let whether = match held == known {
            true => "The waterline would have held",
            false => "The waterline would not have held",
        };
        format!(
            "{whether}: the level is at {} or below on {} of {} days with the rules, on {} without.",
            last.waterline,
            grouped(held),
            grouped(known),
            grouped(was)
        )
    }

    /// What a day's rules take, in words: the rules that act, or why one does not.
    fn in_words(&self, day: &DayTried) -> String {
        let word = |(title, rule): (&String, &fondaco_core::rule::RuleTrial)| {
            let title = shown(title);
            match rule.state {
                RuleState::Acts if rule.takes.entries == 0 => None,
                RuleState::Acts => Some(format!(
                    "{title}: {}, {}",
                    grouped(rule.takes.entries),
                    binary(rule.frees)
                )),
                RuleState::Off | RuleState::Rests(_) => None,
                RuleState::OverLimit(_) => Some(format!("{title}: over its limit")),
            }
        };
        let words: Vec<String> = self.titles.iter().zip(&day.rules).filter_map(word).collect();
        words.join("; ")
    }
}

impl Answer for Past {
    fn head(&self) -> Value {
        json!({ "fondaco": 1, "kind": "rules-past", "of": path_value(&self.place) })
    }

    fn grid(&self) -> Grid {
        let mut grid = Grid::new(&[
            left("day", "day"),
            right("scan", "scan"),
            right("level", "level"),
            right("level_with", "with rules"),
            left("holds", "waterline"),
            right("entries", "takes"),
            right("frees", "relief"),
            left("rules", "by which rules"),
        ]);
        for day in &self.days {
            let mut row = vec![text(day.scanned.day()), (day.scan.to_string(), day.scan.into())];
            match &day.outcome {
                Err(error) => {
                    row.extend([text("-"), text("-"), text("-"), text("-"), text("-")]);
                    row.push(text(error.to_string()));
                }
                Ok(tried) => {
                    match tried.levels {
                        Some(levels) => {
                            let level = |level: fondaco_core::units::Level| {
                                (level.to_string(), json!(level.share()))
                            };
                            row.extend([level(levels.without), level(levels.with)]);
                            let holds = levels.would_have_held();
                            row.push((
                                (if holds { "holds" } else { "! over" }).to_owned(),
                                holds.into(),
                            ));
                        }
                        None => row.extend([text("-"), text("-"), text("-")]),
                    }
                    let entries = tried.takes.entries;
                    row.push((grouped(entries), entries.into()));
                    row.push(bytes(tried.frees));
                    row.push(text(self.in_words(tried)));
                }
            }
            grid.row(row);
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let mut document = self.head();
        let one = |day: &PastDay| {
            let mut row = json!({ "scan": day.scan, "scanned": day.scanned.rfc3339() });
            let tried = match &day.outcome {
                Ok(tried) => tried,
                Err(error) => {
                    row["error"] = error.to_string().into();
                    return row;
                }
            };
            if let Some(levels) = tried.levels {
                row["level"] = json!(levels.without.share());
                row["level_with"] = json!(levels.with.share());
                row["waterline"] = json!(levels.waterline.share());
                row["holds"] = levels.would_have_held().into();
            }
            row["entries"] = tried.takes.entries.into();
            row["frees"] = json!(tried.frees);
            let rule = |(title, rule): (&String, &fondaco_core::rule::RuleTrial)| {
                json!({
                    "rule": title,
                    "state": state_word(&rule.state),
                    "entries": rule.takes.entries,
                    "allocated": rule.takes.allocated,
                    "frees": rule.frees,
                })
            };
            row["rules"] = self.titles.iter().zip(&tried.rules).map(rule).collect();
            row
        };
        document["days"] = self.days.iter().map(one).collect();
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        self.grid().print(columns)?;
        say!("{}", self.verdict());
        Ok(())
    }

    fn chart(&self, paper: &Paper) -> Option<Chart> {
        let one = |(day, levels): (&PastDay, PastLevels)| PastLevel {
            day: day.scanned.day(),
            at: day.scanned.sec,
            without: levels.without.share(),
            with: levels.with.share(),
        };
        let days: Vec<PastLevel> = self.levels().map(one).collect();
        let waterline = self.levels().next_back().map_or(0.8, |(_, last)| last.waterline.share());
        let date = days.last().map_or_else(String::new, |day| day.day.clone());
        let Paper { units, look, size, .. } = *paper;
        let context = Context { of: shown(&self.place), date, lens: None, units, look, size };
        Some(fondaco_chart::past(&days, waterline, &context))
    }
}
