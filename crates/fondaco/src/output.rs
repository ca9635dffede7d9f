//! Text for people and JSON for programs on standard output; progress on standard error.

use std::borrow::Borrow;
use std::io::{self, IsTerminal, Write};
use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::bail;
use fondaco_core::shown::{DocPath, Shown, safe_text, shown, write_safe_json};
use serde::{Serialize, Serializer};
use serde_json::{Map, Value};
use unicode_width::UnicodeWidthStr;

use crate::environment::colours_output;
use crate::fit::cut_path;

/// Writes one JSON document and a newline. Characters that could drive a terminal are written as
/// `\u` escapes, which mean the same to every reader.
///
/// # Errors
///
/// If standard output cannot be written.
pub fn json(document: &impl Serialize) -> io::Result<()> {
    write_json(document, io::stdout().lock())
}

/// As [`json`], to anywhere.
///
/// # Errors
///
/// If that cannot be written.
pub fn write_json(document: &impl Serialize, mut out: impl Write) -> io::Result<()> {
    write_safe_json(document, &mut out)?;
    out.write_all(b"\n")
}

/// A list in a document of which each part is made when it is written, so that the whole is never held.
pub struct Streamed<F>(pub F);

impl<F, I> Serialize for Streamed<F>
where
    F: Fn() -> I,
    I: IntoIterator<Item: Serialize>,
{
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_seq((self.0)())
    }
}

/// A document of which the last part is a list of actions that may be very long: see [`Streamed`].
#[derive(Serialize)]
pub struct WithActions<A> {
    /// All that stands before them.
    #[serde(flatten)]
    pub head: Value,
    /// The list of actions, which is written one by one.
    pub actions: A,
}

/// Puts a path into a document: as text, or in its display form with its bytes beside it.
pub fn put_path(document: &mut Map<String, Value>, path: &Path) {
    document.insert("path".into(), path.to_str().map_or_else(|| shown(path), str::to_owned).into());
    if let Some(bytes) = DocPath::bytes_if_needed(path) {
        document.insert("path_bytes".into(), bytes.into());
    }
}

/// A path as a value of its own: a text, or an object with its display form and bytes.
pub fn path_value(path: &Path) -> Value {
    serde_json::to_value(DocPath(path.to_owned())).unwrap_or_default()
}

/// Writes a line to standard output, as `println!` does, but gives an error back when nobody reads
/// any more instead of panicking. Nothing in it drives a terminal.
macro_rules! say {
    ($($part:tt)*) => {{
        use std::io::Write;
        writeln!(std::io::stdout(), "{}", fondaco_core::shown::safe_text(&format!($($part)*)))?
    }};
}
pub(crate) use say;

/// Tells something beside the output, on standard error. Nothing in it drives a terminal.
macro_rules! tell {
    ($($part:tt)*) => { $crate::output::tell_text(&format!($($part)*)) };
}
pub(crate) use tell;

/// As [`tell!`]. That nobody can be told is no reason to stop.
pub fn tell_text(text: &str) {
    let _ = writeln!(io::stderr(), "fondaco: {}", safe_text(text));
}

/// How the text of a column is aligned.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lean {
    /// To the left: texts.
    Left,
    /// To the right: numbers.
    Right,
}

/// What was asked for makes no sense: the program ends with the code of bad usage.
#[derive(Debug)]
pub struct Usage(pub String);

impl std::fmt::Display for Usage {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str(&self.0)
    }
}

impl std::error::Error for Usage {}

/// Ends a command with [`Usage`].
macro_rules! usage {
    ($($words:tt)*) => {
        return Err($crate::output::Usage(format!($($words)*)).into())
    };
}
pub(crate) use usage;

/// Aligned columns under a heading; the last column is not filled up.
#[derive(Debug)]
pub struct Table {
    columns: Vec<(String, Lean)>,
    rows: Vec<Vec<String>>,
}

impl Table {
    /// A table with these headings.
    pub fn new(columns: &[(&str, Lean)]) -> Self {
        let columns = columns.iter().map(|(name, lean)| ((*name).to_owned(), *lean)).collect();
        Self { columns, rows: Vec::new() }
    }

    /// Adds a row, one cell for each column. Names in it are in their display form already.
    pub fn row(&mut self, cells: Vec<String>) {
        self.rows.push(cells);
    }

    /// Writes it to standard output.
    ///
    /// # Errors
    ///
    /// If that cannot be written.
    pub fn print(&self) -> io::Result<()> {
        let widths: Vec<usize> = (0..self.columns.len())
            .map(|i| {
                let cells = self.rows.iter().filter_map(|row| row.get(i)).map(|cell| cell.width());
                cells.chain([self.columns[i].0.width()]).max().unwrap_or(0)
            })
            .collect();
        let line = |cells: &[&str], widths: &[usize]| {
            let mut line = String::new();
            for (i, cell) in cells.iter().enumerate() {
                let cell = cut_path(cell, widths[i]);
                let fill = " ".repeat(widths[i].saturating_sub(cell.width()));
                let lean = self.columns[i].1;
                let gap = if i == 0 { "" } else { "  " };
                match lean {
                    Lean::Right => line.extend([gap, &fill, &cell]),
                    Lean::Left => line.extend([gap, &cell, &fill]),
                }
            }
            line.trim_end().to_owned()
        };
        // a terminal is not made to wrap: the longest texts are shortened in their middle, never numbers
        let widths = fitted(widths, &self.columns, terminal_width());
        let line = |cells: &[&str]| line(cells, &widths);
        let mut out = io::stdout().lock();
        let heading = line(&self.columns.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>());
        let (dim, plain) = if colours_output() { ("\x1b[2m", "\x1b[0m") } else { ("", "") };
        writeln!(out, "{dim}{}{plain}", safe_text(&heading))?;
        for row in &self.rows {
            let line = line(&row.iter().map(String::as_str).collect::<Vec<_>>());
            writeln!(out, "{}", safe_text(&line))?;
        }
        Ok(())
    }
}

/// Columns of the terminal that standard output is, if it is one.
fn terminal_width() -> Option<usize> {
    let is_terminal = io::stdout().is_terminal();
    let size = is_terminal.then(|| rustix::termios::tcgetwinsize(io::stdout()).ok()).flatten()?;
    (size.ws_col > 0).then_some(usize::from(size.ws_col))
}

/// Widths of columns that fit a terminal, as far as texts can be shortened.
fn fitted(mut widths: Vec<usize>, columns: &[(String, Lean)], room: Option<usize>) -> Vec<usize> {
    /// Texts keep so many columns.
    const LEAST: usize = 16;
    let Some(room) = room else { return widths };
    loop {
        let whole = widths.iter().sum::<usize>() + 2 * widths.len().saturating_sub(1);
        let Some(over) = whole.checked_sub(room).filter(|over| *over > 0) else { return widths };
        let texts = (0..widths.len()).filter(|i| columns[*i].1 == Lean::Left);
        let Some(widest) = texts.max_by_key(|i| widths[*i]).filter(|i| widths[*i] > LEAST) else {
            return widths;
        };
        widths[widest] = widths[widest].saturating_sub(over.min(8)).max(LEAST);
    }
}

/// One line on standard error that is written over and over, if that is a terminal.
#[derive(Debug)]
pub struct ProgressLine {
    shows: bool,
    last: Option<Instant>,
}

impl ProgressLine {
    /// Nothing is shown in the first quarter of a second, so that short work is silent.
    pub fn new() -> Self {
        Self { shows: io::stderr().is_terminal(), last: Some(Instant::now()) }
    }

    /// Shows the newest figures, a few times a second.
    pub fn show(&mut self, text: &str) {
        let due = self.last.is_none_or(|last| last.elapsed() > Duration::from_millis(250));
        if self.shows && due {
            self.last = Some(Instant::now());
            let most = rustix::termios::tcgetwinsize(io::stderr())
                .map_or(80, |size| usize::from(size.ws_col));
            let cut: String = safe_text(text).chars().take(most.saturating_sub(1)).collect();
            // progress that cannot be shown is no reason to stop
            let _ = write!(io::stderr(), "\r\x1b[K{cut}");
        }
    }

    /// Takes the line away.
    pub fn clear(&self) {
        if self.shows {
            let _ = write!(io::stderr(), "\r\x1b[K");
        }
    }
}

/// A column of a [`Grid`].
#[derive(Clone, Copy, Debug)]
pub struct Column {
    /// Its name for programs and on the command line.
    pub key: &'static str,
    /// Its heading for people.
    pub heading: &'static str,
    /// How its text is aligned.
    pub lean: Lean,
}

/// A column of text.
pub const fn left(key: &'static str, heading: &'static str) -> Column {
    Column { key, heading, lean: Lean::Left }
}

/// A column of numbers.
pub const fn right(key: &'static str, heading: &'static str) -> Column {
    Column { key, heading, lean: Lean::Right }
}

/// A table that can be written for people, spreadsheets and programs.
#[derive(Debug)]
pub struct Grid {
    columns: Vec<Column>,
    /// For people, and for programs.
    rows: Vec<Vec<(String, Value)>>,
}

impl Grid {
    /// An empty one.
    pub fn new(columns: &[Column]) -> Self {
        Self { columns: columns.to_vec(), rows: Vec::new() }
    }

    /// Adds a row, a cell for each column: as people read it, and as it is.
    pub fn row(&mut self, cells: Vec<(String, Value)>) {
        self.rows.push(cells);
    }

    /// The columns that were asked for, in that order; all if none was.
    fn chosen(&self, wanted: &[String]) -> anyhow::Result<Vec<usize>> {
        if wanted.is_empty() {
            return Ok((0..self.columns.len()).collect());
        }
        let place = |wanted: &String| {
            let found = self.columns.iter().position(|column| column.key == wanted);
            found.ok_or_else(|| {
                let keys: Vec<&str> = self.columns.iter().map(|column| column.key).collect();
                let (wanted, keys) = (shown(wanted), keys.join(", "));
                Usage(format!("there is no column {wanted}; there are {keys}")).into()
            })
        };
        wanted.iter().map(place).collect()
    }

    /// Makes sure that there are such columns.
    ///
    /// # Errors
    ///
    /// [`Usage`] if not.
    pub fn has_columns(&self, wanted: &[String]) -> anyhow::Result<()> {
        self.chosen(wanted).map(drop)
    }

    /// Writes it as aligned text.
    ///
    /// # Errors
    ///
    /// If a column is asked for that is not there, or standard output cannot be written.
    pub fn print(&self, wanted: &[String]) -> anyhow::Result<()> {
        let chosen = self.chosen(wanted)?;
        let columns: Vec<(&str, Lean)> =
            chosen.iter().map(|i| (self.columns[*i].heading, self.columns[*i].lean)).collect();
        let mut table = Table::new(&columns);
        for row in &self.rows {
            table.row(chosen.iter().map(|i| row[*i].0.clone()).collect());
        }
        Ok(table.print()?)
    }

    /// The rows as objects.
    ///
    /// # Errors
    ///
    /// If a column is asked for that is not there.
    pub fn to_json(&self, wanted: &[String]) -> anyhow::Result<Vec<Value>> {
        let chosen = self.chosen(wanted)?;
        let object = |row: &Vec<(String, Value)>| {
            let pairs = chosen.iter().map(|i| (self.columns[*i].key.to_owned(), row[*i].1.clone()));
            Value::Object(pairs.collect())
        };
        Ok(self.rows.iter().map(object).collect())
    }

    /// Writes it as comma-separated values (RFC 4180). No cell is taken for a formula by a spreadsheet, and
    /// none can drive a terminal.
    ///
    /// # Errors
    ///
    /// If a column is asked for that is not there, or `out` cannot be written.
    pub fn write_csv(&self, wanted: &[String], out: impl Write) -> anyhow::Result<()> {
        Self::write_all_csv([self], wanted, out)
    }

    /// As [`Grid::write_csv`], for a table that comes in parts, of which only one is there at a time. Its headings are those
    /// of the first.
    ///
    /// # Errors
    ///
    /// As [`Grid::write_csv`].
    pub fn write_all_csv(
        parts: impl IntoIterator<Item = impl Borrow<Self>>,
        wanted: &[String],
        out: impl Write,
    ) -> anyhow::Result<()> {
        let mut writer = csv::WriterBuilder::new().from_writer(out);
        for (number, part) in parts.into_iter().enumerate() {
            let part: &Self = part.borrow();
            let chosen = part.chosen(wanted)?;
            if number == 0 {
                writer.write_record(chosen.iter().map(|i| part.columns[*i].key))?;
            }
            for row in &part.rows {
                writer.write_record(chosen.iter().map(|i| csv_cell(&row[*i].1)))?;
            }
        }
        Ok(writer.flush()?)
    }
}

/// A value as a cell: texts in their display form, and if they begin like a formula behind an apostrophe.
fn csv_cell(value: &Value) -> String {
    let text = match value {
        Value::Null => return String::new(),
        Value::String(text) => shown(text),
        other => return other.to_string(),
    };
    if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text }
}

/// Tells before anything is scanned that a new file could not be written afterwards.
///
/// # Errors
///
/// If there is something of that name, or no directory that it could lie in.
pub fn is_to_be_new(file: &Path) -> anyhow::Result<()> {
    if file.symlink_metadata().is_ok() {
        bail!("{} exists, and nothing is overwritten: say another name", Shown(file));
    }
    has_place(file)
}

/// Whether there is a directory that a file could lie in.
///
/// # Errors
///
/// If not.
pub fn has_place(file: &Path) -> anyhow::Result<()> {
    let directory = std::path::absolute(file)?;
    let directory = directory.parent().unwrap_or(&directory);
    match directory.metadata() {
        Ok(meta) if meta.is_dir() => Ok(()),
        Ok(_) => bail!("cannot write {}: {} is no directory", Shown(file), Shown(directory)),
        Err(error) => bail!("cannot write {}: {}: {error}", Shown(file), Shown(directory)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_give_way_where_a_terminal_is_narrow_and_numbers_do_not() {
        let columns = [("bytes", Lean::Right), ("path", Lean::Left), ("owner", Lean::Left)];
        let columns: Vec<_> = columns.iter().map(|(n, lean)| ((*n).to_owned(), *lean)).collect();
        let fit = |room| fitted(vec![12, 90, 20], &columns, room);
        assert_eq!(fit(None), [12, 90, 20]);
        assert_eq!(fit(Some(126)), [12, 90, 20]);
        assert_eq!(fit(Some(80)), [12, 44, 20]);
        // what cannot be shortened any more is left to the terminal
        assert_eq!(fit(Some(20)), [12, 16, 16]);
    }

    #[test]
    fn no_cell_is_a_formula_or_drives_a_terminal() {
        let mut grid = Grid::new(&[left("name", "name"), right("bytes", "bytes")]);
        for name in ["=1+1", "@cmd", "-x", "a,\"b\"\nc", "\u{1b}[2J", "plain"] {
            grid.row(vec![(String::new(), name.into()), (String::new(), 7.into())]);
        }
        let mut out = Vec::new();
        grid.write_csv(&["bytes".into(), "name".into()], &mut out).unwrap();
        let text = String::from_utf8(out).unwrap();
        assert!(
            text.starts_with("bytes,name\n7,'=1+1\n7,'@cmd\n7,'-x\n7,\"a,\"\"b\"\"\\n"),
            "{text}"
        );
        assert!(!text.contains('\u{1b}'), "{text}");
        let wrong = grid.write_csv(&["colour".into()], Vec::new()).unwrap_err().to_string();
        assert!(wrong.contains("there are name, bytes"), "{wrong}");
    }
}
