//! Rules: what each rule of the rule file would take from the scan at hand, why, and what keeps the rest.

mod editor;
mod editor_view;
mod evidence;
mod past;
mod past_view;
#[cfg(test)]
mod tests;
mod trial;
mod view;

use std::sync::Arc;

use ratatui::layout::Rect;

use crate::failure::Failure;
use crate::frame::commands::{Command, Key, always, command};
use crate::frame::export::Exported;
use crate::frame::message::Job;
use crate::frame::model::Model;
use crate::frame::update::{export, step};
use crate::frame::view::{Pen, Sheet};
use crate::words::short_bytes;
use fondaco_core::rule::NewRule;
use fondaco_core::units::Bytes;
use trial::TriedRules;

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct State {
    /// What came of the last trial; nothing before the first.
    tried: Option<Result<Arc<TriedRules>, Failure>>,
    /// The selected rule.
    cursor: usize,
    /// A trial is going on.
    waiting: bool,
    /// Counts trials: what an earlier one says is not believed.
    number: u64,
    /// The text, while it is edited or has changes that are not saved.
    editor: Option<editor::Editor>,
    /// What the rules would have done on days that are kept.
    past: Option<past::PastState>,
    /// Counts the questions about the past.
    past_number: u64,
}

/// See the [module](self).
pub struct Room;

/// The last trial, if the rule file made sense.
fn tried(model: &Model) -> Option<&TriedRules> {
    model.rooms.rules.tried.as_ref()?.as_ref().ok().map(|tried| &**tried)
}

/// Something would be planned.
fn takes_something(model: &Model) -> bool {
    tried(model).is_some_and(|tried| tried.out.takes_something())
}

/// The selected rule.
fn on_rule(model: &Model) -> bool {
    let cursor = model.rooms.rules.cursor;
    !looks_back(model) && tried(model).is_some_and(|tried| cursor < tried.rules.rules.len())
}

fn takes_of_rule(model: &Model) -> bool {
    let cursor = model.rooms.rules.cursor;
    on_rule(model) && tried(model).is_some_and(|tried| !tried.listed[cursor].is_empty())
}

fn has_rules(model: &Model) -> bool {
    tried(model).is_some_and(|tried| !tried.rules.rules.is_empty())
}

fn looks_back(model: &Model) -> bool {
    model.rooms.rules.past.is_some()
}

fn can_edit(model: &Model) -> bool {
    !looks_back(model)
}

#[rustfmt::skip] // a table is read down its columns
static COMMANDS: &[Command] = &[
    command("edit", &[Key::Enter], 1, can_edit, editor::edit,
        "edit the text of the rule file at the selected rule"),
    command("plan it", &[Key::Char(' ')], 2, takes_of_rule, trial::plan_one,
        "look closely at all that the selected rule takes and plan it"),
    command("plan all", &[Key::Char('A')], 2, takes_something, trial::plan_all,
        "look closely at all that the rules take and plan it"),
    command("try again", &[Key::Char('T')], 3, always, |m| trial::try_out(m).into_iter().collect(),
        "read the rule file and try it on the scan at hand"),
    command("past", &[Key::Char('H')], 3, has_rules, past::look,
        "try the rules on the kept scans of this place, day by day"),
    command("on or off", &[Key::Char('i')], 4, on_rule, editor::switch,
        "switch the selected rule on or off, in the file"),
    command("save", &[Key::Ctrl('s')], 2, editor::is_changed, editor::save,
        "save the text of the rule file, and keep the version before it"),
    command("forget changes", &[Key::Delete], 6, editor::is_changed, editor::forget,
        "forget the changes to the text that are not saved; asks first"),
    command("day before", &[Key::Left], 0, looks_back, |m| step(m, -1),
        "select the day before"),
    command("day after", &[Key::Right], 0, looks_back, |m| step(m, 1),
        "select the day after"),
];

/// Opens the text of the rule file with a new rule at its end.
pub(super) fn add(model: &mut Model, new: NewRule) -> Vec<Job> {
    model.rooms.rules.past = None;
    editor::add(model, new)
}

impl super::Room for Room {
    fn commands(&self) -> &'static [Command] {
        COMMANDS
    }

    fn length(&self, model: &Model) -> usize {
        if let Some((past, _)) = past::known(model) {
            return past.days.len();
        }
        tried(model).map_or(0, |tried| tried.rules.rules.len())
    }

    fn cursor(&self, model: &Model) -> usize {
        if let Some((_, day)) = past::known(model) {
            return day;
        }
        model.rooms.rules.cursor
    }

    fn select(&self, model: &mut Model, row: usize) -> Vec<Job> {
        match &mut model.rooms.rules.past {
            Some(past::PastState::Known(_, day)) => *day = row,
            Some(past::PastState::Waiting) => {}
            None => model.rooms.rules.cursor = row,
        }
        Vec::new()
    }

    fn back(&self, model: &mut Model) -> Option<Vec<Job>> {
        model.rooms.rules.past.take().map(|_| Vec::new())
    }

    fn take_key(&self, model: &mut Model, key: Key) -> Option<Vec<Job>> {
        editor::on_key(model, key)
    }

    fn typing(&self, model: &Model) -> Option<String> {
        editor::is_open(model).then(|| {
            "Ctrl-S saves and tries it · Esc leaves it · Tab completes · Ctrl-Z takes back · Ctrl-Y does again".to_owned()
        })
    }

    fn takes_lines(&self, model: &Model) -> bool {
        editor::is_open(model)
    }

    fn unsaved(&self, model: &Model) -> Option<&'static str> {
        editor::is_changed(model)
            .then_some("Changes to the rule file that are not saved will be forgotten.")
    }

    fn new_rule(&self, model: &Model) -> Option<NewRule> {
        can_edit(model).then(|| {
            super::rule_of_lens(model).unwrap_or_else(|| NewRule {
                title: "new rule".to_owned(),
                lens: "kind:log older:30d".to_owned(),
                ..NewRule::default()
            })
        })
    }

    fn arrive(&self, model: &mut Model) -> Vec<Job> {
        trial::try_out(model).into_iter().collect()
    }

    fn offers_scans(&self) -> bool {
        true
    }

    fn forget_scan(&self, model: &mut Model) {
        model.rooms.rules.tried = None;
    }

    fn after_scan(&self, model: &mut Model) -> Vec<Job> {
        trial::try_out(model).into_iter().collect()
    }

    fn exported(&self, model: &Model) -> Option<Exported> {
        if let Some((past, _)) = past::known(model) {
            return Some(Exported::Known(Box::new(past.clone())));
        }
        let tried = model.rooms.rules.tried.as_ref()?.as_ref().ok()?;
        export::of_scan(model, trial::AsTried(tried.clone()))
    }

    fn beside_name(&self, model: &Model) -> (String, bool) {
        let relief = tried(model).map_or(Bytes::ZERO, |tried| tried.out.frees());
        if relief == Bytes::ZERO {
            return (String::new(), false);
        }
        (short_bytes(relief, model.units), true)
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        view::draw(model, pen, area);
    }

    fn evidence(&self, model: &Model, pen: &Pen<'_>) -> Sheet {
        evidence::of_rule(model, pen)
    }
}
