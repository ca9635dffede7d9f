//! The route of the work: the list of stations, what the frame asks of one, and the ways from one to another.
//!
//! A station is a folder here and a line of the list below. What it knows for itself lies in its `State`, whose fields
//! only its own folder can see; what all stations share (volumes, the scan at hand, the place in it, lens, draft of the
//! plan, run) is in the [`Model`] that is lent to it. No other place asks which station it is on: it asks the
//! station's [`Room`].

mod ages;
mod breakdown;
mod directories;
mod duplicates;
mod history;
mod journal;
mod leftovers;
mod plan;
mod rules;
mod volumes;

use std::path::{Path, PathBuf};

use fondaco_core::analysis::{AgeBy, Block};
use fondaco_core::catalog::EntryId;
use fondaco_core::kernel::DeletedFiles;
use fondaco_core::leftovers::GroupName;
use fondaco_core::plan::Deed;
use fondaco_core::rule::NewRule;
use fondaco_core::volume::Volume;
use ratatui::layout::Rect;

use crate::frame::commands::{Command, Key, always, command};
use crate::frame::export::Exported;
use crate::frame::message::Job;
use crate::frame::model::{Focus, Model};
use crate::frame::view::{Pen, Sheet};

/// Lists the stations in the order of the route: digit, name, folder.
macro_rules! route {
    ($($digit:literal $Station:ident $folder:ident,)*) => {
        /// A stop on the route of the work.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
        #[allow(missing_docs)] // each is its own word
        pub enum Station { $($Station),* }

        impl Station {
            /// In the order of the route.
            pub const ALL: &'static [Self] = &[$(Self::$Station),*];

            /// The station's name on the route.
            pub fn name(self) -> &'static str {
                match self { $(Self::$Station => stringify!($Station)),* }
            }

            /// The digit that goes there.
            pub fn digit(self) -> char {
                match self { $(Self::$Station => $digit),* }
            }

            /// What answers for it.
            pub fn room(self) -> &'static dyn Room {
                match self { $(Self::$Station => &$folder::Room),* }
            }
        }

        /// What every station knows for itself.
        #[derive(Clone, Debug, Default)]
        #[allow(missing_docs)] // as the stations
        #[allow(dead_code)] // a station that is not there yet knows nothing
        pub struct Rooms { $(pub $folder: $folder::State),* }

        /// The commands that go to a station.
        pub static WAYS: &[Command] = &[$(command(
            stringify!($Station),
            &[Key::Char($digit)],
            0,
            always,
            |model| go_to(model, Station::$Station),
            concat!("go to ", stringify!($Station)),
        )),*];
    };
}

route! {
    '1' Volumes volumes,
    '2' Directories directories,
    '3' Ages ages,
    '4' Breakdown breakdown,
    '5' Duplicates duplicates,
    '6' Leftovers leftovers,
    '7' Rules rules,
    '8' Plan plan,
    '9' Journal journal,
    '0' History history,
}

/// The files that a station lists, as far as many of them are planned at once.
#[derive(Clone, Debug)]
pub struct ListedFiles {
    /// How many they are and what they take.
    pub whole: fondaco_core::analysis::Cell,
    /// The time stamp that ages count from.
    pub by: AgeBy,
    /// Of these classes; all if there is none.
    pub block: Option<Block>,
    /// The list is not yet that of the lens and the classes at hand.
    pub awaited: bool,
}

/// What the frame asks of a station. The answers that are given here are those of a station that has only a panel.
pub trait Room: Sync {
    /// The commands that only this station has.
    fn commands(&self) -> &'static [Command] {
        &[]
    }

    /// Rows of the list at hand.
    fn length(&self, _: &Model) -> usize {
        0
    }

    /// The selected row of the list at hand.
    fn cursor(&self, _: &Model) -> usize {
        0
    }

    /// Selects a row of the list at hand.
    fn select(&self, _: &mut Model, _row: usize) -> Vec<Job> {
        Vec::new()
    }

    /// Lines of the panel that its list does not have.
    fn lines_beside_list(&self, _: &Model) -> u16 {
        1
    }

    /// The station has been gone to.
    fn arrive(&self, _: &mut Model) -> Vec<Job> {
        Vec::new()
    }

    /// Closes one of the station's own levels; nothing if there is none open.
    fn back(&self, _: &mut Model) -> Option<Vec<Job>> {
        None
    }

    /// Takes a key before the commands do, such as one that is typed into a name.
    fn take_key(&self, _: &mut Model, _: Key) -> Option<Vec<Job>> {
        None
    }

    /// What is being typed, with what it is for; it stands in the line of notices.
    fn typing(&self, _: &Model) -> Option<String> {
        None
    }

    /// What is typed may have several lines.
    fn takes_lines(&self, _: &Model) -> bool {
        false
    }

    /// What would be forgotten on leaving, in a sentence.
    fn unsaved(&self, _: &Model) -> Option<&'static str> {
        None
    }

    /// A rule for what is selected or shown, if one can be made of it.
    fn new_rule(&self, model: &Model) -> Option<NewRule> {
        self.shows_scan().then(|| rule_of_lens(model)).flatten()
    }

    /// A row is about to be selected with the mouse.
    fn before_click(&self, _: &mut Model) {}

    /// A cell of a matrix has been clicked.
    fn on_cell(&self, _: &mut Model, _row: usize, _column: usize) -> Vec<Job> {
        Vec::new()
    }

    /// An entry has been clicked that is no row; `double` for the second time in short order.
    fn on_entry(&self, _: &mut Model, _: EntryId, _double: bool) -> Vec<Job> {
        Vec::new()
    }

    /// The entry of the scan that is looked at: what evidence is about, and what would be planned.
    fn subject(&self, _: &Model) -> Option<EntryId> {
        None
    }

    /// The volume that the gauge shows; nothing if it is that of the scan.
    fn volume<'m>(&self, _: &'m Model) -> Option<&'m Volume> {
        None
    }

    /// It shows something of the scan at hand.
    fn shows_scan(&self) -> bool {
        false
    }

    /// A scan can be begun or opened from here.
    fn offers_scans(&self) -> bool {
        self.shows_scan()
    }

    /// What it shows of the scan is still being found out.
    fn awaits_scan(&self, _: &Model) -> bool {
        true
    }

    /// Looks once more at the scan: the lens, the directory or the scan is another.
    fn refresh(&self, _: &mut Model) -> Vec<Job> {
        Vec::new()
    }

    /// Makes the rows on the screen anew: its size is another, or something has been planned.
    fn redraw(&self, _: &mut Model) {}

    /// The scan is another one: what is known of the last means nothing in it.
    fn forget_scan(&self, _: &mut Model) {}

    /// Adds what this station knows of an entry to its evidence, wherever that is shown.
    fn add_to_evidence(&self, _: &Model, _: EntryId, _: &mut Sheet) {}

    /// The scan at hand has grown.
    fn on_growth(&self, _: &mut Model) -> Vec<Job> {
        Vec::new()
    }

    /// Deleted files that processes hold have been looked for; `before` is what was known until then.
    fn after_held(&self, _: &mut Model, _before: &DeletedFiles) {}

    /// The volumes have been asked.
    fn after_volumes(&self, _: &mut Model) -> Vec<Job> {
        Vec::new()
    }

    /// A scan has ended or has been mended.
    fn after_scan(&self, _: &mut Model) -> Vec<Job> {
        Vec::new()
    }

    /// Something was carried out, put back or purged at these places, none if it was not in a directory; `None` if
    /// runs that had been cut off were settled.
    fn after_change(&self, _: &mut Model, _touched: Option<&[PathBuf]>) -> Vec<Job> {
        Vec::new()
    }

    /// The list of files that can be planned together.
    fn listed_files(&self, _: &Model) -> Option<ListedFiles> {
        None
    }

    /// Space plans what is selected by a command of the station's own, also where that is an entry.
    fn plans_itself(&self) -> bool {
        false
    }

    /// The deed has been chosen for many things that are no listed files of the scan.
    fn plan_many(&self, _: &mut Model, _: &Deed) -> Option<Vec<Job>> {
        None
    }

    /// It tells what changed since an earlier scan, whether or not the column is shown.
    fn shows_changes(&self, _: &Model) -> bool {
        false
    }

    /// It has a column of what changed since an earlier scan.
    fn has_growth(&self) -> bool {
        false
    }

    /// Another earlier scan has been chosen.
    fn on_moment(&self, _: &mut Model) -> Vec<Job> {
        Vec::new()
    }

    /// What changed since an earlier scan has been found out anew.
    fn on_changes(&self, _: &mut Model) -> Vec<Job> {
        Vec::new()
    }

    /// What is exported from here.
    fn exported(&self, _: &Model) -> Option<Exported> {
        None
    }

    /// What stands beside its name on the route, and whether that should be seen.
    fn beside_name(&self, _: &Model) -> (String, bool) {
        (String::new(), false)
    }

    /// Draws the panel.
    fn draw(&self, _: &Model, _: &mut Pen<'_>, _: Rect);

    /// What is known about the selected thing.
    fn evidence(&self, _: &Model, _: &Pen<'_>) -> Sheet {
        Sheet::default()
    }
}

/// Goes to a station, and remembers the one that is left.
pub fn go_to(model: &mut Model, station: Station) -> Vec<Job> {
    (model.focus, model.place.trail) = (Focus::Panel, None);
    if station != model.station {
        model.before.push_back(model.station);
        if model.before.len() > 32 {
            model.before.pop_front();
        }
        model.station = station;
    }
    station.room().arrive(model)
}

/// One level back: of the station, or to the station before.
pub fn back(model: &mut Model) -> Vec<Job> {
    if let Some(jobs) = model.station.room().back(model) {
        return jobs;
    }
    match model.before.pop_back() {
        Some(before) => {
            model.station = before;
            before.room().arrive(model)
        }
        None => Vec::new(),
    }
}

/// Asks every station, in the order of the route.
pub fn ask_all(model: &mut Model, ask: impl Fn(&dyn Room, &mut Model) -> Vec<Job>) -> Vec<Job> {
    Station::ALL.iter().flat_map(|station| ask(station.room(), model)).collect()
}

/// The station that the application begins on.
pub const FIRST: Station = Station::Volumes;

/// To the station that shows a scan.
pub fn to_scan(model: &mut Model) -> Vec<Job> {
    go_to(model, Station::Directories)
}

/// To the list of files of the directory at hand.
pub fn to_files(model: &mut Model) -> Vec<Job> {
    let mut jobs = to_scan(model);
    jobs.extend(directories::list_files(model));
    jobs
}

/// To the directory that an entry lies in, with the entry selected.
pub fn to_entry(model: &mut Model, id: EntryId) -> Vec<Job> {
    let mut jobs = to_scan(model);
    jobs.extend(directories::show_entry(model, id));
    jobs
}

/// To a deleted file that processes hold, by its place in the list.
pub fn to_held(model: &mut Model, place: usize) -> Vec<Job> {
    leftovers::select_held(model, place);
    go_to(model, Station::Leftovers)
}

/// A rule for what the lens shows of the directory at hand, if there is a lens.
pub fn rule_of_lens(model: &Model) -> Option<NewRule> {
    let lens = &model.lens.text;
    (!lens.is_empty()).then(|| new_rule(model, lens, None))
}

/// A rule for what passes a lens in the directory at hand.
fn new_rule(model: &Model, lens: &str, age: Option<&'static str>) -> NewRule {
    let root = model.place.root.as_ref().or(model.scan.roots.first());
    let below = root.and_then(|root| model.place.path.strip_prefix(root).ok());
    // a name that is no text cannot stand in the file: the rule is then for all
    let under = below.and_then(Path::to_str).unwrap_or("").to_owned();
    NewRule { title: lens.replace('"', ""), under, lens: lens.to_owned(), age, leftovers: None }
}

/// A rule for a group of leftovers in the directory at hand.
fn new_rule_of_group(model: &Model, name: GroupName) -> NewRule {
    let group = name.group();
    let title = group.title.to_owned();
    NewRule { title, leftovers: Some(group.key), ..new_rule(model, "", None) }
}

/// Whether a rule can be made of what is selected or shown.
pub fn can_make_rule(model: &Model) -> bool {
    model.station.room().new_rule(model).is_some()
}

/// To the text of the rule file, with a new rule for what is selected or shown.
pub fn to_new_rule(model: &mut Model) -> Vec<Job> {
    let Some(new) = model.station.room().new_rule(model) else { return Vec::new() };
    let mut jobs = go_to(model, Station::Rules);
    jobs.extend(rules::add(model, new));
    jobs
}

/// To the plan, where a run is seen.
pub fn to_run(model: &mut Model) -> Vec<Job> {
    go_to(model, Station::Plan)
}

/// What tests of the frame need of stations, and what holds for the program's files.
#[cfg(test)]
pub mod tests {
    use std::path::{Path, PathBuf};

    use super::Station;
    pub use super::history::tests::{watched, with_changes};
    pub use super::journal::tests::failures as failures_of_journal;
    pub use super::volumes::tests::draw_up_books;

    fn sources(below: &Path, found: &mut Vec<PathBuf>) {
        for entry in std::fs::read_dir(below).unwrap() {
            let path = entry.unwrap().path();
            let is_test = path.file_stem().is_some_and(|name| name == "tests");
            match path.is_dir() {
                _ if is_test => {}
                true => sources(&path, found),
                false => found.push(path),
            }
        }
    }

    #[test]
    fn a_station_is_named_only_in_its_own_folder_and_on_the_route() {
        let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
        let mut files = Vec::new();
        sources(&root, &mut files);
        assert!(files.len() > 60, "{files:?}");
        for station in Station::ALL {
            let folder = station.name().to_lowercase();
            let names = [
                format!("Station::{}", station.name()),
                format!("rooms.{folder}"),
                format!("station::{folder}"),
            ];
            let of_it = |path: &&PathBuf| {
                let below = path.strip_prefix(root.join("station")).ok();
                below.is_some_and(|below| {
                    below.starts_with(&folder) || below.with_extension("") == Path::new(&folder)
                })
            };
            let elsewhere = files.iter().filter(|path| !of_it(path)).filter(|path| {
                let text = std::fs::read_to_string(path).unwrap();
                names.iter().any(|name| text.contains(name))
            });
            let elsewhere: Vec<_> = elsewhere.collect();
            let allowed = [root.join("station/mod.rs")];
            assert!(
                elsewhere.iter().all(|path| allowed.contains(path)),
                "{station:?}: {elsewhere:?}"
            );
        }
    }
}
