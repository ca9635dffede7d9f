//! Takes one message into the model and says what is to be done. Reads no clock, disk or key. What only one station
//! has is in that station's folder.

pub mod evidence;
pub mod export;
pub mod file_list;
pub mod growth;
pub mod held;
pub mod lens;
pub mod many;
pub mod moving;
pub mod overlay;
pub mod peek;
pub mod place;
pub mod planning;
pub mod run;
pub mod scans;

pub use overlay::palette_rows;

use std::path::PathBuf;

use fondaco_core::archive::managed_name;
use fondaco_core::carry_out::Settled;
use fondaco_core::shown::Shown;
use fondaco_core::units::{Time, counted};

use super::commands::{Key, available, dispatch, why_not};
use super::message::{Job, Message};
use super::model::{Asking, Model, Overlay, Place, ScanState};
use crate::failure::Failure;
use crate::frame::Field;
use crate::station::{Station, ask_all, go_to, to_scan};

/// See the [module](self).
pub fn update(model: &mut Model, message: Message) -> Vec<Job> {
    if message.is_of_user() {
        model.questions.plans_when_ready = false;
        return on_user(model, message);
    }
    if is_of_earlier_scan(model, &message) {
        return Vec::new();
    }
    match message {
        Message::Resize(columns, rows) => {
            model.size = (columns, rows);
            model.station.room().redraw(model);
            Vec::new()
        }
        Message::Tick(now) => on_tick(model, now),
        Message::Volumes { .. } => on_volumes(model, message),
        Message::Answered { sort, number, answer, took, .. } => {
            let mut jobs = lens::on_answer(model, (sort, number), answer, took);
            jobs.extend(many::choose_when_ready(model));
            jobs
        }
        Message::SurveyedMany { deed, surveyed, .. } => many::on_surveyed(model, &deed, surveyed),
        Message::ScanBegun { .. }
        | Message::ScanRefused { .. }
        | Message::ScanProgress { .. }
        | Message::MendProgress { .. }
        | Message::Mended { .. }
        | Message::ScanSaved(_)
        | Message::SavedScans(_)
        | Message::Opened { .. } => scans::on_news(model, message),
        Message::Evidence { id, evidence, .. } => evidence::on_found(model, id, *evidence),
        Message::Exported(outcome) => export::on_done(model, *outcome),
        Message::Peeked { path, outcome } => peek::on_peeked(model, path, *outcome),
        Message::Place { inode, to, changes, outcome } => {
            held::on_place(model, inode, to, changes, outcome)
        }
        Message::Surveyed { path, outcome } => planning::on_surveyed(model, &path, *outcome),
        Message::RehearsalProgress(_)
        | Message::RunProgress(..)
        | Message::Rehearsed(_)
        | Message::CarriedOut(_) => run::on_news(model, message),
        Message::Settled(outcome) => on_settled(model, outcome),
        Message::Saved(Ok(())) => Vec::new(),
        Message::Saved(Err(reason)) => {
            model.say_trouble(format!("It holds for now but could not be kept: {reason}"));
            Vec::new()
        }
        Message::News(news) => news.take(model),
        Message::Named { question, answer } => {
            model.names.take(question, answer);
            lens::on_names(model)
        }
        _ => Vec::new(),
    }
}

/// What somebody has done at the terminal.
fn on_user(model: &mut Model, message: Message) -> Vec<Job> {
    match message {
        Message::Key(key) => on_key(model, key),
        Message::Paste(text) => text.chars().fold(Vec::new(), |mut jobs, c| {
            if c == '\n' && model.overlay.is_none() && model.station.room().takes_lines(model) {
                jobs.extend(on_key(model, Key::Enter));
            } else if takes_text(model) && !c.is_control() {
                jobs.extend(on_key(model, Key::Char(c)));
            }
            jobs
        }),
        Message::Command(command) => {
            // a click may come late, or on something that lies behind a question
            let can = available(model).any(|other| other == command);
            if can { (command.run)(model) } else { Vec::new() }
        }
        Message::GoTo(station) => go_to(model, station),
        Message::Click { row, double } => on_click(model, row, double),
        Message::ClickCell(row, column) if model.overlay.is_none() => {
            model.station.room().on_cell(model, row, column)
        }
        Message::ClickEntry { id, double } if model.overlay.is_none() => {
            model.station.room().on_entry(model, id, double)
        }
        Message::Wheel(lines) => step(model, i64::from(lines)),
        _ => Vec::new(),
    }
}

/// Asks for the names that have been missed, if any.
pub fn names_wanted(model: &Model) -> Option<Job> {
    let wanted = model.names.take_wanted();
    (!wanted.is_empty()).then(|| Job::AskNames(wanted, model.state.clone()))
}

/// Whether a message is about a scan that was replaced by another one.
fn is_of_earlier_scan(model: &Model, message: &Message) -> bool {
    match message {
        Message::Answered { scan: number, .. }
        | Message::SurveyedMany { scan: number, .. }
        | Message::ScanBegun { number, .. }
        | Message::ScanRefused { number, .. }
        | Message::ScanProgress { number, .. }
        | Message::MendProgress { number, .. }
        | Message::Mended { number, .. }
        | Message::Opened { number, .. }
        | Message::Evidence { number, .. } => *number != model.scan.number,
        _ => false,
    }
}

fn on_volumes(model: &mut Model, message: Message) -> Vec<Job> {
    let Message::Volumes { volumes, outlooks, held, interfaces } = message else {
        return Vec::new();
    };
    model.interfaces = interfaces;
    let points = volumes.iter().map(|volume| volume.mount_point.clone());
    model.outlooks = points.zip(outlooks).collect();
    // the selected volume stays selected when others come or go
    let selected = model.selected_volume().map(|volume| volume.mount_point.clone());
    let place = volumes.iter().position(|v| Some(&v.mount_point) == selected.as_ref());
    model.volume_cursor = place.unwrap_or(model.volume_cursor);
    model.volumes = volumes;
    model.volumes_asked = model.now;
    model.volumes_loaded = true;
    model.volume_cursor = model.volume_cursor.min(model.volumes.len().saturating_sub(1));
    let before = std::mem::replace(&mut model.held, held);
    ask_all(model, |room, model| {
        room.after_held(model, &before);
        room.after_volumes(model)
    })
}

/// Levels move while we look at them: every ten seconds the volumes are asked again, as long as all of
/// them answer.
fn on_tick(model: &mut Model, now: Time) -> Vec<Job> {
    model.now = now;
    model.draft.trim();
    let due = model.volumes_loaded && now.sec - model.volumes_asked.sec >= 10;
    if due && model.volumes.iter().all(|volume| volume.capacity.is_ok()) {
        model.volumes_asked = now;
        return vec![Job::LoadVolumes(model.state.clone())];
    }
    Vec::new()
}

/// What is to be done when the application opens.
pub fn begin(model: &mut Model) -> Vec<Job> {
    vec![Job::LoadVolumes(model.state.clone()), Job::Settle(model.state.clone())]
}

/// Runs that had been cut off have been brought to a defined state.
fn on_settled(model: &mut Model, outcome: Result<Vec<Settled>, Failure>) -> Vec<Job> {
    match outcome {
        Ok(settled) => {
            if let Some(first) = settled.first() {
                model.say_trouble(format!(
                    "Run {} had been cut off: {} finished, {} given their place back, {} not begun, \
                     {} need a look. See 9 Journal.",
                    first.run, first.finished, first.returned, first.not_begun, first.failed
                ));
            }
            ask_all(model, |room, model| room.after_change(model, None))
        }
        Err(reason) => {
            model.say_trouble(format!("A cut-off run could not be settled: {reason}"));
            Vec::new()
        }
    }
}

fn takes_text(model: &Model) -> bool {
    let asked = matches!(model.overlay, Some(Overlay::Ask { .. } | Overlay::Palette { .. }));
    asked || model.lens.typing.is_some() || model.station.room().typing(model).is_some()
}

fn on_key(model: &mut Model, key: Key) -> Vec<Job> {
    model.notice = None;
    if model.overlay.is_some() {
        return overlay::on_key(model, key);
    }
    if model.lens.typing.is_some() {
        return lens::on_typed(model, key);
    }
    if let Some(jobs) = model.station.room().take_key(model, key) {
        return jobs;
    }
    match dispatch(model, key) {
        Some(command) => (command.run)(model),
        None => {
            if let Some(why) = why_not(model, key) {
                model.say(why);
            }
            Vec::new()
        }
    }
}

/// Puts a question in front of the station; `wanted` is the only right answer, if there is one.
pub fn ask(
    model: &mut Model,
    asking: Asking,
    sentence: String,
    wanted: Option<String>,
) -> Vec<Job> {
    let typed = Field::default();
    let offers = Vec::new();
    model.overlay = Some(Overlay::Ask { asking, sentence, wanted, typed, error: None, offers });
    Vec::new()
}

/// Asks for the waterline of the volume that the gauge shows.
pub fn ask_waterline(model: &mut Model) -> Vec<Job> {
    let Some(volume) = model.gauge_volume() else { return Vec::new() };
    let (at, now) = (volume.mount_point.clone(), volume.waterline);
    let sentence =
        format!("The level that {} should be below, in percent; it is {now} now:", Shown(&at));
    ask(model, Asking::Waterline(at), sentence, None)
}

/// Leaves; asks first if something would be forgotten.
pub fn quit(model: &mut Model) -> Vec<Job> {
    let sentence = if model.run.is_active() {
        "A run is going on. It is stopped at its next safe point; nothing is lost, and the journal \
         can finish it. Type quit to leave."
            .to_owned()
    } else if let Some(unsaved) =
        Station::ALL.iter().find_map(|station| station.room().unsaved(model))
    {
        format!("{unsaved} Type quit to leave.")
    } else if !model.draft.is_empty() {
        let actions = counted(model.draft.planned().len() as u64, "planned action");
        format!("{actions} not carried out will be forgotten. Type quit to leave.")
    } else {
        model.quitting = true;
        return Vec::new();
    };
    ask(model, Asking::Quit, sentence, Some("quit".to_owned()))
}

/// Begins a scan and shows it.
pub fn start_scan(model: &mut Model, roots: Vec<PathBuf>) -> Vec<Job> {
    let mut jobs = begin_scan(model, roots);
    jobs.extend(to_scan(model));
    jobs
}

/// Begins a scan; the station stays.
pub fn begin_scan(model: &mut Model, roots: Vec<PathBuf>) -> Vec<Job> {
    let number = model.scan.number + 1;
    let rooms = model.rooms.clone();
    let scan = ScanState { number, roots, running: true, ..Default::default() };
    let scan = std::mem::replace(&mut model.scan, scan);
    let wanted = model.place.wanted.take();
    let place = std::mem::replace(&mut model.place, Place { wanted, ..Default::default() });
    // of two that are begun one after the other, what was there before both is kept
    model.before_scan.get_or_insert_with(|| Box::new((scan, place, rooms)));
    model.evidence = None;
    let mut jobs = vec![match model.scan.roots.as_slice() {
        [root] if managed_name(root).is_some() => {
            Job::ScanStore(number, root.clone(), model.now, model.state.clone())
        }
        roots => Job::Scan(number, roots.to_vec(), model.now),
    }];
    jobs.extend(lens::on_other_scan(model));
    jobs
}

fn on_click(model: &mut Model, row: usize, double: bool) -> Vec<Job> {
    if model.overlay.is_some() {
        return Vec::new();
    }
    model.notice = None;
    model.station.room().before_click(model);
    let mut jobs = step(model, row as i64 - model.list_cursor() as i64);
    if double && let Some(open) = dispatch(model, Key::Enter) {
        jobs.extend((open.run)(model));
    }
    jobs
}

/// Moves the selection by so many rows; in a list in front of the station, scrolls it.
pub fn step(model: &mut Model, by: i64) -> Vec<Job> {
    if let Some(Overlay::Help { offset } | Overlay::Listing { offset, .. }) = &mut model.overlay {
        *offset = offset.saturating_add_signed(by as isize);
        overlay::hold_in_list(model);
        return Vec::new();
    }
    let length = model.list_length();
    if length == 0 || model.overlay.is_some() {
        return Vec::new();
    }
    let to = (model.list_cursor() as i64).saturating_add(by).clamp(0, length as i64 - 1) as usize;
    model.station.room().select(model, to)
}

/// What must be fresh after something was carried out, put back or purged: `touched` are the places.
pub fn after_change(model: &mut Model, touched: Vec<PathBuf>) -> Vec<Job> {
    let mut jobs = vec![Job::LoadVolumes(model.state.clone())];
    jobs.extend(ask_all(model, |room, model| room.after_change(model, Some(&touched))));
    jobs.extend(match touched.len() > scans::MANY_PLACES {
        true => scans::scan_all_again(model),
        false => scans::look_again(model, touched),
    });
    jobs
}
