//! Two moments of a place, compared.

use std::cmp::Reverse;
use std::path::PathBuf;

use anyhow::Result;
use fondaco_chart::{ChangeLine, Chart, Context};
use fondaco_core::analysis::BreakdownBy;
use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::history::{
    Amount, ChangedRow, Changes, Comparison, Fate, Measure, PlaceId, SliceChange,
};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, UnitStyle, counted, grouped};
use serde_json::{Value, json};

use super::cells::{binary, bytes, group, text, user};
use super::{Answer, Paper};
use crate::output::{Grid, left, path_value, right, say};
use crate::words::{signed_bytes, slice_words};

/// What became of something, in a word.
pub fn fate_word(fate: Fate, changes: &Changes) -> &'static str {
    match fate {
        Fate::New => "new",
        Fate::Gone => "gone",
        Fate::MovedHere => "moved here",
        Fate::MovedAway => "moved away",
        Fate::Stayed if changes.net() > 0 => "grown",
        Fate::Stayed if changes.net() < 0 => "shrunk",
        Fate::Stayed => "as large",
    }
}

/// A row of a comparison by directory, as it is told.
#[derive(Clone, Debug)]
pub struct ComparedRow {
    /// Its number in the comparison.
    pub row: ChangedRow,
    /// What became of it.
    pub fate: Fate,
    /// Its path, afterwards if it is still there.
    pub path: PathBuf,
    /// Whether it is a directory with what lies in it.
    pub is_directory: bool,
    /// It is the compared directory's own list of names.
    pub is_own: bool,
    /// The entry afterwards, if it is there.
    pub after: Option<EntryId>,
    /// Where it moved from or to.
    pub other: Option<PathBuf>,
    /// Bytes before and afterwards.
    pub amounts: [Bytes; 2],
    /// What made the difference between the two amounts.
    pub changes: Changes,
}

/// Two scans with what changed between them.
#[derive(Clone, Copy)]
pub struct Compared<'a> {
    /// The earlier one.
    pub before: &'a Catalog,
    /// The later one.
    pub after: &'a Catalog,
    /// What changed from the earlier to the later one.
    pub found: &'a Comparison,
}

impl Compared<'_> {
    /// The path of something: where it is, or else where it was.
    pub fn path(&self, was: Option<EntryId>, is: Option<EntryId>) -> PathBuf {
        match (is, was) {
            (Some(id), _) => self.after.path(id),
            (None, Some(id)) => self.before.path(id),
            (None, None) => PathBuf::new(),
        }
    }

    /// A row, as it is told.
    pub fn row(&self, row: ChangedRow, place: PlaceId) -> ComparedRow {
        let found = self.found;
        let (was, is, fate, other) = match row {
            ChangedRow::Place(id) => {
                let one = found.place(id);
                let twin = one.twin().map(|twin| found.place(twin));
                let other = twin.map(|twin| (twin.before(), twin.after()));
                (one.before(), one.after(), one.fate(), other)
            }
            ChangedRow::Entry(number) => {
                let one = found.entry(number);
                let other = found.twin_of(number).map(|twin| (twin.before(), twin.after()));
                (one.before(), one.after(), one.fate(), other)
            }
        };
        let own = found.place(place);
        let is_entry = matches!(row, ChangedRow::Entry(_));
        ComparedRow {
            row,
            fate,
            path: self.path(was, is),
            is_directory: !is_entry,
            is_own: is_entry && (was, is) == (own.before(), own.after()),
            after: is,
            other: other.map(|(was, is)| self.path(was, is)),
            amounts: found.amounts_of(row, self.before, self.after),
            changes: found.changes_of(row, self.before, self.after),
        }
    }

    /// What changed directly in a place, the largest difference first; what came to nothing is left out.
    pub fn rows(&self, place: PlaceId) -> Vec<ComparedRow> {
        let rows = self.found.rows(place).map(|row| self.row(row, place));
        let mut rows: Vec<ComparedRow> = rows.filter(|row| !row.changes.is_nothing()).collect();
        let size = |row: &ComparedRow| {
            let changes = &row.changes;
            let moved = changes.moved_within.bytes;
            (
                Reverse(changes.net().unsigned_abs()),
                Reverse(changes.more() + changes.fewer() + moved),
            )
        };
        rows.sort_by(|a, b| size(a).cmp(&size(b)).then_with(|| a.path.cmp(&b.path)));
        rows
    }

    /// What tells most of what happened, wherever it lies.
    pub fn telling(&self, count: usize) -> Vec<ComparedRow> {
        let rows = self.found.telling(count, self.before, self.after);
        rows.into_iter()
            .map(|row| {
                let place = match row {
                    ChangedRow::Place(id) => self.found.parent(id),
                    ChangedRow::Entry(number) => Some(self.found.place_of(number)),
                };
                self.row(row, place.unwrap_or(self.found.root()))
            })
            .collect()
    }
}

/// The whole answer of `fondaco compare`.
pub struct WholeComparison<'a> {
    /// The two scans with what changed between them.
    pub compared: Compared<'a>,
    /// The place that is told.
    pub place: PlaceId,
    /// By this property; by directory if there is none.
    pub by: Option<BreakdownBy>,
    /// So many rows.
    pub top: usize,
    /// Names of owners.
    pub accounts: &'a dyn Accounts,
    /// The lens in words.
    pub lens: Option<&'a str>,
}

/// So many changes are told wherever they lie.
const TELLING: usize = 10;

impl WholeComparison<'_> {
    fn slices(&self, by: BreakdownBy) -> Vec<SliceChange> {
        self.compared.found.by(by, self.compared.before, self.compared.after).slices
    }

    fn slice_name(&self, slice: &SliceChange) -> String {
        let accounts = self.accounts;
        slice_words(&slice.key, |id| user(accounts, id), |id| group(accounts, id))
    }
}

/// The name of what a row tells of.
pub fn row_name(row: &ComparedRow) -> String {
    if row.is_own {
        return "(the directory itself)".to_owned();
    }
    let name = row.path.file_name().unwrap_or(row.path.as_os_str());
    format!("{}{}", shown(name), if row.is_directory { "/" } else { "" })
}

/// Where something moved from or to, in words.
pub fn moved_words(row: &ComparedRow) -> Option<String> {
    let other = row.other.as_ref()?;
    let word = if row.fate == Fate::MovedHere { "from" } else { "to" };
    Some(format!("{word} {}", Shown(other)))
}

fn changes_document(changes: &Changes) -> Value {
    let mut document = json!(changes);
    document["net"] = changes.net().into();
    document["net_entries"] = changes.net_entries().into();
    document
}

fn moment(catalog: &Catalog) -> Value {
    let roots: Vec<Value> = catalog.roots().iter().map(|root| path_value(&root.path)).collect();
    json!({ "scanned": catalog.now().rfc3339(), "roots": roots, "complete": catalog.is_complete() })
}

fn signed(bytes: i64) -> (String, Value) {
    (signed_bytes(bytes, UnitStyle::Binary), bytes.into())
}

fn amount(amount: Amount) -> (String, Value) {
    let shown = if amount == Amount::default() { String::new() } else { binary(amount.bytes) };
    (shown, amount.bytes.get().into())
}

/// The columns that all tables of changes have.
fn change_cells(changes: &Changes) -> Vec<(String, Value)> {
    let more = [changes.grown, changes.new, changes.moved_in];
    let fewer = [changes.shrunk, changes.gone, changes.moved_out];
    more.into_iter().chain(fewer).map(amount).collect()
}

impl Answer for WholeComparison<'_> {
    fn head(&self) -> Value {
        let Compared { before, after, found } = self.compared;
        let place = found.place(self.place);
        let path = self.compared.path(place.before(), place.after());
        let measure = match found.measure() {
            Measure::Allocated => "allocated",
            Measure::Apparent => "apparent",
        };
        let mut head = json!({
            "fondaco": 1,
            "kind": "comparison",
            "before": moment(before),
            "after": moment(after),
            "of": path_value(&path),
            "measure": measure,
            "was": place.was,
            "is": place.is,
            "changes": changes_document(&place.changes),
        });
        if let Some(lens) = self.lens {
            head["lens"] = lens.into();
        }
        head
    }

    fn grid(&self) -> Grid {
        let first = if self.by.is_some() {
            vec![left("slice", "slice")]
        } else {
            vec![left("fate", "what"), left("name", "name")]
        };
        let mut columns = vec![right("net", "change"), right("net_entries", "entries")];
        columns.extend(first);
        columns.extend([
            right("was", "before"),
            right("is", "after"),
            right("grown", "grown"),
            right("new", "new"),
            right("moved_in", "moved in"),
            right("shrunk", "shrunk"),
            right("gone", "gone"),
            right("moved_out", "moved out"),
            left("moved", "moved from or to"),
            left("path", "path"),
        ]);
        let mut grid = Grid::new(&columns);
        let entries = |count: i64| (format!("{count:+}"), Value::from(count));
        if let Some(by) = self.by {
            for slice in self.slices(by).iter().take(self.top) {
                let changes = &slice.changes;
                let mut row = vec![signed(changes.net()), entries(changes.net_entries())];
                row.extend([text(self.slice_name(slice)), text("-"), text("-")]);
                row.extend(change_cells(changes));
                row.extend([text(""), text("")]);
                grid.row(row);
            }
            return grid;
        }
        for row in self.compared.rows(self.place).iter().take(self.top) {
            let mut cells = vec![signed(row.changes.net()), entries(row.changes.net_entries())];
            cells.extend([text(fate_word(row.fate, &row.changes)), text(row_name(row))]);
            cells.extend(row.amounts.map(bytes));
            cells.extend(change_cells(&row.changes));
            cells.push(text(moved_words(row).unwrap_or_default()));
            cells.push((Shown(&row.path).to_string(), path_value(&row.path)));
            grid.row(cells);
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let mut document = self.head();
        if let Some(by) = self.by {
            document["by"] = json!(by);
            let slices = self.slices(by);
            document["rest"] = (slices.len().saturating_sub(self.top)).into();
            document["slices"] = slices
                .iter()
                .take(self.top)
                .map(|slice| {
                    json!({ "slice": self.slice_name(slice), "changes": changes_document(&slice.changes) })
                })
                .collect();
            return Ok(document);
        }
        let one = |row: &ComparedRow| {
            let mut one = json!({
                "path": path_value(&row.path),
                "type": if row.is_directory { "directory" } else { "entry" },
                "what": fate_word(row.fate, &row.changes),
                "was": row.amounts[0],
                "is": row.amounts[1],
                "changes": changes_document(&row.changes),
            });
            if row.is_own {
                one["type"] = "directory itself".into();
            }
            if let Some(other) = &row.other {
                let word = if row.fate == Fate::MovedHere { "from" } else { "to" };
                one[word] = path_value(other);
            }
            one
        };
        let rows = self.compared.rows(self.place);
        document["rest"] = rows.len().saturating_sub(self.top).into();
        document["rows"] = rows.iter().take(self.top).map(one).collect();
        document["telling"] = self.compared.telling(TELLING).iter().map(one).collect();
        Ok(document)
    }

    fn chart(&self, paper: &Paper) -> Option<Chart> {
        let Compared { before, after, found } = self.compared;
        let place = found.place(self.place);
        let (lines, count): (Vec<ChangeLine>, usize) = match self.by {
            Some(by) => {
                let slices = self.slices(by);
                let line = |slice: &SliceChange| ChangeLine {
                    name: self.slice_name(slice),
                    what: format!("{:+} entries", slice.changes.net_entries()),
                    net: slice.changes.net(),
                };
                (slices.iter().take(paper.top).map(line).collect(), slices.len())
            }
            None => {
                let rows = self.compared.telling(paper.top);
                let line = |row: &ComparedRow| ChangeLine {
                    name: format!(
                        "{}{}",
                        Shown(&row.path),
                        if row.is_directory { "/" } else { "" }
                    ),
                    what: fate_word(row.fate, &row.changes).to_owned(),
                    net: row.changes.net(),
                };
                (rows.iter().map(line).collect(), rows.len())
            }
        };
        let note = format!(
            "From {} to {}: {}; {}.",
            before.now().local(),
            after.now().local(),
            signed_bytes(place.changes.net(), paper.units),
            summary_lines(&place.changes).join(", ")
        );
        let of = shown(self.compared.path(place.before(), place.after()));
        let Paper { units, look, size, .. } = *paper;
        let (date, lens) = (after.now().local(), self.lens.map(shown));
        let context = Context { of, date, lens, units, look, size };
        Some(fondaco_chart::changes(&lines, count - lines.len(), &note, &context))
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        let Compared { before, after, found } = self.compared;
        let place = found.place(self.place);
        let between = before.now().age(after.now());
        say!("{} → {}  ({between} between them)", before.now().local(), after.now().local());
        let paths =
            [place.before().map(|id| before.path(id)), place.after().map(|id| after.path(id))];
        match &paths {
            [Some(was), Some(is)] if was != is => say!("  {} → {}", Shown(was), Shown(is)),
            [_, Some(one)] | [Some(one), None] => say!("  {}", Shown(one)),
            [None, None] => {}
        }
        for line in summary_lines(&place.changes) {
            say!("  {line}");
        }
        say!(
            "  {} → {}, {}",
            binary(place.was.bytes),
            binary(place.is.bytes),
            signed_bytes(place.changes.net(), UnitStyle::Binary)
        );
        let plain: &[&str] = match self.by {
            Some(_) => &[
                "net",
                "net_entries",
                "grown",
                "new",
                "shrunk",
                "gone",
                "moved_in",
                "moved_out",
                "slice",
            ],
            None => &["net", "net_entries", "was", "is", "fate", "name", "moved"],
        };
        let plain = super::named(plain);
        self.grid().print(if columns.is_empty() { &plain } else { columns })?;
        let rows = match self.by {
            Some(by) => self.slices(by).len(),
            None => self.compared.rows(self.place).len(),
        };
        if rows > self.top {
            say!("and {} more: --top {rows} lists them", grouped((rows - self.top) as u64));
        }
        if self.by.is_none() && self.place == found.root() && columns.is_empty() {
            let telling = self.compared.telling(TELLING);
            if !telling.is_empty() {
                say!("what tells most, wherever it lies:");
            }
            for row in telling {
                let moved =
                    moved_words(&row).map_or_else(String::new, |words| format!("  {words}"));
                say!(
                    "  {:>12}  {:<10}  {}{}{moved}",
                    signed_bytes(row.changes.net(), UnitStyle::Binary),
                    fate_word(row.fate, &row.changes),
                    Shown(&row.path),
                    if row.is_directory { "/" } else { "" }
                );
            }
        }
        Ok(())
    }
}

/// What happened, a line for each sort of change that there is.
fn summary_lines(changes: &Changes) -> Vec<String> {
    let line = |(word, amount): (&str, Amount)| {
        format!("{word}: {}, {}", counted(amount.entries, "entry"), binary(amount.bytes))
    };
    let lines: Vec<String> = changes.named().map(line).collect();
    if lines.is_empty() { vec!["nothing has changed".to_owned()] } else { lines }
}
