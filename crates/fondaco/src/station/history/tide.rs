//! The level over time: which part of it is shown, and which moment is marked.

use std::path::PathBuf;
use std::sync::Arc;

use fondaco_core::archive::is_store;
use fondaco_core::history::{History, Sample, SizeThen, Tide};
use fondaco_core::state::State;
use fondaco_core::units::Time;
use fondaco_core::volume::Volume;

use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::Model;
use crate::frame::update::{evidence, growth};
use crate::query::{Mark, MarkSort, VolumeHistory};

/// So many seconds are looked back.
const BACK: i64 = 800 * 86_400;
/// The shortest time that is shown, in seconds.
const SHORTEST: i64 = 3600;
/// In so many columns the marked moment moves, whatever the width of the screen.
const STEPS: i64 = 60;

/// The place whose history is told: what was scanned, or the selected volume.
fn place(model: &Model) -> Option<(PathBuf, Volume)> {
    let volume = model.gauge_volume()?;
    let place = match &model.scan.roots[..] {
        [root] if volume.depth_above(root).is_some() => root.clone(),
        _ => volume.mount_point.clone(),
    };
    Some((place, volume.clone()))
}

/// Looks at the history of the place at hand.
pub(super) fn look(model: &mut Model) -> Vec<Job> {
    let mut jobs = growth::look(model);
    jobs.extend(super::tree::follow_lens(model));
    jobs.extend(evidence::look(model));
    if let [root] = &model.scan.roots[..]
        && is_store(root)
    {
        let tide = &mut model.rooms.history.tide;
        (tide.known, tide.of) = (None, Some(root.clone()));
        tide.number += 1;
        let (number, place, state) = (tide.number, root.clone(), model.state.clone());
        jobs.push(Job::Work(Box::new(LookAtSizes { number, place, state })));
        return jobs;
    }
    let Some((place, volume)) = place(model) else { return jobs };
    let tide = &mut model.rooms.history.tide;
    if tide.of.as_ref() != Some(&place) {
        (tide.known, tide.window, tide.at) = (None, None, None);
    }
    tide.of = Some(place.clone());
    tide.number += 1;
    jobs.push(Job::Work(Box::new(LookBack {
        number: tide.number,
        place,
        volume,
        now: model.now,
        state: model.state.clone(),
    })));
    jobs
}

#[derive(Debug)]
struct LookBack {
    number: u64,
    place: PathBuf,
    volume: Volume,
    now: Time,
    state: State,
}

impl Work for LookBack {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let Self { number, place, volume, now, state } = *self;
        let since = Time::at(now.sec - BACK);
        let known = VolumeHistory::look(&state, volume, &place, since, now);
        let known = known.map(Arc::new).map_err(|error| Failure::with_causes(error.as_ref()));
        Box::new(LookedBack { number, known })
    }
}

#[derive(Debug)]
pub(super) struct LookedBack {
    pub(super) number: u64,
    pub(super) known: Result<Arc<VolumeHistory>, Failure>,
}

impl News for LookedBack {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let tide = &mut model.rooms.history.tide;
        if tide.number == self.number {
            tide.known = Some(self.known);
        }
        Vec::new()
    }
}

/// Of a store: what it held when it was listed.
#[derive(Debug)]
struct LookAtSizes {
    number: u64,
    place: PathBuf,
    state: State,
}

impl Work for LookAtSizes {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let sizes = History::open(&self.state.history_file())
            .and_then(|history| history.sizes(&self.place, Time::at(0)));
        Box::new(SizesFound { number: self.number, sizes: sizes.map_err(Failure::of) })
    }
}

#[derive(Debug)]
struct SizesFound {
    number: u64,
    sizes: Result<Vec<SizeThen>, Failure>,
}

impl News for SizesFound {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let tide = &mut model.rooms.history.tide;
        if tide.number == self.number {
            match self.sizes {
                Ok(sizes) => tide.sizes = sizes,
                Err(reason) => tide.known = Some(Err(reason)),
            }
        }
        Vec::new()
    }
}

/// What is known of the place at hand.
pub(super) fn known(model: &Model) -> Option<&Arc<VolumeHistory>> {
    model.rooms.history.tide.known.as_ref()?.as_ref().ok()
}

/// The part of the time that is shown.
pub(super) fn window(model: &Model) -> Option<(Time, Time)> {
    let whole = known(model)?.tide.span()?;
    Some(model.rooms.history.tide.window.unwrap_or(whole))
}

/// The moment that is marked.
pub(super) fn marked(model: &Model) -> Option<Time> {
    let (_, last) = known(model)?.tide.span()?;
    Some(model.rooms.history.tide.at.unwrap_or(last))
}

/// The sample that is nearest to the marked moment, and that of the day before.
pub(super) fn sample(model: &Model) -> Option<(Sample, Option<Sample>)> {
    let tide: &Tide = &known(model)?.tide;
    let sample = *tide.nearest(marked(model)?)?;
    let day_before = Time::at(sample.at.sec - 86_400);
    let before = tide.nearest(day_before).filter(|before| before.at < sample.at);
    Some((sample, before.copied()))
}

/// What happened within a day of the marked moment.
pub(super) fn marks_near(model: &Model) -> Vec<&Mark> {
    let Some((history, at)) = known(model).zip(marked(model)) else { return Vec::new() };
    let near = |mark: &&Mark| {
        mark.at.sec.abs_diff(at.sec) < 86_400 && !matches!(mark.what, MarkSort::Scan(_))
    };
    history.marks.iter().filter(near).collect()
}

/// Marks an earlier or later moment.
pub(super) fn step(model: &mut Model, by: i64) -> Vec<Job> {
    let (Some((from, to)), Some(at)) = (window(model), marked(model)) else { return Vec::new() };
    let Some((first, last)) = known(model).and_then(|known| known.tide.span()) else {
        return Vec::new();
    };
    let stride = ((to.sec - from.sec) / STEPS).max(1);
    let at = (at.sec + by * stride).clamp(first.sec, last.sec);
    let tide = &mut model.rooms.history.tide;
    tide.at = (at < last.sec).then_some(Time::at(at));
    // the window goes along
    if let Some((from, to)) = &mut tide.window {
        let shift = (at - to.sec).max(0) - (from.sec - at).max(0);
        (from.sec, to.sec) = (from.sec + shift, to.sec + shift);
    }
    Vec::new()
}

/// Shows half of the time around the marked moment, or twice of it.
pub(super) fn zoom(model: &mut Model, closer: bool) -> Vec<Job> {
    let (Some((from, to)), Some(at)) = (window(model), marked(model)) else { return Vec::new() };
    let Some((first, last)) = known(model).and_then(|known| known.tide.span()) else {
        return Vec::new();
    };
    let span = to.sec - from.sec;
    let span = if closer { (span / 2).max(SHORTEST) } else { span.saturating_mul(2) };
    let tide = &mut model.rooms.history.tide;
    tide.window = if span >= last.sec - first.sec {
        None
    } else {
        let from = (at.sec - span / 2).clamp(first.sec, last.sec - span);
        Some((Time::at(from), Time::at(from + span)))
    };
    Vec::new()
}
