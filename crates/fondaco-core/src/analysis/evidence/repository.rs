//! The repository that an entry lies in, and whether it is clean.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::catalog::{Catalog, EntryId};
use crate::kernel::{self, output_within};

/// A directory under version control.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Repository {
    /// Where it begins.
    pub at: PathBuf,
    /// Under which system.
    pub system: &'static str,
    /// Whether all in it is kept by the system.
    pub state: RepositoryState,
}

/// Whether all that lies in a repository is kept by its system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RepositoryState {
    /// It has not been asked yet.
    NotAsked,
    /// Nothing is changed or new.
    Clean,
    /// The number of files that are changed or not under version control.
    Changed(usize),
    /// It is not known, and why.
    NotKnown(&'static str),
}

/// The directories that systems keep beside what they control.
const SIGNS: [(&str, &str); 4] = [(".git", "git"), (".hg", "hg"), (".svn", "svn"), (".bzr", "bzr")];

/// The repository that an entry is or lies in, by the catalog alone.
pub(crate) fn find(catalog: &Catalog, id: EntryId) -> Option<Repository> {
    let mut at = Some(id);
    while let Some(here) = at {
        let sign = SIGNS.iter().find(|(sign, _)| catalog.find_in(here, OsStr::new(sign)).is_some());
        if let Some((_, system)) = sign {
            let (at, state) = (catalog.path(here), RepositoryState::NotAsked);
            return Some(Repository { at, system, state });
        }
        at = if catalog.is_root(here) { None } else { catalog.parent(here) };
    }
    None
}

/// Asks the system whether all is clean. A repository's own settings can name programs to be run: it is asked as its owner,
/// and only root can do that for others.
pub(crate) fn ask(repository: &Repository) -> RepositoryState {
    if repository.system != "git" {
        return RepositoryState::NotKnown("only git is asked");
    }
    let sign = repository.at.join(".git");
    let owners = [&repository.at, &sign]
        .map(|path| kernel::stat_path(path).map(|stat| (stat.uid, stat.gid)));
    let own = kernel::effective_user();
    let mut command = git(&repository.at);
    match owners {
        [Ok((one, group)), Ok((other, _))] if one == other => match own {
            _ if one == own => {}
            0 => kernel::run_as(&mut command, one, group),
            _ => {
                return RepositoryState::NotKnown(
                    "another user's: its settings could run programs",
                );
            }
        },
        _ => return RepositoryState::NotKnown("it belongs to several users"),
    }
    let Some(output) = output_within(command, Duration::from_secs(3), 1 << 20) else {
        return RepositoryState::NotKnown("git is not there or did not answer in time");
    };
    match (output.success, output.text.split(|byte| *byte == 0).filter(|l| !l.is_empty()).count()) {
        (false, _) => RepositoryState::NotKnown("git could not tell"),
        (true, 0) => RepositoryState::Clean,
        (true, changed) => RepositoryState::Changed(changed),
    }
}

/// `git status` that writes nothing and runs no helper.
fn git(at: &Path) -> Command {
    let mut command = Command::new("git");
    command.env_clear().env("LC_ALL", "C").env("GIT_OPTIONAL_LOCKS", "0");
    command.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1");
    command.env("GIT_TERMINAL_PROMPT", "0").env("PATH", "/usr/local/bin:/usr/bin:/bin");
    command.args(["-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-C"]).arg(at);
    command.args(["status", "--porcelain", "-z", "--ignore-submodules=all"]);
    command.stdin(Stdio::null()).stderr(Stdio::null());
    command
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scan::{Options, Scan};
    use crate::units::Time;

    #[test]
    fn a_repository_is_found_above_an_entry_and_asked_whether_it_is_clean() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        let repository = root.join("model");
        std::fs::create_dir_all(repository.join("src")).unwrap();
        let git = |arguments: &[&str]| {
            let mut command = Command::new("git");
            command.args(["-c", "user.name=t", "-c", "user.email=t@example.org", "-C"]);
            command.arg(&repository).args(arguments).stdout(Stdio::null());
            command.status().is_ok_and(|status| status.success())
        };
        if !git(&["init", "-q"]) {
            eprintln!("SKIPPED: repositories: there is no git");
            return;
        }
        std::fs::write(repository.join("src/tide"), "a").unwrap();
        let found = || {
            let mut scan =
                Scan::start(std::slice::from_ref(&root), &Options::new(Time::now())).unwrap();
            scan.wait();
            let catalog = scan.catalog();
            let inside =
                find(&catalog, catalog.find(&repository.join("src/tide")).unwrap()).unwrap();
            assert_eq!(find(&catalog, catalog.top().unwrap()), None);
            assert_eq!((inside.at.as_path(), inside.system), (repository.as_path(), "git"));
            ask(&inside)
        };
        assert_eq!(found(), RepositoryState::Changed(1));
        assert!(git(&["add", "."]) && git(&["commit", "-q", "-m", "tide"]));
        assert_eq!(found(), RepositoryState::Clean);
        if kernel::effective_user() == 0 {
            std::os::unix::fs::lchown(repository.join(".git"), Some(60_101), None).unwrap();
            assert!(matches!(found(), RepositoryState::NotKnown(_)));
        }
    }
}
