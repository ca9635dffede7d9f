//! Breakdown: bytes by one property at a time, whose slices go into the lens.

mod evidence;
mod slices;
#[cfg(test)]
pub mod tests;
mod view;

use std::path::PathBuf;
use std::sync::Arc;

use fondaco_core::analysis::{Breakdown, BreakdownBy, Slice};
use fondaco_core::rule::NewRule;
use ratatui::layout::Rect;

use crate::frame::commands::{Command, Key, command};
use crate::frame::export::Exported;
use crate::frame::message::Job;
use crate::frame::model::Model;
use crate::frame::update::{export, growth, lens};
use crate::frame::view::{Pen, Sheet};

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct State {
    /// By which property.
    by: BreakdownBy,
    /// What was found, if it was.
    found: Option<Arc<Breakdown>>,
    /// The selected slice.
    cursor: usize,
    /// Path of its largest entry.
    largest: Option<PathBuf>,
    /// What other properties need is being worked out, or has been.
    learned: bool,
    /// It is being looked for.
    waiting: bool,
}

/// See the [module](self).
pub struct Room;

/// The selected slice.
fn selected(model: &Model) -> Option<&Slice> {
    let state = &model.rooms.breakdown;
    state.found.as_ref()?.slices.get(state.cursor)
}

fn is_found(model: &Model) -> bool {
    model.rooms.breakdown.found.is_some()
}

/// The next property can be gone to before the last has been found out.
fn can_turn(model: &Model) -> bool {
    model.scan.catalog.is_some()
}

fn is_by_kind(model: &Model) -> bool {
    is_found(model) && model.rooms.breakdown.by == BreakdownBy::Kind
}

#[rustfmt::skip] // a table is read down its columns
static COMMANDS: &[Command] = &[
    command("narrow to it", &[Key::Enter], 2, is_found, slices::narrow,
        "put the selected slice into the lens"),
    command("plan all", &[Key::Char('A')], 3, |m| selected(m).is_some(), slices::plan_all,
        "list the files of the slice and plan all of them"),
    command("next property", &[Key::Right], 3, can_turn, |m| slices::turn(m, 1),
        "break down by the next property"),
    command("last property", &[Key::Left], 0, can_turn, |m| slices::turn(m, -1),
        "break down by the property before"),
    command("by contents", &[Key::Char('v')], 6, is_by_kind, slices::by_content,
        "read the beginning of files whose ending tells nothing, and sort them by it"),
];

impl super::Room for Room {
    fn commands(&self) -> &'static [Command] {
        COMMANDS
    }

    fn length(&self, model: &Model) -> usize {
        model.rooms.breakdown.found.as_ref().map_or(0, |found| found.slices.len())
    }

    fn cursor(&self, model: &Model) -> usize {
        model.rooms.breakdown.cursor
    }

    fn select(&self, model: &mut Model, row: usize) -> Vec<Job> {
        model.rooms.breakdown.cursor = row;
        slices::find_largest(model);
        Vec::new()
    }

    fn lines_beside_list(&self, _: &Model) -> u16 {
        4
    }

    fn new_rule(&self, model: &Model) -> Option<NewRule> {
        let lens = model.lens.narrowed(&slices::term(model)?);
        Some(super::new_rule(model, &lens, None))
    }

    fn arrive(&self, model: &mut Model) -> Vec<Job> {
        lens::refresh(model)
    }

    fn shows_scan(&self) -> bool {
        true
    }

    fn awaits_scan(&self, model: &Model) -> bool {
        model.rooms.breakdown.waiting
    }

    fn refresh(&self, model: &mut Model) -> Vec<Job> {
        slices::ask_slices(model).into_iter().collect()
    }

    fn forget_scan(&self, model: &mut Model) {
        let state = &mut model.rooms.breakdown;
        (state.learned, state.found) = (false, None);
    }

    fn has_growth(&self) -> bool {
        true
    }

    fn on_changes(&self, model: &mut Model) -> Vec<Job> {
        growth::slices(model, model.rooms.breakdown.by)
    }

    fn exported(&self, model: &Model) -> Option<Exported> {
        export::of_scan(model, slices::query(model))
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        view::draw(model, pen, area);
    }

    fn evidence(&self, model: &Model, pen: &Pen<'_>) -> Sheet {
        evidence::of_slice(model, pen)
    }
}
