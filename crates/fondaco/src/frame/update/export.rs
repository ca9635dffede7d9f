//! Exporting what the station shows.

use fondaco_core::catalog::EntryId;

use super::{ask, lens, place};
use crate::failure::Failure;
use crate::frame::export::{Done, Export, Exported, OfScan, destination};
use crate::frame::message::Job;
use crate::frame::model::{Asking, Model, read};
use crate::query::Query;

pub fn ask_where(model: &mut Model) -> Vec<Job> {
    let sentence =
        "Write what is shown as a new file. Its ending says how: .csv and .json for the \
                    table, .svg and .pdf for the chart, .html for a report of the scan. Or type \
                    clipboard."
            .to_owned();
    ask(model, Asking::Export, sentence, None)
}

pub fn begin(model: &mut Model, typed: &str) -> Result<Vec<Job>, Failure> {
    let to = destination(typed)?;
    let what =
        model.station.room().exported(model).ok_or("there is nothing to be exported here")?;
    model.say("Exporting …");
    Ok(vec![Job::Export(Box::new(Export { to, what, units: model.units }))])
}

/// Something that is asked of the scan at hand, below the directory at hand and under the lens.
pub fn of_scan(model: &Model, query: impl Query + 'static) -> Option<Exported> {
    of_scan_at(model, place::at(model)?, query)
}

/// As [`of_scan`], of the whole scan wherever the place at hand is.
pub fn of_whole_scan(model: &Model, query: impl Query + 'static) -> Option<Exported> {
    let top = read(model.scan.catalog.as_ref()?).top()?;
    of_scan_at(model, top, query)
}

fn of_scan_at(model: &Model, at: EntryId, query: impl Query + 'static) -> Option<Exported> {
    Some(Exported::Scan(Box::new(OfScan {
        catalog: model.scan.catalog.clone()?,
        selection: lens::selection(model),
        lens: model.lens.text.clone(),
        at,
        state: model.state.clone(),
        query: Box::new(query),
    })))
}

pub fn on_done(model: &mut Model, outcome: Result<Done, Failure>) -> Vec<Job> {
    match outcome {
        Ok(Done::Written(file)) => {
            model.say(format!("Written: {}", fondaco_core::shown::Shown(&file)));
        }
        Ok(Done::Copied(text, said)) => {
            model.clipboard = Some(text);
            model.say(format!("Given to the terminal's clipboard: {said}"));
        }
        Err(reason) => model.say_trouble(reason),
    }
    Vec::new()
}
