//! Takes one message into the model and says what is to be done. Reads no clock, disk or key.

mod ages;
mod books;
mod breakdown;
mod directories;
mod export;
mod files;
mod held;
mod journal;
mod lens;
mod many;
mod map;
mod overlay;
mod peek;
mod plan;
mod scans;

pub use overlay::palette_rows;

use std::path::PathBuf;

use fondaco_core::shown::Shown;
use fondaco_core::units::{Time, counted};

use super::command_table::{Command, Key, available, dispatch};
use super::geometry::list_rows;
use super::looking::Manner;
use super::message::{Job, Message};
use super::model::{Asking, Focus, Model, Overlay, Station};
use crate::app::Field;

/// See the [module](self).
pub fn update(model: &mut Model, message: Message) -> Vec<Job> {
    if message.is_of_user() {
        model.looking.plans_when_ready = false;
    }
    match message {
        Message::Key(key) => on_key(model, key),
        Message::Paste(text) => text.chars().fold(Vec::new(), |mut jobs, c| {
            if takes_text(model) && !c.is_control() {
                jobs.extend(on_key(model, Key::Char(c)));
            }
            jobs
        }),
        Message::Command(command) => {
            // a click may come late, or on something that lies behind a question
            let can = available(model).any(|row| row.command == command);
            if can { on_command(model, command) } else { Vec::new() }
        }
        Message::Click { row, double } => on_click(model, row, double),
        Message::ClickCell(row, column) if model.overlay.is_none() => {
            model.focus = Focus::Panel;
            ages::go_to(model, row, column)
        }
        Message::ClickCell(..) => Vec::new(),
        Message::ClickEntry { id, double } => directories::on_map_click(model, id, double),
        Message::Wheel(lines) => move_cursor(model, i64::from(lines)),
        Message::Resize(columns, rows) => {
            model.size = (columns, rows);
            directories::rank(model);
            files::window_of_ages(model);
            files::window_of_directories(model);
            Vec::new()
        }
        Message::Tick(now) => on_tick(model, now),
        Message::Books { number, outcome } => books::on_drawn(model, number, *outcome),
        Message::Volumes { volumes, outlooks, held, interfaces } => {
            model.interfaces = interfaces;
            let points = volumes.iter().map(|volume| volume.mount_point.clone());
            model.outlooks = points.zip(outlooks).collect();
            held::on_collected(model, held);
            // the selected volume stays selected when others come or go
            let selected = model.selected_volume().map(|volume| volume.mount_point.clone());
            let place = volumes.iter().position(|v| Some(&v.mount_point) == selected.as_ref());
            model.volume_cursor = place.unwrap_or(model.volume_cursor);
            model.volumes = volumes;
            model.volumes_asked = model.now;
            model.volumes_loaded = true;
            model.volume_cursor = model.volume_cursor.min(model.volumes.len().saturating_sub(1));
            Vec::new()
        }
        Message::Answered { scan: number, .. }
        | Message::SurveyedMany { scan: number, .. }
        | Message::ScanBegun { number, .. }
        | Message::ScanRefused { number, .. }
        | Message::ScanProgress { number, .. }
        | Message::MendProgress { number, .. }
        | Message::Mended { number, .. }
        | Message::Opened { number, .. }
        | Message::Evidence { number, .. }
            if number != model.scan.number =>
        {
            Vec::new() // an earlier scan that is still talking
        }
        Message::Answered { number, answer, took, .. } => {
            let mut jobs = lens::on_answer(model, number, answer, took);
            jobs.extend(many::choose_when_ready(model));
            jobs
        }
        Message::SurveyedMany { deed, reason, surveyed, .. } => {
            many::on_surveyed(model, deed, reason, surveyed)
        }
        Message::ScanBegun { catalog, .. } => directories::on_begun(model, catalog),
        Message::ScanRefused { reason, .. } => directories::on_refused(model, &reason),
        Message::ScanProgress { progress, done, .. } => {
            directories::on_progress(model, progress, done)
        }
        Message::MendProgress { .. }
        | Message::Mended { .. }
        | Message::ScanSaved(_)
        | Message::SavedScans(_)
        | Message::Opened { .. } => scans::on_news(model, message),
        Message::Evidence { id, evidence, .. } => {
            if model.subject() != Some(id) {
                return Vec::new();
            }
            if evidence.totals.exclusive.is_none() {
                // it is asked for again when the scan has ended
                model.asked_evidence = None;
            }
            model.evidence = Some((id, *evidence));
            directories::look(model)
        }
        Message::Exported(outcome) => {
            export::on_done(model, *outcome);
            Vec::new()
        }
        Message::Peeked { path, outcome } => {
            peek::on_peeked(model, path, *outcome);
            Vec::new()
        }
        Message::Place { inode, to, changes, outcome } => {
            held::on_place(model, inode, to, changes, outcome)
        }
        Message::Surveyed { path, outcome } => plan::on_surveyed(model, &path, *outcome),
        Message::RehearsalProgress(_)
        | Message::RunProgress(..)
        | Message::Rehearsed(_)
        | Message::CarriedOut(_) => plan::on_run_news(model, message),
        Message::Journal(_)
        | Message::JournalRun { .. }
        | Message::Returned { .. }
        | Message::Settled(_) => journal::on_news(model, message),
        Message::Saved(Ok(())) => Vec::new(),
        Message::Saved(Err(reason)) => {
            model.say_trouble(format!("It holds for now but could not be kept: {reason}"));
            Vec::new()
        }
    }
}

/// Levels move while we look at them: every ten seconds the volumes are asked again, as long as all of
/// them answer.
fn on_tick(model: &mut Model, now: Time) -> Vec<Job> {
    model.now = now;
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

fn takes_text(model: &Model) -> bool {
    let typing = matches!(model.overlay, Some(Overlay::Ask { .. } | Overlay::Palette { .. }));
    typing || model.directories.typed.is_some() || model.looking.lens.typing.is_some()
}

fn on_key(model: &mut Model, key: Key) -> Vec<Job> {
    model.notice = None;
    if model.overlay.is_some() {
        return overlay::on_key(model, key);
    }
    if model.looking.lens.typing.is_some() {
        return lens::on_typed(model, key);
    }
    if model.station == Station::Directories && model.directories.typed.is_some() {
        return directories::on_typed(model, key);
    }
    if model.focus == Focus::Trail && directories::on_trail(model, key) {
        return Vec::new();
    }
    match dispatch(model, key) {
        Some(command) => on_command(model, command),
        None => Vec::new(),
    }
}

pub(super) fn on_command(model: &mut Model, command: Command) -> Vec<Job> {
    match command {
        Command::GoTo(station) => go_to(model, station),
        Command::Back => back(model),
        Command::Up => move_cursor(model, -1),
        Command::Down => move_cursor(model, 1),
        Command::PageUp => move_cursor(model, -(list_rows(model) as i64)),
        Command::PageDown => move_cursor(model, list_rows(model) as i64),
        Command::Home => move_cursor(model, i64::MIN / 2),
        Command::End => move_cursor(model, i64::MAX / 2),
        Command::Enter => enter(model),
        Command::GoOut => directories::go_out(model),
        Command::Trail => directories::open_trail(model),
        Command::Order if model.looking.manner == Manner::Files => files::next_order(model),
        Command::Order => directories::next_order(model),
        Command::Lens => lens::open(model),
        Command::ShowAll => lens::clear(model),
        Command::Time => ages::next_time(model),
        Command::Block => ages::mark_block(model),
        Command::CellLeft => ages::sideways(model, -1),
        Command::CellRight => ages::sideways(model, 1),
        Command::ToFiles => ages::step(model),
        Command::Narrow if model.station == Station::Ages => ages::narrow(model),
        Command::Narrow => breakdown::narrow(model),
        Command::NextProperty => breakdown::turn(model, 1),
        Command::LastProperty => breakdown::turn(model, -1),
        Command::ByContent => breakdown::by_content(model),
        Command::ShowPlace => files::show_place(model),
        Command::PlanMany => many::choose(model),
        Command::Map => files::switch(model, Manner::Map),
        Command::Files => files::switch(model, Manner::Files),
        Command::Export => export::ask_where(model),
        Command::Peek => peek::ask(model),
        Command::StopLook => vec![Job::StopLook],
        Command::FindName => {
            model.directories.typed = Some(String::new());
            Vec::new()
        }
        Command::Books => books::draw_up(model),
        Command::OpenBooks => books::step(model),
        Command::Rescan => scans::rescan(model),
        Command::SavedScans => scans::open_list(model),
        Command::Unreadable => directories::list_unreadable(model),
        Command::StopScan => vec![Job::StopScan],
        Command::Units => {
            model.units = model.units.next();
            Vec::new()
        }
        Command::TypePath => scans::ask_for_path(model),
        Command::Waterline => ask_waterline(model),
        Command::PlanIt if model.station == Station::Leftovers => held::choose_deed(model),
        Command::PlanIt => plan::choose_deed(model),
        Command::ChangeDeed => plan::change_deed(model),
        Command::TakeOff => plan::take_off(model),
        Command::Rehearse => plan::rehearse(model),
        Command::CarryOut => plan::ask_to_carry_out(model),
        Command::StopRun => plan::stop(model),
        Command::Mark => journal::mark(model),
        Command::PutBack => journal::put_back_chosen(model),
        Command::PutBackAll => journal::put_all_back(model),
        Command::FinishRun => journal::finish_run(model),
        Command::Purge => journal::ask_to_purge(model),
        Command::Palette => {
            model.overlay = Some(Overlay::Palette { typed: String::new(), cursor: 0 });
            Vec::new()
        }
        Command::Help => {
            model.overlay = Some(Overlay::Help { offset: 0 });
            Vec::new()
        }
        Command::Quit => quit(model),
    }
}

fn ask(model: &mut Model, asking: Asking, sentence: String, wanted: Option<String>) -> Vec<Job> {
    let typed = Field::default();
    let offers = Vec::new();
    model.overlay = Some(Overlay::Ask { asking, sentence, wanted, typed, error: None, offers });
    Vec::new()
}

fn ask_waterline(model: &mut Model) -> Vec<Job> {
    let Some(volume) = model.gauge_volume() else { return Vec::new() };
    let (at, now) = (volume.mount_point.clone(), volume.waterline);
    let sentence =
        format!("The level that {} should be below, in percent; it is {now} now:", Shown(&at));
    ask(model, Asking::Waterline(at), sentence, None)
}

fn quit(model: &mut Model) -> Vec<Job> {
    let sentence = if model.run.is_active() {
        "A run is going on. It is stopped at its next safe point; nothing is lost, and the journal \
         can finish it. Type quit to leave."
            .to_owned()
    } else if !model.draft.is_empty() {
        let actions = counted(model.draft.planned().len() as u64, "planned action");
        format!("{actions} not carried out will be forgotten. Type quit to leave.")
    } else {
        model.quitting = true;
        return Vec::new();
    };
    ask(model, Asking::Quit, sentence, Some("quit".to_owned()))
}

/// Goes to a station, and remembers the one that is left.
pub(super) fn go_to(model: &mut Model, station: Station) -> Vec<Job> {
    model.focus = Focus::Panel;
    if station != model.station {
        model.before.push_back(model.station);
        if model.before.len() > 32 {
            model.before.pop_front();
        }
        model.station = station;
    }
    arrive(model)
}

fn arrive(model: &mut Model) -> Vec<Job> {
    match model.station {
        Station::Volumes | Station::Leftovers => vec![Job::LoadVolumes(model.state.clone())],
        Station::Directories | Station::Ages | Station::Breakdown => lens::refresh(model),
        Station::Journal => vec![Job::LoadJournal(model.state.clone())],
        _ => Vec::new(),
    }
}

/// One level back: from the trail, an opened run, an opened tail, the directory, the station.
fn back(model: &mut Model) -> Vec<Job> {
    if model.focus != Focus::Panel {
        model.focus = Focus::Panel;
        return directories::look(model);
    }
    if model.station == Station::Ages && model.looking.ages.anchor.is_some() {
        return ages::mark_block(model);
    }
    if model.station == Station::Journal && model.journal.open.take().is_some() {
        return Vec::new();
    }
    if model.station == Station::Directories {
        if model.looking.manner != Manner::Cascade {
            return files::switch(model, Manner::Cascade);
        }
        if model.directories.tail_open {
            model.directories.tail_open = false;
            directories::rank(model);
            return directories::look(model);
        }
        if model.directories.parent.is_some() {
            return directories::go_out(model);
        }
    }
    if let Some(before) = model.before.pop_back() {
        model.station = before;
        return arrive(model);
    }
    Vec::new()
}

fn enter(model: &mut Model) -> Vec<Job> {
    match model.station {
        Station::Volumes if model.focus == Focus::Books => books::open_line(model),
        Station::Volumes => {
            let Some(volume) = model.selected_volume() else { return Vec::new() };
            let root = volume.mount_point.clone();
            if model.scan.roots == [root.clone()] && (model.scan.running || model.scan.complete) {
                return go_to(model, Station::Directories);
            }
            start_scan(model, vec![root])
        }
        Station::Directories => directories::enter(model),
        Station::Journal => journal::open_run(model),
        _ => Vec::new(),
    }
}

/// Begins a scan and shows it.
pub fn start_scan(model: &mut Model, roots: Vec<PathBuf>) -> Vec<Job> {
    let mut jobs = begin_scan(model, roots);
    jobs.extend(go_to(model, Station::Directories));
    jobs
}

/// Begins a scan; the station stays.
fn begin_scan(model: &mut Model, roots: Vec<PathBuf>) -> Vec<Job> {
    let number = model.scan.number + 1;
    let scan = super::model::ScanState { number, roots, running: true, ..Default::default() };
    let before = std::mem::replace(&mut model.scan, scan);
    let order = model.directories.order;
    let wanted = model.directories.wanted.take();
    let directories = super::model::Directories { order, wanted, ..Default::default() };
    let directories = std::mem::replace(&mut model.directories, directories);
    // of two that are begun one after the other, what was there before both is kept
    model.before_scan.get_or_insert((before, directories));
    model.evidence = None;
    let mut jobs = vec![Job::Scan(number, model.scan.roots.clone(), model.now)];
    jobs.extend(lens::on_other_scan(model));
    jobs
}

fn on_click(model: &mut Model, row: usize, double: bool) -> Vec<Job> {
    if model.overlay.is_some() {
        return Vec::new();
    }
    model.notice = None;
    let mut jobs = Vec::new();
    if model.station == Station::Ages {
        // rows are those of the files: cells are clicked on their own
        model.focus = Focus::List;
    }
    jobs.extend(move_cursor(model, row as i64 - model.list_cursor() as i64));
    if double {
        let opens = [Command::Enter, Command::Narrow, Command::ShowPlace];
        let open = super::command_table::available(model).find(|row| opens.contains(&row.command));
        jobs.extend(open.map(|row| on_command(model, row.command)).unwrap_or_default());
    }
    jobs
}

fn move_cursor(model: &mut Model, by: i64) -> Vec<Job> {
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
    match model.station {
        Station::Volumes if model.focus == Focus::Books => model.books.cursor = to,
        Station::Volumes => model.volume_cursor = to,
        Station::Leftovers => model.held_cursor = to,
        Station::Directories if model.looking.manner == Manner::Files => {
            model.looking.files.files.cursor = to;
            files::window_of_directories(model);
            return directories::look(model);
        }
        Station::Directories => return directories::select(model, to),
        Station::Ages if model.focus == Focus::List => {
            model.looking.ages.files.cursor = to;
            files::window_of_ages(model);
            return directories::look(model);
        }
        Station::Ages => {
            let column = model.looking.ages.cursor.column;
            return ages::go_to(model, to, column);
        }
        Station::Breakdown => {
            model.looking.breakdown.cursor = to;
            breakdown::find_largest(model);
        }
        Station::Plan => model.plan_cursor = to,
        Station::Journal => match &mut model.journal.open {
            Some(open) => open.cursor = to,
            None => model.journal.cursor = to,
        },
        _ => {}
    }
    Vec::new()
}

/// What must be fresh after something was carried out, put back or purged: `touched` are the places.
pub(super) fn after_change(model: &mut Model, touched: Vec<PathBuf>) -> Vec<Job> {
    let mut jobs =
        vec![Job::LoadVolumes(model.state.clone()), Job::LoadJournal(model.state.clone())];
    if touched.is_empty() {
        jobs.extend(books::draw_up_again(model));
    }
    jobs.extend(scans::look_again(model, touched));
    jobs
}

/// A moment for records that the model makes itself.
pub(super) fn now(model: &Model) -> Time {
    model.now
}
