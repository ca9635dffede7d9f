//! What is known about the selected entry: asked for when the selection moves.

use fondaco_core::analysis::Evidence;
use fondaco_core::catalog::EntryId;

use crate::frame::message::Job;
use crate::frame::model::Model;

/// Asks for what is known about the selected entry, unless it is known.
pub fn look(model: &mut Model) -> Vec<Job> {
    let Some(id) = model.subject() else {
        // when the same entry is selected again, it is asked for anew
        (model.evidence, model.asked_evidence) = (None, None);
        return Vec::new();
    };
    if model.scan.running && !model.place.chosen {
        // rankings still move: looking at whatever comes first would only hold up the scan
        return Vec::new();
    }
    let of_it = model.evidence.as_ref().filter(|(known, _)| *known == id);
    let known = of_it
        .is_some_and(|(_, evidence)| model.scan.running || evidence.totals.exclusive.is_some());
    let asked = model.asked_evidence == Some((model.scan.number, id));
    if known || asked {
        return Vec::new();
    }
    if of_it.is_none() {
        model.evidence = None;
    }
    model.asked_evidence = Some((model.scan.number, id));
    let Some(catalog) = model.scan.catalog.clone() else { return Vec::new() };
    let (number, state, now) = (model.scan.number, model.state.clone(), model.now);
    vec![Job::Evidence { number, id, catalog, state, now }]
}

/// Takes in what has been found out, if the entry is still the selected one.
pub fn on_found(model: &mut Model, id: EntryId, evidence: Evidence) -> Vec<Job> {
    if model.subject() != Some(id) {
        return Vec::new();
    }
    if evidence.totals.exclusive.is_none() {
        // it is asked for again when the scan has ended
        model.asked_evidence = None;
    }
    model.evidence = Some((id, evidence));
    look(model)
}
