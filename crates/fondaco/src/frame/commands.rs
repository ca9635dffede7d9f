//! Commands: one row each, with its keys, where it applies and what it does. Key dispatch, hints, palette, help
//! and mouse are read from these rows. Those of one station stand in its folder, those of all stations here.

use std::fmt;

use super::message::Job;
use super::model::Model;
use super::update::{
    ask_waterline, begin_scan, export, file_list, growth, lens, many, overlay, peek, planning,
    quit, run, scans, step,
};
use super::{geometry::list_rows, model::Overlay};
use crate::station::{Station, WAYS, can_make_rule, to_new_rule};

/// A key, as far as commands have one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)] // as on the keyboard
pub enum Key {
    Char(char),
    Ctrl(char),
    Function(u8),
    Enter,
    Escape,
    Tab,
    Backspace,
    Left,
    Right,
    Up,
    Down,
    PageUp,
    PageDown,
    Home,
    End,
    Delete,
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Char(' ') => f.write_str("Space"),
            Self::Char(c) => write!(f, "{c}"),
            Self::Ctrl(c) => write!(f, "Ctrl-{}", c.to_ascii_uppercase()),
            Self::Function(n) => write!(f, "F{n}"),
            Self::Escape => f.write_str("Esc"),
            Self::PageUp => f.write_str("PgUp"),
            Self::PageDown => f.write_str("PgDn"),
            Self::Left => f.write_str("←"),
            Self::Right => f.write_str("→"),
            Self::Up => f.write_str("↑"),
            Self::Down => f.write_str("↓"),
            other => write!(f, "{other:?}"),
        }
    }
}

/// One command: what it is called, how it is reached, where it applies, what it does.
pub struct Command {
    /// Its name in hints and the palette.
    pub name: &'static str,
    /// What it does, in a line.
    pub help: &'static str,
    /// The keys for it; the first is shown.
    pub keys: &'static [Key],
    /// Whether it does anything here and now.
    pub applies: fn(&Model) -> bool,
    /// Does it, and says what jobs that needs.
    pub run: fn(&mut Model) -> Vec<Job>,
    /// Place among the hints of the last line, most wanted first; 0 keeps it out of them.
    pub hint: u8,
}

impl fmt::Debug for Command {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Command({})", self.name)
    }
}

/// A command is the row that it stands in.
impl PartialEq for Command {
    fn eq(&self, other: &Self) -> bool {
        std::ptr::eq(self, other)
    }
}

impl Eq for Command {}

/// A row of a table of commands.
pub const fn command(
    name: &'static str,
    keys: &'static [Key],
    hint: u8,
    applies: fn(&Model) -> bool,
    run: fn(&mut Model) -> Vec<Job>,
    help: &'static str,
) -> Command {
    Command { name, help, keys, applies, run, hint }
}

/// It applies everywhere.
pub fn always(_: &Model) -> bool {
    true
}

fn in_list(model: &Model) -> bool {
    model.list_length() > 0
}

fn on_entry(model: &Model) -> bool {
    model.subject().is_some()
}

fn can_plan_entry(model: &Model) -> bool {
    on_entry(model) && !model.station.room().plans_itself()
}

/// The station shows something of a scan, and there is one.
pub fn is_looking(model: &Model) -> bool {
    model.station.room().shows_scan() && model.scan.catalog.is_some()
}

fn has_growth(model: &Model) -> bool {
    model.station.room().has_growth() && growth::can_compare(model)
}

/// What changed since an earlier scan is told, and it may be another.
fn compares(model: &Model) -> bool {
    let room = model.station.room();
    let told = room.shows_changes(model) || (room.has_growth() && model.growth.shown);
    told && model.growth.moments.len() > 1
}

fn has_lens(model: &Model) -> bool {
    is_looking(model) && !model.lens.text.is_empty()
}

fn can_plan_many(model: &Model) -> bool {
    model.station.room().listed_files(model).is_some_and(|listed| listed.whole.entries > 0)
}

fn can_export(model: &Model) -> bool {
    is_looking(model) || (!model.station.room().shows_scan() && in_list(model))
}

fn can_stop_look(model: &Model) -> bool {
    model.questions.closer.is_some() && !model.scan.can_stop() && !model.run.can_stop()
}

fn offers_scans(model: &Model) -> bool {
    model.station.room().offers_scans()
}

/// The station shows a scan, and there is none yet.
fn offers_first_scan(model: &Model) -> bool {
    let has_volume = model.selected_volume().is_some_and(|volume| volume.capacity.is_ok());
    model.station.room().shows_scan() && model.scan.roots.is_empty() && has_volume
}

fn scan_volume(model: &mut Model) -> Vec<Job> {
    let root = model.selected_volume().map(|volume| volume.mount_point.clone());
    root.map_or_else(Vec::new, |root| begin_scan(model, vec![root]))
}

fn rows(model: &Model) -> i64 {
    list_rows(model) as i64
}

fn nothing() -> Vec<Job> {
    Vec::new()
}

/// The commands of all stations. Where two commands share a key, at most one of them applies at a time.
#[rustfmt::skip] // two or three lines a command: a table is read down its columns
pub static OF_ALL_STATIONS: &[Command] = &[
    command("scan", &[Key::Enter], 1, offers_first_scan, scan_volume,
        "scan the volume that is selected among the volumes, and show it here"),
    command("plan it", &[Key::Char(' ')], 1, can_plan_entry, planning::choose_deed,
        "choose what is to be done with the selected entry, or take it off the plan"),
    command("plan all", &[Key::Char('A')], 3, can_plan_many, many::choose,
        "plan all files of the list or of the selected classes"),
    command("new rule", &[Key::Char('N')], 7, can_make_rule, to_new_rule,
        "begin a rule for what is selected or shown, and edit it"),
    command("lens", &[Key::Char('/')], 4, is_looking, lens::open,
        "show only what passes: kind, name, size, age, owner …"),
    command("show all", &[Key::Char('a')], 3, has_lens, lens::clear,
        "take the lens off"),
    command("look inside", &[Key::Char('v')], 6, on_entry, peek::ask,
        "show lines, bytes, what an archive holds, the size of a picture or sound"),
    command("growth", &[Key::Char('g')], 6, has_growth, growth::turn,
        "show by how much everything has changed since an earlier scan, or no more"),
    command("compare earlier", &[Key::Char('[')], 7, compares, |m| growth::choose(m, -1),
        "compare with the kept scan before"),
    command("compare later", &[Key::Char(']')], 0, compares, |m| growth::choose(m, 1),
        "compare with the kept scan after"),
    command("export", &[Key::Char('e')], 8, can_export, export::ask_where,
        "write what is shown as a table, chart or report, or copy it"),
    command("stop looking", &[Key::Char('S')], 1, can_stop_look, |_| vec![Job::StopLook],
        "end the closer look; what it has found so far is forgotten"),
    command("stop the run", &[Key::Char('S')], 1, |m| m.run.can_stop(), run::stop,
        "stop after what is half done has been brought to its end"),
    command("stop the scan", &[Key::Char('S')], 1, |m| m.scan.can_stop() && !m.run.can_stop(), |_| vec![Job::StopScan],
        "end the scan; what is known stays"),
    command("type a path", &[Key::Char('p')], 4, offers_scans, scans::ask_for_path,
        "scan a directory that is typed in"),
    command("saved scans", &[Key::Char('s')], 7, offers_scans, scans::open_list,
        "list earlier scans; open or forget one"),
    command("waterline", &[Key::Char('w')], 5, |m| m.gauge_volume().is_some(), ask_waterline,
        "set the level that the volume should be below"),
    command("units", &[Key::Char('u')], 9, always, |m| { m.units = m.units.next(); nothing() },
        "show sizes by 1024, by 1000 or in bytes"),
    command("up", &[Key::Up], 0, in_list, |m| step(m, -1),
        "select the row above"),
    command("down", &[Key::Down], 0, in_list, |m| step(m, 1),
        "select the row below"),
    command("page up", &[Key::PageUp], 0, in_list, |m| step(m, -rows(m)),
        "go up a screenful"),
    command("page down", &[Key::PageDown], 0, in_list, |m| step(m, rows(m)),
        "go down a screenful"),
    command("first", &[Key::Home], 0, in_list, |m| step(m, i64::MIN / 2),
        "select the first row"),
    command("last", &[Key::End], 0, in_list, |m| step(m, i64::MAX / 2),
        "select the last row"),
    command("back", &[Key::Escape], 0, always, crate::station::back,
        "step back one level; never quits, never loses anything"),
    command("all commands", &[Key::Ctrl('p')], 10, always, |m| overlay::open(m, Overlay::Palette { typed: String::new(), cursor: 0 }),
        "search all commands that work here, and run one"),
    command("help", &[Key::Char('?')], 11, always, |m| overlay::open(m, Overlay::Help { offset: 0 }),
        "show what works here"),
    command("quit", &[Key::Char('q'), Key::Ctrl('c')], 12, always, quit,
        "leave; asks first if something is planned or running"),
];

/// Goes to the directory that the selected file of a list lies in: a command of stations that list files.
pub const fn show_place(applies: fn(&Model) -> bool) -> Command {
    command(
        "where it lies",
        &[Key::Enter],
        2,
        applies,
        file_list::show_place,
        "go to the directory that holds the file",
    )
}

/// What works here and now; every listing shows just these, those of the station first.
pub fn available(model: &Model) -> impl Iterator<Item = &'static Command> + '_ {
    let all = model.station.room().commands().iter().chain(OF_ALL_STATIONS).chain(WAYS);
    all.filter(|command| (command.applies)(model))
}

/// The command that a key means here and now.
pub fn dispatch(model: &Model, key: Key) -> Option<&'static Command> {
    available(model).find(|command| command.keys.contains(&key))
}

/// Why a key does nothing here; nothing if that needs no words.
pub fn why_not(model: &Model, key: Key) -> Option<String> {
    let means = |command: &&Command| command.keys.contains(&key);
    let here = model.station.room().commands().iter().chain(OF_ALL_STATIONS).find(means);
    if let Some(command) = here {
        return match key {
            Key::Char(_) | Key::Function(_) | Key::Enter | Key::Delete => {
                Some(format!("{key} is `{}`: there is nothing for it here now", command.name))
            }
            // at the end of a list
            _ => None,
        };
    }
    let elsewhere = Station::ALL.iter().find_map(|station| {
        let command = station.room().commands().iter().find(means)?;
        Some((station, command.name))
    });
    match (elsewhere, key) {
        (Some((station, name)), Key::Char(_) | Key::Function(_)) => {
            Some(format!("{key} is `{name}` under {} {}", station.digit(), station.name()))
        }
        (None, Key::Char(_) | Key::Function(_)) => {
            Some(format!("{key} does nothing; ? lists what works here"))
        }
        _ => None,
    }
}

/// The command of a name, if it works here and now.
pub fn named(model: &Model, name: &str) -> Option<&'static Command> {
    available(model).find(|command| command.name == name)
}
