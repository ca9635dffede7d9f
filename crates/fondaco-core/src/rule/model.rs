//! The rule file: its form, and what is wrong with it if something is.

use std::path::{Path, PathBuf};

use serde::Deserialize;
use toml::Spanned;

use crate::pattern::Pattern;
use crate::shown::Shown;
use crate::units::{Age, Bytes, UnitError};

/// What is wrong with a rule file, and where.
#[derive(Debug, thiserror::Error)]
#[error("{}, line {line}, column {column}: {message}", Shown(file))]
pub struct RuleError {
    /// The file.
    pub file: PathBuf,
    /// From 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    /// What is wrong, and what would be right.
    pub message: String,
}

/// What a rule does with what it takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)] // as `plan::Deed`
pub enum DeedWord {
    Delete,
    SetAside,
    Archive,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawFile {
    #[serde(default)]
    protect: Vec<Spanned<String>>,
    #[serde(default)]
    rule: Vec<RawRule>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawRule {
    title: Spanned<String>,
    action: DeedWord,
    under: Option<Spanned<OneOrMore>>,
    name: Option<Spanned<OneOrMore>>,
    older: Option<Spanned<String>>,
    larger: Option<Spanned<String>>,
    #[serde(default)]
    protect: Vec<Spanned<String>>,
    depot: Option<PathBuf>,
}

#[derive(Deserialize)]
#[serde(untagged, expecting = "expected a text or a list of texts")]
enum OneOrMore {
    One(String),
    More(Vec<String>),
}

/// The texts of a field, each with the place of the field.
fn texts(field: Option<&Spanned<OneOrMore>>) -> Vec<Spanned<String>> {
    let Some(field) = field else { return Vec::new() };
    let list = match field.get_ref() {
        OneOrMore::One(one) => std::slice::from_ref(one),
        OneOrMore::More(more) => more,
    };
    list.iter().map(|text| Spanned::new(field.span(), text.clone())).collect()
}

/// One rule, ready to be tried.
#[derive(Clone, Debug)]
pub struct Rule {
    /// What it goes by; given as the reason of the actions it makes.
    pub title: String,
    /// What it does.
    pub action: DeedWord,
    /// Directories that it looks below; all if empty. Relative ones start at the scanned root.
    pub under: Vec<PathBuf>,
    /// Patterns; one must match. Without a slash they are held against the name, with one against
    /// the path from the scanned root.
    pub names: Vec<Pattern>,
    /// Takes only what was last written longer ago than this.
    pub older: Option<Age>,
    /// Takes only what has more bytes on disk than this.
    pub larger: Option<Bytes>,
    /// Where archives go, if the rule says so.
    pub depot: Option<PathBuf>,
}

/// A rule file that makes sense.
#[derive(Clone, Debug)]
pub struct RuleSet {
    /// In the order of the file.
    pub rules: Vec<Rule>,
    /// Places that no rule of the file touches, nor what is below them; relative ones start at the
    /// scanned root. A rule's own protected places protect from all rules.
    pub protect: Vec<PathBuf>,
}

impl RuleSet {
    /// Reads a rule file; `file` is its name for messages.
    ///
    /// # Errors
    ///
    /// [`RuleError`] for the first thing that is wrong.
    pub fn parse(file: &Path, text: &str) -> Result<Self, RuleError> {
        let place = Place { file, text };
        let raw: RawFile = toml::from_str(text).map_err(|error| {
            let at = error.span().map_or(0, |span| span.start);
            place.error(at, error.message())
        })?;
        let mut protect = raw.protect;
        let mut rules = Vec::new();
        for raw in raw.rule {
            rules.push(place.rule(&raw.title, &raw)?);
            protect.extend(raw.protect);
        }
        let protect = protect.iter().map(|path| place.path(path)).collect::<Result<_, _>>()?;
        Ok(Self { rules, protect })
    }
}

struct Place<'a> {
    file: &'a Path,
    text: &'a str,
}

impl Place<'_> {
    fn error(&self, at: usize, message: impl Into<String>) -> RuleError {
        let before = self.text.get(..at).unwrap_or(self.text);
        let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
        RuleError {
            file: self.file.to_owned(),
            line: before.matches('\n').count() + 1,
            column: before[line_start..].chars().count() + 1,
            message: message.into(),
        }
    }

    fn rule(&self, title: &Spanned<String>, raw: &RawRule) -> Result<Rule, RuleError> {
        if title.get_ref().trim().is_empty() {
            return Err(self.error(title.span().start, "a title says what the rule is for"));
        }
        let names = texts(raw.name.as_ref());
        if names.is_empty() && raw.older.is_none() && raw.larger.is_none() {
            let message = "this rule would take every file: say `name`, `older` or `larger`";
            return Err(self.error(title.span().start, message));
        }
        let unit =
            |at: &Spanned<String>, error: UnitError| self.error(at.span().start, error.to_string());
        Ok(Rule {
            title: title.get_ref().clone(),
            action: raw.action,
            under: texts(raw.under.as_ref())
                .iter()
                .map(|at| self.path(at))
                .collect::<Result<_, _>>()?,
            names: names.iter().map(|at| self.pattern(at)).collect::<Result<_, _>>()?,
            older: match &raw.older {
                Some(at) => Some(Age::parse(at.get_ref()).map_err(|error| unit(at, error))?),
                None => None,
            },
            larger: match &raw.larger {
                Some(at) => Some(Bytes::parse(at.get_ref()).map_err(|error| unit(at, error))?),
                None => None,
            },
            depot: raw.depot.clone(),
        })
    }

    fn path(&self, at: &Spanned<String>) -> Result<PathBuf, RuleError> {
        let path = Path::new(at.get_ref());
        let plain = |part| !matches!(part, std::path::Component::ParentDir);
        if at.get_ref().is_empty() || !path.components().all(plain) {
            return Err(self.error(at.span().start, "expected a path without `..`"));
        }
        Ok(path.components().collect())
    }

    fn pattern(&self, at: &Spanned<String>) -> Result<Pattern, RuleError> {
        Pattern::parse(at.get_ref()).map_err(|error| self.error(at.span().start, error.to_string()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_wrong_in_a_rule_file_is_told_with_line_and_column() {
        let head = "[[rule]]\ntitle = \"old\"\naction = \"delete\"\n";
        let cases = [
            ("colour = 1\n", 4, 1, "unknown field `colour`"),
            ("larger = \"10 parsecs\"\n", 4, 10, "a size such as"),
            ("older = \"soon\"\n", 4, 9, "an age such as"),
            ("name = \"[\"\n", 4, 8, "a name pattern"),
            ("name = 7\n", 4, 8, "a text or a list"),
            ("older = \"1 y\"\nunder = \"../x\"\n", 5, 9, "without `..`"),
            ("", 2, 9, "would take every file"),
            ("older = \n", 4, 9, ""),
        ];
        for (rest, line, column, words) in cases {
            let error = RuleSet::parse(Path::new("r.toml"), &format!("{head}{rest}")).unwrap_err();
            assert_eq!((error.line, error.column), (line, column), "{rest:?}: {error}");
            assert!(error.to_string().contains(words), "{error}");
        }
        let action = "[[rule]]\ntitle = \"x\"\naction = \"shred\"\nolder = \"1 y\"\n";
        let error = RuleSet::parse(Path::new("r.toml"), action).unwrap_err();
        assert!(error.to_string().contains("line 3") && error.message.contains("set-aside"));
    }
}
