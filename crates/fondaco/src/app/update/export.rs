//! Exporting what the station shows.

use fondaco_core::history::Outlook;

use super::{ask, directories, lens};
use crate::app::export::{Done, Export, Exported, OfScan, View, destination};
use crate::app::message::Job;
use crate::app::model::{Asking, Model, Station};

pub(super) fn ask_where(model: &mut Model) -> Vec<Job> {
    let sentence =
        "Write what is shown as a new file. Its ending says how: .csv and .json for the \
                    table, .svg and .pdf for the chart, .html for a report of the scan. Or type \
                    clipboard."
            .to_owned();
    ask(model, Asking::Export, sentence, None)
}

pub(super) fn begin(model: &mut Model, typed: &str) -> Result<Vec<Job>, String> {
    let to = destination(typed)?;
    let what = exported(model).ok_or("there is nothing to be exported here")?;
    model.say("Exporting …");
    Ok(vec![Job::Export(Box::new(Export { to, what, units: model.units }))])
}

fn exported(model: &Model) -> Option<Exported> {
    let looking = &model.looking;
    let view = match model.station {
        Station::Volumes => {
            let known = |volume: &fondaco_core::volume::Volume| {
                let outlook = model.outlooks.get(&volume.mount_point).copied();
                (volume.clone(), outlook.unwrap_or(Outlook::NotYet))
            };
            return Some(Exported::Volumes(model.volumes.iter().map(known).collect()));
        }
        Station::Leftovers => return Some(Exported::Held(model.held.files.clone())),
        Station::Plan => return Some(Exported::Plan(Box::new(model.draft.clone()))),
        Station::Journal => return Some(Exported::Journal(model.journal.runs.clone())),
        Station::Directories => {
            View::Directory(looking.manner, model.directories.order, looking.files.order)
        }
        Station::Ages => View::Ages(looking.ages.by),
        Station::Breakdown => View::Breakdown(looking.breakdown.by),
        _ => return None,
    };
    Some(Exported::Scan(Box::new(OfScan {
        catalog: model.scan.catalog.clone()?,
        selection: lens::selection(model),
        lens: looking.lens.text.clone(),
        at: directories::at(model)?,
        state: model.state.clone(),
        view,
    })))
}

pub(super) fn on_done(model: &mut Model, outcome: Result<Done, String>) {
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
}
