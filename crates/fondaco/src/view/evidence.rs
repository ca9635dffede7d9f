//! Evidence: what is known about the selected thing, and what that means for it.

use fondaco_core::analysis::{Evidence, Ownership, RepositoryState, Verdict};
use fondaco_core::books::{Matter, Sure};
use fondaco_core::carry_out::EntryState;
use fondaco_core::history::Outlook;
use fondaco_core::kernel::Kind;
use fondaco_core::lens::Accounts;
use fondaco_core::plan::Review;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, Time, counted, grouped};
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::evidence_looking::{of_classes, of_slice};
use super::journal::{age, counts, measured};
use super::pen::{Pen, cut_path};
use super::plan::guard;
use crate::app::geometry;
use crate::app::looking::Manner;
use crate::app::model::{Focus, Model, Selected, Station};
use crate::words;

/// A verdict, and facts with their names.
#[derive(Default)]
pub(super) struct Sheet {
    pub(super) verdict: Option<(String, Style)>,
    facts: Vec<(&'static str, String)>,
    pub(super) list: Vec<(String, String)>,
    pub(super) list_title: &'static str,
}

impl Sheet {
    pub(super) fn fact(&mut self, name: &'static str, value: impl Into<String>) {
        self.facts.push((name, value.into()));
    }
}

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect, tall: bool) {
    let sheet = match model.station {
        Station::Volumes if model.focus == Focus::Books => of_line(model, pen),
        Station::Volumes => of_volume(model, pen),
        Station::Directories => of_entry(model, pen),
        Station::Ages if model.focus == Focus::List => of_entry(model, pen),
        Station::Ages => of_classes(model, pen),
        Station::Breakdown => of_slice(model, pen),
        Station::Leftovers => of_held(model, pen),
        Station::Plan => of_action(model, pen),
        Station::Journal => of_run(model, pen),
        _ => Sheet::default(),
    };
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
            height: (area.bottom() - y).min(3),
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
    for (i, (name, value)) in sheet.facts.iter().enumerate() {
        let (column, row) = (i as u16 % columns, i as u16 / columns);
        if y + row >= area.bottom() {
            return;
        }
        let x = area.x + column * width;
        pen.text(x, y + row, name, theme.dim, 11);
        pen.text(x + 12, y + row, value, theme.plain, width.saturating_sub(13));
    }
}

fn of_volume(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let Some(volume) = model.selected_volume() else { return sheet };
    let theme = pen.theme;
    match &volume.capacity {
        Err(reason) => sheet.verdict = Some((format!("Not known: {reason}"), theme.trouble)),
        Ok(capacity) => {
            let relief = model.draft.relief(&volume.mount_point);
            let to_find = volume.to_find(relief.now);
            sheet.verdict = Some(if volume.short_of_inodes() {
                let text = format!(
                    "Short of inodes: above {} of them are in use. Soon no file can be made, however \
                     much room there is: many small files must go.",
                    volume.waterline
                );
                (text, theme.trouble)
            } else if to_find > Bytes::ZERO {
                let text = format!(
                    "Above its waterline of {}: {} must go. Enter scans it.",
                    volume.waterline,
                    model.bytes(to_find)
                );
                (text, theme.trouble)
            } else {
                (format!("Below its waterline of {}.", volume.waterline), theme.teal)
            });
            sheet.fact("level", capacity.level().to_string());
            sheet.fact("capacity", model.bytes(capacity.total));
            sheet.fact("used", model.bytes(capacity.used));
            sheet.fact("free root", model.bytes(capacity.free_root));
            sheet.fact("free users", model.bytes(capacity.free_users));
            let reserve = capacity.free_root.less(capacity.free_users);
            sheet.fact("reserve", format!("{} for root", model.bytes(reserve)));
            sheet.fact("planned", model.bytes(relief.now));
            let inodes = match capacity.inodes {
                0 => "made as needed".to_owned(),
                all => format!("{} of {}", grouped(all - capacity.inodes_free), grouped(all)),
            };
            sheet.fact("inodes", inodes);
            let outlook = model.outlook(volume);
            if let Some(trend) = outlook.trend() {
                let signed = |bytes: f64| words::signed_bytes(bytes as i64, model.units);
                let (low, high) = (signed(trend.low), signed(trend.high));
                let range = if low == high { String::new() } else { format!(", {low} to {high}") };
                sheet.fact("rise a day", format!("{}{range}", signed(trend.rise)));
                if trend.falls > 0 {
                    let falls = counted(trend.falls as u64, "clean-up");
                    sheet.fact("seen", format!("{falls} in {:.0} d, left out of it", trend.days));
                }
            }
            sheet.fact(
                "full in",
                match &outlook {
                    Outlook::Full(_, forecast) => words::range(forecast),
                    other => words::full_in(other),
                },
            );
            sheet.fact("block", model.bytes(Bytes::new(capacity.block)));
        }
    }
    sheet.fact("type", volume.fs_type.clone());
    sheet.fact("device", shown(&volume.source));
    sheet.fact("mounted at", shown(&volume.mount_point));
    if volume.root.as_os_str() != "/" {
        sheet.fact("part of it", shown(&volume.root));
    }
    for place in &volume.also {
        sheet.fact("also at", words::in_words(place));
    }
    for quota in volume.quotas.iter().take(8) {
        sheet.fact("limit", words::quota_line(quota, &model.state, model.units));
    }
    let removable = if volume.removable { ", removable" } else { "" };
    sheet.fact("storage", format!("{}{removable}", volume.class.word()));
    sheet.fact("writable", if volume.read_only { "no: read-only" } else { "yes" });
    sheet
}

/// What a line of the books means, and the largest things behind it.
fn of_line(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let theme = pen.theme;
    let Some(books) = model.shown_books() else { return sheet };
    let Some(line) = books.lines.get(model.books.cursor) else { return sheet };
    let style = match (line.matter, line.figure.bytes) {
        (Matter::Held, 1..) => theme.trouble,
        (Matter::Unexplained, bytes) if bytes != 0 => theme.trouble,
        _ => theme.plain,
    };
    sheet.verdict = Some((meaning(line.matter).to_owned(), style));
    let sure = match line.figure.sure {
        Sure::Exact => "exact",
        Sure::AtMost => "it is at most this",
        Sure::AtLeast => "it is at least this",
        Sure::Unknown => "nothing can be said",
    };
    sheet.fact("how sure", sure);
    sheet.fact("of the used", {
        let share = line.figure.bytes as f64 / books.used.get().max(1) as f64;
        format!("{:.1} %", share * 100.0)
    });
    if line.matter == Matter::Metadata {
        for item in &books.beside {
            let bytes = Bytes::new(item.bytes.unwrap_or(0).unsigned_abs());
            sheet.fact("beside it", format!("{} {}", model.bytes(bytes), item.what));
        }
    }
    sheet.list_title = "behind it";
    sheet.list = line
        .items
        .iter()
        .map(|item| {
            let sign = if item.bytes.is_some_and(|bytes| bytes < 0) { "-" } else { "" };
            let size = |bytes: i64| model.bytes(Bytes::new(bytes.unsigned_abs()));
            let bytes = item.bytes.map_or_else(String::new, |b| format!("{sign}{}", size(b)));
            (item.what.clone(), bytes)
        })
        .collect();
    sheet
}

fn meaning(matter: Matter) -> &'static str {
    match matter {
        Matter::Visible => "What the scan saw: every inode once, however many names it has.",
        Matter::OtherSubvolumes => {
            "Subvolumes of the same file system that do not lie below this mount point. Mount them \
             to look into them."
        }
        Matter::Beneath => {
            "What lies in directories that other volumes are mounted on: hidden, but it takes space. \
             Nothing was unmounted to see it."
        }
        Matter::Held => {
            "Files that were deleted while a process has them open. The space comes back when it \
             ends or closes them. Enter shows who."
        }
        Matter::Unreadable => "What the scan was not allowed to read, or could not.",
        Matter::Metadata => {
            "What the file system keeps for itself and counts as used, by its own interfaces."
        }
        Matter::Shared => {
            "Files have extents in common, or lie smaller on the device than they count: taken off \
             what is visible."
        }
        Matter::Unexplained => {
            "Used space that no line explains. On a volume that is written to, some of it is what \
             changed since the scan."
        }
    }
}

fn of_entry(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let theme = pen.theme;
    let in_files = model.station != Station::Directories || model.looking.manner == Manner::Files;
    if !in_files && model.directories.selected == Some(Selected::Tail) {
        let text = "What does not fit the screen, added up. Enter opens it.".to_owned();
        sheet.verdict = Some((text, theme.plain));
        return sheet;
    }
    let Some(subject) = model.subject() else { return sheet };
    let known = model.evidence.as_ref().filter(|(id, _)| *id == subject);
    let Some((_, evidence)) = known else {
        let text = if model.scan.running && !model.directories.chosen {
            "Rankings still move: choose an entry to look at it."
        } else {
            "looking …"
        };
        sheet.verdict = Some((text.to_owned(), theme.dim));
        if let Some(row) = model.directories.selected_row().filter(|row| row.id == subject) {
            sheet.fact("allocated", model.bytes(row.allocated));
            sheet.fact("apparent", model.bytes(row.apparent));
        }
        return sheet;
    };
    let style = match &evidence.verdict {
        Verdict::Gone
        | Verdict::Unreadable(_)
        | Verdict::Protected(_)
        | Verdict::OwnedByPackage(..)
        | Verdict::InUse(_) => theme.trouble,
        Verdict::JustWritten(_) | Verdict::KeptByOtherNames(_) => theme.amber,
        Verdict::Unknown(_) | Verdict::Regenerated(_) => theme.teal,
    };
    sheet.verdict = Some((evidence.verdict.to_string(), style));
    entry_facts(model, &mut sheet, evidence);
    sheet
}

fn entry_facts(model: &Model, sheet: &mut Sheet, evidence: &Evidence) {
    let mut totals = evidence.totals;
    // while a scan runs, the row beside it is newer
    if let Some(row) = model.growing_row() {
        (totals.allocated, totals.apparent) = (row.allocated, row.apparent);
        (totals.entries, totals.newest) = (row.entries, row.newest);
    }
    let exclusive = totals.exclusive.map(|bytes| model.bytes(bytes));
    if let Some((part, names)) = part_in_lens(model) {
        // the row beside it shows this part, and what goes is the whole
        sheet.fact("in the lens", format!("{} in {}", model.bytes(part), counted(names, "entry")));
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
    sheet.fact("open", open);
    if evidence.subvolume {
        sheet.fact("subvolume", "of its own, on the same volume".to_owned());
    }
    sheet.fact("protected", evidence.protected.clone().unwrap_or_else(|| "no".to_owned()));
    found_facts(sheet, evidence);
    sheet.list_title = "largest below";
    let largest = evidence.largest.iter();
    sheet.list = largest.map(|(below, bytes)| (shown(below), model.bytes(*bytes))).collect();
}

/// Under a lens: what passes of the selected entry, as its row says.
fn part_in_lens(model: &Model) -> Option<(Bytes, u64)> {
    let row = model.directories.selected_row().filter(|row| Some(row.id) == model.subject())?;
    let narrowed = model.station == Station::Directories && model.looking.lens.selection.is_some();
    narrowed.then_some((row.allocated, row.entries))
}

/// What others say of it, or that they have not said it yet.
fn found_facts(sheet: &mut Sheet, evidence: &Evidence) {
    sheet.fact(
        "package",
        match &evidence.package {
            None => "asking …".to_owned(),
            Some(Ownership::Unknown) => "not known: no database here".to_owned(),
            Some(Ownership::Nobody) => "of none".to_owned(),
            Some(Ownership::Package { name, source }) => format!("{name} ({source})"),
            Some(Ownership::Several { names, count, source }) => {
                let more = if *count > names.len() { ", …" } else { "" };
                format!("files of {count} ({source}): {}{more}", names.join(", "))
            }
        },
    );
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
    if let Some(family) = &evidence.family {
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
    if let Some(rules) = &evidence.rules {
        let text = if rules.is_empty() { "of none".to_owned() } else { rules.join(", ") };
        sheet.fact("rule", shown(text));
    }
}

fn dated(model: &Model, time: Time) -> String {
    let (date, age) = (time.local(), time.age(model.now));
    // beside a panel that is not wide, the day must do
    let short = geometry::frame(model.size).is_some_and(|f| f.is_wide && f.evidence.width < 38);
    let date = if short { date.get(..10).unwrap_or(&date) } else { &date };
    format!("{date} · {age}")
}

fn of_action(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let theme = pen.theme;
    let Some(planned) = model.selected_action() else {
        let text = match &model.run.summary {
            Some(summary) => format!("Run {} is in the journal, action by action.", summary.run),
            None => "Nothing is planned.".to_owned(),
        };
        sheet.verdict = Some((text, theme.dim));
        return sheet;
    };
    let (text, trouble) = guard(model, planned);
    let style = if trouble { theme.trouble } else { theme.teal };
    sheet.verdict = Some((text, style));
    let frees = model.draft.frees().get(model.plan_cursor).copied().unwrap_or_default();
    sheet.fact("action", planned.deed.word());
    sheet.fact("reason", shown(&planned.reason));
    sheet.fact("target", shown(planned.place()));
    sheet.fact("entries", grouped(planned.entries));
    sheet.fact("frees now", model.bytes(frees.now));
    sheet.fact("frees later", model.bytes(frees.later));
    sheet.fact("volume", shown(&planned.volume));
    let undo = match &planned.deed {
        fondaco_core::plan::Deed::Delete => "no: deleted for good",
        fondaco_core::plan::Deed::SetAside => "yes, until it is purged",
        fondaco_core::plan::Deed::Archive { .. } => "yes, from the archive",
        fondaco_core::plan::Deed::End { .. } => "no: a process ends",
        fondaco_core::plan::Deed::Cut => "no: the contents are lost",
        fondaco_core::plan::Deed::Save { .. } => "no: the contents are saved",
    };
    sheet.fact("put back", undo);
    if let fondaco_core::plan::Deed::Archive { depot } = &planned.deed {
        sheet.fact("depot", shown(depot));
    }
    if let fondaco_core::plan::Deed::Save { to, .. } = &planned.deed {
        sheet.fact("saved as", shown(to));
    }
    if let Review::Ready(survey) = &planned.review
        && let Some(held) = &survey.held
    {
        for process in &held.target.holders {
            sheet.fact("held by", format!("{} (pid {})", process.command, process.pid));
        }
    }
    for note in planned.notes() {
        sheet.fact("note", note);
    }
    sheet
}

fn of_held(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let theme = pen.theme;
    let Some(file) = model.selected_held() else { return sheet };
    let who = super::leftovers::holders(&file.holds);
    sheet.verdict = Some(match (file.allocated, file.holds.iter().any(|hold| hold.mapped)) {
        (None, _) => {
            (format!("Mapped by {who}; how much it takes, only root can see."), theme.amber)
        }
        (Some(bytes), true) => (
            format!(
                "In use: {who} has it mapped. {} come back when it ends; cutting it would crash it.",
                model.bytes(bytes)
            ),
            theme.trouble,
        ),
        (Some(bytes), false) => (
            format!("In use: {who}. {} come back when it ends or closes it.", model.bytes(bytes)),
            theme.trouble,
        ),
    });
    sheet.fact("path was", shown(&file.path));
    if let Some(bytes) = file.allocated {
        sheet.fact("allocated", model.bytes(bytes));
        sheet.fact("apparent", model.bytes(Bytes::new(file.size)));
        sheet.fact("written", dated(model, file.written));
        sheet.fact("deleted by", dated(model, file.changed));
    }
    let volume = model.volume_of_held(file).map(|volume| shown(&volume.mount_point));
    sheet.fact("volume", volume.unwrap_or_else(|| "not mounted here".to_owned()));
    sheet.fact("inode", file.ino.to_string());
    for hold in &file.holds {
        let process = &hold.process;
        let user = model.state.user_name(process.user);
        let user = user.unwrap_or_else(|| process.user.to_string());
        sheet.fact("held by", format!("{} (pid {}) of {user}", process.command, process.pid));
        sheet.fact("running", format!("since {}", dated(model, process.since())));
        let mut ways: Vec<String> = hold.descriptors.iter().map(|fd| format!("fd {fd}")).collect();
        ways.extend(hold.mapped.then(|| "mapped".to_owned()));
        ways.extend(hold.directory.then(|| "its directory".to_owned()));
        sheet.fact("through", ways.join(", "));
    }
    let sure =
        if file.allocated.is_some() { "exact: seen through the process" } else { "not known" };
    sheet.fact("how sure", sure);
    sheet
}

fn of_run(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let theme = pen.theme;
    let Some(run) = model.selected_run() else { return sheet };
    let entry = model.journal.open.as_ref().and_then(|open| open.entries.get(open.cursor));
    if let Some(entry) = entry {
        let trouble = entry.state.is_trouble();
        let text = match (entry.message.is_empty(), entry.can_be_put_back()) {
            (false, _) => entry.message.clone(),
            (true, true) => "Can be put back: b".to_owned(),
            (true, false) => format!("It is {}", entry.state.word()),
        };
        sheet.verdict = Some((text, if trouble { theme.trouble } else { theme.teal }));
        sheet.fact("action", entry.action.deed.word());
        sheet.fact("reason", shown(&entry.action.reason));
        sheet.fact("target", shown(entry.action.place()));
        sheet.fact("entries", grouped(entry.action.target.entries));
        sheet.fact("size then", model.bytes(entry.action.target.allocated));
        sheet.fact("freed", model.bytes(entry.freed));
        sheet.fact("since", age(model, &entry.at));
        if let (EntryState::Held, Some(area)) = (entry.state, &entry.area) {
            sheet.fact("held in", shown(area));
        }
        if let Some(archive) = &entry.archive {
            sheet.fact("archive", shown(archive));
        }
        return sheet;
    }
    let can = model.can_be_put_back(run);
    let text = match can {
        0 => "Nothing of it can be put back.".to_owned(),
        n => format!("{n} of its actions can be put back: B puts back all, Enter chooses."),
    };
    sheet.verdict = Some((text, theme.teal));
    sheet.fact("run", run.id.to_string());
    sheet.fact("state", run.state.word());
    sheet.fact("begun", age(model, &run.begun));
    sheet.fact("forecast", model.bytes(run.forecast.now));
    sheet.fact("later", model.bytes(run.forecast.later));
    sheet.fact("measured", measured(model, run));
    for reason in &run.reasons {
        sheet.fact("since", reason.clone());
    }
    sheet.fact("actions", counts(run));
    sheet
}
