//! What is known about the selected deleted file.

use fondaco_core::lens::Accounts;
use fondaco_core::shown::shown;
use fondaco_core::units::Bytes;

use super::{selected, view};
use crate::frame::model::Model;
use crate::frame::view::{Pen, Sheet, dated};

pub(super) fn of_held(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let theme = pen.theme;
    let Some(file) = selected(model) else { return sheet };
    let who = view::holders(&file.holds);
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
