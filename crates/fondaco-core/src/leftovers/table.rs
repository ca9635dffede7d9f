//! What is left over by its name and place: a table that is data, which a user's file extends.

use std::ffi::OsStr;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::Arc;

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use serde::Deserialize;
use toml::Spanned;

use super::group::GroupName;
use crate::analysis::Regenerables;
use crate::catalog::{Catalog, EntryId};
use crate::kernel::{CallError, Kind, Op};
use crate::pattern::{Pattern, PatternError};
use crate::units::Age;

/// What is wrong with a table, and where.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {message}")]
pub struct RowError {
    /// Line of the file, counted from 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    /// What is wrong, and what would be right.
    pub message: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawFile {
    #[serde(default)]
    leftover: Vec<RawRow>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawRow {
    group: Spanned<String>,
    name: Option<Spanned<String>>,
    path: Option<Spanned<String>>,
    #[serde(default)]
    is: Is,
    #[serde(default)]
    beside: Vec<String>,
    #[serde(default)]
    holds: Vec<String>,
    older: Option<Spanned<String>>,
    tool: Option<String>,
    #[serde(default)]
    never: bool,
    reason: String,
    source: String,
}

/// Which entries a row is held against.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Is {
    #[default]
    File,
    Directory,
    Any,
}

impl Is {
    fn allows(self, kind: Kind) -> bool {
        match self {
            Self::File => kind == Kind::File,
            Self::Directory => kind == Kind::Directory,
            Self::Any => true,
        }
    }
}

/// One row of a table, ready to be held against entries.
#[derive(Debug)]
pub(super) struct Row {
    pub(super) group: GroupName,
    is: Is,
    beside: Vec<String>,
    holds: Vec<String>,
    /// What was written less long ago does not count.
    pub(super) least_age: Age,
    /// What is to be run instead of removing it by hand.
    pub(super) tool: Option<Arc<str>>,
    never: bool,
    pub(super) reason: Arc<str>,
    /// What the last part of its path must match, if the row has a path.
    last: Option<Pattern>,
}

/// See the [module](self).
#[derive(Debug)]
pub struct Table {
    rows: Vec<Row>,
    /// Rows by name, and the pattern that each has in the set.
    names: GlobSet,
    rows_of_names: Vec<u32>,
    /// Rows by path: patterns of the directory that they lie in.
    places: GlobSet,
    rows_of_places: Vec<u32>,
}

impl Table {
    /// The table that is a part of the program, and before it what a user's file says. What is made again
    /// ([`Regenerables`], with a user's own) is a part of it too.
    ///
    /// # Errors
    ///
    /// What is wrong with the user's file; the own table is used then.
    pub fn with(
        user: Option<&str>,
        made_again: Option<&str>,
        homes: &Homes,
    ) -> (Self, Option<RowError>) {
        let Homes(homes) = homes;
        let (mut rows, error) = match user.map(|text| parse(text, homes)) {
            None => (Vec::new(), None),
            Some(Ok(rows)) => (rows, None),
            Some(Err(error)) => (Vec::new(), Some(error)),
        };
        // held by a test: the file is a part of the program
        rows.extend(parse(include_str!("leftovers.toml"), homes).unwrap_or_default());
        rows.extend(of_regenerables(&Regenerables::with(made_again).0, homes));
        (Self::of_rows(rows), error)
    }

    fn of_rows(parsed: Vec<Parsed>) -> Self {
        let (mut names, mut places) = (GlobSetBuilder::new(), GlobSetBuilder::new());
        let (mut rows_of_names, mut rows_of_places) = (Vec::new(), Vec::new());
        let mut rows = Vec::new();
        for (number, Parsed { row, held_against }) in (0..).zip(parsed) {
            let (set, list) = match held_against {
                HeldAgainst::Name(_) => (&mut names, &mut rows_of_names),
                HeldAgainst::Path(_) => (&mut places, &mut rows_of_places),
            };
            let (HeldAgainst::Name(globs) | HeldAgainst::Path(globs)) = held_against;
            for glob in globs {
                set.add(glob);
                list.push(number);
            }
            rows.push(row);
        }
        let built = |set: GlobSetBuilder| set.build().unwrap_or_else(|_| GlobSet::empty());
        Self { rows, names: built(names), rows_of_names, places: built(places), rows_of_places }
    }

    pub(super) fn row(&self, number: u32) -> &Row {
        &self.rows[number as usize]
    }

    /// Rows that may hold for what lies in a directory.
    pub(super) fn rows_in(&self, directory: &Path, into: &mut Vec<u32>) {
        let mut matched = Vec::new();
        self.places.matches_into(directory, &mut matched);
        into.clear();
        into.extend(matched.into_iter().map(|place| self.rows_of_places[place]));
        into.sort_unstable();
        into.dedup();
    }

    /// Rows that hold for an entry, the first of each group, and none of a group that a row excludes it from. `here`:
    /// the rows of its directory; `spare` is used again and again.
    pub(super) fn rows_of(
        &self,
        catalog: &Catalog,
        (directory, id): (EntryId, EntryId),
        here: &[u32],
        spare: &mut Vec<usize>,
        found: &mut Vec<u32>,
    ) {
        found.clear();
        let name = OsStr::from_bytes(catalog.own_name(id));
        self.names.matches_into(name, spare);
        found.extend(spare.iter().map(|place| self.rows_of_names[*place]));
        let by_place = here.iter().filter(|row| {
            let last = self.rows[**row as usize].last.as_ref();
            last.is_none_or(|last| last.matches(name, Path::new("")))
        });
        found.extend(by_place);
        if found.is_empty() {
            return;
        }
        found.sort_unstable();
        found.dedup();
        let kind = catalog.kind(id);
        let has = |directory: EntryId, names: &[String]| {
            let mut any = names.iter();
            names.is_empty()
                || any.any(|name| catalog.find_in(directory, OsStr::new(name)).is_some())
        };
        found.retain(|row| {
            let row = self.row(*row);
            row.is.allows(kind) && has(id, &row.holds) && has(directory, &row.beside)
        });
        let never: Vec<GroupName> = found
            .iter()
            .map(|row| self.row(*row))
            .filter(|row| row.never)
            .map(|row| row.group)
            .collect();
        let mut known = Vec::new();
        found.retain(|row| {
            let group = self.row(*row).group;
            let is_new = !known.contains(&group);
            known.push(group);
            is_new && !never.contains(&group)
        });
    }

    /// Whether a row says that an entry is none of a group, whatever else it is. `here`: the rows of its directory.
    pub(super) fn excludes(
        &self,
        catalog: &Catalog,
        id: EntryId,
        here: &[u32],
        group: GroupName,
    ) -> bool {
        let name = OsStr::from_bytes(catalog.own_name(id));
        let kind = catalog.kind(id);
        let says_so = |number: u32| {
            let row = self.row(number);
            let last = row.last.as_ref();
            row.never
                && row.group == group
                && row.is.allows(kind)
                && last.is_none_or(|last| last.matches(name, Path::new("")))
        };
        let by_name =
            || self.names.matches(name).into_iter().map(|place| self.rows_of_names[place]);
        here.iter().copied().any(says_so) || by_name().any(says_so)
    }
}

/// Why a pattern of a row is none.
#[derive(Debug, thiserror::Error)]
enum RowPatternError {
    #[error("expected a name pattern such as `*.tmp`: {}", .0.kind())]
    Glob(#[from] globset::Error),
    #[error(transparent)]
    Name(#[from] PatternError),
    #[error("expected a whole path such as `/var/crash/*`")]
    NotWhole,
    #[error("a choice at the end of a path holds no slash: write a row for each")]
    SlashInChoice,
}

/// What a row is held against.
enum HeldAgainst {
    Name(Vec<globset::Glob>),
    /// The directory's path.
    Path(Vec<globset::Glob>),
}

struct Parsed {
    row: Row,
    held_against: HeldAgainst,
}

fn glob(text: &str) -> Result<globset::Glob, globset::Error> {
    GlobBuilder::new(text).literal_separator(true).build()
}

/// The directory's part of a path pattern, and that of the name: parted by the last slash that is in no choice.
fn parted(path: &str) -> Option<(&str, &str)> {
    let mut depth = 0;
    let mut last = None;
    for (at, byte) in path.bytes().enumerate() {
        match byte {
            b'{' => depth += 1,
            b'}' => depth -= 1,
            b'/' if depth == 0 => last = Some(at),
            _ => {}
        }
    }
    let at = last?;
    Some((if at == 0 { "/" } else { &path[..at] }, &path[at + 1..]))
}

/// Where people's files lie: below `/home`, root's, and where `/etc/passwd` says so of people. As patterns.
#[derive(Clone, Debug)]
pub struct Homes(Vec<String>);

impl Homes {
    /// As the accounts of this machine are now.
    ///
    /// # Errors
    ///
    /// [`CallError`] if they cannot be read: what the table leaves out in a home might be taken then.
    pub fn now() -> Result<Self, CallError> {
        const FILE: &str = "/etc/passwd";
        match std::fs::read(FILE) {
            Ok(text) => Ok(Self::of(&String::from_utf8_lossy(&text))),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Self::of("")),
            Err(error) => Err(CallError::on(Op::Read, FILE)(error)),
        }
    }

    /// As a text in the form of `passwd(5)` says.
    pub fn of(text: &str) -> Self {
        let home = |line: &str| {
            let fields: Vec<&str> = line.split(':').collect();
            let is_person =
                fields.get(2)?.parse::<u32>().is_ok_and(|user| (1000..65_534).contains(&user));
            let home = fields
                .get(5)
                .filter(|home| is_person && home.len() > 1 && home.starts_with('/'))?;
            let is_elsewhere = Path::new(home).parent() != Some(Path::new("/home"));
            is_elsewhere.then(|| globset::escape(home.trim_end_matches('/')))
        };
        let mut homes: Vec<String> = text.lines().filter_map(home).collect();
        homes.extend(["/home/*".to_owned(), "/root".to_owned()]);
        homes.sort();
        homes.dedup();
        Self(homes)
    }
}

/// As [`held_against_whole_path`], where a path may begin in every home.
fn held_against_path(
    path: &str,
    homes: &[String],
) -> Result<(HeldAgainst, Option<Pattern>), RowPatternError> {
    let Some(below) = path.strip_prefix("~/") else { return held_against_whole_path(path) };
    let (mut globs, mut last) = (Vec::new(), None);
    for home in homes {
        let (HeldAgainst::Name(more) | HeldAgainst::Path(more), name) =
            held_against_whole_path(&format!("{home}/{below}"))?;
        globs.extend(more);
        last = name;
    }
    Ok((HeldAgainst::Path(globs), last))
}

fn held_against_whole_path(path: &str) -> Result<(HeldAgainst, Option<Pattern>), RowPatternError> {
    let Some((directory, name)) = parted(path).filter(|(_, name)| !name.is_empty()) else {
        return Err(RowPatternError::NotWhole);
    };
    if name.contains('/') {
        return Err(RowPatternError::SlashInChoice);
    }
    if name == "**" {
        let globs = vec![glob(directory)?, glob(&format!("{directory}/**"))?];
        return Ok((HeldAgainst::Path(globs), None));
    }
    let last = Pattern::parse(name)?;
    Ok((HeldAgainst::Path(vec![glob(directory)?]), Some(last)))
}

fn parse(text: &str, homes: &[String]) -> Result<Vec<Parsed>, RowError> {
    let at = |place: usize, message: String| {
        let before = text.get(..place).unwrap_or(text);
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().map_or(0, |last| last.chars().count()) + 1;
        RowError { line, column, message }
    };
    let raw: RawFile = toml::from_str(text).map_err(|error| {
        let place = error.span().map_or(0, |span| span.start);
        at(place, error.message().to_owned())
    })?;
    let row = |raw: RawRow| {
        let group = GroupName::of_key(raw.group.get_ref()).ok_or_else(|| {
            let keys = GroupName::ALL.iter().map(|name| name.group().key);
            let near = crate::lens::nearest(raw.group.get_ref(), keys);
            at(raw.group.span().start, format!("there is no group of that name{near}"))
        })?;
        let (held_against, last) = match (&raw.name, &raw.path) {
            (Some(name), None) if !name.get_ref().is_empty() && !name.get_ref().contains('/') => {
                let glob = glob(name.get_ref()).map_err(|wrong| {
                    at(name.span().start, RowPatternError::from(wrong).to_string())
                })?;
                (HeldAgainst::Name(vec![glob]), None)
            }
            (None, Some(path)) => held_against_path(path.get_ref(), homes)
                .map_err(|wrong| at(path.span().start, wrong.to_string()))?,
            (Some(name), _) => {
                let message = "expected `name` without a slash, or `path`, and not both";
                return Err(at(name.span().start, message.to_owned()));
            }
            (None, None) => {
                return Err(at(
                    raw.group.span().start,
                    "expected `name` or `path` beside it".into(),
                ));
            }
        };
        let least_age = match &raw.older {
            None => group.group().least_age(),
            Some(older) => Age::parse(older.get_ref())
                .map_err(|error| at(older.span().start, error.to_string()))?,
        };
        if raw.source.is_empty() || raw.reason.is_empty() {
            let message = "say the `reason`, and in `source` where that is written".to_owned();
            return Err(at(raw.group.span().start, message));
        }
        let RawRow { is, beside, holds, tool, never, reason, .. } = raw;
        let (tool, reason) = (tool.map(Arc::from), Arc::from(reason));
        let row = Row { group, is, beside, holds, least_age, tool, never, reason, last };
        Ok(Parsed { row, held_against })
    };
    raw.leftover.into_iter().map(row).collect()
}

/// A pattern for each of a choice that holds a slash: `/a/{b,c/d}` is `/a/b` and `/a/c/d`.
fn expanded(pattern: &str) -> Vec<String> {
    let choice = pattern.match_indices('{').find_map(|(open, _)| {
        let close = open + pattern[open..].find('}')?;
        let inside = &pattern[open + 1..close];
        (inside.contains('/') && !inside.contains('{')).then_some((open, inside, close))
    });
    match choice {
        None => vec![pattern.to_owned()],
        Some((open, inside, close)) => {
            let one = |part: &str| format!("{}{part}{}", &pattern[..open], &pattern[close + 1..]);
            inside.split(',').flat_map(|part| expanded(&one(part))).collect()
        }
    }
}

/// What is made again, as rows: build directories, and caches.
fn of_regenerables(table: &Regenerables, homes: &[String]) -> Vec<Parsed> {
    let row = |known: crate::analysis::KnownRow<'_>, pattern: &str| {
        let group = match (known.is_build, known.is_of_packages) {
            (true, _) => GroupName::Builds,
            (_, true) => GroupName::PackageCaches,
            (false, false) => GroupName::Caches,
        };
        let (held_against, last) = match pattern.contains('/') {
            true => held_against_path(pattern, homes).ok()?,
            false => (HeldAgainst::Name(vec![glob(pattern).ok()?]), None),
        };
        let reason = format!("{}; made again by {}", known.reason, known.by);
        let row = Row {
            group,
            is: Is::Any,
            beside: known.beside.to_vec(),
            holds: known.holds.to_vec(),
            least_age: group.group().least_age(),
            tool: None,
            never: false,
            reason: reason.into(),
            last,
        };
        Some(Parsed { row, held_against })
    };
    let told_here = table.rows().filter(|known| !known.is_told_by_child);
    let rows = told_here.flat_map(|known| {
        let patterns = expanded(known.pattern);
        patterns.iter().filter_map(|pattern| row(known, pattern)).collect::<Vec<_>>()
    });
    rows.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_own_table_is_right_and_mistakes_are_told_with_their_place() {
        let own = parse(include_str!("leftovers.toml"), &Homes::of("").0).map(|rows| rows.len());
        assert!(own.as_ref().is_ok_and(|rows| *rows > 40), "{own:?}");
        let line = "reason = \"r\"\nsource = \"s\"\n";
        let cases = [
            (
                "[[leftover]]\ngroup = \"temporarys\"\nname = \"x\"\n",
                (2, 9),
                "did you mean temporaries?",
            ),
            ("[[leftover]]\ngroup = \"bins\"\nname = \"a/b\"\n", (3, 8), "without a slash"),
            ("[[leftover]]\ngroup = \"bins\"\npath = \"a\"\n", (3, 8), "a whole path"),
            ("[[leftover]]\ngroup = \"bins\"\npath = \"/a/[\"\n", (3, 8), "name pattern"),
            ("[[leftover]]\ngroup = \"bins\"\nname = \"a\"\nolder = \"soon\"\n", (4, 9), "an age"),
            ("[[leftover]]\ngroup = \"bins\"\nnames = \"a\"\n", (3, 1), "unknown field"),
        ];
        for (text, place, message) in cases {
            let Err(error) = parse(&format!("{text}{line}"), &[]) else { panic!("{text}") };
            assert_eq!((error.line, error.column), place, "{text} {error}");
            assert!(error.message.contains(message), "{text} {error}");
        }
        assert_eq!(parted("/{home/*,root}/.npm/x"), Some(("/{home/*,root}/.npm", "x")));
        assert_eq!(parted("/tmp"), Some(("/", "tmp")));
        assert_eq!(expanded("/c/{a,b/d}/*.{x,y}"), ["/c/a/*.{x,y}", "/c/b/d/*.{x,y}"]);
        // no row of what is made again is lost
        let made_again = Regenerables::with(None).0;
        let told_here = made_again.rows().filter(|known| !known.is_told_by_child).count();
        assert!(of_regenerables(&made_again, &Homes::of("").0).len() >= told_here);
    }
}
