//! What each subcommand does: one file each, text for people and `--json` for programs.

mod actions;
mod ages;
mod books;
mod breakdown;
mod carry_out;
mod chart;
mod compare;
mod demo;
mod depots;
mod directories;
mod duplicates;
mod files;
mod held;
mod history;
mod journal;
mod leftovers;
mod log;
mod look;
mod now;
mod plan;
mod put_back;
mod report;
mod rule_planning;
mod rules;
mod scan;
mod scans;
mod schedule;
mod tend;
mod volumes;

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use anyhow::{Context, Result};
use clap::CommandFactory;
use fondaco_core::archive::{is_store, managed_name};
use fondaco_core::carry_out::Figures;
use fondaco_core::catalog::Catalog;
use fondaco_core::history::History;
use fondaco_core::rule::RuleSet;
use fondaco_core::saved;
use fondaco_core::scan::{Options, Scan};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time, UnitStyle, counted, grouped};
use fondaco_core::volume::{Volume, volume_of};
use fondaco_store::ManagedStore;

use crate::cli::{Cli, Command, Walk};
use crate::environment::{open_state, state_if_any};
use crate::frame::Begin;
use crate::frame::view::Theme;
use crate::output::{ProgressLine, tell};

/// How a command ended; see [`crate::cli::EXIT_CODES`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// All that was asked for.
    AllDone,
    /// Something went wrong.
    Failed,
    /// A guard left something alone.
    Refused,
    /// Places could not be read: what is said holds for the rest.
    Unreadable,
    /// Another unattended run is at work.
    Busy,
}

impl Outcome {
    /// Of a command that says what a scan found.
    fn of_scan(catalog: &Catalog) -> Self {
        if catalog.unreadable().is_empty() { Self::AllDone } else { Self::Unreadable }
    }

    /// As [`Self::of_scan`]; where not all could be read this is said, with the first place.
    fn told_of_scan(catalog: &Catalog) -> Self {
        if let Some(first) = catalog.unreadable().first() {
            let places = counted(catalog.unreadable().len() as u64, "place");
            tell!(
                "{places} could not be read, and what is said holds for the rest: cannot {} {}: {}; `fondaco scan` \
                 lists them all",
                first.op,
                Shown(&first.path),
                first.error
            );
        }
        Self::of_scan(catalog)
    }
}

impl From<Outcome> for ExitCode {
    fn from(outcome: Outcome) -> Self {
        match outcome {
            Outcome::AllDone => ExitCode::SUCCESS,
            Outcome::Failed => ExitCode::from(1),
            Outcome::Refused => ExitCode::from(3),
            Outcome::Unreadable => ExitCode::from(4),
            Outcome::Busy => ExitCode::from(5),
        }
    }
}

/// Does what was said on the command line.
///
/// # Errors
///
/// What went wrong, with what to do next where that is known.
pub fn run(command: Command, state: Option<PathBuf>, theme: &Theme) -> Result<Outcome> {
    match command {
        Command::Volumes(arguments) => volumes::run(&arguments, state),
        Command::Books(arguments) => books::run(&arguments, state),
        Command::Held(arguments) => held::run(&arguments, state),
        Command::Scan(arguments) => scan::run(&arguments, state),
        Command::Files(arguments) => files::run(&arguments, state),
        Command::Ages(arguments) => ages::run(&arguments, state),
        Command::Breakdown(arguments) => breakdown::run(&arguments, state),
        Command::Compare(arguments) => compare::run(&arguments, state),
        Command::History(arguments) => history::run(&arguments, state),
        Command::Now(arguments) => now::run(&arguments, state),
        Command::Chart(arguments) => chart::run(&arguments, state),
        Command::Report(arguments) => report::run(&arguments, state),
        Command::Directories(arguments) => directories::run(&arguments, state),
        Command::Scans(arguments) => scans::run(&arguments, state, theme),
        Command::Duplicates(arguments) => duplicates::run(&arguments, state),
        Command::Containment(arguments) => duplicates::containment(&arguments, state),
        Command::Leftovers(arguments) => leftovers::run(&arguments, state),
        Command::Rules(arguments) => rules::run(&arguments, state),
        Command::Plan(arguments) => plan::run(&arguments, state),
        Command::CarryOut(arguments) => carry_out::run(&arguments, state),
        Command::Depots(arguments) => depots::run(&arguments, state),
        Command::Schedule(arguments) => schedule::run(&arguments, state),
        Command::Log(arguments) => log::run(&arguments, state),
        Command::Tend(arguments) => tend::run(&arguments, state),
        Command::Journal(arguments) => journal::run(&arguments, state),
        Command::PutBack(arguments) => put_back::run(&arguments, state),
        Command::Demo(arguments) => demo::run(&arguments, state, theme),
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut Cli::command(), "fondaco", &mut std::io::stdout());
            Ok(Outcome::AllDone)
        }
        Command::Manual => {
            crate::manual::write(&mut std::io::stdout().lock())?;
            Ok(Outcome::AllDone)
        }
    }
}

/// Whether the user has asked to stop (`SIGINT`, `SIGTERM`). A second signal ends the program at
/// once, which loses nothing either: the next start settles what was half done.
fn stop_asked() -> bool {
    static FLAG: OnceLock<Arc<AtomicBool>> = OnceLock::new();
    let flag = FLAG.get_or_init(|| {
        let flag = Arc::new(AtomicBool::new(false));
        for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM] {
            let at_once =
                signal_hook::flag::register_conditional_shutdown(signal, 130, flag.clone());
            // if it cannot be registered, the signal's own effect stands
            if at_once.is_ok() {
                let _ = signal_hook::flag::register(signal, flag.clone());
            }
        }
        flag
    });
    flag.load(Ordering::Relaxed)
}

/// A catalog to work on, and where it comes from.
struct Obtained {
    catalog: Catalog,
    /// How long the scan took; nothing if it was saved.
    seconds: Option<f64>,
}

/// Keeps the levels of the volumes that hold these paths in the history. Whatever the program is run for
/// does not depend on that.
fn sample_levels<'a>(paths: impl IntoIterator<Item = &'a Path>, state: &State) {
    let real = |path: &Path| path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let mut volumes: Vec<Volume> =
        paths.into_iter().filter_map(|path| volume_of(&real(path), state)).collect();
    volumes.dedup_by(|a, b| a.mount_point == b.mount_point);
    let kept = History::open(&state.history_file())
        .and_then(|mut history| history.sample(&volumes, Time::now()));
    if let Err(error) = kept {
        tell!("no level was kept: {error}");
    }
}

/// Scans with a line of progress, where a signal stops it and what is known is kept; or opens a saved
/// scan and says how old it is.
fn obtain(paths: &[PathBuf], walk: &Walk, state: Option<PathBuf>) -> Result<Obtained> {
    let mut stores = Vec::new();
    if paths.iter().any(|path| managed_name(path).is_some())
        && let Some(state) = state_if_any(state.clone())
    {
        stores = RuleSet::read(&state.rules_file(), &state)?.unwrap_or_default().stores;
    }
    obtain_with(paths, walk, stores, state)
}

/// As [`obtain`], where these managed stores can be scanned.
fn obtain_with(
    paths: &[PathBuf],
    walk: &Walk,
    stores: Vec<ManagedStore>,
    state: Option<PathBuf>,
) -> Result<Obtained> {
    if let Some(which) = &walk.saved {
        let catalog = open_saved(which, state)?;
        let age = catalog.now().age(Time::now());
        tell!("as scanned {} ({age} ago)", catalog.now().local());
        return Ok(Obtained { catalog, seconds: None });
    }
    stop_asked();
    let scan = Scan::start(paths, &Options { stores, ..walk.options(Time::now()) })?;
    let mut line = ProgressLine::new();
    while !scan.wait_for(Duration::from_millis(50)) {
        if stop_asked() {
            scan.stop();
        }
        let progress = scan.progress();
        let rate = progress.entries as f64 / progress.elapsed.as_secs_f64().max(0.001);
        line.show(&format!(
            "{} entries  {}  {}/s  {}",
            grouped(progress.entries),
            progress.bytes.shown(UnitStyle::Binary),
            grouped(rate as u64),
            Shown(&progress.current)
        ));
    }
    line.clear();
    let seconds = scan.progress().elapsed.as_secs_f64();
    let catalog = scan.into_catalog();
    // a scan needs no state directory; where there is one, the levels are kept
    if let Some(state) = state_if_any(state) {
        sample_levels(paths.iter().map(PathBuf::as_path), &state);
    }
    if !catalog.is_complete() {
        tell!("stopped: what follows is what was known by then");
    }
    Ok(Obtained { catalog, seconds: Some(seconds) })
}

/// Opens the application: on the volumes, on a saved scan, or with paths scanned.
///
/// # Errors
///
/// As [`crate::frame::run`], and if the saved scan cannot be opened.
pub fn open_application(
    state: Option<PathBuf>,
    saved: Option<&str>,
    paths: Vec<PathBuf>,
    theme: &Theme,
) -> Result<Outcome> {
    let begin = match saved {
        Some(which) => Begin::Saved(Box::new(open_saved(which, state.clone())?)),
        None => Begin::Paths(paths),
    };
    crate::frame::run(open_state(state)?, begin, theme)?;
    Ok(Outcome::AllDone)
}

/// Opens a saved scan by its number, or by the path of its file.
fn open_saved(which: &str, state: Option<PathBuf>) -> Result<Catalog> {
    Ok(match which.parse() {
        Ok(number) => saved::open(&open_state(state)?, number)?,
        Err(_) => saved::open_file(Path::new(which))?,
    })
}

/// One line about what filters kept out, if they did.
fn excluded_line(catalog: &Catalog) -> Option<String> {
    let out = catalog.excluded();
    (out.entries > 0).then(|| {
        let entries = counted(out.entries, "entry");
        format!("not listed: {entries}, {} on disk", binary(out.allocated))
    })
}

/// The watch of a run that is carried out without the screen.
fn watching(line: &std::cell::RefCell<ProgressLine>) -> impl Fn(&Figures) -> ControlFlow<()> + '_ {
    stop_asked();
    move |figures| {
        line.borrow_mut().show(&format!(
            "{} {} of {}  freed {}  {}",
            figures.phase,
            figures.done,
            figures.total,
            binary(figures.freed),
            Shown(&figures.current)
        ));
        if stop_asked() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

fn binary(bytes: Bytes) -> String {
    bytes.shown(UnitStyle::Binary)
}

/// The path made absolute and without links, as plans and catalogs have it. The last component is
/// kept as it is: a link is an entry of its own.
fn real_entry(path: &std::path::Path) -> Result<PathBuf> {
    if is_store(path) {
        return Ok(path.to_owned());
    }
    let whole = std::path::absolute(path).context("the working directory is gone")?;
    let (Some(parent), Some(name)) = (whole.parent(), whole.file_name()) else {
        return Ok(whole);
    };
    let parent = parent.canonicalize().with_context(|| format!("cannot open {}", Shown(parent)))?;
    Ok(parent.join(name))
}
