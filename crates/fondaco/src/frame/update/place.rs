//! The place in the scan at hand: the directory that is shown, and the way in and out of it.

use fondaco_core::catalog::EntryId;
use fondaco_core::units::counted;

use super::lens;
use crate::frame::message::Job;
use crate::frame::model::{Model, Overlay, Selected};
use fondaco_core::catalog::Unreadable;
use fondaco_core::shown::Shown;

/// Goes where the user wanted to be as soon as the scan has met it; else to the top if no place has been gone to. Says
/// how much is shown of the directory. Gives the directory.
pub fn measure(model: &mut Model) -> Option<EntryId> {
    let shared = model.scan.catalog.clone()?;
    let catalog = crate::frame::model::read(&shared);
    let selection = lens::selection(model);
    let seen = catalog.seen(selection.as_deref());
    let place = &mut model.place;
    if let Some((path, inside)) = &place.wanted
        && let Some(id) = catalog.find(path)
        && catalog.is_directory(id)
    {
        place.at = Some(id);
        if let Some(inside) = inside.as_ref().and_then(|inside| catalog.find(inside)) {
            (place.selected, place.chosen) = (Some(Selected::Entry(inside)), true);
        }
    }
    let at = *place.at.get_or_insert(catalog.top()?);
    place.path = catalog.path(at);
    place.parent = catalog.parent(at);
    place.whole = seen.allocated(at);
    place.entries = seen.entries(at);
    place.all = (catalog.allocated(at), catalog.entries(at));
    Some(at)
}

/// The directory at hand; the topmost if none has been gone to yet.
pub fn at(model: &Model) -> Option<EntryId> {
    model.place.at.or_else(|| model.scan.read()?.top())
}

/// Shows a directory, with what was selected in it before.
pub fn go_into(model: &mut Model, id: EntryId) -> Vec<Job> {
    let place = &mut model.place;
    place.at = Some(id);
    place.tail_open = false;
    place.wanted = None;
    let remembered = place.remembered.get(&id).copied();
    place.selected = remembered.map(Selected::Entry);
    place.chosen = remembered.is_some();
    lens::refresh(model)
}

/// The directory at hand and those above it that the scan has, topmost first.
pub fn trail(model: &Model) -> Vec<EntryId> {
    let Some(catalog) = model.scan.read() else { return Vec::new() };
    let mut trail = Vec::new();
    let mut at = model.place.at;
    while let Some(id) = at {
        trail.push(id);
        at = catalog.parent(id);
    }
    trail.reverse();
    trail
}

/// Lists the places that the scan could not read.
pub fn list_unreadable(model: &mut Model) -> Vec<Job> {
    let line =
        |place: &Unreadable| format!("cannot {} {}: {}", place.op, Shown(&place.path), place.error);
    let Some(lines) = model
        .scan
        .read()
        .map(|catalog| catalog.unreadable().iter().map(line).collect::<Vec<String>>())
    else {
        return Vec::new();
    };
    let title = format!("{} could not be read", counted(lines.len() as u64, "place"));
    model.overlay = Some(Overlay::Listing { title, lines, offset: 0 });
    Vec::new()
}
