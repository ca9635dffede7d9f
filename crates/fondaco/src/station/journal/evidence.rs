//! What is known about the selected run, or about an action of the one that is open.

use fondaco_core::carry_out::EntryState;
use fondaco_core::shown::shown;
use fondaco_core::units::grouped;

use super::view::{age, counts, measured};
use super::{can_be_put_back, selected_run};
use crate::frame::model::Model;
use crate::frame::view::{Pen, Sheet};

pub(super) fn of_run(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let theme = pen.theme;
    let Some(run) = selected_run(model) else { return sheet };
    let entry = model.rooms.journal.open.as_ref().and_then(|open| open.entries.get(open.cursor));
    if let Some(entry) = entry {
        let trouble = entry.state.is_trouble();
        let text = match (entry.message.is_empty(), entry.can_be_put_back()) {
            (false, _) => entry.summary().to_owned(),
            (true, true) => "Can be put back: r".to_owned(),
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
        if let Some(place) = entry.moved_to() {
            sheet.fact("moved to", shown(place));
        }
        return sheet;
    }
    let can = can_be_put_back(run);
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
