//! Letting go of deleted files: their holders are ended, or the files are cut to nothing.
//!
//! Each act is guarded by who holds the file now: the very processes that were reviewed (by number and
//! start), and nobody else. A process is taken hold of before it is looked at, so that a later one with
//! its number is never reached.

use std::fs::{File, OpenOptions};
use std::io::{self, Seek, SeekFrom, Write};
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::Path;
use std::time::{Duration, Instant};

use rustix::fs::Advice;

use super::EntryState;
use crate::kernel::{
    Aside, CallError, DeletedFile, DeletedFiles, Kind, Op, Process, ProcessHandle, exposed_at,
    stat_descriptor,
};
use crate::plan::{Action, Deed, HeldTarget, Refusal};
use crate::shown::Shown;
use crate::units::{Bytes, Time, UnitStyle};

/// How long a process has to end after it was asked.
const PATIENCE: Duration = Duration::from_secs(10);

/// How often a file that is still written to is read to its end before it is given up.
const ATTEMPTS: usize = 5;

/// What became of a release.
#[derive(Debug)]
pub(super) struct Released {
    pub(super) state: EntryState,
    pub(super) freed: Bytes,
    pub(super) message: String,
}

/// Makes sure that a held file is still what was reviewed and held by the same processes. `None`: nobody
/// holds it any more, and its space is free.
///
/// # Errors
///
/// [`Refusal`].
pub(super) fn check(
    action: &Action,
    now: Time,
) -> Result<Option<(DeletedFile, DeletedFiles)>, Refusal> {
    let held = held(action)?;
    guard_processes(held)?;
    let all = DeletedFiles::collect(now);
    if let Some(trouble) = &all.trouble {
        return Err(refused(held, format!("it cannot be told who holds it: {trouble}")));
    }
    let key = (action.target.device, action.target.inode);
    let Some(file) = all.files.iter().find(|file| (file.dev, file.ino) == key).cloned() else {
        return Ok(None);
    };
    let known = |process: &Process| {
        held.holders.iter().any(|h| (h.pid, h.started) == (process.pid, process.started))
    };
    if let Some(other) = file.holds.iter().find(|hold| !known(&hold.process)) {
        let Process { pid, command, .. } = &other.process;
        let difference = format!("pid {pid} ({command}) holds it too now");
        return Err(Refusal::Changed { path: held.was.0.clone(), difference });
    }
    let cuts = matches!(action.deed, Deed::Cut | Deed::Save { .. });
    if cuts && file.holds.iter().any(|hold| hold.mapped) {
        let reason =
            "it is mapped into memory: cutting it would crash the process; end that instead";
        return Err(refused(held, reason));
    }
    if cuts && (file.kind != Kind::File || reachable(&file).is_none()) {
        return Err(refused(held, "there is no descriptor through which it could be cut"));
    }
    Ok(Some((file, all)))
}

fn held(action: &Action) -> Result<&HeldTarget, Refusal> {
    action.held.as_ref().ok_or_else(|| Refusal::Gone(action.target.path.0.clone()))
}

fn refused(held: &HeldTarget, reason: impl Into<String>) -> Refusal {
    Refusal::NotReleased { path: held.was.0.clone(), reason: reason.into() }
}

/// Processes that are never ended: the first one, and those that this program hangs on.
fn guard_processes(held: &HeldTarget) -> Result<(), Refusal> {
    let never = |process| Process::never_ended(process).map(|reason| (process, reason));
    match held.holders.iter().find_map(never) {
        Some((Process { pid: 0, command, .. }, _)) => {
            Err(refused(held, format!("{command} holds it: see losetup -l, and detach it")))
        }
        Some((Process { pid: 1, .. }, _)) => {
            Err(refused(held, "pid 1 holds it, which is never touched"))
        }
        Some((_, reason)) => Err(refused(held, reason)),
        None => Ok(()),
    }
}

/// Does what an action says to a held file.
///
/// # Errors
///
/// [`Refusal`]; then nothing has been done.
pub(super) fn release(
    action: &Action,
    ended: &mut Vec<Process>,
    clock: &dyn Fn() -> Time,
) -> Result<Released, Refusal> {
    let target = held(action)?;
    let Some((file, all)) = check(action, clock())? else {
        let by_us = target.holders.iter().all(|process| ended.contains(process));
        if by_us || !matches!(action.deed, Deed::End { .. }) {
            let message =
                if by_us { "its processes have just been ended" } else { "it is no longer held" };
            return Ok(released(EntryState::Ended, Bytes::ZERO, message));
        }
        return Err(refused(target, "it is no longer held: its space is free already"));
    };
    match &action.deed {
        Deed::End { by_force } => end(target, &file, &all, *by_force, ended, clock),
        Deed::Cut => {
            let freed = cut(target, &file)?;
            Ok(released(EntryState::Cut, freed, String::new()))
        }
        Deed::Save { to, .. } => {
            let (saved, freed) = save_and_cut(target, &file, to)?;
            let message = format!("{} saved as {}", saved.shown(UnitStyle::Binary), Shown(to));
            Ok(released(EntryState::Saved, freed, message))
        }
        other => Err(refused(target, format!("`{}` cannot be done to it", other.word()))),
    }
}

fn released(state: EntryState, freed: Bytes, message: impl Into<String>) -> Released {
    Released { state, freed, message: message.into() }
}

fn end(
    target: &HeldTarget,
    file: &DeletedFile,
    all: &DeletedFiles,
    by_force: bool,
    ended: &mut Vec<Process>,
    clock: &dyn Fn() -> Time,
) -> Result<Released, Refusal> {
    // hold of all of them first: either all are what was reviewed or have ended, or nothing is sent
    let mut taken: Vec<(&Process, ProcessHandle)> = Vec::new();
    for hold in &file.holds {
        match hold.process.handle() {
            Ok(handle) => taken.push((&hold.process, handle)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => {
                return Err(refused(target, format!("pid {}: {error}", hold.process.pid)));
            }
        }
    }
    for (process, handle) in &taken {
        match handle.end(by_force) {
            Ok(()) => {}
            Err(error) if error.raw_os_error() == Some(libc::ESRCH) => {}
            Err(error) => {
                // others may have been asked already: that is no refusal any more
                let Process { pid, command, .. } = process;
                let message = format!("pid {pid} ({command}) cannot be ended: {error}");
                return Ok(released(EntryState::Failed, Bytes::ZERO, message));
            }
        }
    }
    let since = Instant::now();
    let ours = |now: &DeletedFiles| {
        now.files.iter().any(|other| (other.dev, other.ino) == (file.dev, file.ino))
    };
    let mut after = DeletedFiles::collect(clock());
    while ours(&after) && since.elapsed() < PATIENCE {
        std::thread::sleep(Duration::from_millis(50));
        after = DeletedFiles::collect(clock());
    }
    if let Some(trouble) = &after.trouble {
        let message = format!("asked to end; whether it is still held cannot be told: {trouble}");
        return Ok(released(EntryState::Failed, Bytes::ZERO, message));
    }
    if ours(&after) {
        let pids: Vec<String> =
            taken.iter().filter(|(p, _)| p.is_there()).map(|(p, _)| p.pid.to_string()).collect();
        let message = format!(
            "asked to end {} s ago and still there: pid {}. Nothing is freed until it ends",
            PATIENCE.as_secs(),
            pids.join(", ")
        );
        return Ok(released(EntryState::Failed, Bytes::ZERO, message));
    }
    ended.extend(file.holds.iter().map(|hold| hold.process.clone()));
    // what they held besides is free with it
    let gone = |file: &&DeletedFile| {
        !after.files.iter().any(|other| (other.dev, other.ino) == (file.dev, file.ino))
            && file.holds.iter().all(|hold| ended.contains(&hold.process))
    };
    let freed = all.on_volume(file.volume).filter(gone).filter_map(|file| file.allocated).sum();
    Ok(released(EntryState::Ended, freed, String::new()))
}

/// The link below `/proc` through which a held file can be opened.
fn reachable(file: &DeletedFile) -> Option<String> {
    file.holds.iter().find_map(|hold| {
        Some(format!("/proc/{}/fd/{}", hold.process.pid, hold.descriptors.first()?))
    })
}

/// Opens a held file, and makes sure that it is the one.
fn open(target: &HeldTarget, file: &DeletedFile, writing: bool) -> Result<File, Refusal> {
    let link = reachable(file).unwrap_or_default();
    let opened = OpenOptions::new()
        .read(!writing)
        .write(writing)
        .custom_flags(libc::O_NONBLOCK)
        .open(&link)
        .map_err(CallError::on(Op::Open, &link))?;
    let stat = stat_descriptor(&opened).map_err(CallError::on(Op::Examine, &link))?;
    if (stat.dev, stat.ino, stat.links) != (file.dev, file.ino, 0) || stat.kind != Kind::File {
        return Err(refused(target, "its descriptor leads to another file now"));
    }
    Ok(opened)
}

fn cut(target: &HeldTarget, file: &DeletedFile) -> Result<Bytes, Refusal> {
    let opened = open(target, file, true)?;
    let wrap = |op| CallError::on(op, &target.was.0);
    let before = stat_descriptor(&opened).map_err(wrap(Op::Examine))?;
    opened.set_len(0).map_err(wrap(Op::Write))?;
    opened.sync_all().map_err(wrap(Op::Sync))?;
    let after = stat_descriptor(&opened).map_err(wrap(Op::Examine))?;
    Ok(before.allocated().less(after.allocated()))
}

/// Copies a held file under a new name, compares the copy, and cuts the file if it did not change
/// meanwhile; bytes saved, bytes freed.
fn save_and_cut(
    target: &HeldTarget,
    file: &DeletedFile,
    to: &Path,
) -> Result<(Bytes, Bytes), Refusal> {
    let source = open(target, file, false)?;
    let wrap = |op| CallError::on(op, to);
    guard_place(target, to)?;
    let mut aside = Aside::create(to)?;
    let facts = || stat_descriptor(&source).map_err(CallError::on(Op::Examine, &target.was.0));
    for _ in 0..ATTEMPTS {
        let before = facts()?;
        let read = copy(&source, &mut aside.file).map_err(wrap(Op::Write))?;
        aside.file.sync_all().map_err(wrap(Op::Sync))?;
        let written = read_back(aside.path()).map_err(wrap(Op::Read))?;
        let after = facts()?;
        if (before.size, before.mtime) != (after.size, after.mtime) {
            continue;
        }
        if read != written {
            return Err(refused(target, "its copy is not the same; nothing has been cut"));
        }
        if aside.name_if_free(to)?.is_some() {
            return Err(Refusal::Occupied(to.to_owned()));
        }
        let freed = cut(target, file).map_err(|refusal| {
            refused(target, format!("it is saved as {}, but {refusal}", Shown(to)))
        })?;
        return Ok((Bytes::new(after.size), freed));
    }
    Err(refused(target, "it is written to all the time; nothing has been cut"))
}

/// Copies from the beginning, leaving holes where there are only zeros; gives the hash of what was read.
fn copy(source: &File, to: &mut File) -> io::Result<blake3::Hash> {
    let mut hasher = blake3::Hasher::new();
    let mut buffer = vec![0u8; 1 << 16];
    let mut at = 0u64;
    to.set_len(0)?;
    to.seek(SeekFrom::Start(0))?;
    loop {
        let count = source.read_at(&mut buffer, at)?;
        if count == 0 {
            to.set_len(at)?;
            return Ok(hasher.finalize());
        }
        hasher.update(&buffer[..count]);
        if buffer[..count].iter().any(|byte| *byte != 0) {
            to.seek(SeekFrom::Start(at))?;
            to.write_all(&buffer[..count])?;
        }
        at += count as u64;
    }
}

/// Makes sure that nobody else can put another directory in the place of the one that a copy goes to.
fn guard_place(target: &HeldTarget, to: &Path) -> Result<(), Refusal> {
    let parent = to.parent().unwrap_or(to);
    let real = parent.canonicalize().map_err(CallError::on(Op::Open, parent))?;
    match exposed_at(&real).map_err(CallError::on(Op::Examine, &real))? {
        Some(at) => {
            Err(refused(target, format!("others may write to {}: save it elsewhere", Shown(at))))
        }
        None => Ok(()),
    }
}

/// The hash of a file that was synced, read from the device and not from memory.
fn read_back(path: &Path) -> io::Result<blake3::Hash> {
    let file = File::open(path)?;
    let _ = rustix::fs::fadvise(&file, 0, None, Advice::DontNeed);
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(file)?;
    Ok(hasher.finalize())
}

/// How a release that was cut off has come to stand.
pub(super) fn settled(action: &Action, now: Time) -> (EntryState, String) {
    let key = (action.target.device, action.target.inode);
    let all = DeletedFiles::collect(now);
    match all.files.iter().find(|file| (file.dev, file.ino) == key) {
        None if all.trouble.is_some() => {
            let trouble = all.trouble.unwrap_or_default();
            (EntryState::Failed, format!("whether it is still held cannot be told: {trouble}"))
        }
        None => (EntryState::Ended, "no longer held after the run was cut off".to_owned()),
        Some(file) if file.size == 0 && action.deed == Deed::Cut => {
            (EntryState::Cut, "cut just before the run was cut off".to_owned())
        }
        Some(_) => (EntryState::Waiting, "still held after the run was cut off".to_owned()),
    }
}
