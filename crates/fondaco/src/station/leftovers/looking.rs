//! Having leftovers found: first by the scan alone, then by a closer look.

use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, RwLock};

use fondaco_core::catalog::{Catalog, Selection};
use fondaco_core::kernel;
use fondaco_core::leftovers::{self, Found};
use fondaco_core::plan::protection_now;
use fondaco_core::state::State as Settings;

use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{Model, read};
use crate::frame::update::evidence::look;
use crate::frame::update::start_scan;
use crate::station::Station;

/// How far the look is.
#[derive(Clone, Debug, Default)]
pub(super) enum Look {
    /// Nothing has been looked for yet.
    #[default]
    None,
    /// It goes on; what is known so far by the scan alone.
    Going { found: Option<Arc<Found>>, stop: Arc<AtomicBool> },
    /// It has ended.
    Done(Arc<Found>),
    /// It could not be done.
    Failed(Failure),
}

/// What was found, as far as it is known.
pub(super) fn results(model: &Model) -> Option<&Arc<Found>> {
    match &model.rooms.leftovers.look {
        Look::Done(found) | Look::Going { found: Some(found), .. } => Some(found),
        Look::None | Look::Going { found: None, .. } | Look::Failed(_) => None,
    }
}

pub(super) fn is_going(model: &Model) -> bool {
    matches!(model.rooms.leftovers.look, Look::Going { .. })
}

pub(super) fn can_stop(model: &Model) -> bool {
    is_going(model)
        && model.questions.closer.is_none()
        && !model.run.can_stop()
        && !model.scan.can_stop()
}

pub(super) fn stop(model: &mut Model) -> Vec<Job> {
    if let Look::Going { stop, .. } = &model.rooms.leftovers.look {
        stop.store(true, Relaxed);
    }
    Vec::new()
}

pub(super) fn has_looked(model: &Model) -> bool {
    matches!(model.rooms.leftovers.look, Look::Done(_) | Look::Failed(_))
}

/// Begins to look, unless that has been done.
pub(super) fn begin(model: &mut Model) -> Vec<Job> {
    if !matches!(model.rooms.leftovers.look, Look::None) || model.scan.running {
        return Vec::new();
    }
    let Some(catalog) = model.scan.catalog.clone() else { return Vec::new() };
    let stop = Arc::new(AtomicBool::new(false));
    let about = model.searched();
    let state = &mut model.rooms.leftovers;
    state.number += 1;
    state.about = about;
    state.look = Look::Going { found: None, stop: Arc::clone(&stop) };
    vec![Job::Work(Box::new(Looking {
        number: state.number,
        catalog,
        selection: model.lens.selection.clone(),
        settings: model.state.clone(),
        stop,
    }))]
}

/// Begins to look if the station is seen, or has been: its sum stands on the route.
pub(super) fn begin_if_seen(model: &mut Model) -> Vec<Job> {
    let is_seen = model.station == Station::Leftovers || model.rooms.leftovers.number > 0;
    if is_seen { begin(model) } else { Vec::new() }
}

pub(super) fn again(model: &mut Model) -> Vec<Job> {
    forget(model);
    begin(model)
}

/// The scan or the lens is another one.
pub(super) fn forget(model: &mut Model) {
    let state = &mut model.rooms.leftovers;
    if let Look::Going { stop, .. } = &state.look {
        stop.store(true, Relaxed);
    }
    state.number += u64::from(!matches!(state.look, Look::None));
    state.look = Look::None;
    state.inside &= state.group == Some(fondaco_core::leftovers::GroupName::Held);
}

/// Whether the places of this machine can be scanned: the scan at hand does not have them all.
pub(super) fn can_scan_machine(model: &Model) -> bool {
    !model.scan.running && !model.run.is_active() && !covers_machine(model)
}

fn covers_machine(model: &Model) -> bool {
    let Some(catalog) = model.scan.read() else { return false };
    catalog.find(Path::new("/usr/bin")).is_some()
}

/// Scans the places where leftovers of the machine lie.
pub(super) fn scan_machine(model: &mut Model) -> Vec<Job> {
    let places = leftovers::places_of_machine(Path::new("/"));
    let mut jobs = start_scan(model, places);
    // its leftovers are what it is for, and not its directories
    jobs.extend(crate::station::go_to(model, Station::Leftovers));
    jobs
}

#[derive(Debug)]
struct Looking {
    number: u64,
    catalog: Arc<RwLock<Catalog>>,
    selection: Option<Arc<Selection>>,
    settings: Settings,
    stop: Arc<AtomicBool>,
}

impl Work for Looking {
    fn run(self: Box<Self>) -> Box<dyn News> {
        self.run_telling(&mut |_| {})
    }

    fn run_telling(self: Box<Self>, tell: &mut dyn FnMut(Box<dyn News>)) -> Box<dyn News> {
        kernel::stand_back();
        let catalog = read(&self.catalog);
        let seen = catalog.seen(self.selection.as_deref());
        let stopped = || self.stop.load(Relaxed);
        let number = self.number;
        if let Ok(found) = leftovers::glance(seen, &self.settings) {
            tell(Box::new(Looked { number, closely: false, found: Ok(Arc::new(found)) }));
        }
        let of_machine = catalog.find(Path::new("/usr/bin")).is_some();
        let roots = catalog.roots().iter().map(|root| root.path.as_path());
        let protection = protection_now(&self.settings, roots);
        let found = leftovers::look(seen, &self.settings, protection, of_machine, &stopped);
        Box::new(Looked { number, closely: true, found: found.map(Arc::new).map_err(Failure::of) })
    }
}

#[derive(Debug)]
struct Looked {
    number: u64,
    closely: bool,
    found: Result<Arc<Found>, Failure>,
}

impl News for Looked {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let state = &mut model.rooms.leftovers;
        if state.number != self.number {
            return Vec::new();
        }
        match (&mut state.look, self.found) {
            (look, Ok(found)) if self.closely => *look = Look::Done(found),
            (Look::Going { found: known, .. }, Ok(found)) => *known = Some(found),
            (look, Err(failure)) => *look = Look::Failed(failure),
            _ => {}
        }
        super::rows::hold(model);
        if model.station == Station::Leftovers { look(model) } else { Vec::new() }
    }
}
