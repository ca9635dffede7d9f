//! The rule file: its form, and what is wrong with it if something is.

use std::io;
use std::path::{Path, PathBuf};

use fondaco_store::ManagedStore;
use serde::Deserialize;
use toml::Spanned;

use super::model::{DeedWord, Enough, GroupOf, Limits, Order, Rule, RuleSet, Takes, Thin};
use crate::archive::is_store;
use crate::kernel::{CallError, Op};
use crate::leftovers::GroupName;
use crate::lens::{Accounts, AgeSource, Lens, LensError, Word, nearest};
use crate::pattern::Pattern;
use crate::shown::Shown;
use crate::units::{Age, Bytes, Level};

/// What is wrong with a rule file, and where.
#[derive(Clone, Debug, thiserror::Error)]
#[error("{}, line {line}, column {column}: {message}", Shown(file))]
pub struct RuleError {
    /// Path of the rule file.
    pub file: PathBuf,
    /// Line of the file, counted from 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    /// What is wrong, and what would be right.
    pub message: String,
}

/// Why a rule file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum RuleFileError {
    /// The file cannot be read.
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
    /// The rules in it make no sense.
    #[error(transparent)]
    Rule(#[from] RuleError),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawFile {
    #[serde(default)]
    protect: Vec<Spanned<String>>,
    #[serde(default)]
    rule: Vec<RawRule>,
    #[serde(default)]
    store: Vec<RawStore>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawStore {
    name: Spanned<String>,
    list: String,
    members: Option<String>,
    name_at: String,
    bytes_at: String,
    date_at: Option<String>,
    remove: String,
    snapshot: Option<String>,
    capacity: Option<Spanned<Text>>,
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
    store: Option<Spanned<String>>,
    on: Option<bool>,
    leftovers: Option<Spanned<Vec<Spanned<String>>>>,
    #[serde(default)]
    takes: Takes,
    #[serde(default)]
    age: AgeSource,
    of: Option<Spanned<GroupOf>>,
    keep: Option<Spanned<u32>>,
    #[serde(default)]
    keep_named: Vec<Spanned<String>>,
    thin: Option<Spanned<Thin>>,
    total: Option<Spanned<Text>>,
    until: Option<Spanned<String>>,
    free: Option<Spanned<Text>>,
    order: Option<Spanned<Order>>,
    above: Option<Spanned<String>>,
    inodes_above: Option<Spanned<String>>,
    at_most: Option<RawLimits>,
    #[serde(default)]
    protect: Vec<Spanned<String>>,
    depot: Option<Spanned<PathBuf>>,
    to: Option<Spanned<PathBuf>>,
    purge_after: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawLimits {
    entries: Option<u64>,
    size: Option<Spanned<Text>>,
    share: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(untagged, expecting = "expected a text or a list of texts")]
enum OneOrMore {
    One(Text),
    More(Vec<Text>),
}

/// A text, or a number where a number is meant.
#[derive(Clone, Deserialize)]
#[serde(untagged, expecting = "expected a text or a whole number")]
enum Text {
    Text(String),
    Number(u64),
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

impl RuleSet {
    /// Reads a rule file; nothing if there is none.
    ///
    /// # Errors
    ///
    /// [`RuleFileError`].
    pub fn read(file: &Path, accounts: &dyn Accounts) -> Result<Option<Self>, RuleFileError> {
        match std::fs::read_to_string(file) {
            Ok(text) => Ok(Some(Self::parse(file, &text, accounts)?)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(CallError::on(Op::Read, file)(error).into()),
        }
    }

    /// Reads the text of a rule file; `file` is its name for messages.
    ///
    /// # Errors
    ///
    /// [`RuleError`] for the first thing that is wrong.
    pub fn parse(file: &Path, text: &str, accounts: &dyn Accounts) -> Result<Self, RuleError> {
        let place = Place { file, text, accounts };
        let raw: RawFile = toml::from_str(text).map_err(|error| {
            let at = error.span().map_or(0, |span| span.start);
            place.error(at, better_words(error.message()))
        })?;
        let mut protect = raw.protect;
        let mut rules: Vec<Rule> = Vec::new();
        let mut stores: Vec<ManagedStore> = Vec::new();
        for raw in raw.store {
            let store = place.store(&raw)?;
            if stores.iter().any(|before| before.name == store.name) {
                return Err(place.error(raw.name.span().start, "another store has this name"));
            }
            stores.push(store);
        }
        for raw in raw.rule {
            let rule = place.rule(&raw)?;
            let is_known = |name: &String| stores.iter().any(|store| store.name == *name);
            if let Some(store) = raw.store.as_ref().filter(|store| !is_known(store.get_ref())) {
                let message = "no [[store]] has this name: define it in this file";
                return Err(place.error(store.span().start, message));
            }
            if rules.iter().any(|before| before.title == rule.title) {
                let message = "another rule has this title: say what is different about this one";
                return Err(place.error(raw.title.span().start, message));
            }
            rules.push(rule);
            protect.extend(raw.protect);
        }
        let protect = protect.iter().map(|path| place.path(path)).collect::<Result<_, _>>()?;
        Ok(Self { rules, protect, stores })
    }
}

/// The words of the TOML library about a word that it does not know, with the nearest one that it does.
fn better_words(message: &str) -> String {
    let (quoted, offered) = match message.split_once("`, expected ") {
        Some((before, after)) => (before.rsplit('`').next().unwrap_or(""), after),
        None => {
            let plain = message.replace("expected u32", "expected a whole number");
            return plain.replace("expected u64", "expected a whole number");
        }
    };
    let known = offered.split('`').skip(1).step_by(2);
    let near = known
        .map(|word| (strsim::damerau_levenshtein(quoted, word), word))
        .filter(|(far, word)| *far <= 1 + word.len() / 4)
        .min_by_key(|(far, _)| *far);
    match near {
        Some((_, word)) => {
            let what = message.split('`').next().unwrap_or("unknown word ");
            format!("{what}`{quoted}`: did you mean `{word}`?")
        }
        None => message.to_owned(),
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

    fn store(&self, raw: &RawStore) -> Result<ManagedStore, RuleError> {
        let store = ManagedStore {
            name: raw.name.get_ref().clone(),
            list: raw.list.clone(),
            members: raw.members.clone().unwrap_or_default(),
            name_at: raw.name_at.clone(),
            bytes_at: raw.bytes_at.clone(),
            date_at: raw.date_at.clone(),
            remove: raw.remove.clone(),
            snapshot: raw.snapshot.clone(),
            capacity: self.size(raw.capacity.as_ref())?.map(Bytes::get),
        };
        match store.check() {
            Ok(()) => Ok(store),
            Err(error) => Err(self.error(raw.name.span().start, error.to_string())),
        }
    }

    fn rule(&self, raw: &RawRule) -> Result<Rule, RuleError> {
        let title = &raw.title;
        if title.get_ref().trim().is_empty() {
            return Err(self.error(title.span().start, "a title says what the rule is for"));
        }
        let lens = self.lens(raw)?.counting_from(raw.age);
        self.words_go_together(raw)?;
        let keep_named = raw.keep_named.iter().map(|pattern| self.pattern(pattern));
        Ok(Rule {
            title: title.get_ref().clone(),
            words: self.written(raw),
            store: raw.store.as_ref().map(|store| store.get_ref().clone()),
            on: raw.on.unwrap_or(true),
            action: raw.action,
            takes: raw.takes,
            leftovers: self.leftovers(raw)?,
            looks_at: lens.without_ages(),
            lens,
            ages: raw.age,
            of: raw.of.as_ref().map(|of| *of.get_ref()).unwrap_or_default(),
            keep: raw.keep.as_ref().map(|keep| *keep.get_ref()),
            keep_named: keep_named.collect::<Result<_, _>>()?,
            thin: raw.thin.as_ref().map(|thin| *thin.get_ref()),
            total: self.size(raw.total.as_ref())?,
            until: self.enough(raw)?,
            order: raw.order.as_ref().map(|order| *order.get_ref()).unwrap_or_default(),
            above: self.level(raw.above.as_ref())?,
            inodes_above: self.level(raw.inodes_above.as_ref())?,
            at_most: match &raw.at_most {
                None => Limits::default(),
                Some(limits) => Limits {
                    entries: limits.entries,
                    size: self.size(limits.size.as_ref())?,
                    share: self.level(limits.share.as_ref())?,
                },
            },
            depot: raw.depot.as_ref().map(|depot| depot.get_ref().clone()),
            to: raw.to.as_ref().map(|to| to.get_ref().clone()),
            purge_after: match &raw.purge_after {
                None => None,
                Some(field) => Some(
                    Age::parse(field.get_ref())
                        .map_err(|error| self.error(field.span().start, error.to_string()))?,
                ),
            },
        })
    }

    /// The words of a rule that are words of the lens, as they are written.
    fn written(&self, raw: &RawRule) -> Vec<String> {
        let words =
            raw.words().into_iter().filter_map(|(word, field)| Some((word.text(), field?.span())));
        let lens = raw.lens.iter().map(|lens| ("lens", lens.span()));
        words.chain(lens).map(|(word, span)| format!("{word} = {}", &self.text[span])).collect()
    }

    /// What may go by the words of a rule that are words of the lens.
    fn lens(&self, raw: &RawRule) -> Result<Lens, RuleError> {
        let (mut lens, mut narrows) = (Lens::default(), false);
        for (word, field) in raw.words() {
            let Some(field) = field else { continue };
            // below a directory lies all of it
            narrows |= word != Word::Under;
            let values = match field.get_ref() {
                OneOrMore::One(one) => std::slice::from_ref(one),
                OneOrMore::More(more) => more,
            };
            let takes_numbers =
                !matches!(word, Word::Name | Word::Ext | Word::Family | Word::Under);
            let text = |value: &Text| match value {
                Text::Text(text) => Ok(text.clone()),
                Text::Number(number) if takes_numbers => Ok(number.to_string()),
                Text::Number(_) => {
                    Err(self.error(field.span().start, "expected a text or a list of texts"))
                }
            };
            let values = values.iter().map(text).collect::<Result<Vec<_>, _>>()?;
            let never = ["directory", "link", "special"];
            if word == Word::Kind && values.iter().all(|kind| never.contains(&kind.as_str())) {
                let message = "a rule takes files: this kind never holds; for whole directories say \
                               takes = \"directories\"";
                return Err(self.error(field.span().start, message));
            }
            let term = Lens::of_word(word, &values, self.accounts);
            lens = lens.and(term.map_err(|error| self.error(field.span().start, error.message))?);
        }
        if let Some(field) = &raw.lens {
            let term = Lens::parse(field.get_ref(), self.accounts);
            let term = term.map_err(|error| self.lens_error(field, &error))?;
            narrows |= !term.is_open();
            lens = lens.and(term);
        }
        // what has a place among generations or over a cap is narrowed by that
        narrows |= raw.keep.is_some() || raw.thin.is_some() || raw.total.is_some();
        narrows |= raw.leftovers.is_some();
        if !narrows {
            let message =
                "this rule would take every file: say `name`, `older`, `larger` or another word";
            return Err(self.error(raw.title.span().start, message));
        }
        Ok(lens)
    }

    /// The groups of leftovers that a rule takes.
    fn leftovers(&self, raw: &RawRule) -> Result<Vec<GroupName>, RuleError> {
        let Some(groups) = &raw.leftovers else { return Ok(Vec::new()) };
        let at = groups.span().start;
        if groups.get_ref().is_empty() {
            return Err(self.error(at, "say which, as in leftovers = [\"bins\", \"caches\"]"));
        }
        if raw.takes == Takes::Directories {
            let message =
                "`leftovers` are files and directories as they were found: leave `takes` out";
            return Err(self.error(at, message));
        }
        if raw.keep.is_some() || raw.thin.is_some() || raw.total.is_some() {
            let message = "`leftovers` have no generations: leave `keep`, `thin` and `total` out";
            return Err(self.error(at, message));
        }
        let group = |key: &Spanned<String>| {
            let name = GroupName::of_key(key.get_ref()).filter(|name| name.group().can_be_rule());
            name.ok_or_else(|| {
                let all = GroupName::ALL.iter().map(|name| name.group());
                let keys: Vec<&str> =
                    all.filter(|group| group.can_be_rule()).map(|group| group.key).collect();
                let near = nearest(key.get_ref(), keys.iter().copied());
                let message = match near.is_empty() {
                    true => format!("expected one of {}", keys.join(", ")),
                    false => format!("no such group of leftovers{near}"),
                };
                self.error(key.span().start, message)
            })
        };
        let groups: Vec<GroupName> =
            groups.get_ref().iter().map(group).collect::<Result<_, _>>()?;
        if let Some(name) = groups.iter().find(|name| name.group().goes_through_program()) {
            self.of_program(raw, at, name.group().key)?;
        }
        Ok(groups)
    }

    /// What a rule can say of a group that another program removes.
    fn of_program(&self, raw: &RawRule, at: usize, key: &str) -> Result<(), RuleError> {
        if raw.action != DeedWord::Delete {
            let message = format!(
                "`{key}` are removed by a program of their own, which keeps nothing: say \
                 action = \"delete\", or leave them out"
            );
            return Err(self.error(at, message));
        }
        let can_be_asked = [Word::Larger, Word::Smaller, Word::Older, Word::Newer];
        let mut words = raw.words().into_iter();
        let other = words.find(|(word, field)| field.is_some() && !can_be_asked.contains(word));
        let (word, span) = match (other, &raw.lens) {
            (Some((word, Some(field))), _) => (word.text(), field.span()),
            (_, Some(lens)) => ("lens", lens.span()),
            _ => return Ok(()),
        };
        let message = format!(
            "`{key}` are asked only for `larger`, `smaller`, `older` and `newer`: leave `{word}` out"
        );
        Err(self.error(span.start, message))
    }

    /// Words that mean nothing without another, or against it.
    fn words_go_together(&self, raw: &RawRule) -> Result<(), RuleError> {
        let has_groups = raw.keep.is_some() || raw.thin.is_some() || raw.total.is_some();
        let wrong =
            |span: std::ops::Range<usize>, message: &str| Err(self.error(span.start, message));
        if let Some(keep) = &raw.keep
            && *keep.get_ref() == 0
        {
            return wrong(keep.span(), "keep = 0 keeps nothing: leave it out, or keep 1 or more");
        }
        if let Some(thin) = &raw.thin
            && *thin.get_ref() == Thin::default()
        {
            let message =
                "say how many periods keep one, as in thin = { daily = 14, monthly = 12 }";
            return wrong(thin.span(), message);
        }
        if let Some(of) = raw.of.as_ref().filter(|_| !has_groups) {
            return wrong(
                of.span(),
                "`of` says in what `keep`, `thin` or `total` count: say one of them",
            );
        }
        if let Some(named) = raw.keep_named.first()
            && !has_groups
        {
            let message = "`keep_named` stands beside `keep`, `thin` or `total`; otherwise say `protect`, or \
                           `not name:` in a lens";
            return wrong(named.span(), message);
        }
        let is_enough = raw.until.is_some() || raw.free.is_some();
        if let (Some(_), Some(free)) = (&raw.until, &raw.free) {
            return wrong(
                free.span(),
                "`until` says already when it is enough: leave one of them out",
            );
        }
        if let Some(order) = raw.order.as_ref().filter(|_| !is_enough) {
            return wrong(
                order.span(),
                "`order` means nothing without `until` or `free`: all goes",
            );
        }
        let after = raw.purge_after.as_ref();
        if let Some(after) = after.filter(|_| raw.action != DeedWord::SetAside) {
            return wrong(
                after.span(),
                "only what is set aside is purged later: action = \"set-aside\"",
            );
        }
        if let Some(depot) = raw.depot.as_ref().filter(|_| raw.action != DeedWord::Archive) {
            return wrong(
                depot.span(),
                "only what is archived goes to a depot: action = \"archive\"",
            );
        }
        if let Some(store) = raw.store.as_ref().filter(|_| raw.action != DeedWord::Delete) {
            let message = "what lies in a store can only be deleted: action = \"delete\"";
            return wrong(store.span(), message);
        }
        match (raw.action, &raw.to) {
            (DeedWord::Move, None) => {
                return wrong(
                    raw.title.span(),
                    "a rule that moves says where to: to = \"/mnt/spare\"",
                );
            }
            (DeedWord::Move, Some(to)) if is_store(to.get_ref()) => {
                return wrong(to.span(), "only archives go to a store: action = \"archive\"");
            }
            (DeedWord::Move, Some(_)) | (_, None) => {}
            (_, Some(to)) => {
                return wrong(to.span(), "only what is moved goes there: action = \"move\"");
            }
        }
        Ok(())
    }

    fn enough(&self, raw: &RawRule) -> Result<Option<Enough>, RuleError> {
        if let Some(free) = self.size(raw.free.as_ref())? {
            return Ok(Some(Enough::Free(free)));
        }
        let Some(until) = &raw.until else { return Ok(None) };
        if until.get_ref().trim() == "waterline" {
            return Ok(Some(Enough::Waterline));
        }
        let level = Level::parse(until.get_ref()).map_err(|_| {
            self.error(until.span().start, "expected `waterline` or a level such as 85 %")
        })?;
        Ok(Some(Enough::Level(level)))
    }

    fn size(&self, field: Option<&Spanned<Text>>) -> Result<Option<Bytes>, RuleError> {
        let Some(field) = field else { return Ok(None) };
        match field.get_ref() {
            Text::Number(bytes) => Ok(Some(Bytes::new(*bytes))),
            Text::Text(text) => match Bytes::parse(text) {
                Ok(bytes) => Ok(Some(bytes)),
                Err(error) => Err(self.error(field.span().start, error.to_string())),
            },
        }
    }

    fn level(&self, field: Option<&Spanned<String>>) -> Result<Option<Level>, RuleError> {
        let Some(field) = field else { return Ok(None) };
        match Level::parse(field.get_ref()) {
            Ok(level) => Ok(Some(level)),
            Err(error) => Err(self.error(field.span().start, error.to_string())),
        }
    }

    fn pattern(&self, field: &Spanned<String>) -> Result<Pattern, RuleError> {
        Pattern::parse(field.get_ref())
            .map_err(|error| self.error(field.span().start, error.to_string()))
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
        Ok(if is_store(path) { path.to_owned() } else { path.components().collect() })
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
