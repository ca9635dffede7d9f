//! The rule file: its form, and what is wrong with it if something is.

use std::path::{Path, PathBuf};

use serde::Deserialize;
use toml::Spanned;

use crate::lens::{Accounts, Lens, LensError, Word};
use crate::shown::Shown;

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
    kind: Option<Spanned<OneOrMore>>,
    ext: Option<Spanned<OneOrMore>>,
    name: Option<Spanned<OneOrMore>>,
    larger: Option<Spanned<OneOrMore>>,
    smaller: Option<Spanned<OneOrMore>>,
    older: Option<Spanned<OneOrMore>>,
    newer: Option<Spanned<OneOrMore>>,
    unread: Option<Spanned<OneOrMore>>,
    owner: Option<Spanned<OneOrMore>>,
    group: Option<Spanned<OneOrMore>>,
    under: Option<Spanned<OneOrMore>>,
    family: Option<Spanned<OneOrMore>>,
    links: Option<Spanned<OneOrMore>>,
    depth: Option<Spanned<OneOrMore>>,
    length: Option<Spanned<OneOrMore>>,
    is: Option<Spanned<OneOrMore>>,
    /// A whole lens: what the fields cannot say.
    lens: Option<Spanned<String>>,
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

impl RawRule {
    /// Its fields that are words of the lens.
    fn words(&self) -> [(Word, Option<&Spanned<OneOrMore>>); 16] {
        [
            (Word::Kind, self.kind.as_ref()),
            (Word::Ext, self.ext.as_ref()),
            (Word::Name, self.name.as_ref()),
            (Word::Larger, self.larger.as_ref()),
            (Word::Smaller, self.smaller.as_ref()),
            (Word::Older, self.older.as_ref()),
            (Word::Newer, self.newer.as_ref()),
            (Word::Unread, self.unread.as_ref()),
            (Word::Owner, self.owner.as_ref()),
            (Word::Group, self.group.as_ref()),
            (Word::Under, self.under.as_ref()),
            (Word::Family, self.family.as_ref()),
            (Word::Links, self.links.as_ref()),
            (Word::Depth, self.depth.as_ref()),
            (Word::Length, self.length.as_ref()),
            (Word::Is, self.is.as_ref()),
        ]
    }
}

/// One rule, ready to be tried.
#[derive(Clone, Debug)]
pub struct Rule {
    /// What it goes by; given as the reason of the actions it makes.
    pub title: String,
    /// What it does.
    pub action: DeedWord,
    /// What it takes, of regular files.
    pub lens: Lens,
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
    /// Whether a rule asks for what only a closer look at every entry tells.
    pub fn wants_closer_look(&self) -> bool {
        self.rules.iter().any(|rule| rule.lens.wants_closer_look())
    }

    /// Reads a rule file; `file` is its name for messages.
    ///
    /// # Errors
    ///
    /// [`RuleError`] for the first thing that is wrong.
    pub fn parse(file: &Path, text: &str, accounts: &dyn Accounts) -> Result<Self, RuleError> {
        let place = Place { file, text, accounts };
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
    accounts: &'a dyn Accounts,
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
        let (mut lens, mut narrows) = (Lens::default(), false);
        for (word, field) in raw.words() {
            let Some(field) = field else { continue };
            // below a directory lies all of it
            narrows |= word != Word::Under;
            let values = match field.get_ref() {
                OneOrMore::One(one) => std::slice::from_ref(one),
                OneOrMore::More(more) => more,
            };
            let term = Lens::of_word(word, values, self.accounts);
            lens = lens.and(term.map_err(|error| self.error(field.span().start, error.message))?);
        }
        if let Some(field) = &raw.lens {
            let term = Lens::parse(field.get_ref(), self.accounts);
            let term = term.map_err(|error| self.lens_error(field, &error))?;
            narrows |= !term.is_open();
            lens = lens.and(term);
        }
        if !narrows {
            let message =
                "this rule would take every file: say `name`, `older`, `larger` or another word";
            return Err(self.error(title.span().start, message));
        }
        Ok(Rule {
            title: title.get_ref().clone(),
            action: raw.action,
            lens,
            depot: raw.depot.clone(),
        })
    }

    /// At the place in the lens, if that is written without escapes.
    fn lens_error(&self, field: &Spanned<String>, error: &LensError) -> RuleError {
        let span = field.span();
        let plain = self.text.get(span.start + 1..span.end.saturating_sub(1));
        let inside = if plain == Some(field.get_ref()) { 1 + error.at.start } else { 0 };
        self.error(span.start + inside, error.message.clone())
    }

    fn path(&self, at: &Spanned<String>) -> Result<PathBuf, RuleError> {
        let path = Path::new(at.get_ref());
        let plain = |part| !matches!(part, std::path::Component::ParentDir);
        if at.get_ref().is_empty() || !path.components().all(plain) {
            return Err(self.error(at.span().start, "expected a path without `..`"));
        }
        Ok(path.components().collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lens::tests::Few;

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
            ("lens = \"kind:audio older:soon\"\n", 4, 26, "an age such as"),
            ("owner = \"nemo\"\n", 4, 9, "no user has this name"),
            ("under = \"logs\"\n", 2, 9, "would take every file"),
            ("", 2, 9, "would take every file"),
            ("older = \n", 4, 9, ""),
        ];
        for (rest, line, column, words) in cases {
            let error =
                RuleSet::parse(Path::new("r.toml"), &format!("{head}{rest}"), &Few).unwrap_err();
            assert_eq!((error.line, error.column), (line, column), "{rest:?}: {error}");
            assert!(error.to_string().contains(words), "{error}");
        }
        let action = "[[rule]]\ntitle = \"x\"\naction = \"shred\"\nolder = \"1 y\"\n";
        let error = RuleSet::parse(Path::new("r.toml"), action, &Few).unwrap_err();
        assert!(error.to_string().contains("line 3") && error.message.contains("set-aside"));
    }
}
