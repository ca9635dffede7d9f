//! What is known about one entry that bears on "may it go?".

use std::collections::HashSet;
use std::fmt;
use std::io;
use std::path::PathBuf;

use super::Protection;
use crate::catalog::{Catalog, EntryId};
use crate::kernel::{self, Holder, Kind, OpenFiles, Stat};
use crate::state::State;
use crate::units::{Age, Time};

/// The answer in one line, with its reason. The first that holds is the verdict.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// It is not there any more.
    Gone,
    /// It cannot be examined.
    Unreadable(String),
    /// It is a place that is never removed.
    Protected(String),
    /// A process has it, or something below it, open.
    InUse(Holder),
    /// It was written within the last day.
    JustWritten(Age),
    /// Its inode has names elsewhere, so that removing this one frees nothing.
    KeptByOtherNames(u32),
    /// Neither in use nor protected; whether it is needed is not known.
    Unknown(Age),
}

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Gone => f.write_str("Gone: it is no longer there; scan again"),
            Self::Unreadable(error) => write!(f, "Unknown: it cannot be examined ({error})"),
            Self::Protected(reason) => write!(f, "Protected: {reason}"),
            Self::InUse(holder) => write!(f, "In use: pid {} ({})", holder.pid, holder.command),
            Self::JustWritten(age) => write!(f, "In work? Written {age} ago"),
            Self::KeptByOtherNames(links) => {
                write!(f, "Frees nothing alone: {} other names keep its bytes", links - 1)
            }
            Self::Unknown(age) => {
                write!(f, "Unknown whether needed. Not open, not protected; written {age} ago")
            }
        }
    }
}

/// See the [module](self).
#[derive(Clone, Debug)]
pub struct Evidence {
    /// Which entry.
    pub path: PathBuf,
    /// See [`Verdict`].
    pub verdict: Verdict,
    /// The facts as they are now, not as the scan saw them.
    pub stat: Option<Stat>,
    /// Name of the owner, or the number with a mark that no account has it.
    pub owner: String,
    /// Name of the group, likewise.
    pub group: String,
    /// Processes that have it, or something below it, open.
    pub holders: Vec<Holder>,
    /// Processes that this user may not look into: if there are any, more may hold it.
    pub hidden_processes: usize,
    /// Why it is protected, if it is.
    pub protected: Option<String>,
    /// It is the root of a subvolume.
    pub subvolume: bool,
    /// The five largest files below a directory.
    pub largest: Vec<EntryId>,
}

/// Collects what is known about an entry of a catalog. Asks the system about the entry itself;
/// what lies below it is taken from the catalog.
pub fn gather(
    catalog: &Catalog,
    id: EntryId,
    state: &State,
    protection: &Protection,
    open: &OpenFiles,
    now: Time,
) -> Evidence {
    let path = catalog.path(id);
    let stat = kernel::stat_path(&path);
    let protected = protection.reason(&path);
    let holders = stat.as_ref().map_or(Vec::new(), |stat| holders(catalog, id, stat, open));
    let verdict = verdict(&stat, protected.as_deref(), &holders, catalog.newest(id), now);
    let named = |name: Option<String>, number: u32| match name {
        Some(name) => name,
        None => format!("{number} (no such account)"),
    };
    let (uid, gid) = stat.as_ref().map_or(catalog.owner(id), |stat| (stat.uid, stat.gid));
    Evidence {
        verdict,
        owner: named(state.user_name(uid), uid),
        group: named(state.group_name(gid), gid),
        stat: stat.ok(),
        holders,
        hidden_processes: open.hidden,
        protected,
        subvolume: catalog.is_subvolume(id),
        largest: if catalog.is_directory(id) { catalog.largest_below(id, 5) } else { Vec::new() },
        path,
    }
}

fn verdict(
    stat: &io::Result<Stat>,
    protected: Option<&str>,
    holders: &[Holder],
    newest: Time,
    now: Time,
) -> Verdict {
    let stat = match stat {
        Ok(stat) => stat,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Verdict::Gone,
        Err(error) => return Verdict::Unreadable(error.to_string()),
    };
    if let Some(reason) = protected {
        return Verdict::Protected(reason.to_owned());
    }
    if let Some(holder) = holders.first() {
        return Verdict::InUse(holder.clone());
    }
    let age = newest.max(Time::at(stat.mtime.sec)).age(now);
    if age < Age::days(1) {
        return Verdict::JustWritten(age);
    }
    if stat.kind == Kind::File && stat.links > 1 {
        return Verdict::KeptByOtherNames(stat.links);
    }
    Verdict::Unknown(age)
}

/// Who has the entry, or any file below it on the same device, open.
fn holders(catalog: &Catalog, id: EntryId, stat: &Stat, open: &OpenFiles) -> Vec<Holder> {
    let mut found = open.holders(stat.dev, stat.ino);
    let mut below: Vec<EntryId> = catalog.children(id).collect();
    let mut pids: HashSet<u32> = found.iter().map(|holder| holder.pid).collect();
    while let Some(at) = below.pop() {
        if open.is_open(stat.dev, catalog.inode(at)) {
            let more = open.holders(stat.dev, catalog.inode(at));
            found.extend(more.into_iter().filter(|holder| pids.insert(holder.pid)));
        }
        below.extend(catalog.children(at));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scan::{Options, Scan};
    use std::path::Path;

    const DAY: i64 = 86_400;

    #[test]
    fn the_verdict_is_the_gravest_thing_that_is_known() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        let names = ["plain", "linked", "kept", "gone", "live", "tree/deep/live-too"];
        for name in names {
            std::fs::create_dir_all(root.join(name).parent().unwrap()).unwrap();
            std::fs::write(root.join(name), [1; 5000]).unwrap();
        }
        std::fs::hard_link(root.join("linked"), root.join("linked-too")).unwrap();
        let state = State::open(&root.join("state")).unwrap();
        let written = kernel::stat_path(&root.join("plain")).unwrap().mtime;
        let later = Time::at(written.sec + 100 * DAY);
        let options = Options { threads: 1, ..Options::new(later) };
        let mut scan = Scan::start(std::slice::from_ref(&root), &options).unwrap();
        scan.wait();
        let catalog = scan.catalog();
        let mut protection = Protection::of_system(&state);
        protection.add(root.join("kept"), "protected by a rule");
        std::fs::remove_file(root.join("gone")).unwrap();
        let mut sleepers: Vec<_> = ["live", "tree/deep/live-too"]
            .map(|name| std::fs::File::open(root.join(name)).unwrap())
            .map(|file| std::process::Command::new("sleep").arg("60").stdin(file).spawn().unwrap())
            .into_iter()
            .collect();
        let open = OpenFiles::collect(later);
        let at = |name: &str, now| {
            let id = catalog.find(&root.join(name)).unwrap();
            gather(&catalog, id, &state, &protection, &open, now)
        };
        let verdict = |name: &str| at(name, later).verdict;
        assert!(matches!(verdict("plain"), Verdict::Unknown(age) if age == Age::days(100)));
        assert_eq!(verdict("linked"), Verdict::KeptByOtherNames(2));
        assert_eq!(verdict("gone"), Verdict::Gone);
        assert!(matches!(verdict("kept"), Verdict::Protected(_)));
        assert!(matches!(verdict("state"), Verdict::Protected(_)));
        for (name, sleeper) in [("live", 0), ("tree/deep/live-too", 1), ("tree", 1)] {
            let pid = sleepers[sleeper].id();
            assert!(matches!(verdict(name), Verdict::InUse(h) if h.pid == pid), "{name}");
        }
        let today = at("plain", Time::at(written.sec + 3600));
        assert!(matches!(today.verdict, Verdict::JustWritten(_)));
        let tree = at("tree", later);
        let largest: Vec<_> = tree.largest.iter().map(|id| catalog.path(*id)).collect();
        assert_eq!(largest, [root.join("tree/deep/live-too")]);
        assert_eq!(tree.path, Path::new(&root).join("tree"));
        for sleeper in &mut sleepers {
            sleeper.kill().unwrap();
            sleeper.wait().unwrap();
        }
        // every verdict says what it means in words
        for name in names {
            assert!(at(name, later).verdict.to_string().len() > 20, "{name}");
        }
    }

    #[test]
    fn an_owner_without_an_account_is_told_apart() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        let mut state = State::open(&root.join("state")).unwrap();
        state.settings.accounts.insert("60101".into(), "acoustics".into());
        assert_eq!(state.user_name(60_101).as_deref(), Some("acoustics"));
        assert_eq!(state.user_name(60_104), None);
        assert_eq!(state.user_name(0).as_deref(), Some("root"));
    }
}
