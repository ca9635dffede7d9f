//! A rule file that makes sense: its rules, and what it protects.

use std::path::PathBuf;

use fondaco_store::ManagedStore;
use serde::{Deserialize, Serialize};

use crate::catalog::{Catalog, EntryId, Origin};
use crate::leftovers::GroupName;
use crate::lens::{AgeSource, Lens};
use crate::pattern::Pattern;
use crate::units::{Age, Bytes, Level};

/// What a rule does with what it takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)] // as `plan::Deed`
pub enum DeedWord {
    Delete,
    SetAside,
    Archive,
    Move,
}

impl DeedWord {
    /// The word for it, as people read it.
    pub fn words(self) -> &'static str {
        match self {
            Self::Delete => "delete",
            Self::SetAside => "set aside",
            Self::Archive => "archive",
            Self::Move => "move",
        }
    }
}

/// What a rule takes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Takes {
    /// Regular files, each for itself.
    #[default]
    Files,
    /// Whole directories: all files in one must hold, and the newest of them says how old it is.
    Directories,
}

/// What generations are counted in, and a cap holds for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum GroupOf {
    /// The names of one directory that differ only in dates, numbers or version.
    #[default]
    Family,
    /// All of one directory.
    Directory,
    /// All of one user.
    Owner,
    /// All that the rule looks at.
    All,
}

impl GroupOf {
    /// The groups in words, after "of".
    pub fn words(self) -> &'static str {
        match self {
            Self::Family => "each family in its directory",
            Self::Directory => "each directory",
            Self::Owner => "each owner",
            Self::All => "all that the rule looks at",
        }
    }
}

/// How many periods keep the newest generation of each.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(deny_unknown_fields, default)]
pub struct Thin {
    /// Days that have a generation.
    pub daily: u32,
    /// Weeks, from Monday on.
    pub weekly: u32,
    /// Calendar months that have a generation.
    pub monthly: u32,
    /// Calendar years that have a generation.
    pub yearly: u32,
}

/// When a rule has done enough.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Enough {
    /// The volume's level is at its waterline or below.
    Waterline,
    /// The volume's level is there or below.
    Level(Level),
    /// So much is free on the volume.
    Free(Bytes),
}

/// In which order a rule takes what it takes, so that it stops when there is enough.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// The oldest first.
    #[default]
    Oldest,
    /// Most bytes on disk first.
    Largest,
    /// Size times age: dead weight, heaviest first.
    ByteYears,
}

/// The most that a rule may do at once. Over it, it does nothing at all.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Limits {
    /// Entries, with all that lies in directories.
    pub entries: Option<u64>,
    /// Bytes on disk.
    pub size: Option<Bytes>,
    /// The share of the bytes that the rule looks at, whatever their age.
    pub share: Option<Level>,
}

/// One rule, ready to be tried.
#[derive(Clone, Debug)]
pub struct Rule {
    /// What it goes by; given as the reason of the actions it makes.
    pub title: String,
    /// Its words of the lens as the file has them, such as `older = "1 y"`.
    pub words: Vec<String>,
    /// The managed store whose members it takes; files if there is none.
    pub store: Option<String>,
    /// It is tried; one that is off takes nothing.
    pub on: bool,
    /// What it does.
    pub action: DeedWord,
    /// Files or whole directories.
    pub takes: Takes,
    /// It takes what is left over of these groups, each leftover whole, and nothing else.
    pub leftovers: Vec<GroupName>,
    /// What may go.
    pub lens: Lens,
    /// What it looks at: as `lens`, but of whatever age. Generations and caps count these.
    pub looks_at: Lens,
    /// Which of the times of an entry says how old it is.
    pub ages: AgeSource,
    /// What generations and the cap are counted in.
    pub of: GroupOf,
    /// So many of the newest of each group stay.
    pub keep: Option<u32>,
    /// These stay, and are not counted.
    pub keep_named: Vec<Pattern>,
    /// One of each period stays.
    pub thin: Option<Thin>,
    /// A group may hold so much; the oldest of it go until it does.
    pub total: Option<Bytes>,
    /// When it has done enough.
    pub until: Option<Enough>,
    /// What goes first as long as it is not enough.
    pub order: Order,
    /// Its time has come if the volume's level is above this.
    pub above: Option<Level>,
    /// Its time has come if the share of inodes in use is above this.
    pub inodes_above: Option<Level>,
    /// Over these it does nothing.
    pub at_most: Limits,
    /// Where archives go, if the rule says so.
    pub depot: Option<PathBuf>,
    /// Where it moves things to.
    pub to: Option<PathBuf>,
    /// How long what it sets aside is held before it may be purged.
    pub purge_after: Option<Age>,
}

impl Rule {
    /// Whether it counts generations or bytes of groups.
    pub fn has_groups(&self) -> bool {
        self.keep.is_some() || self.thin.is_some() || self.total.is_some()
    }

    /// Whether `keep_named` names an entry.
    pub fn keeps_by_name(&self, catalog: &Catalog, id: EntryId) -> bool {
        self.keep_named.iter().any(|pattern| {
            let below =
                if pattern.wants_path() { catalog.path_below_root(id) } else { PathBuf::new() };
            pattern.matches(catalog.name(id), &below)
        })
    }
}

/// A rule file that makes sense.
#[derive(Clone, Debug, Default)]
pub struct RuleSet {
    /// In the order of the file.
    pub rules: Vec<Rule>,
    /// Places that no rule of the file touches, nor what is below them; relative ones start at the
    /// scanned root. A rule's own protected places protect from all rules.
    pub protect: Vec<PathBuf>,
    /// Data stores whose members rules take, instead of files.
    pub stores: Vec<ManagedStore>,
}

impl Rule {
    /// Why it is not for what a scan found, if it is not.
    pub fn is_elsewhere(&self, origin: &Origin) -> Option<String> {
        let listed = origin.store.as_ref().map(|listed| listed.definition.name.as_str());
        match (self.store.as_deref(), listed) {
            (ours, here) if ours == here => None,
            (Some(ours), _) => Some(format!("it is for what lies in store:{ours}")),
            (None, _) => Some("it is for files, and not for a store".to_owned()),
        }
    }
}

impl RuleSet {
    /// Whether a rule takes what is left over and goes through a program of its own.
    pub fn wants_programs(&self) -> bool {
        let mut groups = self.rules.iter().flat_map(|rule| &rule.leftovers);
        groups.any(|name| name.group().goes_through_program())
    }

    /// Whether a rule takes what is left over.
    pub fn wants_leftovers(&self) -> bool {
        self.rules.iter().any(|rule| !rule.leftovers.is_empty())
    }

    /// Whether a rule asks for what only a closer look at every entry tells.
    pub fn wants_closer_look(&self) -> bool {
        self.rules.iter().any(|rule| rule.lens.wants_closer_look())
    }
}
