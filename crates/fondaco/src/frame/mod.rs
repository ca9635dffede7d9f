//! The full-screen application: a model, messages, a pure update, jobs, and the loop around them.
//!
//! Data goes one way: the terminal and the jobs send [`message::Message`]s; [`update`] changes the
//! [`model::Model`] and says what jobs to start; `view` draws the model. Only this file and
//! [`job`] touch the terminal, the clock and the system.

pub mod commands;
mod evidence_job;
pub mod export;
mod field;
mod frame_times;
pub mod geometry;
mod input;
pub mod job;
pub mod message;
pub mod model;
pub mod names;
pub mod questions;
mod settings_writer;
pub mod surveyed;
#[cfg(test)]
pub mod tests;
pub mod update;
pub mod view;

use std::io::{self, IsTerminal, Write};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use anyhow::{Context, Result, bail};
use fondaco_core::archive::absolute;
use fondaco_core::catalog::Catalog;
use fondaco_core::contained::is_contained;
use fondaco_core::plan::Deed;
use fondaco_core::state::State;
use fondaco_core::units::Time;
use ratatui::crossterm::{event, execute, terminal};
use ratatui::{Terminal, backend::CrosstermBackend};

pub use field::Field;
pub use update::palette_rows;

use crate::output::tell;
use frame_times::FrameTimes;
use input::Input;
use job::Jobs;
use message::Message;
use model::Model;
use view::{Hits, Theme};

/// The letter that marks a planned entry in lists.
pub fn deed_letter(deed: &Deed) -> char {
    match deed {
        Deed::Delete => 'D',
        Deed::SetAside => 'S',
        Deed::Archive { .. } => 'A',
        Deed::Move { .. } => 'M',
        Deed::Link => 'L',
        Deed::Share => 'H',
        Deed::Restore { .. } => 'R',
        Deed::RemovePackages => 'P',
        Deed::VacuumJournal => 'J',
        Deed::RemoveObject => 'O',
        Deed::End { by_force: false } => 'E',
        Deed::End { by_force: true } => 'K',
        Deed::Cut => 'C',
        Deed::Save { .. } => 'V',
    }
}

/// The key that chooses a deed where several are offered.
pub fn deed_key(deed: &Deed) -> char {
    match deed {
        // `s` is that of setting aside
        Deed::Share => 'h',
        other => other.word().chars().next().unwrap_or(' '),
    }
}

/// What the application opens on.
pub enum Begin {
    /// Paths to scan at once; without any, the volumes are shown.
    Paths(Vec<PathBuf>),
    /// A scan that was saved.
    Saved(Box<Catalog>),
}

/// Opens the application.
///
/// # Errors
///
/// If standard output is no terminal, or it cannot be read or drawn on. The terminal is always
/// restored, after a panic too.
pub fn run(state: State, begin: Begin, theme: &Theme) -> Result<()> {
    if !io::stdout().is_terminal() || !io::stdin().is_terminal() {
        bail!("the application needs a terminal; `fondaco --help` lists commands that do not");
    }
    let panicked = restore_on_panic();
    let leave = leave_on_signal()?;
    let mut terminal = open_terminal().context("the terminal cannot be used")?;
    let outcome = run_loop(&mut terminal, state, begin, theme, &panicked, &leave);
    restore_terminal();
    for said in panicked.lock().unwrap_or_else(PoisonError::into_inner).iter() {
        tell!("{said}");
    }
    outcome
}

type Screen = Terminal<CrosstermBackend<io::BufWriter<io::Stdout>>>;

fn open_terminal() -> io::Result<Screen> {
    terminal::enable_raw_mode()?;
    let mut out = io::BufWriter::with_capacity(1 << 16, io::stdout());
    execute!(
        out,
        terminal::EnterAlternateScreen,
        event::EnableMouseCapture,
        event::EnableBracketedPaste
    )?;
    Terminal::new(CrosstermBackend::new(out))
}

fn restore_terminal() {
    // nothing more can be done about a terminal that does not even take this
    let _ = execute!(
        io::stdout(),
        event::DisableBracketedPaste,
        event::DisableMouseCapture,
        terminal::LeaveAlternateScreen,
        ratatui::crossterm::cursor::Show
    );
    let _ = terminal::disable_raw_mode();
    let _ = io::stdout().flush();
}

/// What other threads have said when they panicked.
type Panics = Arc<Mutex<Vec<String>>>;

/// Where this thread panics, the terminal is restored before the message is printed. Another thread must not touch the
/// terminal, on which a frame may be drawn at that moment: what it says is kept, and the loop ends.
fn restore_on_panic() -> Panics {
    let panics = Panics::default();
    let (kept, print) = (Arc::clone(&panics), std::panic::take_hook());
    let own = std::thread::current().id();
    std::panic::set_hook(Box::new(move |info| {
        if is_contained() {
            return;
        }
        if std::thread::current().id() == own {
            restore_terminal();
            return print(info);
        }
        let backtrace = std::backtrace::Backtrace::capture();
        let mut said = info.to_string();
        if backtrace.status() == std::backtrace::BacktraceStatus::Captured {
            said = format!("{said}\n{backtrace}");
        }
        kept.lock().unwrap_or_else(PoisonError::into_inner).push(said);
    }));
    panics
}

fn leave_on_signal() -> Result<Arc<AtomicBool>> {
    let leave = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGTERM, signal_hook::consts::SIGHUP] {
        signal_hook::flag::register(signal, Arc::clone(&leave))?;
    }
    Ok(leave)
}

fn run_loop(
    terminal: &mut Screen,
    state: State,
    begin: Begin,
    theme: &Theme,
    panicked: &Panics,
    leave: &AtomicBool,
) -> Result<()> {
    let (messages, inbox) = channel();
    let no_thread = "cannot begin a thread: too many processes or threads (`ulimit -u`, TasksMax)";
    let jobs = Jobs::new(messages.clone()).context(no_thread)?;
    let events = messages;
    std::thread::Builder::new().spawn(move || input::listen(&events)).context(no_thread)?;
    let size = terminal.size()?;
    let mut model = Model::new(state, Time::now(), (size.width, size.height));
    let mut first = update::begin(&mut model);
    match begin {
        Begin::Paths(paths) if paths.is_empty() => {}
        Begin::Paths(paths) => {
            let whole = |path: PathBuf| absolute(&path).unwrap_or(path);
            first.extend(update::start_scan(&mut model, paths.into_iter().map(whole).collect()));
        }
        Begin::Saved(catalog) => {
            let (number, outcome) = (model.scan.number, Ok(catalog));
            first.extend(update::update(&mut model, Message::Opened { number, outcome }));
        }
    }
    first.into_iter().for_each(|job| jobs.start(job));
    let mut input = Input::default();
    let mut ticked = Instant::now();
    let (mut times, mut updated) = (FrameTimes::of_environment(), Duration::ZERO);
    loop {
        let begun = Instant::now();
        let mut hits = Hits::default();
        terminal.draw(|frame| hits = view::draw(&model, frame, theme))?;
        times.keep(updated, begun.elapsed());
        if let Some(text) = model.clipboard.take() {
            let mut out = io::stdout();
            out.write_all(export::osc_52(&text).as_bytes()).and_then(|()| out.flush())?;
        }
        // what had to be drawn without a name
        update::names_wanted(&model).into_iter().for_each(|job| jobs.start(job));
        let Some(news) = wait(&inbox) else { bail!("the terminal was closed") };
        if !panicked.lock().unwrap_or_else(PoisonError::into_inner).is_empty() {
            bail!("internal error; what had been begun is in the journal");
        }
        let begun = Instant::now();
        let mut work = Vec::new();
        if ticked.elapsed() > Duration::from_millis(500) {
            ticked = Instant::now();
            work.extend(update::update(&mut model, Message::Tick(Time::now())));
        }
        for event in news {
            if let Some(message) = input.message(event, &hits) {
                work.extend(update::update(&mut model, message));
            }
        }
        work.into_iter().for_each(|job| jobs.start(job));
        updated = begun.elapsed();
        if model.quitting && !model.run.is_active() || leave.load(Relaxed) {
            return Ok(());
        }
    }
}

/// What has happened, all of it at once, so that a burst costs one frame. Waits for a while if
/// nothing has; then the clock alone is worth a look. Nothing comes any more: `None`.
fn wait(inbox: &Receiver<input::Event>) -> Option<Vec<input::Event>> {
    let first = match inbox.recv_timeout(Duration::from_millis(500)) {
        Ok(first) => first,
        Err(RecvTimeoutError::Timeout) => return Some(Vec::new()),
        Err(RecvTimeoutError::Disconnected) => return None,
    };
    let mut news = vec![first];
    news.extend(inbox.try_iter().take(1000));
    Some(news)
}
