//! What is known about the selected change, process or directory.

use fondaco_core::catalog::EntryId;
use fondaco_core::history::SizeThen;
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, counted};

use super::tide_view::a_day;
use super::{now, tide, tree};
use crate::frame::model::Model;
use crate::frame::update::growth;
use crate::frame::view::{Pen, Sheet, of_entry};
use crate::query::{fate_word, moved_words, rate_words, writer_words};
use crate::words::{days, signed_bytes};

pub(super) fn of(model: &Model, pen: &Pen<'_>) -> Sheet {
    if model.rooms.history.now.shown {
        return of_now(model, pen);
    }
    match tree::selected(model) {
        Some(_) => of_row(model, pen),
        None => of_tide(model, pen),
    }
}

/// Of an entry that is there, all that is known about it, with what changed.
fn of_row(model: &Model, pen: &Pen<'_>) -> Sheet {
    let (Some(row), Some(both)) = (tree::selected(model), tree::compared(model)) else {
        return Sheet::default();
    };
    let mut sheet = match tree::subject(model) {
        Some(_) => of_entry(model, pen, None),
        None => Sheet::of_verdict(verdict(row), pen.theme.plain),
    };
    let changes = &row.changes;
    sheet.fact("what", fate_word(row.fate, changes));
    sheet.fact("change", signed_bytes(changes.net(), model.units));
    sheet.fact("a day", a_day(changes.net(), both.days(), model));
    sheet.fact("before", model.bytes(row.amounts[0]));
    sheet.fact("now", model.bytes(row.amounts[1]));
    for (name, amount) in changes.named() {
        let entries = counted(amount.entries, "entry");
        sheet.fact(name, format!("{}, {entries}", model.bytes(amount.bytes)));
    }
    if let Some(moved) = moved_words(row) {
        sheet.fact("moved", moved);
    }
    let sizes = tide::known(model).and_then(|history| history.sizes_of(&row.path));
    if let Some(sizes) = sizes.filter(|sizes| sizes.len() > 1) {
        let (first, last) = (&sizes[0], &sizes[sizes.len() - 1]);
        sheet.fact("over time", sparkline(sizes));
        let range = format!("{} to {}", model.bytes(first.allocated), model.bytes(last.allocated));
        sheet.fact("since", format!("{}: {range}", first.at.day()));
    }
    sheet
}

/// So many columns of sizes are drawn.
const SPARKLINE: usize = 24;

/// Sizes over time in a line, from nothing to the largest.
fn sparkline(sizes: &[SizeThen]) -> String {
    const STEPS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let most = sizes.iter().map(|size| size.allocated).max().unwrap_or_default();
    let (from, to) = (sizes[0].at.sec, sizes[sizes.len() - 1].at.sec);
    let columns = SPARKLINE.min(sizes.len());
    let column = |number: usize| {
        // the last that is known by then
        let until = from + (to - from) * (number as i64 + 1) / columns as i64;
        let known = sizes.iter().take_while(|size| size.at.sec <= until).last();
        let part = known.map_or(0.0, |size| size.allocated.share_of(most));
        STEPS[((part * 7.0).round() as usize).min(7)]
    };
    (0..columns).map(column).collect()
}

fn verdict(row: &crate::query::ComparedRow) -> String {
    use fondaco_core::history::Fate;
    match row.fate {
        Fate::Gone => format!("{} is not there any more.", shown(&row.path)),
        Fate::MovedAway => match &row.other {
            Some(other) => format!("It lies at {} now.", shown(other)),
            None => "It lies elsewhere now.".to_owned(),
        },
        _ => shown(&row.path),
    }
}

/// Where the volume is going, and what fills it.
fn of_tide(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let Some(history) = tide::known(model) else { return sheet };
    sheet.verdict = Some((history.verdict(), pen.theme.plain));
    if let Some(trend) = history.tide.outlook.trend() {
        sheet.fact("rise a day", signed_bytes(trend.rise as i64, model.units));
        sheet.fact("clean-ups", format!("{} in {:.0} d", trend.falls, trend.days));
    }
    sheet.list_title = "grows, a day";
    sheet.list = history
        .tide
        .growing
        .iter()
        .map(|growing| {
            let path = growing.path.strip_prefix(&history.place).unwrap_or(&growing.path);
            (shown(path), format!("+{}", model.bytes(Bytes::new(growing.rise as u64))))
        })
        .collect();
    sheet
}

fn of_now(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let state = &model.rooms.history.now;
    let Some(activity) = state.activity() else { return sheet };
    if let Some(writer) = now::selected_writer(model) {
        let text = match &writer.process {
            Some(_) => format!(
                "{} writes {}. X asks it to end.",
                writer_words(writer),
                rate_words(writer.rate, model.units)
            ),
            None => "These processes had ended before anything was known of them.".to_owned(),
        };
        sheet.verdict = Some((text, pen.theme.plain));
        if let Some(process) = &writer.process {
            sheet.fact("pid", writer.pid.to_string());
            let since = process.since();
            sheet.fact("began", format!("{} ago, {}", since.age(model.now), since.local()));
        }
        sheet.fact("grown", model.bytes(writer.grown));
        sheet.fact("files", counted(writer.files, "file"));
        if writer.made > 0 {
            sheet.fact("made", counted(writer.made, "file"));
        }
        if let Some(path) = &writer.largest {
            sheet.fact("most in", shown(path));
        }
        return sheet;
    }
    let place = state.cursor.checked_sub(activity.writers.len());
    if let Some(directory) = place.and_then(|place| activity.directories.get(place)) {
        let text = format!("It grows by {}.", rate_words(directory.rate, model.units));
        sheet.verdict = Some((text, pen.theme.plain));
        sheet.fact("path", shown(&directory.path));
        sheet.fact("grown", model.bytes(directory.grown));
        sheet.fact("made", counted(directory.made, "file"));
        sheet.fact("moved here", counted(directory.moved_here, "file"));
        if directory.rate > 0.0
            && let Some(free) = activity.free
        {
            let seconds = free.get() as f64 / directory.rate;
            sheet.fact("fills it in", days(seconds / 86_400.0));
        }
    }
    sheet
}

/// By how much an entry has changed, where that is shown on another station.
pub(super) fn add_growth(model: &Model, id: EntryId, sheet: &mut Sheet) {
    let grown = growth::of_entry(model, id).filter(|_| !model.station.room().shows_changes(model));
    let (Some(grown), Some(both)) = (grown, model.growth.compared.as_ref()) else { return };
    let since = both.earlier.1.local();
    if grown == 0 {
        return sheet.fact("change", format!("none since {since}"));
    }
    sheet.fact("change", format!("{} since {since}", signed_bytes(grown, model.units)));
    sheet.fact("a day", a_day(grown, both.days(), model));
}
