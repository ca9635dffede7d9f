//! Programs of the system that remove what is theirs: the package manager, and the program of the system journal.
//!
//! Each act is guarded by what was reviewed: right before it the program is asked, or its directory looked at, for what
//! would go now, and anything else ends the action. After it what has really gone is compared with that.

use std::collections::{BTreeSet, HashMap};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::EntryState;
use super::check::Checks;
use crate::kernel::{self, CallError, Op};
use crate::leftovers::{self, PackageRemoval};
use crate::plan::objects::Objects;
use crate::plan::{Action, Refusal, Survey, ToolTarget};
use crate::shown::{Shown, safe_text, shown};
use crate::units::{Bytes, Time, counted};

/// What became of an action.
#[derive(Debug)]
pub(super) struct Done {
    pub(super) state: EntryState,
    pub(super) freed: Bytes,
    /// A sentence, and on further lines the end of what the program said.
    pub(super) message: String,
}

/// So much of what a program says is kept in the journal.
const KEPT: usize = 16 << 10;

fn refused(action: &Action, reason: impl Into<String>) -> Refusal {
    Refusal::Hopeless { path: action.place().to_owned(), reason: reason.into() }
}

fn tool(action: &Action) -> Result<&ToolTarget, Refusal> {
    action
        .tool
        .as_deref()
        .ok_or_else(|| refused(action, "the plan does not say what is to be removed"))
}

/// Makes sure that just what was reviewed would go.
///
/// # Errors
///
/// [`Refusal`].
pub(super) fn check(action: &Action, checks: &Checks) -> Result<(), Refusal> {
    let tool = tool(action)?;
    if let ToolTarget::Object(object) = tool {
        checks.permitted(action)?;
        return checks.objects.is_as_reviewed(object);
    }
    if kernel::effective_user() != 0 {
        return Err(refused(action, "only root can have this done"));
    }
    let path = &action.target.path.0;
    let stat = match kernel::stat_path(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            return Err(Refusal::Gone(path.clone()));
        }
        stat => stat.map_err(CallError::on(Op::Examine, path))?,
    };
    let target = &action.target;
    if (target.device, target.inode, target.size, target.mtime)
        != (stat.dev, stat.ino, stat.size, stat.mtime)
    {
        let difference = "it is another one, or was written since".to_owned();
        return Err(Refusal::Changed { path: path.clone(), difference });
    }
    match tool {
        ToolTarget::Packages(removal) => {
            let now = leftovers::simulate(&removal.packages)
                .map_err(|error| refused(action, error.to_string()))?;
            let reviewed: BTreeSet<&String> = removal.removes.iter().collect();
            if let Some(more) = now.iter().find(|name| !reviewed.contains(name)) {
                return Err(refused(action, format!("{} would go too now", shown(more))));
            }
            if now.is_empty() {
                return Err(refused(action, "nothing of it is installed any more"));
            }
            Ok(())
        }
        ToolTarget::Journal { directory, files, before } => {
            let reviewed: BTreeSet<&PathBuf> = files.iter().map(|file| &file.0).collect();
            match old_files(&directory.0, *before)?
                .into_iter()
                .find(|file| !reviewed.contains(file))
            {
                Some(more) => Err(refused(action, format!("{} would go too now", Shown(&more)))),
                None => Ok(()),
            }
        }
        ToolTarget::Object(_) => Ok(()),
    }
}

/// Closed files of the journal that begin before a moment.
fn old_files(directory: &Path, before: Time) -> Result<Vec<PathBuf>, Refusal> {
    let names = kernel::names_in(directory).map_err(CallError::on(Op::ReadDirectory, directory))?;
    let files = names.iter().map(|name| directory.join(name));
    let is_old =
        |file: &PathBuf| leftovers::journal_begin(file).is_some_and(|begin| begin < before);
    Ok(files.filter(is_old).collect())
}

/// Has the program do it. [`check`] has been asked right before.
pub(super) fn remove(action: &Action, checks: &Checks) -> Done {
    match action.tool.as_deref() {
        Some(ToolTarget::Object(object)) => match checks.objects.remove(object) {
            Ok(()) => Done {
                state: EntryState::Deleted,
                freed: action.target.allocated,
                message: String::new(),
            },
            Err(refusal) => failed(refusal.to_string()),
        },
        Some(ToolTarget::Packages(removal)) => remove_packages(removal),
        Some(ToolTarget::Journal { directory, files, before }) => {
            let files: Vec<&Path> = files.iter().map(|file| file.0.as_path()).collect();
            vacuum(&directory.0, &files, *before)
        }
        None => failed("the plan does not say what is to be removed".to_owned()),
    }
}

fn failed(message: String) -> Done {
    Done { state: EntryState::Failed, freed: Bytes::ZERO, message }
}

/// Runs a program to its end, whatever keys are pressed meanwhile: half an act of a package manager helps nobody. Gives
/// whether it ended well, and the end of what it said.
fn run(mut command: Command) -> std::io::Result<(bool, String)> {
    command.stdin(Stdio::null()).process_group(0);
    command.env_clear().env("LC_ALL", "C").env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin");
    command.env("DEBIAN_FRONTEND", "noninteractive");
    let output = command.output()?;
    let mut said = output.stdout;
    said.extend_from_slice(&output.stderr);
    let text = safe_text(&String::from_utf8_lossy(&said[said.len().saturating_sub(KEPT)..]));
    Ok((output.status.success(), text))
}

fn remove_packages(removal: &PackageRemoval) -> Done {
    let installed =
        || leftovers::installed_packages().map(|all| all.into_iter().collect::<BTreeSet<_>>());
    let before = match installed() {
        Ok(before) => before,
        Err(error) => return failed(format!("what is installed cannot be read: {error}")),
    };
    let sizes: HashMap<&String, Bytes> = removal
        .removes
        .iter()
        .filter_map(|name| {
            Some((name, leftovers::sizes_of(std::slice::from_ref(name), &[])?.allocated))
        })
        .collect();
    let beside: Vec<(&Path, Bytes)> =
        removal.beside.iter().map(|file| (file.0.as_path(), size_on_disk(&file.0))).collect();
    let mut command = Command::new("/usr/bin/apt-get");
    command.args([
        "-y",
        "-q",
        "-o",
        "APT::Get::AutomaticRemove=false",
        "-o",
        "DPkg::Lock::Timeout=60",
    ]);
    command.args(["-o", "Dpkg::Options::=--force-confold", "remove", "--"]).args(&removal.packages);
    let said = match run(command) {
        Ok(said) => said,
        Err(error) => return failed(format!("apt-get cannot be run: {error}")),
    };
    let after = match installed() {
        Ok(after) => after,
        Err(error) => {
            return failed(format!("what is installed now cannot be read: {error}\n{}", said.1));
        }
    };
    // architectures are left out on both sides
    let plain = |name: &str| match name.split_once('=') {
        Some((name, version)) => format!("{}={version}", name.split(':').next().unwrap_or(name)),
        None => name.to_owned(),
    };
    let reviewed: BTreeSet<String> = removal.removes.iter().map(|name| plain(name)).collect();
    let gone: Vec<&String> = before.difference(&after).collect();
    let other = gone.iter().find(|name| !reviewed.contains(name.as_str()));
    let freed = sizes
        .iter()
        .filter(|(name, _)| gone.iter().any(|gone| **gone == plain(name)))
        .map(|(_, size)| *size)
        .chain(beside.iter().filter(|(file, _)| is_gone(file)).map(|(_, size)| *size))
        .sum();
    let words = counted(gone.len() as u64, "package");
    let (state, message) = match (said.0, other) {
        (_, Some(other)) => {
            (EntryState::Failed, format!("{} went too, which was not reviewed", shown(other)))
        }
        (true, None) => {
            (EntryState::ByTool, format!("{words} removed; apt-get install puts them back"))
        }
        (false, None) => (EntryState::Failed, format!("apt-get failed; {words} removed")),
    };
    Done { state, freed, message: format!("{message}\n{}", said.1) }
}

/// Nothing of what cannot be looked at: that is not said to have been freed.
fn size_on_disk(file: &Path) -> Bytes {
    kernel::stat_path(file).map_or(Bytes::ZERO, |stat| stat.allocated())
}

fn is_gone(file: &Path) -> bool {
    kernel::is_there(file).is_ok_and(|is_there| !is_there)
}

fn vacuum(directory: &Path, files: &[&Path], before: Time) -> Done {
    let sizes: Vec<Bytes> = files.iter().map(|file| size_on_disk(file)).collect();
    let seconds = Time::now().sec.saturating_sub(before.sec).max(1);
    let mut command = Command::new("/usr/bin/journalctl");
    command.arg("--directory").arg(directory).arg(format!("--vacuum-time={seconds}s"));
    let said = match run(command) {
        Ok(said) => said,
        Err(error) => return failed(format!("journalctl cannot be run: {error}")),
    };
    let gone: Vec<bool> = files.iter().map(|file| is_gone(file)).collect();
    let freed = sizes.iter().zip(&gone).filter(|(_, gone)| **gone).map(|(size, _)| *size).sum();
    let count = gone.iter().filter(|gone| **gone).count();
    let words = counted(count as u64, "file");
    let (state, message) = match (said.0, count == files.len()) {
        (true, true) => (EntryState::ByTool, format!("{words} of the journal removed")),
        (true, false) => {
            let left = files.len() - count;
            (
                EntryState::ByTool,
                format!(
                    "{words} of the journal removed; {left} stayed, by the program's own count"
                ),
            )
        }
        (false, _) => (EntryState::Failed, format!("journalctl failed; {words} removed")),
    };
    Done { state, freed, message: format!("{message}\n{}", said.1) }
}

/// How an action that was cut off has come to stand.
///
/// # Errors
///
/// [`Refusal::Call`] if the store of an object does not tell.
pub(super) fn settled(action: &Action) -> Result<(EntryState, String), Refusal> {
    if let Some(ToolTarget::Object(object)) = action.tool.as_deref() {
        return match Objects::default().look(&object.address.0, object.managed.as_deref()) {
            Ok(_) => Ok((EntryState::Waiting, "not done when the run was cut off".to_owned())),
            Err(Refusal::Gone(_)) => {
                Ok((EntryState::Deleted, "gone when the run was cut off".to_owned()))
            }
            Err(refusal) => Err(refusal),
        };
    }
    Ok(settled_here(action))
}

fn settled_here(action: &Action) -> (EntryState, String) {
    let still = match action.tool.as_deref() {
        Some(ToolTarget::Packages(removal)) => match leftovers::installed_packages() {
            Ok(installed) => removal.packages.iter().any(|name| {
                let name = name.split(':').next().unwrap_or(name);
                installed.iter().any(|one| one.split('=').next() == Some(name))
            }),
            Err(error) => {
                return (EntryState::Failed, format!("what is installed cannot be read: {error}"));
            }
        },
        Some(ToolTarget::Journal { files, .. }) => files.iter().any(|file| !is_gone(&file.0)),
        Some(ToolTarget::Object(_)) | None => true,
    };
    match still {
        true => {
            (EntryState::Waiting, "not done, or not wholly, when the run was cut off".to_owned())
        }
        false => (EntryState::ByTool, "gone when the run was cut off".to_owned()),
    }
}

/// What a rehearsal reckons with.
pub(super) fn survey_of(action: &Action) -> Survey {
    let alone = Survey::of_target(action.target.clone(), Time::default());
    Survey { tool: action.tool.clone(), ..alone }
}
