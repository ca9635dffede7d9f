//! Who writes on the volume at this moment.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::time::Duration;

use fondaco_core::activity::{Activity, Watch, Writer};
use fondaco_core::kernel::Process;
use fondaco_core::shown::Shown;
use fondaco_core::state::State;

use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{Asking, Filling, Model, TypedAnswer};
use crate::frame::update::{ask, growth};
use crate::query::rate_words;

/// How often is looked.
const TICK: Duration = Duration::from_secs(1);
/// What is told is of so many ticks.
const TICKS: usize = 10;

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub(super) struct NowState {
    /// It is shown in the place of the tide.
    pub(super) shown: bool,
    /// Ends the watch.
    stop: Option<Arc<AtomicBool>>,
    /// Counts watches: what an earlier one still says is not believed.
    number: u64,
    /// The place that is watched.
    pub(super) place: PathBuf,
    /// The volume that it is on.
    volume: PathBuf,
    /// What was seen last, or why nothing can be.
    pub(super) seen: Option<Result<Arc<Activity>, Failure>>,
    /// The selected row: first the processes, then the directories.
    pub(super) cursor: usize,
}

impl NowState {
    pub(super) fn is_watching(&self) -> bool {
        self.stop.is_some()
    }

    #[cfg(test)]
    pub(super) fn number(&self) -> u64 {
        self.number
    }

    pub(super) fn activity(&self) -> Option<&Arc<Activity>> {
        self.seen.as_ref()?.as_ref().ok()
    }
}

impl Drop for NowState {
    /// The model has gone, or another scan is at hand: nobody hears what is seen any more.
    fn drop(&mut self) {
        if let Some(stop) = &self.stop
            && Arc::strong_count(stop) <= 2
        {
            stop.store(true, Relaxed);
        }
    }
}

pub(super) fn can_watch(model: &Model) -> bool {
    model.gauge_volume().is_some()
}

/// Begins to watch, or ends it.
pub(super) fn turn(model: &mut Model) -> Vec<Job> {
    if model.rooms.history.now.shown {
        let now = &mut model.rooms.history.now;
        now.shown = false;
        if let Some(stop) = now.stop.take() {
            stop.store(true, Relaxed);
        }
        model.filling = None;
        let mut jobs = super::tide::look(model);
        jobs.extend(growth::refresh(model));
        return jobs;
    }
    let Some(volume) = model.gauge_volume() else { return Vec::new() };
    let (mount_point, state) = (volume.mount_point.clone(), model.state.clone());
    let now = &mut model.rooms.history.now;
    let stop = Arc::new(AtomicBool::new(false));
    now.number += 1;
    (now.shown, now.seen, now.cursor) = (true, None, 0);
    (now.place, now.volume) = (mount_point.clone(), mount_point.clone());
    now.stop = Some(Arc::clone(&stop));
    vec![Job::Work(Box::new(Watching { number: now.number, place: mount_point, stop, state }))]
}

#[derive(Debug)]
struct Watching {
    number: u64,
    place: PathBuf,
    stop: Arc<AtomicBool>,
    state: State,
}

impl Work for Watching {
    fn run(self: Box<Self>) -> Box<dyn News> {
        self.run_telling(&mut |_| {})
    }

    fn run_telling(self: Box<Self>, tell: &mut dyn FnMut(Box<dyn News>)) -> Box<dyn News> {
        let Self { number, place, stop, state } = *self;
        let seen = |seen| Box::new(Seen { number, seen }) as Box<dyn News>;
        let mut watch = match Watch::begin(&place, &state, Some(TICKS)) {
            Ok(watch) => watch,
            Err(error) => return seen(Err(Failure::of(error))),
        };
        loop {
            std::thread::sleep(TICK);
            if stop.load(Relaxed) {
                return Box::new(Ended);
            }
            if let Err(error) = watch.tick() {
                return seen(Err(Failure::of(error)));
            }
            tell(seen(Ok(Arc::new(watch.activity()))));
        }
    }
}

/// What was seen.
#[derive(Debug)]
pub(super) struct Seen {
    pub(super) number: u64,
    pub(super) seen: Result<Arc<Activity>, Failure>,
}

impl News for Seen {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let now = &mut model.rooms.history.now;
        if now.number != self.number || now.stop.is_none() {
            return Vec::new();
        }
        // the selected process stays selected where it now stands
        let selected = selected(now).map(|writer| writer.pid);
        let full_in = self.seen.as_ref().ok().and_then(|activity| activity.full_in());
        now.seen = Some(self.seen);
        let place = now.activity().and_then(|activity| {
            activity.writers.iter().position(|writer| Some(writer.pid) == selected)
        });
        now.cursor = match place {
            Some(place) if now.cursor > 0 => place,
            _ => now.cursor.min(rows(now).saturating_sub(1)),
        };
        let mount_point = now.volume.clone();
        let seen = model.now;
        model.filling = full_in.map(|full_in| Filling { mount_point, full_in, seen });
        Vec::new()
    }
}

/// The watch has ended because it was to.
#[derive(Debug)]
struct Ended;

impl News for Ended {
    fn take(self: Box<Self>, _: &mut Model) -> Vec<Job> {
        Vec::new()
    }
}

fn rows(now: &NowState) -> usize {
    now.activity().map_or(0, |activity| activity.writers.len() + activity.directories.len())
}

pub(super) fn length(model: &Model) -> usize {
    rows(&model.rooms.history.now)
}

fn selected(now: &NowState) -> Option<&Writer> {
    now.activity()?.writers.get(now.cursor)
}

/// The selected process.
pub(super) fn selected_writer(model: &Model) -> Option<&Writer> {
    selected(&model.rooms.history.now)
}

pub(super) fn can_end(model: &Model) -> bool {
    let now = &model.rooms.history.now;
    now.shown && selected(now).is_some_and(|writer| writer.process.is_some())
}

/// Asks whether the selected process is to end.
pub(super) fn ask_to_end(model: &mut Model) -> Vec<Job> {
    let Some(writer) = selected_writer(model) else { return Vec::new() };
    let (Some(process), rate) = (writer.process.clone(), rate_words(writer.rate, model.units))
    else {
        return Vec::new();
    };
    if let Some(reason) = process.never_ended() {
        model.say_trouble(reason);
        return Vec::new();
    }
    let sentence = format!(
        "Process {} ({}), which writes {rate}, is asked to end (SIGTERM); it may lose what it has not written yet. \
         Type its number.",
        process.pid, process.command
    );
    let wanted = process.pid.to_string();
    ask(model, Asking::Own(Arc::new(End(process))), sentence, Some(wanted))
}

/// Waits for the number of a process.
#[derive(Debug)]
struct End(Process);

impl TypedAnswer for End {
    fn take(&self, model: &mut Model, typed: &str) -> Result<Vec<Job>, Failure> {
        let process = &self.0;
        if typed.trim() != process.pid.to_string() {
            return Err(format!("type {} to ask it to end, or Esc", process.pid).into());
        }
        let asked = process.handle().and_then(|handle| handle.end(false));
        let (pid, command) = (process.pid, Shown(&process.command));
        match asked {
            Ok(()) => {
                tracing::info!(pid, command = %command, "process asked to end");
                model.say(format!("Process {pid} ({command}) has been asked to end"));
            }
            Err(error) => {
                tracing::warn!(pid, %error, "process could not be asked to end");
                return Err(format!("process {pid} cannot be asked to end: {error}").into());
            }
        }
        Ok(Vec::new())
    }
}
