//! History: how the level moved and where it is going, what changed between two moments, and who writes now.

mod evidence;
mod now;
mod now_view;
mod other;
#[cfg(test)]
pub mod tests;
mod tide;
mod tide_view;
mod tree;
mod tree_view;

use std::path::PathBuf;
use std::sync::{Arc, Weak};

use fondaco_core::analysis::BreakdownBy;
use fondaco_core::catalog::EntryId;
use fondaco_core::history::{PlaceId, SizeThen, SliceChange};
use fondaco_core::units::Time;
use ratatui::layout::Rect;

use crate::failure::Failure;
use crate::frame::commands::{Command, Key, command};
use crate::frame::export::Exported;
use crate::frame::message::Job;
use crate::frame::model::{ComparedScans, Focus, Model, Moment};
use crate::frame::update::evidence::look;
use crate::frame::update::growth;
use crate::frame::view::{Pen, Sheet};
use crate::query::{ComparedRow, VolumeHistory};

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct State {
    tide: TideState,
    tree: TreeState,
    now: now::NowState,
}

/// The level over time.
#[derive(Clone, Debug, Default)]
struct TideState {
    /// What is known, or why nothing is.
    known: Option<Result<Arc<VolumeHistory>, Failure>>,
    /// The place that was asked about last.
    of: Option<PathBuf>,
    /// Counts questions: only the last one's answer is taken.
    number: u64,
    /// The part of the time that is shown; all if there is none.
    window: Option<(Time, Time)>,
    /// The moment that is marked; the last if there is none.
    at: Option<Time>,
    /// Of a store, which has no level: the sizes of what was listed.
    sizes: Vec<SizeThen>,
}

/// What changed between two moments.
#[derive(Clone, Debug, Default)]
struct TreeState {
    /// The later moment, if it is a kept scan; else it is the scan at hand.
    later: Option<Moment>,
    /// The two compared, if the later one is a kept scan.
    kept: Option<Arc<ComparedScans>>,
    /// Counts comparisons of kept scans.
    number: u64,
    /// The way to the place that is shown, without the root.
    way: Vec<PlaceId>,
    /// By this property; by directory if there is none.
    by: Option<BreakdownBy>,
    /// What changed there, the largest difference first.
    rows: Vec<ComparedRow>,
    /// The same by a property; nothing as long as it is added up.
    slices: Option<Vec<SliceChange>>,
    /// Of which comparison and by which property slices were asked for.
    slices_of: Option<(Weak<ComparedScans>, BreakdownBy)>,
    /// The selected row.
    cursor: usize,
}

/// See the [module](self).
pub struct Room;

/// From the tide to what changed, and back.
fn turn_part(model: &mut Model) -> Vec<Job> {
    model.focus = match model.focus {
        Focus::Panel => Focus::Below,
        Focus::Below => Focus::Panel,
    };
    look(model)
}

fn has_tide(model: &Model) -> bool {
    !in_now(model) && tide::known(model).is_some()
}

fn in_now(model: &Model) -> bool {
    model.rooms.history.now.shown
}

fn has_tree(model: &Model) -> bool {
    !in_now(model) && tree::compared(model).is_some()
}

#[rustfmt::skip] // a table is read down its columns
static COMMANDS: &[Command] = &[
    command("moment before", &[Key::Left], 0, has_tide, |m| tide::step(m, -1),
        "mark an earlier moment of the tide"),
    command("moment after", &[Key::Right], 3, has_tide, |m| tide::step(m, 1),
        "mark a later moment of the tide"),
    command("zoom in", &[Key::Char('+')], 4, has_tide, |m| tide::zoom(m, true),
        "show half of the time, around the marked moment"),
    command("zoom out", &[Key::Char('-')], 0, |m| has_tide(m) && m.rooms.history.tide.window.is_some(), |m| tide::zoom(m, false),
        "show twice the time"),
    command("from here", &[Key::Char('<')], 5, |m| has_tide(m) && !m.growth.moments.is_empty(), tree::from_here,
        "compare from the kept scan that is nearest to the marked moment"),
    command("to here", &[Key::Char('>')], 6, |m| has_tide(m) && !m.growth.moments.is_empty(), tree::to_here,
        "compare to the kept scan that is nearest to the marked moment; at the end of the tide, to the scan at hand"),
    command("compare with", &[Key::Char('D')], 7, |m| !in_now(m) && growth::can_compare(m), other::ask_for,
        "compare with the file of a scan, a mounted snapshot or another directory"),
    command("go in", &[Key::Enter], 2, tree::can_enter, tree::enter,
        "go into the directory, or narrow the lens to the slice"),
    command("go out", &[Key::Backspace], 0, |m| has_tree(m) && !m.rooms.history.tree.way.is_empty(), tree::go_out,
        "go to the directory above"),
    command("tide or changes", &[Key::Tab], 2, tide_view::is_low, turn_part,
        "show the tide or what changed: there is not room for both"),
    command("by", &[Key::Char('y')], 4, has_tree, tree::turn,
        "tell what changed by directory, kind, owner or family"),
    command("now", &[Key::Char('n')], 3, now::can_watch, now::turn,
        "watch who writes on the volume at this moment, or end that"),
    command("ask to end", &[Key::Char('X')], 2, now::can_end, now::ask_to_end,
        "ask the selected process to end, after its number has been typed"),
];

impl super::Room for Room {
    fn commands(&self) -> &'static [Command] {
        COMMANDS
    }

    fn length(&self, model: &Model) -> usize {
        if in_now(model) { now::length(model) } else { tree::length(model) }
    }

    fn cursor(&self, model: &Model) -> usize {
        let state = &model.rooms.history;
        if in_now(model) { state.now.cursor } else { state.tree.cursor }
    }

    fn select(&self, model: &mut Model, row: usize) -> Vec<Job> {
        match in_now(model) {
            true => {
                model.rooms.history.now.cursor = row;
                Vec::new()
            }
            false => tree::select(model, row),
        }
    }

    fn lines_beside_list(&self, model: &Model) -> u16 {
        match (in_now(model), tide_view::is_low(model)) {
            (true, _) => 4,
            (false, true) => 3,
            (false, false) => tide_view::height(model) + 4,
        }
    }

    fn arrive(&self, model: &mut Model) -> Vec<Job> {
        tide::look(model)
    }

    fn back(&self, model: &mut Model) -> Option<Vec<Job>> {
        if in_now(model) {
            return Some(now::turn(model));
        }
        if !model.rooms.history.tree.way.is_empty() {
            return Some(tree::go_out(model));
        }
        let in_changes = tide_view::is_low(model) && model.focus == Focus::Below;
        in_changes.then(|| turn_part(model))
    }

    fn subject(&self, model: &Model) -> Option<EntryId> {
        tree::subject(model)
    }

    fn shows_changes(&self, model: &Model) -> bool {
        !in_now(model)
    }

    fn offers_scans(&self) -> bool {
        true
    }

    fn on_moment(&self, model: &mut Model) -> Vec<Job> {
        tree::compare_kept(model)
    }

    fn on_changes(&self, model: &mut Model) -> Vec<Job> {
        let mut jobs = tree::follow_lens(model);
        jobs.extend(look(model));
        jobs
    }

    fn forget_scan(&self, model: &mut Model) {
        let state = &mut model.rooms.history;
        let by = state.tree.by;
        state.tree = TreeState { by, number: state.tree.number + 1, ..TreeState::default() };
        state.tide = TideState { number: state.tide.number + 1, ..TideState::default() };
    }

    fn after_scan(&self, model: &mut Model) -> Vec<Job> {
        let here = std::ptr::addr_eq(model.station.room(), self as &dyn super::Room);
        if here { tide::look(model) } else { Vec::new() }
    }

    fn add_to_evidence(&self, model: &Model, id: EntryId, sheet: &mut Sheet) {
        evidence::add_growth(model, id, sheet);
    }

    fn exported(&self, model: &Model) -> Option<Exported> {
        let history = tide::known(model)?;
        Some(Exported::Known(Box::new(VolumeHistory::clone(history))))
    }

    fn beside_name(&self, model: &Model) -> (String, bool) {
        match model.rooms.history.now.is_watching() {
            true => ("watching".to_owned(), true),
            false => (String::new(), false),
        }
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        if in_now(model) {
            return now_view::draw(model, pen, area);
        }
        if tide_view::is_low(model) {
            return match model.focus {
                Focus::Panel => tide_view::draw(model, pen, area),
                Focus::Below => tree_view::draw(model, pen, area),
            };
        }
        let above = tide_view::height(model).min(area.height);
        tide_view::draw(model, pen, Rect { height: above, ..area });
        let rule = Rect { y: area.y + above, height: u16::from(area.height > above), ..area };
        pen.fill(rule, "─", pen.theme.rule);
        let height = area.height.saturating_sub(above + 1);
        tree_view::draw(model, pen, Rect { y: rule.bottom(), height, ..area });
    }

    fn evidence(&self, model: &Model, pen: &Pen<'_>) -> Sheet {
        evidence::of(model, pen)
    }
}
