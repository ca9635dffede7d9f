//! Evidence: what is known about the selected thing, and what that means for it.

use fondaco_core::analysis::{Evidence, Ownership, RepositoryState, Verdict};
use fondaco_core::archive::is_store;
use fondaco_core::kernel::Kind;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, Time, counted, grouped};
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::pen::Pen;
use crate::fit::cut_path;
use crate::frame::geometry;
use crate::frame::model::Model;
use crate::station::Station;

/// A verdict, and facts with their names.
#[derive(Default)]
pub struct Sheet {
    /// What it all means, first.
    pub verdict: Option<(String, Style)>,
    facts: Vec<(&'static str, String)>,
    /// The largest things of it, each with a number.
    pub list: Vec<(String, String)>,
    /// What the list is.
    pub list_title: &'static str,
}

impl Sheet {
    /// A verdict alone.
    pub fn of_verdict(text: String, style: Style) -> Self {
        Self { verdict: Some((text, style)), ..Self::default() }
    }

    /// Adds a fact.
    pub fn fact(&mut self, name: &'static str, value: impl Into<String>) {
        self.facts.push((name, value.into()));
    }
}

/// A fact takes at most so many lines.
const MOST_LINES: u16 = 6;

/// What the station says, beside the panel or below it.
pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect, tall: bool) {
    let sheet = model.station.room().evidence(model, pen);
    let area = Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area };
    if tall { draw_tall(pen, area, &sheet) } else { draw_flat(pen, area, &sheet) }
}

/// Beside the panel: one fact a line.
fn draw_tall(pen: &mut Pen<'_>, area: Rect, sheet: &Sheet) {
    let theme = pen.theme;
    pen.text(area.x, area.y, "EVIDENCE", theme.dim, area.width);
    let mut y = area.y + 2;
    if let Some((verdict, style)) = &sheet.verdict {
        let left = Rect { y, height: area.bottom().saturating_sub(y), ..area };
        y += pen.wrapped(left, verdict, *style) + 1;
    }
    for (name, value) in &sheet.facts {
        if y >= area.bottom() {
            return;
        }
        pen.text(area.x, y, name, theme.dim, 12);
        let value_area = Rect {
            x: area.x + 12,
            y,
            width: area.width.saturating_sub(12),
            height: (area.bottom() - y).min(MOST_LINES),
        };
        y += pen.wrapped(value_area, value, theme.plain).max(1);
    }
    if sheet.list.is_empty() || y + 1 >= area.bottom() {
        return;
    }
    y += 1;
    pen.text(area.x, y, sheet.list_title, theme.dim, area.width);
    for (name, value) in &sheet.list {
        y += 1;
        if y >= area.bottom() {
            return;
        }
        pen.text_right(area.x + 10, y, value, theme.plain);
        let width = area.width.saturating_sub(12);
        pen.text(area.x + 12, y, &cut_path(name, usize::from(width)), theme.plain, width);
    }
}

/// Facts that are sentences.
const SENTENCES: [&str; 5] = ["note", "for", "against", "usually", "left over"];

/// Below the panel: the verdict, then as many facts in columns as fit.
fn draw_flat(pen: &mut Pen<'_>, area: Rect, sheet: &Sheet) {
    let theme = pen.theme;
    let mut y = area.y;
    if let Some((verdict, style)) = &sheet.verdict {
        let two = Rect { height: area.height.min(2), ..area };
        y += pen.wrapped(two, verdict, *style);
    }
    let columns = (area.width / 36).max(1);
    let width = area.width / columns;
    // a sentence needs the whole width, and says more than a fact that may not fit below it
    let (notes, facts): (Vec<_>, Vec<_>) =
        sheet.facts.iter().partition(|(name, _)| SENTENCES.contains(name));
    for (name, value) in notes {
        let height = area.bottom().saturating_sub(y).min(2);
        pen.text(area.x, y, name, theme.dim, if height > 0 { 11 } else { 0 });
        let room = Rect::new(area.x + 12, y, area.width.saturating_sub(13), height);
        y += pen.wrapped(room, value, theme.plain);
    }
    for (i, (name, value)) in facts.into_iter().enumerate() {
        let (column, row) = (i as u16 % columns, i as u16 / columns);
        if y + row >= area.bottom() {
            return;
        }
        let x = area.x + column * width;
        pen.text(x, y + row, name, theme.dim, 11);
        let room = width.saturating_sub(13);
        let value = if value.starts_with('/') { &cut_path(value, room.into()) } else { value };
        pen.text(x + 12, y + row, value, theme.plain, room);
    }
}

/// What the row of an entry shows of it.
#[derive(Clone, Copy, Debug)]
pub struct EntryFacts {
    /// Bytes on disk.
    pub allocated: Bytes,
    /// Sum of the lengths.
    pub apparent: Bytes,
    /// Names in it.
    pub entries: u64,
    /// Newest writing in it.
    pub newest: Time,
}

/// What is known about the selected entry; `row` is what its row shows, which is newer while a scan runs, and only a
/// part under a lens.
pub fn of_entry(model: &Model, pen: &Pen<'_>, row: Option<EntryFacts>) -> Sheet {
    let mut sheet = Sheet::default();
    let theme = pen.theme;
    let Some(subject) = model.subject() else { return sheet };
    let known = model.evidence.as_ref().filter(|(id, _)| *id == subject);
    let Some((_, evidence)) = known else {
        let text = if model.scan.running && !model.place.chosen {
            "Rankings still move: choose an entry to look at it."
        } else {
            "looking …"
        };
        sheet.verdict = Some((text.to_owned(), theme.dim));
        if let Some(row) = row {
            sheet.fact("allocated", model.bytes(row.allocated));
            sheet.fact("apparent", model.bytes(row.apparent));
        }
        return sheet;
    };
    let style = match &evidence.verdict {
        Verdict::Gone
        | Verdict::Elsewhere(_)
        | Verdict::Unreadable(_)
        | Verdict::Protected(_)
        | Verdict::OwnedByPackage(..)
        | Verdict::InUse(_) => theme.trouble,
        Verdict::JustWritten(_) | Verdict::KeptByOtherNames(_) => theme.amber,
        Verdict::Unknown(_) | Verdict::InStore(_) | Verdict::Regenerated(_) => theme.teal,
    };
    sheet.verdict = Some((evidence.verdict.to_string(), style));
    entry_facts(model, &mut sheet, evidence, row);
    for station in Station::ALL {
        station.room().add_to_evidence(model, subject, &mut sheet);
    }
    sheet
}

fn entry_facts(model: &Model, sheet: &mut Sheet, evidence: &Evidence, row: Option<EntryFacts>) {
    let mut totals = evidence.totals;
    // while a scan runs, the row beside it is newer
    if let Some(row) = row.filter(|_| model.scan.running) {
        (totals.allocated, totals.apparent) = (row.allocated, row.apparent);
        (totals.entries, totals.newest) = (row.entries, row.newest);
    }
    let exclusive = totals.exclusive.map(|bytes| model.bytes(bytes));
    if let Some(row) = row.filter(|_| model.lens.selection.is_some()) {
        // the row beside it shows this part, and what goes is the whole
        let (part, names) = (model.bytes(row.allocated), counted(row.entries, "entry"));
        sheet.fact("in the lens", format!("{part} in {names}"));
    }
    sheet.fact("allocated", model.bytes(totals.allocated));
    sheet.fact("exclusive", exclusive.unwrap_or_else(|| "known when the scan ends".to_owned()));
    sheet.fact("apparent", model.bytes(totals.apparent));
    sheet.fact("entries", grouped(totals.entries));
    sheet.fact("newest", dated(model, totals.newest));
    if let Some(stat) = &evidence.stat {
        sheet.fact("owner", evidence.owner.clone());
        sheet.fact("group", evidence.group.clone());
        let (kind, links) = (stat.kind.word(), stat.links);
        sheet.fact("mode", format!("{:04o} {kind}", stat.mode & 0o7777));
        // of a directory it tells how many directories lie in it, or nothing at all
        if stat.kind != Kind::Directory {
            sheet.fact("names", links.to_string());
        }
        sheet.fact("written", dated(model, stat.mtime));
        sheet.fact("read", dated(model, stat.atime));
        sheet.fact("changed", dated(model, stat.ctime));
        if let Some(born) = stat.btime {
            sheet.fact("born", dated(model, born));
        }
    }
    let holders: Vec<String> =
        evidence.holders.iter().map(|h| format!("{} ({})", h.pid, h.command)).collect();
    let open = match (holders.is_empty(), evidence.hidden_processes) {
        (false, _) => holders.join(", "),
        (true, 0) => "by no process".to_owned(),
        (true, n) => format!("not known: {n} processes may not be looked into"),
    };
    // of an object of a store nobody here is asked
    let in_store = is_store(&evidence.path);
    if !in_store {
        sheet.fact("open", open);
    }
    if evidence.subvolume {
        sheet.fact("subvolume", "of its own, on the same volume".to_owned());
    }
    sheet.fact("protected", evidence.protected.clone().unwrap_or_else(|| "no".to_owned()));
    found_facts(sheet, evidence);
    sheet.list_title = "largest below";
    let largest = evidence.largest.iter();
    sheet.list = largest.map(|(below, bytes)| (shown(below), model.bytes(*bytes))).collect();
}

/// The package that owns it, or that nobody has said it yet.
fn package(evidence: &Evidence) -> String {
    match &evidence.package {
        None => "asking …".to_owned(),
        Some(Ownership::Unknown) => "not known: no database here".to_owned(),
        Some(Ownership::Nobody) => "of none".to_owned(),
        Some(Ownership::Package { name, source }) => format!("{name} ({source})"),
        Some(Ownership::Several { names, count, source }) => {
            let more = if *count > names.len() { ", …" } else { "" };
            format!("files of {count} ({source}): {}{more}", names.join(", "))
        }
    }
}

/// What others say of it, or that they have not said it yet.
fn found_facts(sheet: &mut Sheet, evidence: &Evidence) {
    if !is_store(&evidence.path) {
        sheet.fact("package", package(evidence));
    }
    if let Some(regenerable) = &evidence.regenerable {
        let place = if regenerable.at == evidence.path {
            String::new()
        } else {
            format!(", in {}", Shown(regenerable.at.file_name().unwrap_or_default()))
        };
        sheet.fact("regenerated", format!("by {}{place}", regenerable.by));
        sheet.fact("what it is", regenerable.reason.clone());
    }
    if let Some(repository) = &evidence.repository {
        let state = match &repository.state {
            RepositoryState::NotAsked => "asking …".to_owned(),
            RepositoryState::Clean => "clean".to_owned(),
            RepositoryState::Changed(count) => format!("{count} changed or new"),
            RepositoryState::NotKnown(reason) => format!("clean or not: {reason}"),
        };
        sheet.fact(
            "repository",
            format!("{}, {state}: {}", repository.system, Shown(&repository.at)),
        );
    }
    // a root of the scan belongs to none
    if let Some(family) = evidence.family.as_ref().filter(|family| !family.family.is_empty()) {
        let text = format!("{}: number {} of {} here", family.family, family.place, family.count);
        sheet.fact("family", text);
    }
    for other in evidence.other_names.iter().take(3) {
        sheet.fact("also named", shown(other));
    }
    if evidence.names_elsewhere > 0 {
        let names = counted(u64::from(evidence.names_elsewhere), "name");
        sheet.fact("elsewhere", format!("{names} outside the scan"));
    }
    if let Some(trouble) = &evidence.rules_trouble {
        sheet.fact("rules", shown(trouble));
    }
    if let Some(rules) = &evidence.rules {
        let text = if rules.is_empty() { "of none".to_owned() } else { rules.join(", ") };
        sheet.fact("rule", shown(text));
    }
}

/// A moment with how long ago it was.
pub fn dated(model: &Model, time: Time) -> String {
    let (date, age) = (time.local(), time.age(model.now));
    // beside a panel that is not wide, the day must do
    let short = geometry::frame(model.size).is_some_and(|f| f.is_wide && f.evidence.width < 38);
    let date = if short { date.get(..10).unwrap_or(&date) } else { &date };
    format!("{date} · {age}")
}
