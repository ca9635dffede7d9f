//! Work that takes longer than a frame: threads that report to the application by messages.

use std::cell::Cell;
use std::io;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::thread::Builder;
use std::time::{Duration, Instant};

use fondaco_core::analysis::{AgeBy, FileOrder, first_files};
use fondaco_core::carry_out::{
    CarryOutError, Figures, Journal, RunSummary, Watch, carry_out, finish, rehearse, remainder,
    settle,
};
use fondaco_core::catalog::{Catalog, ScannedEntry};
use fondaco_core::history::{History, Outlook, keep_scan};
use fondaco_core::kernel::{self, DeletedFiles, stat_path};
use fondaco_core::lens::Accounts;
use fondaco_core::packed_list::PackedList;
use fondaco_core::parallel;
use fondaco_core::peek::peek;
use fondaco_core::plan::{Choice, Plan, Proposal, Reviewer};
use fondaco_core::rule::RuleSet;
use fondaco_core::saved::{self, SavedScan};
use fondaco_core::scan::{Options, Scan, ScanError, reconcile, replace};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time};
use fondaco_core::volume::{interfaces, volume_of, volumes};

use super::evidence_job::answer_for_evidence;
use super::export::export;
use super::input::Event;
use super::message::{Job, ManyFiles, Message};
use super::model::SavedRow;
use super::names::{NameQuestion, answer_names};
use super::questions::{Asked, answer_all};
use super::settings_writer::SettingsWriter;
use super::surveyed::Surveyed;
use crate::failure::Failure;

/// Starts jobs. Dropping it lets a scan end; a run goes on to its next safe point, and changed settings are written.
pub struct Jobs {
    messages: Sender<Event>,
    evidence: Sender<Job>,
    questions: Sender<Asked>,
    names: Sender<(NameQuestion, Box<dyn Accounts + Send>)>,
    settings: SettingsWriter,
    stop_look: Arc<AtomicBool>,
    scan: Arc<Mutex<Option<Arc<Scan>>>>,
    stop_run: Arc<AtomicBool>,
}

impl Jobs {
    /// Jobs that report there.
    ///
    /// # Errors
    ///
    /// That of the system, if the threads that answer cannot be begun.
    pub fn new(messages: Sender<Event>) -> io::Result<Self> {
        let (evidence, requests) = channel();
        let reports = messages.clone();
        Builder::new().spawn(move || answer_for_evidence(&requests, &reports))?;
        let (questions, asked) = channel();
        let stop_look = Arc::new(AtomicBool::new(false));
        let (reports, stop) = (messages.clone(), Arc::clone(&stop_look));
        Builder::new().spawn(move || {
            kernel::stand_back();
            answer_all(&asked, &reports, &stop);
        })?;
        let (names, asked) = channel();
        let reports = messages.clone();
        Builder::new().spawn(move || answer_names(&asked, &reports))?;
        let settings = SettingsWriter::begin(messages.clone())?;
        let (scan, stop_run) = (Arc::default(), Arc::default());
        Ok(Self { messages, evidence, questions, names, settings, stop_look, scan, stop_run })
    }

    /// Starts a job.
    pub fn start(&self, job: Job) {
        match job {
            Job::StopScan => {
                if let Some(scan) = &*self.scan.lock().unwrap_or_else(PoisonError::into_inner) {
                    scan.stop();
                }
            }
            Job::Save(state) => self.settings.write(state),
            Job::StopRun => self.stop_run.store(true, Relaxed),
            Job::StopLook => self.stop_look.store(true, Relaxed),
            Job::Ask(question) => {
                // the thread lives as long as we do
                let _ = self.questions.send(*question);
            }
            Job::AskNames(questions, state) => {
                for question in questions {
                    // the thread lives as long as we do
                    let _ = self.names.send((question, Box::new(state.clone())));
                }
            }
            Job::Evidence { .. } => {
                // the thread lives as long as we do
                let _ = self.evidence.send(job);
            }
            other => {
                if matches!(other, Job::Rehearse(..) | Job::CarryOut(..) | Job::Finish(..)) {
                    self.stop_run.store(false, Relaxed);
                }
                let (messages, stop) = (self.messages.clone(), Arc::clone(&self.stop_run));
                let scan = Arc::clone(&self.scan);
                parallel::begin(move || run(other, &messages, &stop, &scan));
            }
        }
    }
}

fn run(job: Job, messages: &Sender<Event>, stop: &AtomicBool, scan: &Mutex<Option<Arc<Scan>>>) {
    let message = match job {
        Job::LoadVolumes(state) => ask_volumes(&state),
        Job::ScanStore(number, root, now, state) => match list_store(root, now, &state) {
            Ok(begun) => return watch_scan(number, begun, messages, scan),
            Err(reason) => Message::ScanRefused { number, reason },
        },
        Job::Scan(number, roots, now) => {
            let options = Options { stand_back: true, ..Options::new(now) };
            match Scan::start(&roots, &options) {
                Ok(begun) => return watch_scan(number, begun, messages, scan),
                Err(error) => Message::ScanRefused { number, reason: Failure::of(error) },
            }
        }
        Job::Rescan { number, catalog, path, now } => {
            let outcome = rescan(number, &catalog, &path, now, messages, scan).map_err(Failure::of);
            Message::Mended { number, outcome: outcome.map(Box::new) }
        }
        Job::Reconcile { number, catalog, touched, now } => {
            let catalog = catalog.read().unwrap_or_else(PoisonError::into_inner);
            let outcome = reconcile(&catalog, &touched, &Options::new(now)).map_err(Failure::of);
            Message::Mended { number, outcome: outcome.map(Box::new) }
        }
        Job::SaveScan(catalog, state) => {
            let catalog = catalog.read().unwrap_or_else(PoisonError::into_inner);
            Message::ScanSaved(
                keep_scan(&state, &catalog, true).map(|kept| kept.0).map_err(Failure::of),
            )
        }
        Job::LoadSaved(state) => Message::SavedScans(saved_rows(&state)),
        Job::OpenSaved { number, which, state } => {
            let outcome = saved::open(&state, which).map(Box::new).map_err(Failure::of);
            Message::Opened { number, outcome }
        }
        Job::Forget(which, state) => {
            let forgotten = saved::forget(&state, which).map_err(Failure::of);
            Message::SavedScans(forgotten.and_then(|()| saved_rows(&state)))
        }
        Job::FindPlace(inode, to, changes) => {
            let outcome = find_place(&to);
            Message::Place { inode, to, changes, outcome }
        }
        Job::Survey(choice, catalog, state) => {
            let outcome = reviewer(&catalog, &state).review(&choice);
            Message::Surveyed { path: choice.path().to_owned(), outcome: Box::new(outcome) }
        }
        Job::Rehearse(draft, state) => match draft.to_plan(Vec::new(), Time::now()) {
            Ok(plan) => rehearse_watched(&plan, &state, messages, stop),
            Err(error) => Message::Rehearsed(Err(Failure::of(error))),
        },
        Job::CarryOut(draft, state) => match draft.to_plan(Vec::new(), Time::now()) {
            Ok(plan) => run_watched(&plan, &state, messages, stop, &|watch| {
                carry_out(&plan, &state, &Time::now, watch)
            }),
            Err(error) => Message::CarriedOut(Box::new(Err(Failure::of(error)))),
        },
        Job::Settle(state) => Message::Settled(settle(&state, Time::now()).map_err(Failure::of)),
        Job::Finish(run, state) => finish_run(run, &state, messages, stop),
        Job::Peek(path) => {
            let outcome = Box::new(peek(&path).map_err(Failure::of));
            Message::Peeked { path, outcome }
        }
        Job::Export(what) => {
            let outcome = export(&what).map_err(|error| Failure::with_causes(error.as_ref()));
            Message::Exported(Box::new(outcome))
        }
        Job::SurveyMany(many) => survey_many(*many),
        Job::Work(work) => {
            Message::News(work.run_telling(&mut |news| send(messages, Message::News(news))))
        }
        Job::DropLater(used) => return drop(used),
        Job::Learn(catalog) => {
            kernel::stand_back();
            return catalog.read().unwrap_or_else(PoisonError::into_inner).learn();
        }
        Job::StopScan
        | Job::StopRun
        | Job::StopLook
        | Job::Save(_)
        | Job::Ask(_)
        | Job::AskNames(..)
        | Job::Evidence { .. } => return,
    };
    send(messages, message);
}

/// The volumes, sampled into the history on the way, and the deleted files on them.
fn ask_volumes(state: &State) -> Message {
    let (volumes, now) = (volumes(state), Time::now());
    let history = History::open(&state.history_file()).and_then(|mut history| {
        history.sample(&volumes, now)?;
        Ok(history)
    });
    // without a history there is no forecast, and that is all
    let outlooks = history.map_or_else(
        |_| Vec::new(),
        |history| {
            let outlook = |volume| history.outlook(volume, now).unwrap_or(Outlook::NotYet);
            volumes.iter().map(outlook).collect()
        },
    );
    let held = DeletedFiles::collect(now);
    Message::Volumes { volumes, outlooks, held, interfaces: interfaces() }
}

/// Looks at what was chosen in a scan.
fn reviewer<'a>(catalog: &RwLock<Catalog>, state: &'a State) -> Reviewer<'a> {
    let (origin, roots) = {
        let catalog = catalog.read().unwrap_or_else(PoisonError::into_inner);
        (catalog.origin().clone(), catalog.roots().to_vec())
    };
    Reviewer::of_scan(state, &origin, &roots, Time::now())
}

/// Looks closely at every name of every chosen file: an inode is freed only with the last of its names.
fn survey_many(many: ManyFiles) -> Message {
    let catalog = many.catalog.read().unwrap_or_else(PoisonError::into_inner);
    let seen = catalog.seen(many.selection.as_deref());
    let order = FileOrder::Allocated;
    let found = first_files(seen, many.at, order, many.by, many.block.as_ref(), usize::MAX);
    let above = catalog.path(many.at);
    let mut chosen = found.first.clone();
    for id in &found.first {
        let names = catalog.names_of_inode(*id).map_or(Vec::new(), |(names, _)| names);
        let others = names.into_iter().filter(|name| name != id && seen.has(*name));
        chosen.extend(others.filter(|name| catalog.path(*name).starts_with(&above)));
    }
    let by_reading = many.by == AgeBy::Read || many.lens_asks_for_reading;
    let entries = chosen.iter().map(|id| catalog.scanned_entry(*id));
    let entries: PackedList<ScannedEntry> = entries.collect();
    drop(catalog);
    let reviewer = reviewer(&many.catalog, &many.state);
    let reason = match (&many.block, many.lens.is_empty()) {
        (Some(_), true) => "by hand, from Ages".to_owned(),
        (None, true) => "by hand, from the list of files".to_owned(),
        (_, false) => format!("by hand, lens {}", many.lens),
    };
    let as_listed = found.whole.entries == many.count;
    let look = || {
        let mut looked = Box::<Surveyed>::default();
        let proposal = |entry| Proposal {
            choice: Choice::Scanned { entry, by_reading },
            deed: many.deed.clone(),
            reason: reason.clone(),
            purge_after: None,
        };
        reviewer.plan_all(entries, proposal, |chosen, came_of| {
            looked.add(chosen.choice.path(), || came_of);
        });
        looked
    };
    let surveyed = as_listed.then(look);
    Message::SurveyedMany { scan: many.scan, deed: many.deed, surveyed }
}

/// The device of the directory that a new file would lie in, or why it cannot.
pub fn find_place(to: &Path) -> Result<u64, Failure> {
    let parent = to.parent().unwrap_or(to);
    let stat = stat_path(parent).map_err(|error| format!("{}: {error}", Shown(parent)))?;
    match stat_path(to) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(stat.dev),
        Err(error) => Err(format!("{}: {error}", Shown(to)).into()),
        Ok(_) => Err(format!("{} exists: nothing is ever overwritten", Shown(to)).into()),
    }
}

/// When the application has gone, nobody needs to hear.
pub(super) fn send(messages: &Sender<Event>, message: Message) {
    let _ = messages.send(Event::Job(message));
}

fn go_on(stop: &AtomicBool) -> ControlFlow<()> {
    if stop.load(Relaxed) { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
}

/// Lets something be throttle at most twenty times a second.
struct Throttle(Cell<Option<Instant>>);

impl Default for Throttle {
    fn default() -> Self {
        Self(Cell::new(None))
    }
}

impl Throttle {
    fn now_and_then(&self, tell: impl FnOnce()) {
        if self.0.get().is_none_or(|last| last.elapsed() > Duration::from_millis(50)) {
            self.0.set(Some(Instant::now()));
            tell();
        }
    }
}

fn saved_rows(state: &State) -> Result<Vec<SavedRow>, Failure> {
    let row =
        |scan: SavedScan| SavedRow { number: scan.number, about: scan.about.map_err(Failure::of) };
    Ok(saved::list(state).map_err(Failure::of)?.into_iter().map(row).collect())
}

/// Lists a managed store that the rule file of the state directory defines.
fn list_store(root: PathBuf, now: Time, state: &State) -> Result<Scan, Failure> {
    let rules = RuleSet::read(&state.rules_file(), state).map_err(Failure::of)?;
    let stores = rules.unwrap_or_default().stores;
    Scan::start(&[root], &Options { stores, ..Options::new(now) }).map_err(Failure::of)
}

/// Scans one directory of a catalog again and puts what was found in its place.
fn rescan(
    number: u64,
    catalog: &RwLock<Catalog>,
    path: &Path,
    now: Time,
    messages: &Sender<Event>,
    shared: &Mutex<Option<Arc<Scan>>>,
) -> Result<Catalog, ScanError> {
    let options = Options { stand_back: true, ..Options::new(now) };
    let old = || catalog.read().unwrap_or_else(PoisonError::into_inner);
    let scan = match Scan::start(&[path.to_owned()], &options) {
        Ok(scan) => Arc::new(scan),
        Err(ScanError::Missing(path)) => return reconcile(&old(), &[path], &options),
        Err(error) => return Err(error),
    };
    *shared.lock().unwrap_or_else(PoisonError::into_inner) = Some(Arc::clone(&scan));
    while !scan.wait_for(Duration::from_millis(100)) {
        send(messages, Message::MendProgress { number, progress: scan.progress() });
    }
    let found = scan.catalog();
    if !found.is_complete() {
        return Err(ScanError::Stopped);
    }
    replace(&old(), path, &found)
}

fn watch_scan(
    number: u64,
    scan: Scan,
    messages: &Sender<Event>,
    shared: &Mutex<Option<Arc<Scan>>>,
) {
    let scan = Arc::new(scan);
    send(messages, Message::ScanBegun { number, catalog: scan.shared_catalog() });
    let before = shared.lock().unwrap_or_else(PoisonError::into_inner).replace(Arc::clone(&scan));
    if let Some(before) = before {
        before.stop();
    }
    let mut wait = Duration::from_millis(10);
    loop {
        let done = scan.is_done();
        send(messages, Message::ScanProgress { number, progress: scan.progress(), done });
        if done {
            return;
        }
        // the first answer soon, then ten a second
        scan.wait_for(wait);
        wait = (wait * 2).min(Duration::from_millis(100));
    }
}

/// Rehearses and reports while it does.
fn rehearse_watched(
    plan: &Plan,
    state: &State,
    messages: &Sender<Event>,
    stop: &AtomicBool,
) -> Message {
    let throttle = Throttle::default();
    let outcome = rehearse(plan, state, Time::now(), &|figures| {
        throttle.now_and_then(|| send(messages, Message::RehearsalProgress(figures.clone())));
        go_on(stop)
    });
    Message::Rehearsed(outcome.map_err(Failure::of))
}

/// Carries something out and reports while it does: what is freed, and what the volumes say.
fn run_watched(
    plan: &Plan,
    state: &State,
    messages: &Sender<Event>,
    stop: &AtomicBool,
    act: &dyn Fn(&Watch<'_>) -> Result<RunSummary, CarryOutError>,
) -> Message {
    let roots: Vec<_> = plan.volumes().into_iter().map(|(path, _)| path).collect();
    let used = || -> Option<Bytes> {
        roots.iter().map(|path| Some(volume_of(path, state)?.capacity.ok()?.used)).sum()
    };
    let before = used();
    let measured: Cell<(Instant, Option<i64>)> = Cell::new((Instant::now(), None));
    let throttle = Throttle::default();
    let watch = |figures: &Figures| {
        throttle.now_and_then(|| {
            let (asked, mut less) = measured.get();
            if asked.elapsed() > Duration::from_secs(1) {
                less = before.and_then(|b| Some(b.get() as i64 - used()?.get() as i64));
                measured.set((Instant::now(), less));
            }
            send(messages, Message::RunProgress(figures.clone(), less));
        });
        go_on(stop)
    };
    Message::CarriedOut(Box::new(act(&watch).map_err(Failure::of)))
}

fn finish_run(run: i64, state: &State, messages: &Sender<Event>, stop: &AtomicBool) -> Message {
    match rest_of(run, state) {
        Ok(rest) => run_watched(&rest, state, messages, stop, &|watch| {
            finish(run, state, &Time::now, watch)
        }),
        Err(reason) => Message::CarriedOut(Box::new(Err(Failure::of(reason)))),
    }
}

fn rest_of(run: i64, state: &State) -> Result<Plan, CarryOutError> {
    let journal = Journal::open(&state.journal_file())?;
    let record = journal.run(run)?.ok_or(CarryOutError::NoSuchRun(run))?;
    let rest = remainder(&record, &journal.entries(run)?, Time::now())?;
    rest.ok_or(CarryOutError::NothingLeft(run))
}
