//! What is known about the selected action.

use fondaco_core::plan::{Deed, Review, moved_place};
use fondaco_core::shown::shown;
use fondaco_core::units::grouped;

use super::view::guard;
use super::{cursor, selected};
use crate::frame::model::Model;
use crate::frame::view::{Pen, Sheet};

pub(super) fn of_action(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let theme = pen.theme;
    let Some(planned) = selected(model) else {
        let text = match &model.run.summary {
            Some(summary) => format!("Run {} is in the journal, action by action.", summary.run),
            None => "Nothing is planned.".to_owned(),
        };
        sheet.verdict = Some((text, theme.dim));
        return sheet;
    };
    let (text, trouble) = guard(model, planned, cursor(model));
    let style = if trouble { theme.trouble } else { theme.teal };
    sheet.verdict = Some((text, style));
    let frees = model.draft.frees().get(cursor(model)).copied().unwrap_or_default();
    sheet.fact("action", planned.deed.word());
    sheet.fact("reason", shown(&planned.reason));
    sheet.fact("target", shown(planned.place()));
    sheet.fact("entries", grouped(planned.entries));
    sheet.fact("frees now", model.bytes(frees.now));
    sheet.fact("frees later", model.bytes(frees.later));
    sheet.fact("volume", shown(&planned.volume));
    let undo = match &planned.deed {
        Deed::Delete => "no: deleted for good",
        Deed::SetAside => "yes, until it is purged",
        Deed::Archive { .. } => "yes, from the archive",
        Deed::Move { .. } => "yes, from where it is moved to",
        Deed::Link | Deed::Share => "yes, as a file of its own",
        Deed::Restore { .. } => "no: its owner can throw it away again",
        Deed::RemovePackages => "no: the package manager installs them again",
        Deed::RemoveObject => "no, unless the store keeps versions",
        Deed::VacuumJournal => "no: the journal forgets it",
        Deed::End { .. } => "no: a process ends",
        Deed::Cut => "no: the contents are lost",
        Deed::Save { .. } => "no: the contents are saved",
    };
    sheet.fact("put back", undo);
    if let Deed::Archive { depot } = &planned.deed {
        sheet.fact("depot", shown(depot));
    }
    if let Deed::Move { to, .. } = &planned.deed {
        sheet.fact("goes to", shown(moved_place(to, &planned.path)));
    }
    if let Deed::Restore { place, .. } = &planned.deed {
        sheet.fact("goes to", shown(place));
    }
    if let Some(stays) = &planned.stays {
        sheet.fact("stays", shown(&stays.path.0));
    }
    if let Deed::Save { to, .. } = &planned.deed {
        sheet.fact("saved as", shown(to));
    }
    if let Review::Ready(survey) = &planned.review
        && let Some(held) = &survey.held
    {
        for process in &held.target.holders {
            sheet.fact("held by", format!("{} (pid {})", process.command, process.pid));
        }
    }
    for note in model.draft.notes_of(cursor(model)) {
        sheet.fact("note", note);
    }
    sheet
}
