//! What is known about the selected leftover, and about the selected deleted file.

use fondaco_core::catalog::EntryId;
use fondaco_core::leftovers::{FoundGroup, GroupName, Sum, Usual, What};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, counted, grouped};

use super::{held_view, looking, rows, selected_held, view};
use crate::frame::model::Model;
use crate::frame::view::{Pen, Sheet, dated, of_entry};

pub(super) fn of_selected(model: &Model, pen: &Pen<'_>) -> Sheet {
    if selected_held(model).is_some() {
        return of_held(model, pen);
    }
    let Some((name, item)) = rows::item(model) else {
        let is_held = rows::selected_group(model) == Some(GroupName::Held);
        if is_held && !model.scan.roots.is_empty() && !view::shows_both(model) {
            let about = GroupName::Held.group();
            let mut sheet = Sheet::of_verdict(about.what.to_owned(), pen.theme.amber);
            sheet.fact("for", about.speaks_for);
            sheet.fact("against", about.against);
            return sheet;
        }
        return rows::found_group(model)
            .map_or_else(Sheet::default, |group| of_group(model, pen, group));
    };
    let mut sheet = match item.id() {
        Some(_) => of_entry(model, pen, None),
        None => Sheet::default(),
    };
    if let What::Package(removal) = &item.what {
        sheet.verdict = Some((
            "The package manager removes it: it is tried when it is planned, and does just what was reviewed."
                .to_owned(),
            pen.theme.teal,
        ));
        sheet.fact("packages", removal.packages.join(", "));
        sheet.fact("files", grouped(removal.entries));
        sheet.fact("allocated", model.bytes(removal.allocated));
        sheet.fact("since", dated(model, item.since));
        sheet.fact("left over", format!("{}: {}", name.group().title, shown(&*item.note)));
    }
    sheet
}

/// What is done with a group; what it is stands in the panel.
fn of_group(model: &Model, pen: &Pen<'_>, group: &FoundGroup) -> Sheet {
    let about = group.group();
    let (text, style) = match about.usual {
        Usual::Delete => ("Usually deleted: it is made again.", pen.theme.teal),
        Usual::SetAside => {
            ("Usually set aside: it can be put back until it is purged.", pen.theme.teal)
        }
        Usual::Packages => {
            ("Removed by the package manager, which is asked first what would go.", pen.theme.teal)
        }
        Usual::Vacuum => ("Removed by the journal's own program, for good.", pen.theme.amber),
        Usual::Release => ("Let go of one by one: open the group.", pen.theme.amber),
        Usual::Tell => ("Only told: nothing of it is planned from here.", pen.theme.dim),
    };
    let mut sheet = Sheet::of_verdict(text.to_owned(), style);
    if !view::shows_both(model) {
        let what = format!("{} {}.", about.what, capital(about.sure.words()));
        sheet = Sheet::of_verdict(what, pen.theme.amber);
        sheet.fact("for", about.speaks_for);
        sheet.fact("against", about.against);
        sheet.fact("usually", text.trim_start_matches("Usually "));
    }
    let amount = |sum: Sum| {
        let leftovers = counted(sum.items, "leftover");
        format!("{} in {leftovers}, {}", model.bytes(sum.allocated), counted(sum.entries, "entry"))
    };
    if about.can_go() {
        sheet.fact("may go", amount(group.goes));
    }
    if group.stays.items > 0 {
        sheet.fact(if about.can_go() { "stay" } else { "found" }, amount(group.stays));
    }
    if about.least_days > 0 {
        sheet.fact("least age", about.least_age().to_string());
    }
    for trouble in &group.troubles {
        sheet.fact("not known", trouble.clone());
    }
    if group.goes.items > 0 {
        sheet.list_title = "largest";
        let largest = group.that_go().take(8);
        sheet.list =
            largest.map(|item| (rows::name(model, item), model.bytes(item.allocated))).collect();
    }
    sheet
}

/// With a capital letter, as a sentence of its own.
fn capital(words: &str) -> String {
    let mut letters = words.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

/// Adds to the evidence of an entry that it is left over, wherever it is shown.
pub(super) fn add(model: &Model, entry: EntryId, sheet: &mut Sheet) {
    if model.rooms.leftovers.about.scan != model.scan.number {
        return;
    }
    let Some(found) = looking::results(model) else { return };
    let of_group = |group: &FoundGroup| {
        // long lists are not gone through for every frame
        let few = group.items.len() < 2000;
        let item =
            few.then(|| group.items.iter().find(|item| item.id() == Some(entry))).flatten()?;
        let stays = item
            .stays
            .as_ref()
            .map_or_else(String::new, |stays| format!("; stays: {}", shown(&**stays)));
        Some(format!("{}: {}{stays}", group.group().title, shown(&*item.note)))
    };
    for text in found.groups.iter().filter_map(of_group) {
        sheet.fact("left over", text);
    }
}

fn of_held(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let theme = pen.theme;
    let Some(file) = selected_held(model) else { return sheet };
    let who = held_view::holders(&file.holds);
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
        let user = model.names.of_machine().user_name(process.user);
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
