//! The tables of the stations, for people, spreadsheets and programs: on the command line and as exports.

use fondaco_core::analysis::{AgeBy, Cell, Matrix, Slice, byte_years};
use fondaco_core::carry_out::{EntryState, RunRecord};
use fondaco_core::catalog::{Catalog, EntryId, Ranking, Seen};
use fondaco_core::history::Outlook;
use fondaco_core::kernel::{Capacity, DeletedFile};
use fondaco_core::lens::Accounts;
use fondaco_core::plan::{Draft, Review};
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Age, Bytes, UnitStyle, grouped};
use fondaco_core::volume::Volume;
use serde_json::Value;

use crate::output::{Grid, left, path_value, right};
use crate::words::{full_in, rise, slice_words};

fn binary(bytes: Bytes) -> String {
    bytes.shown(UnitStyle::Binary)
}

fn bytes(bytes: Bytes) -> (String, Value) {
    (binary(bytes), bytes.get().into())
}

fn text(text: impl Into<String>) -> (String, Value) {
    let text = text.into();
    (text.clone(), text.into())
}

fn share(part: Bytes, whole: Bytes) -> (String, Value) {
    ((percent(part, whole)), ((part.share_of(whole) * 1e6).round() / 1e6).into())
}

/// A share of bytes in percent.
pub fn percent(part: Bytes, whole: Bytes) -> String {
    format!("{:.1} %", part.share_of(whole) * 100.0)
}

/// The name of a user, or the number with a mark.
pub fn user(accounts: &dyn Accounts, number: u32) -> String {
    named(accounts.user_name(number), number)
}

/// The name of a group, or the number with a mark.
pub fn group(accounts: &dyn Accounts, number: u32) -> String {
    named(accounts.group_name(number), number)
}

fn named(name: Option<String>, number: u32) -> String {
    name.unwrap_or_else(|| format!("{number} (no such account)"))
}

/// What lies in a directory.
pub fn directories(seen: Seen<'_>, at: EntryId, ranking: &Ranking) -> Grid {
    let (catalog, whole) = (seen.catalog(), seen.allocated(at));
    let mut grid = Grid::new(&[
        right("allocated", "allocated"),
        right("share", "share"),
        right("apparent", "apparent"),
        right("exclusive", "exclusive"),
        right("entries", "entries"),
        right("newest", "newest"),
        left("type", "type"),
        left("name", "name"),
        left("path", "path"),
    ]);
    for id in &ranking.rows {
        let slash = if catalog.is_directory(*id) { "/" } else { "" };
        let name = shown(catalog.name(*id));
        let newest = seen.newest(*id);
        grid.row(vec![
            bytes(seen.allocated(*id)),
            share(seen.allocated(*id), whole),
            bytes(seen.apparent(*id)),
            bytes(seen.exclusive(*id)),
            (grouped(seen.entries(*id)), seen.entries(*id).into()),
            (newest.age(catalog.now()).to_string(), newest.rfc3339().into()),
            text(catalog.kind(*id).word()),
            (format!("{name}{slash}"), name.into()),
            text(shown(catalog.path(*id))),
        ]);
    }
    grid
}

/// Files, however deep they lie.
pub fn files(catalog: &Catalog, found: &[EntryId], by: AgeBy, accounts: &dyn Accounts) -> Grid {
    let mut grid = Grid::new(&[
        right("allocated", "allocated"),
        right("written", "written"),
        right("read", "read"),
        right("byte_years", "byte-years"),
        left("owner", "owner"),
        left("path", "path"),
    ]);
    for id in found {
        let ago = |by: AgeBy| {
            let time = by.of(catalog, *id);
            let shown = time.map_or(Age::default(), |time| time.age(catalog.now())).to_string();
            (shown, time.map_or(Value::Null, |time| time.rfc3339().into()))
        };
        let weight = weight(catalog, *id, by);
        grid.row(vec![
            bytes(catalog.allocated(*id)),
            ago(AgeBy::Written),
            ago(AgeBy::Read),
            (format!("{} y", binary(Bytes::new(weight as u64))), (weight.round() as u64).into()),
            text(user(accounts, catalog.owner(*id).0)),
            text(Shown(catalog.path(*id)).to_string()),
        ]);
    }
    grid
}

/// Bytes on disk times years of age; nothing where no age is known.
pub fn weight(catalog: &Catalog, id: EntryId, by: AgeBy) -> f64 {
    byte_years(catalog.allocated(id), by.age(catalog, id).unwrap_or_default())
}

/// A matrix, one row for each cell.
pub fn ages(found: &Matrix) -> Grid {
    let mut grid = Grid::new(&[
        left("size", "size"),
        left("age", "age"),
        right("entries", "entries"),
        right("allocated", "allocated"),
    ]);
    let classes = &found.classes;
    for (size, row) in found.cells.iter().enumerate() {
        for (age, cell) in row.iter().chain(&found.not_known[size..=size]).enumerate() {
            grid.row(vec![
                text(classes.size_words(size, UnitStyle::Binary)),
                text(classes.age_words(age)),
                (cell.entries.to_string(), cell.entries.into()),
                bytes(cell.allocated),
            ]);
        }
    }
    grid
}

/// Slices of a breakdown.
pub fn slices(catalog: &Catalog, slices: &[Slice], whole: Cell, accounts: &dyn Accounts) -> Grid {
    let mut grid = Grid::new(&[
        right("allocated", "allocated"),
        right("share", "share"),
        right("entries", "entries"),
        right("largest_allocated", "largest"),
        left("slice", "slice"),
        left("largest", "largest entry"),
        left("lens", "lens"),
        left("by_age", "by age"),
    ]);
    for slice in slices {
        let words = slice_words(
            &slice.key,
            |number| user(accounts, number),
            |number| group(accounts, number),
        );
        let largest = catalog.path(slice.largest);
        let by_age: Vec<u64> = slice.profile.iter().map(|bytes| *bytes as u64).collect();
        grid.row(vec![
            bytes(slice.sum.allocated),
            share(slice.sum.allocated, whole.allocated),
            (grouped(slice.sum.entries), slice.sum.entries.into()),
            bytes(slice.largest_allocated),
            text(words),
            (Shown(&largest).to_string(), path_value(&largest)),
            text(slice.key.term()),
            (format!("{by_age:?}"), Value::from(by_age)),
        ]);
    }
    grid
}

/// Volumes with their levels.
pub fn volumes(volumes: &[(Volume, Outlook)]) -> Grid {
    let mut grid = Grid::new(&[
        right("level", "level"),
        right("waterline", "waterline"),
        right("to_find", "to find"),
        right("used", "used"),
        right("free_root", "free to root"),
        right("free_users", "to users"),
        right("inodes", "inodes"),
        right("rise", "rise a day"),
        right("full_in", "full in"),
        left("type", "type"),
        left("class", "class"),
        left("source", "source"),
        left("mounted_at", "mounted at"),
    ]);
    for (volume, outlook) in volumes {
        let capacity = volume.capacity.as_ref().ok();
        let of = |what: fn(&Capacity) -> Bytes| {
            capacity.map_or_else(|| ("?".to_owned(), Value::Null), |c| bytes(what(c)))
        };
        let in_percent = |share: f64| Value::from((share * 1000.0).round() / 10.0);
        let level = capacity.map(Capacity::level);
        let to_find = volume.to_find(Bytes::ZERO);
        let inodes = capacity.and_then(Capacity::inode_level);
        let warning = if volume.short_of_inodes() { "! " } else { "" };
        let trend = outlook.trend().map(|trend| trend.rise.round());
        grid.row(vec![
            (
                level.map_or_else(|| "?".to_owned(), |level| level.to_string()),
                level.map_or(Value::Null, |level| in_percent(level.share())),
            ),
            (volume.waterline.to_string(), in_percent(volume.waterline.share())),
            match to_find {
                Bytes::ZERO => (String::new(), 0.into()),
                to_find => bytes(to_find),
            },
            of(|c| c.used),
            of(|c| c.free_root),
            of(|c| c.free_users),
            (
                inodes.map_or_else(String::new, |level| format!("{warning}{level}")),
                inodes.map_or(Value::Null, |level| in_percent(level.share())),
            ),
            (rise(outlook, UnitStyle::Binary), trend.map_or(Value::Null, Value::from)),
            text(full_in(outlook)),
            text(volume.fs_type.clone()),
            text(class(volume)),
            text(shown(&volume.source)),
            text(shown(&volume.mount_point)),
        ]);
    }
    grid
}

fn class(volume: &Volume) -> String {
    let more = [(volume.removable, ", removable"), (volume.read_only, ", read-only")];
    let more: String = more.iter().filter(|(is, _)| *is).map(|(_, word)| *word).collect();
    format!("{}{more}", volume.class.word())
}

/// Deleted files that processes hold.
pub fn held(files: &[DeletedFile]) -> Grid {
    let mut grid = Grid::new(&[
        right("allocated", "held"),
        left("path", "path as it was"),
        left("holders", "held by"),
    ]);
    for file in files {
        let holder = |hold: &fondaco_core::kernel::Hold| {
            format!("{} ({})", shown(&hold.process.command), hold.process.pid)
        };
        let holders: Vec<String> = file.holds.iter().map(holder).collect();
        grid.row(vec![
            file.allocated.map_or_else(|| ("not known".to_owned(), Value::Null), bytes),
            text(shown(&file.path)),
            text(holders.join(", ")),
        ]);
    }
    grid
}

/// What is planned.
pub fn plan(draft: &Draft) -> Grid {
    let mut grid = Grid::new(&[
        left("action", "action"),
        left("target", "target"),
        right("frees_now", "frees now"),
        right("frees_later", "later"),
        left("reason", "reason"),
        left("volume", "volume"),
        left("reviewed", "reviewed"),
    ]);
    for (planned, frees) in draft.planned().iter().zip(draft.frees()) {
        let reviewed = match &planned.review {
            Review::Pending => "not yet".to_owned(),
            Review::Ready(_) => "yes".to_owned(),
            Review::Refused(reason) => format!("refused: {reason}"),
        };
        grid.row(vec![
            text(planned.deed.word()),
            text(shown(planned.place())),
            bytes(frees.now),
            bytes(frees.later),
            text(shown(&planned.reason)),
            text(shown(&planned.volume)),
            text(reviewed),
        ]);
    }
    grid
}

/// Runs of the journal.
pub fn runs(runs: &[RunRecord]) -> Grid {
    let mut grid = Grid::new(&[
        right("run", "run"),
        left("begun", "begun"),
        left("state", "state"),
        right("actions", "actions"),
        right("refused", "refused"),
        right("failed", "failed"),
        right("held", "held"),
        right("forecast", "forecast"),
        right("measured", "measured"),
    ]);
    for run in runs {
        let count = |state| {
            let count = run.count(state);
            (count.to_string(), Value::from(count))
        };
        let all: u64 = run.counts.iter().map(|(_, count)| count).sum();
        let measured = run.measured;
        grid.row(vec![
            (run.id.to_string(), run.id.into()),
            text(run.begun.clone()),
            text(run.state.word()),
            (all.to_string(), all.into()),
            count(EntryState::Refused),
            count(EntryState::Failed),
            count(EntryState::Held),
            bytes(run.forecast.now),
            (
                measured.map_or_else(String::new, |m| m.to_string()),
                measured.map_or(Value::Null, Value::from),
            ),
        ]);
    }
    grid
}
