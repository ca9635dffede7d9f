//! What is made again by itself or by a command: by a table of our own, which a user's file extends, and by the
//! tag of the Cache Directory Tagging Specification.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use serde::Deserialize;

use crate::catalog::{Catalog, EntryId};
use crate::kernel;
use crate::pattern::{Pattern, PatternError};

/// Why removing an entry loses nothing but time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Regenerable {
    /// The entry that is known: the one that was asked about, or a directory above it.
    pub at: PathBuf,
    /// What makes it again.
    pub by: String,
    /// What it is.
    pub reason: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawFile {
    #[serde(default)]
    known: Vec<RawKnown>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawKnown {
    name: Option<String>,
    path: Option<String>,
    #[serde(default)]
    beside: Vec<String>,
    #[serde(default)]
    holds: Vec<String>,
    by: String,
    reason: String,
    #[serde(default)]
    part: Part,
}

/// Which part of what is left over a row belongs to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Part {
    #[default]
    Cache,
    /// What a build makes.
    Build,
    /// What a package manager downloads.
    Packages,
    /// What lies in it is told one by one, elsewhere.
    Children,
}

/// A row of the table, as it stands there.
#[derive(Clone, Copy, Debug)]
pub(crate) struct KnownRow<'a> {
    /// Held against the whole path if it has a slash, else against the name.
    pub(crate) pattern: &'a str,
    pub(crate) beside: &'a [String],
    pub(crate) holds: &'a [String],
    pub(crate) by: &'a str,
    pub(crate) reason: &'a str,
    pub(crate) is_build: bool,
    pub(crate) is_of_packages: bool,
    pub(crate) is_told_by_child: bool,
}

struct Known {
    /// Held against the name, or against the whole path.
    pattern: Pattern,
    text: String,
    beside: Vec<String>,
    holds: Vec<String>,
    by: String,
    reason: String,
    part: Part,
}

/// What is known to be made again.
pub struct Regenerables(Vec<Known>);

/// What the specification demands at the beginning of the file `CACHEDIR.TAG`.
const TAG: &[u8] = b"Signature: 8a477f597d28d172789f06886806bc55";

impl Regenerables {
    /// The table that is a part of the program, and before it what a user's file says.
    ///
    /// # Errors
    ///
    /// What is wrong with the user's file; the own table is used then.
    pub fn with(user: Option<&str>) -> (Self, Option<TableError>) {
        let own = parse(include_str!("regenerable.toml")).unwrap_or_default();
        match user.map(parse) {
            None => (Self(own), None),
            Some(Ok(mut known)) => {
                known.extend(own);
                (Self(known), None)
            }
            Some(Err(error)) => (Self(own), Some(error)),
        }
    }

    /// Its rows, those of the user's file first.
    pub(crate) fn rows(&self) -> impl Iterator<Item = KnownRow<'_>> {
        self.0.iter().map(|known| KnownRow {
            pattern: &known.text,
            beside: &known.beside,
            holds: &known.holds,
            by: &known.by,
            reason: &known.reason,
            is_build: known.part == Part::Build,
            is_of_packages: known.part == Part::Packages,
            is_told_by_child: known.part == Part::Children,
        })
    }

    /// What is known of an entry, or of the nearest directory above it. Asks the system only for the tag.
    pub fn find(&self, catalog: &Catalog, id: EntryId) -> Option<Regenerable> {
        let mut at = Some(id);
        while let Some(here) = at {
            if let Some(found) = self.of_one(catalog, here) {
                return Some(found);
            }
            at = if catalog.is_root(here) { None } else { catalog.parent(here) };
        }
        None
    }

    fn of_one(&self, catalog: &Catalog, id: EntryId) -> Option<Regenerable> {
        let path = catalog.path(id);
        let has = |directory: EntryId, names: &[String]| {
            names.is_empty()
                || names.iter().any(|name| catalog.find_in(directory, OsStr::new(name)).is_some())
        };
        let is = |known: &&Known| {
            let name = path.file_name().unwrap_or_default();
            known.pattern.matches(name, &path)
                && has(id, &known.holds)
                && (known.beside.is_empty()
                    || catalog.parent(id).is_some_and(|parent| has(parent, &known.beside)))
        };
        if let Some(known) = self.0.iter().find(is) {
            return Some(Regenerable {
                at: path,
                by: known.by.clone(),
                reason: known.reason.clone(),
            });
        }
        let tagged = catalog.is_directory(id)
            && catalog.find_in(id, OsStr::new("CACHEDIR.TAG")).is_some()
            && is_tag(&path);
        tagged.then(|| Regenerable {
            at: path,
            by: "the application that tagged it".to_owned(),
            reason: "it is tagged as a cache (CACHEDIR.TAG)".to_owned(),
        })
    }
}

/// Whether a directory holds the tag of a cache.
pub(crate) fn is_tag(directory: &Path) -> bool {
    use std::io::Read;
    let head = kernel::open_root(directory).and_then(|directory| {
        let file = kernel::open_file(directory, "CACHEDIR.TAG")?;
        let mut head = Vec::with_capacity(TAG.len());
        file.take(TAG.len() as u64).read_to_end(&mut head)?;
        Ok(head)
    });
    head.is_ok_and(|head| head == TAG)
}

/// What is wrong with a table of what is made again.
#[derive(Debug, thiserror::Error)]
pub enum TableError {
    /// It is no TOML, or has other words.
    #[error(transparent)]
    Syntax(#[from] toml::de::Error),
    /// A line of it is held against both the name and the path, or against neither.
    #[error("each says either `name` or `path`, and only a path has a slash")]
    NameOrPath,
    /// A pattern of it is none.
    #[error(transparent)]
    Pattern(#[from] PatternError),
}

fn parse(text: &str) -> Result<Vec<Known>, TableError> {
    let raw: RawFile = toml::from_str(text)?;
    let known = |raw: RawKnown| {
        let pattern = match (&raw.name, &raw.path) {
            (Some(name), None) if !name.contains('/') => name,
            // a path without a slash would be held against the name
            (None, Some(path)) if path.contains('/') => path,
            _ => return Err(TableError::NameOrPath),
        };
        let (text, pattern) = (pattern.clone(), Pattern::parse(pattern)?);
        let RawKnown { beside, holds, by, reason, part, .. } = raw;
        Ok(Known { pattern, text, beside, holds, by, reason, part })
    };
    raw.known.into_iter().map(known).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scan::{Options, Scan};
    use crate::units::Time;

    #[test]
    fn what_is_made_again_is_known_by_what_lies_beside_and_in_it() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        let tag = [TAG, b"\n# made by the tide model\n"].concat();
        let files: [(&str, &[u8]); 9] = [
            ("model/Cargo.toml", b""),
            ("model/target/debug/tide", b"x"),
            ("survey/target/north", b"x"),
            ("web/package.json", b""),
            ("web/node_modules/lib/index.js", b"x"),
            ("py/__pycache__/a.pyc", b"x"),
            ("grid/CACHEDIR.TAG", &tag),
            ("grid/part/0", b"x"),
            ("false/CACHEDIR.TAG", b"no tag at all"),
        ];
        for (path, bytes) in files {
            std::fs::create_dir_all(root.join(path).parent().unwrap()).unwrap();
            std::fs::write(root.join(path), bytes).unwrap();
        }
        let mut scan =
            Scan::start(std::slice::from_ref(&root), &Options::new(Time::now())).unwrap();
        scan.wait();
        let catalog = scan.catalog();
        let user = "[[known]]\nname = \"false\"\nby = \"regrid\"\nreason = \"a grid\"\n";
        let (own, none) = Regenerables::with(None);
        let (with_user, also_none) = Regenerables::with(Some(user));
        assert!(none.is_none() && also_none.is_none());
        let find = |table: &Regenerables, path: &str| {
            let found = table.find(&catalog, catalog.find(&root.join(path)).unwrap())?;
            Some((found.at.strip_prefix(&root).unwrap().to_owned(), found.by))
        };
        let cases = [
            ("model/target/debug/tide", Some("model/target")),
            ("model/Cargo.toml", None),
            ("survey/target/north", None),
            ("web/node_modules", Some("web/node_modules")),
            ("py/__pycache__/a.pyc", Some("py/__pycache__")),
            ("grid/part/0", Some("grid")),
            ("false/CACHEDIR.TAG", None),
        ];
        for (path, at) in cases {
            let found = find(&own, path).map(|(at, _)| at);
            assert_eq!(found.as_deref(), at.map(Path::new), "{path}");
        }
        assert_eq!(find(&with_user, "false").unwrap().1, "regrid");
        let (fallback, error) =
            Regenerables::with(Some("[[known]]\nname = \"a/b\"\nby = \"\"\nreason = \"\"\n"));
        assert!(error.unwrap().to_string().contains("only a path has a slash"));
        assert!(find(&fallback, "py/__pycache__").is_some());
    }
}
