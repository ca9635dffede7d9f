//! What is known about the selected rule.

use fondaco_core::rule::RuleState;
use fondaco_core::shown::shown;
use fondaco_core::units::{counted, grouped};

use super::view::in_short;
use super::{past, tried};
use crate::frame::model::Model;
use crate::frame::view::{Pen, Sheet};
use crate::query::Past;
use crate::words::dated;

/// The selected rule: what becomes of it, and what keeps entries back.
pub(super) fn of_rule(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    if let Some((past, day)) = past::known(model) {
        return of_day(model, pen, past, day);
    }
    let Some(tried) = tried(model) else { return sheet };
    let cursor = model.rooms.rules.cursor;
    let Some(trial) = tried.out.rules.get(cursor) else { return sheet };
    let title = format!("Rule {}", cursor + 1);
    sheet.verdict = Some(match &trial.state {
        RuleState::Off => (format!("{title} is off."), pen.theme.dim),
        RuleState::Rests(why) => (format!("{title} rests: {why}."), pen.theme.plain),
        RuleState::OverLimit(why) => (
            format!(
                "{title} is over its limit, so nothing of it is done: {why}. To do it all the same: fondaco plan --rules … --confirm {}",
                trial.takes.entries
            ),
            pen.theme.trouble,
        ),
        RuleState::Acts => {
            let relief = model.bytes(trial.frees);
            (
                format!("{title} frees {relief}. Space plans it, A plans what all rules take."),
                pen.theme.plain,
            )
        }
    });
    let sum = |sum: fondaco_core::rule::Sum| {
        format!("{}, {}", grouped(sum.entries), model.bytes(sum.allocated))
    };
    sheet.fact("looks at", sum(trial.looked_at));
    sheet.fact("takes", sum(trial.takes));
    if trial.still_over > fondaco_core::units::Bytes::ZERO {
        sheet.fact("over the cap", model.bytes(trial.still_over));
    }
    sheet.list_title = "what stays, and why";
    sheet.list = tried.keepers[cursor]
        .iter()
        .map(|(by, held)| {
            let words = format!("{} {}", grouped(held.entries), in_short(*by));
            (words, model.bytes(held.allocated))
        })
        .collect();
    if let Some(last) = tried.last.get(cursor).and_then(Option::as_ref) {
        sheet.fact("last run", format!("run {}, {}", last.run, dated(&last.begun)));
        let did = counted(last.actions, "action");
        sheet.fact("", format!("{did}, {} freed", model.bytes(last.freed)));
    }
    let by_hand = || "when you plan it; nothing is scheduled".to_owned();
    sheet.fact("next run", tried.next.clone().unwrap_or_else(by_hand));
    for place in &tried.rules.protect {
        sheet.fact("protects", shown(place));
    }
    for line in &tried.not_there {
        sheet.fact("!", line.clone());
    }
    sheet
}

/// A day of the past: the level then, and what the rules would have made of it.
fn of_day(model: &Model, pen: &Pen<'_>, past: &Past, day: usize) -> Sheet {
    let mut sheet = Sheet::default();
    let Some(day) = past.days.get(day) else { return sheet };
    sheet.fact("scanned", day.scanned.local());
    sheet.fact("kept scan", day.scan.to_string());
    match &day.outcome {
        Err(error) => sheet.verdict = Some((error.to_string(), pen.theme.trouble)),
        Ok(tried) => {
            let takes = format!(
                "The rules would have taken {} entries, {}.",
                grouped(tried.takes.entries),
                model.bytes(tried.takes.allocated)
            );
            sheet.verdict = Some((takes, pen.theme.plain));
            if let Some(levels) = tried.levels {
                sheet.fact("level then", levels.without.to_string());
                sheet.fact("with rules", levels.with.to_string());
                sheet.fact("waterline", levels.waterline.to_string());
            }
        }
    }
    let note = "each day is tried for itself; what was open then is not known";
    sheet.fact("note", note.to_owned());
    sheet
}
