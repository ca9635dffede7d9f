//! The one table of commands: keys, hints, palette, help, mouse and manual are read from it.

use std::fmt;

use fondaco_core::analysis::BreakdownBy;

use super::looking::Manner;
use super::model::{Focus, Model, Station};

/// Something the user can ask for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)] // the table below says what each does
pub enum Command {
    PlanIt,
    TakeOff,
    ChangeDeed,
    Enter,
    GoOut,
    Back,
    Up,
    Down,
    PageUp,
    PageDown,
    Home,
    End,
    Trail,
    Order,
    Units,
    FindName,
    TypePath,
    Waterline,
    Books,
    OpenBooks,
    Rescan,
    SavedScans,
    Unreadable,
    StopScan,
    Rehearse,
    CarryOut,
    StopRun,
    Mark,
    PutBack,
    PutBackAll,
    FinishRun,
    Purge,
    GoTo(Station),
    Lens,
    ShowAll,
    Time,
    Block,
    CellLeft,
    CellRight,
    ToFiles,
    Narrow,
    NextProperty,
    LastProperty,
    ByContent,
    ShowPlace,
    PlanMany,
    Map,
    Files,
    StopLook,
    Peek,
    Export,
    Palette,
    Help,
    Quit,
}

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

/// One command: what it is called, how it is reached, where it applies.
pub struct Row {
    /// What is done.
    pub command: Command,
    /// Its name in hints and the palette.
    pub name: &'static str,
    /// What it does, in a line.
    pub help: &'static str,
    /// The keys for it; the first is shown.
    pub keys: &'static [Key],
    /// Whether it does anything here and now.
    pub applies: fn(&Model) -> bool,
    /// Place among the hints of the last line, most wanted first; 0 keeps it out of them.
    pub hint: u8,
}

const fn row(
    command: Command,
    name: &'static str,
    keys: &'static [Key],
    hint: u8,
    applies: fn(&Model) -> bool,
    help: &'static str,
) -> Row {
    Row { command, name, help, keys, applies, hint }
}

fn always(_: &Model) -> bool {
    true
}

fn in_list(model: &Model) -> bool {
    model.list_length() > 0
}

fn on_entry(model: &Model) -> bool {
    model.subject().is_some()
}

/// On a station that looks at a scan.
fn is_looking(model: &Model) -> bool {
    let stations = [Station::Directories, Station::Ages, Station::Breakdown];
    stations.contains(&model.station) && model.scan.catalog.is_some()
}

fn in_directory(model: &Model) -> bool {
    model.station == Station::Directories && model.scan.catalog.is_some()
}

fn in_cascade(model: &Model) -> bool {
    is_scanned(model) && model.looking.manner != Manner::Files
}

fn in_matrix(model: &Model) -> bool {
    let has_matrix = model.looking.ages.matrix.is_some();
    model.station == Station::Ages && model.focus != Focus::List && has_matrix
}

fn in_ages(model: &Model) -> bool {
    model.station == Station::Ages && model.looking.ages.matrix.is_some()
}

fn in_breakdown(model: &Model) -> bool {
    model.station == Station::Breakdown && model.looking.breakdown.found.is_some()
}

/// The next property can be gone to before the last has been found out.
fn can_turn(model: &Model) -> bool {
    model.station == Station::Breakdown && model.scan.catalog.is_some()
}

fn in_files(model: &Model) -> bool {
    let on_directories = model.station == Station::Directories && !in_cascade(model);
    let in_list = model.station == Station::Ages && model.focus == Focus::List;
    (on_directories || in_list) && model.subject().is_some()
}

fn can_plan_many(model: &Model) -> bool {
    let in_list = in_files(model) && model.station == Station::Directories;
    (in_ages(model) && model.looking.ages.files.list.whole.entries > 0) || in_list
}

fn on_held(model: &Model) -> bool {
    model.station == Station::Leftovers && model.selected_held().is_some()
}

fn on_volume(model: &Model) -> bool {
    model.station == Station::Volumes && model.selected_volume().is_some()
}

fn can_export(model: &Model) -> bool {
    let lists = [Station::Volumes, Station::Leftovers, Station::Plan, Station::Journal];
    is_looking(model) || (lists.contains(&model.station) && model.list_length() > 0)
}

fn in_trail(model: &Model) -> bool {
    model.focus == Focus::Trail
}

fn on_plan(model: &Model) -> bool {
    model.station == Station::Plan && model.selected_action().is_some() && !model.run.is_active()
}

fn can_rehearse(model: &Model) -> bool {
    let waits = model.ready_actions() > 0 || model.pending_actions() > 0;
    model.station == Station::Plan && waits && !model.run.is_active()
}

fn can_carry_out(model: &Model) -> bool {
    model.station == Station::Plan && model.ready_actions() > 0 && !model.run.is_active()
}

fn on_run(model: &Model) -> bool {
    model.station == Station::Journal && model.selected_run().is_some() && !model.run.is_active()
}

fn can_go_out(model: &Model) -> bool {
    model.station == Station::Directories && model.directories.parent.is_some()
}

fn can_enter(model: &Model) -> bool {
    match model.station {
        Station::Volumes => model.selected_volume().is_some(),
        Station::Directories => {
            in_trail(model) || (in_cascade(model) && model.directories.can_enter())
        }
        Station::Journal => model.journal.open.is_none() && model.selected_run().is_some(),
        _ => false,
    }
}

fn is_scanned(model: &Model) -> bool {
    model.station == Station::Directories && !model.scan.roots.is_empty()
}

fn can_rescan(model: &Model) -> bool {
    is_scanned(model) && !model.scan.is_running() && model.scan.mending.is_none()
}

fn can_set_waterline(model: &Model) -> bool {
    matches!(model.station, Station::Volumes | Station::Plan | Station::Directories)
        && model.gauge_volume().is_some()
}

fn on_run_entry(model: &Model) -> bool {
    on_run(model) && model.journal.open.is_some()
}

fn can_put_back(model: &Model) -> bool {
    on_run_entry(model) && !model.chosen_to_put_back().is_empty()
}

fn run_has_to_put_back(model: &Model) -> bool {
    on_run(model) && model.selected_run().is_some_and(|run| model.can_be_put_back(run) > 0)
}

fn run_has_held(model: &Model) -> bool {
    on_run(model) && model.selected_run().is_some_and(|run| model.held(run) > 0)
}

fn run_has_rest(model: &Model) -> bool {
    on_run(model) && model.selected_run().is_some_and(|run| model.not_begun(run) > 0)
}

/// All commands. Where two share a key, at most one of them applies at a time.
#[rustfmt::skip] // two lines a command: a table is read down its columns
pub static COMMANDS: &[Row] = &[
    row(Command::PlanIt, "plan it", &[Key::Char(' ')], 1, |m| on_entry(m) || on_held(m),
        "choose what is to be done with the selected entry or deleted file, or take it off the plan"),
    row(Command::Mark, "mark", &[Key::Char(' ')], 1, on_run_entry,
        "mark the action, to put several back at once"),
    row(Command::PutBack, "put back", &[Key::Char('b')], 2, can_put_back,
        "put back the marked actions, or the selected one"),
    row(Command::PutBackAll, "put all back", &[Key::Char('B')], 3, run_has_to_put_back,
        "put back everything that the run has set aside or archived"),
    row(Command::FinishRun, "finish the run", &[Key::Char('F')], 3, run_has_rest,
        "carry out what the run has not begun, with all its checks"),
    row(Command::Purge, "purge", &[Key::Char('P')], 4, run_has_held,
        "remove for good what the run has set aside; this frees its space"),
    row(Command::Rehearse, "rehearse", &[Key::Char('R')], 1, can_rehearse,
        "run all checks of the plan and change nothing"),
    row(Command::CarryOut, "carry out", &[Key::Char('C')], 2, can_carry_out,
        "do what is planned, after the number of actions has been typed"),
    row(Command::ChangeDeed, "change", &[Key::Char('c')], 3, on_plan,
        "choose something else to be done with the target"),
    row(Command::Narrow, "narrow to it", &[Key::Enter], 2, |m| in_matrix(m) || in_breakdown(m),
        "put the selected classes or slice into the lens"),
    row(Command::ShowPlace, "where it lies", &[Key::Enter], 2, in_files,
        "go to the directory that holds the file"),
    row(Command::PlanMany, "plan all", &[Key::Char('A')], 3, can_plan_many,
        "plan all files of the list, or of the selected classes"),
    row(Command::Lens, "lens", &[Key::Char('/')], 4, is_looking,
        "show only what passes: kind, name, size, age, owner …"),
    row(Command::ShowAll, "show all", &[Key::Char('a')], 3, |m| is_looking(m) && !m.looking.lens.text.is_empty(),
        "take the lens off"),
    row(Command::Map, "map", &[Key::Char('m')], 5, in_directory,
        "areas within areas, shaded by age; once more: as stairs"),
    row(Command::Files, "files", &[Key::Char('l')], 5, in_directory,
        "the largest or stalest, however deep; once more: as stairs"),
    row(Command::Peek, "look inside", &[Key::Char('v')], 6, on_entry,
        "show lines, bytes, what an archive holds, the size of a picture or sound"),
    row(Command::Export, "export", &[Key::Char('e')], 8, can_export,
        "write what is shown as a table, chart or report, or copy it"),
    row(Command::Time, "time", &[Key::Char('t')], 5, in_ages,
        "count age from the last writing, reading, change, or from birth"),
    row(Command::Block, "block", &[Key::Char('b')], 6, in_matrix,
        "begin a block of classes here, or end it"),
    row(Command::CellLeft, "left", &[Key::Left], 0, in_matrix,
        "select the cell to the left"),
    row(Command::CellRight, "right", &[Key::Right], 0, in_matrix,
        "select the cell to the right"),
    row(Command::ToFiles, "to the files", &[Key::Tab], 4, in_ages,
        "go between the classes and their files"),
    row(Command::NextProperty, "next property", &[Key::Right], 3, can_turn,
        "break down by the next property"),
    row(Command::LastProperty, "last property", &[Key::Left], 0, can_turn,
        "break down by the property before"),
    row(Command::ByContent, "by contents", &[Key::Char('c')], 6, |m| in_breakdown(m) && m.looking.breakdown.by == BreakdownBy::Kind,
        "read the beginning of files whose ending tells nothing, and sort them by it"),
    row(Command::StopLook, "stop looking", &[Key::Char('S')], 1, |m| m.looking.closer.is_some() && !m.scan.can_stop() && !m.run.can_stop(),
        "end the closer look; what it has found so far is forgotten"),
    row(Command::TakeOff, "take off", &[Key::Char(' '), Key::Delete], 4, on_plan,
        "take the action off the plan"),
    row(Command::StopRun, "stop the run", &[Key::Char('S')], 1, |m| m.run.can_stop(),
        "stop after what is half done has been brought to its end"),
    row(Command::Enter, "go in", &[Key::Enter, Key::Right], 2, can_enter,
        "scan the volume, go into the directory, open the tail, the run or the line of the books"),
    row(Command::Books, "books", &[Key::Char('b')], 3, on_volume,
        "explain what the volume says is in use, line by line; scans it if that has not been done"),
    row(Command::OpenBooks, "to the books", &[Key::Tab], 4, |m| on_volume(m) && m.shown_books().is_some(),
        "go between the volumes and the lines of the books"),
    row(Command::GoOut, "go out", &[Key::Left, Key::Backspace], 3, |m| can_go_out(m) && !in_trail(m),
        "go to the directory above"),
    row(Command::Trail, "ancestors", &[Key::Tab], 6, can_go_out,
        "choose a directory above with ← and →, and go there with Enter"),
    row(Command::StopScan, "stop the scan", &[Key::Char('S')], 1, |m| m.scan.can_stop() && !m.run.can_stop(),
        "end the scan; what is known stays"),
    row(Command::Order, "order", &[Key::Char('o')], 5, is_scanned,
        "order by another column; files by size, age or byte-years"),
    row(Command::FindName, "find a name", &[Key::Char('f')], 7, in_cascade,
        "jump to the first name that begins with what is typed"),
    row(Command::TypePath, "type a path", &[Key::Char('p')], 4, |m| matches!(m.station, Station::Volumes | Station::Directories),
        "scan a directory that is typed in"),
    row(Command::Waterline, "waterline", &[Key::Char('w')], 5, can_set_waterline,
        "set the level that the volume should be below"),
    row(Command::Rescan, "scan again", &[Key::Function(5)], 8, can_rescan,
        "scan this directory anew and mend all totals above it"),
    row(Command::SavedScans, "saved scans", &[Key::Char('s')], 7, |m| matches!(m.station, Station::Volumes | Station::Directories),
        "list earlier scans; open or forget one"),
    row(Command::Unreadable, "unreadable", &[Key::Char('!')], 3, |m| is_scanned(m) && m.scan.progress.unreadable > 0,
        "list the places that the scan could not read, and why"),
    row(Command::Units, "units", &[Key::Char('u')], 9, always,
        "show sizes by 1024, by 1000 or in bytes"),
    row(Command::Up, "up", &[Key::Up], 0, in_list,
        "select the row above"),
    row(Command::Down, "down", &[Key::Down], 0, in_list,
        "select the row below"),
    row(Command::PageUp, "page up", &[Key::PageUp], 0, in_list,
        "go up a screenful"),
    row(Command::PageDown, "page down", &[Key::PageDown], 0, in_list,
        "go down a screenful"),
    row(Command::Home, "first", &[Key::Home], 0, in_list,
        "select the first row"),
    row(Command::End, "last", &[Key::End], 0, in_list,
        "select the last row"),
    row(Command::GoTo(Station::Volumes), "Volumes", &[Key::Char('1')], 0, always,
        "go to the volumes"),
    row(Command::GoTo(Station::Directories), "Directories", &[Key::Char('2')], 0, always,
        "go to the directories"),
    row(Command::GoTo(Station::Ages), "Ages", &[Key::Char('3')], 0, always,
        "go to the ages"),
    row(Command::GoTo(Station::Breakdown), "Breakdown", &[Key::Char('4')], 0, always,
        "go to the breakdown"),
    row(Command::GoTo(Station::Duplicates), "Duplicates", &[Key::Char('5')], 0, always,
        "go to the duplicates"),
    row(Command::GoTo(Station::Leftovers), "Leftovers", &[Key::Char('6')], 0, always,
        "go to the leftovers"),
    row(Command::GoTo(Station::Rules), "Rules", &[Key::Char('7')], 0, always,
        "go to the rules"),
    row(Command::GoTo(Station::Plan), "Plan", &[Key::Char('8')], 0, always,
        "go to the plan"),
    row(Command::GoTo(Station::Journal), "Journal", &[Key::Char('9')], 0, always,
        "go to the journal"),
    row(Command::GoTo(Station::History), "History", &[Key::Char('0')], 0, always,
        "go to the history"),
    row(Command::Back, "back", &[Key::Escape], 0, always,
        "step back one level; never quits, never loses anything"),
    row(Command::Palette, "all commands", &[Key::Ctrl('p')], 10, always,
        "search all commands that work here, and run one"),
    row(Command::Help, "help", &[Key::Char('?')], 11, always,
        "show what works here"),
    row(Command::Quit, "quit", &[Key::Char('q'), Key::Ctrl('c')], 12, always,
        "leave; asks first if something is planned or running"),
];

/// What works here and now; every listing shows just these.
pub fn available(model: &Model) -> impl Iterator<Item = &'static Row> + '_ {
    COMMANDS.iter().filter(|row| (row.applies)(model))
}

/// The command that a key means here and now.
pub fn dispatch(model: &Model, key: Key) -> Option<Command> {
    available(model).find(|row| row.keys.contains(&key)).map(|row| row.command)
}
