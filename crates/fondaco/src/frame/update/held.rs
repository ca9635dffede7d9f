//! Deleted files that processes hold: choosing how they are let go of.

use std::path::{Path, PathBuf};

use fondaco_core::carry_out::{EntryRecord, EntryState};
use fondaco_core::kernel::DeletedFile;
use fondaco_core::packed_list::PackedList;
use fondaco_core::plan::{Deed, Draft, Review, plan_held};
use fondaco_core::shown::shown;
use fondaco_core::units::Bytes;

use super::ask;
use crate::failure::Failure;
use crate::frame::Field;
use crate::frame::message::Job;
use crate::frame::model::{Asking, Model, Overlay, held_deeds};

fn find(model: &Model, inode: (u64, u64)) -> Option<&DeletedFile> {
    model.held.files.iter().find(|file| (file.dev, file.ino) == inode)
}

fn name(file: &DeletedFile) -> String {
    shown(file.path.file_name().unwrap_or(file.path.as_os_str()))
}

/// Space on a held file: takes it off the plan if it is there, else asks how it is let go of.
pub fn choose_deed(model: &mut Model, place: usize) -> Vec<Job> {
    let Some(file) = model.held.files.get(place) else { return Vec::new() };
    let (name, inode) = (name(file), (file.dev, file.ino));
    let (path, bytes) = (file.path.clone(), file.allocated.unwrap_or(Bytes::ZERO));
    let planned = model.planned_release(file).map(|planned| planned.path.clone());
    if model.run.is_active() {
        model.say_trouble("A run is going on: plan more when it has ended");
        return Vec::new();
    }
    if let Some(planned) = planned {
        model.draft.take_off(&planned);
        model.run.rehearsal = None;
        model.say(format!("Taken off the plan: {name}"));
        return Vec::new();
    }
    let (deeds, held) = (held_deeds(model.asked_in_vain.contains(&inode)), Some(inode));
    model.overlay =
        Some(Overlay::ChooseDeed { path, name, deeds, held, bytes, cursor: 0, changes: false });
    Vec::new()
}

/// The deed has been chosen; to be saved, it needs a name first.
pub fn put(model: &mut Model, inode: (u64, u64), deed: Deed, changes: bool) -> Vec<Job> {
    let Some(file) = find(model, inode) else {
        model.say_trouble("It is no longer held: its space is free");
        return Vec::new();
    };
    if !matches!(deed, Deed::Save { .. }) {
        plan_it(model, inode, deed, changes);
        return Vec::new();
    }
    let name = name(file);
    let suggested = model.state.depot().join(format!("{name}.saved"));
    let sentence = format!(
        "Save {name} as this new file, then cut it to nothing. ↓ offers a name in the depot."
    );
    let jobs = ask(model, Asking::SaveHeld(inode, changes), sentence, None);
    if let Some(Overlay::Ask { offers, .. }) = &mut model.overlay {
        *offers = suggested.to_str().map(str::to_owned).into_iter().collect();
    }
    jobs
}

/// The name has been typed: it is looked at away from the screen.
pub fn save_as(inode: (u64, u64), typed: &str, changes: bool) -> Result<Vec<Job>, Failure> {
    let to = PathBuf::from(typed);
    if !to.is_absolute() || to.file_name().is_none() {
        return Err("the name of a new file begins with /".into());
    }
    Ok(vec![Job::FindPlace(inode, to, changes)])
}

/// The place is good, or another is asked for.
pub fn on_place(
    model: &mut Model,
    inode: (u64, u64),
    to: PathBuf,
    changes: bool,
    outcome: Result<u64, Failure>,
) -> Vec<Job> {
    let dev = match outcome {
        Ok(dev) => dev,
        // whatever stands in front by now was opened later, and goes first
        Err(reason) if model.overlay.is_some() => {
            model.say_trouble(reason);
            return Vec::new();
        }
        Err(reason) => {
            let save = Deed::Save { to: PathBuf::new(), same_volume: false };
            let jobs = put(model, inode, save, changes);
            if let Some(Overlay::Ask { typed, error, .. }) = &mut model.overlay {
                *typed = Field::of(to.to_str().unwrap_or_default());
                *error = Some(reason.to_string());
            }
            return jobs;
        }
    };
    let on = |path: &Path| model.volume_of(path).map(|volume| volume.mount_point.clone());
    let volume = find(model, inode).and_then(|file| model.volume_of_held(file));
    let same_volume = dev == inode.0 && on(&to) == volume.map(|v| v.mount_point.clone());
    plan_it(model, inode, Deed::Save { to, same_volume }, changes);
    Vec::new()
}

fn plan_it(model: &mut Model, inode: (u64, u64), deed: Deed, changes: bool) {
    let Some(file) = find(model, inode) else { return };
    let (word, name) = (deed.word(), name(file));
    let volume = model.volume_of_held(file).map(|volume| volume.mount_point.clone());
    let planned = plan_held(file, &model.held, deed.clone(), volume.unwrap_or_default());
    model.run.rehearsal = None;
    model.run.summary = None;
    if changes {
        model.draft.set_deed(&planned.path, deed, false);
        model.say(format!("Changed to {word}: {name}"));
        return;
    }
    model.draft.put(planned);
    model.say(format!("Planned: {word}, to free {name}"));
}

/// Notes whose processes did not end when they were asked.
pub fn note_in_vain(model: &mut Model, entries: &PackedList<EntryRecord>) {
    for entry in entries {
        let asked = entry.action.deed == Deed::End { by_force: false };
        if asked && entry.state == EntryState::Failed {
            let target = &entry.action.target;
            model.asked_in_vain.insert((target.device, target.inode));
        }
    }
}

/// What must be known before a plan that lets go of files is carried out.
pub fn warning(draft: &Draft) -> String {
    let mut words = String::new();
    if !draft.sums().has_held {
        return words;
    }
    for planned in draft.planned() {
        let Review::Ready(survey) = &planned.review else { continue };
        let Some(held) = &survey.held else { continue };
        let who: Vec<String> =
            held.target.holders.iter().map(|p| format!("{} (pid {})", p.command, p.pid)).collect();
        let who = who.join(", ");
        words.push_str(&match &planned.deed {
            Deed::End { by_force: false } => format!("{who} will be asked to end. "),
            Deed::End { by_force: true } => {
                format!("{who} will be killed and cannot save anything. ")
            }
            _ => format!("{who} goes on without what it has written. "),
        });
    }
    words
}
