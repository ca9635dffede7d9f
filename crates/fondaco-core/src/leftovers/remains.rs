//! What crashed programs and editors leave: told by contents, and by whether the process is still there.

use std::io::{self, Read};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::Arc;

use super::found::Leftover;
use super::group::GroupName;
use crate::catalog::{Catalog, EntryId};
use crate::kernel::{self, Process};

/// The beginning of a file, without following links or waiting for anything; nothing if it cannot be read.
pub(super) fn head(path: &Path, most: u64) -> Option<Vec<u8>> {
    read_head(path, most).ok()
}

/// As [`head`], with the reason why not.
pub(super) fn read_head(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    let (Some(directory), Some(name)) = (path.parent(), path.file_name()) else {
        return Err(io::ErrorKind::InvalidInput.into());
    };
    let file = kernel::open_file(kernel::open_root(directory)?, name)?;
    let mut head = Vec::new();
    file.take(most).read_to_end(&mut head)?;
    Ok(head)
}

/// What a file is by its contents if it is the memory of a program (`core(5)`, `elf(5)`): the program's name as the
/// kernel had it, empty if the dump does not say.
pub(super) fn dumped_program(head: &[u8]) -> Option<String> {
    const CORE: u64 = 4;
    const NOTE: u64 = 4;
    const PROCESS: u64 = 3;
    if head.get(..4)? != b"\x7fELF" {
        return None;
    }
    let wide = *head.get(4)? == 2;
    let big = *head.get(5)? == 2;
    let number = |at: usize, bytes: usize| -> Option<u64> {
        let part = head.get(at..at.checked_add(bytes)?)?;
        let add = |sum: u64, byte: &u8| sum << 8 | u64::from(*byte);
        Some(if big { part.iter().fold(0, add) } else { part.iter().rev().fold(0, add) })
    };
    if number(16, 2)? != CORE {
        return None;
    }
    let name = || {
        let (table, size, count) = match wide {
            true => (number(32, 8)?, number(54, 2)?, number(56, 2)?),
            false => (number(28, 4)?, number(42, 2)?, number(44, 2)?),
        };
        for row in 0..count.min(64) {
            let at = usize::try_from(table.checked_add(row * size)?).ok()?;
            if number(at, 4)? != NOTE {
                continue;
            }
            let offset = if wide { number(at + 8, 8)? } else { number(at + 4, 4)? };
            let mut at = usize::try_from(offset).ok()?;
            for _ in 0..64 {
                let (name, data) = (number(at, 4)? as usize, number(at + 4, 4)? as usize);
                let contents = at + 12 + name.next_multiple_of(4);
                if number(at + 8, 4)? == PROCESS {
                    // `pr_fname` of `struct elf_prpsinfo` in the kernel's `linux/elfcore.h`
                    let field = contents + if wide { 40 } else { 28 };
                    let field = head.get(field..field + 16)?;
                    let end = field.iter().position(|byte| *byte == 0).unwrap_or(field.len());
                    return Some(crate::shown::shown(std::ffi::OsStr::from_bytes(&field[..end])));
                }
                at = contents.checked_add(data.next_multiple_of(4))?;
            }
        }
        None
    };
    Some(name().unwrap_or_default())
}

/// Tells which of these are the memory of programs.
pub(super) fn cores(catalog: &Catalog, files: &[EntryId]) -> Vec<(GroupName, Leftover)> {
    let group = GroupName::CrashDumps;
    let least = group.group().least_age().secs() as i64;
    let mut found = Vec::new();
    for id in files {
        let Some(head) = head(&catalog.path(*id), 64 << 10) else { continue };
        let Some(program) = dumped_program(&head) else { continue };
        let note = match program.is_empty() {
            true => "the memory of a program that crashed".to_owned(),
            false => format!("the memory of {program}, which crashed"),
        };
        let item = Leftover::entry(catalog, *id, note.into());
        let is_old = catalog.now().sec.saturating_sub(item.since.sec) >= least;
        found.push((
            group,
            if is_old { item } else { item.that_stays("written within the last day") },
        ));
    }
    found
}

/// What a name in a directory for dumps tells: `core.PROGRAM.UID.BOOT.PID.TIME` of systemd-coredump(8), and
/// `_usr_bin_PROGRAM.UID.crash` of others.
pub(super) fn named_dump(name: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(name).into_owned();
    let program = if let Some(rest) = text.strip_prefix("core.") {
        let mut parts: Vec<&str> = rest.split('.').collect();
        if matches!(parts.last(), Some(&("zst" | "lz4" | "xz"))) {
            parts.pop();
        }
        // the name may have dots of its own; four parts follow it
        (parts.len() > 4).then(|| parts[..parts.len() - 4].join("."))?
    } else {
        let rest = text.strip_suffix(".crash")?;
        rest.rsplit_once('.')?.0.replace('_', "/")
    };
    Some(format!("what was kept of {}, which crashed", crate::shown::shown(program)))
}

/// Longer files are no locks that hold a number.
pub(super) const LONGEST_LOCK: u64 = 64;

/// Whether a name is usual for a file that holds the number of a process.
pub(super) fn is_lock_name(name: &[u8]) -> bool {
    name.starts_with(b"LCK..")
        || [&b".pid"[..], b".lock", b".lck"].iter().any(|end| name.ends_with(end))
}

/// The number of the process that a lock is of: a number alone in a file, or at the end of a link's text, behind the name of
/// this machine or an address of it.
fn locked_by(path: &Path, is_link: bool) -> Option<u32> {
    if is_link {
        let target = std::fs::read_link(path).ok()?;
        let text = target.to_str()?;
        let (host, number) = match text.split_once(":+") {
            Some((address, number)) => {
                (address.starts_with("127.").then(kernel::node_name)?, number)
            }
            None => {
                let (host, number) = text.rsplit_once('-')?;
                (host.to_owned(), number)
            }
        };
        return number.parse().ok().filter(|_| host == kernel::node_name());
    }
    let head = head(path, LONGEST_LOCK)?;
    let text = std::str::from_utf8(&head).ok()?.trim();
    text.parse().ok().filter(|number| *number > 1)
}

/// Tells which of these are locks of processes that have ended.
pub(super) fn locks(
    catalog: &Catalog,
    files: &[EntryId],
    links: &[EntryId],
) -> Vec<(GroupName, Leftover)> {
    let group = GroupName::EditorRemains;
    let least = group.group().least_age().secs() as i64;
    let links =
        links.iter().filter(|id| matches!(catalog.own_name(**id), b"lock" | b"SingletonLock"));
    let all = files.iter().map(|id| (*id, false)).chain(links.map(|id| (*id, true)));
    let old =
        all.filter(|(id, _)| catalog.now().sec.saturating_sub(catalog.newest(*id).sec) >= least);
    let left = old.filter_map(|(id, is_link)| {
        let pid = locked_by(&catalog.path(id), is_link)?;
        let note = format!("the lock of process {pid}, which this machine does not have");
        Process::has_ended(pid).then(|| (group, Leftover::entry(catalog, id, note.into())))
    });
    left.collect()
}

/// Why the remains of an editor stay, if they do: the process that wrote them is there, or they cannot be read.
pub(super) fn editor_at_work(path: &Path) -> Option<Arc<str>> {
    let name = path.file_name()?.as_bytes();
    let pid = if name.starts_with(b".#") {
        // a link whose text is `user@host.pid:boot`
        let target = match std::fs::read_link(path) {
            Ok(target) => target,
            // a file whose name begins like such a link
            Err(error) if error.kind() == io::ErrorKind::InvalidInput => return None,
            Err(error) => return Some(not_read(&error)),
        };
        let text = target.to_str()?.rsplit_once('@')?.1.to_owned();
        let (place, _) = text.split_once(':').unwrap_or((&text, ""));
        let (host, pid) = place.rsplit_once('.')?;
        if host != kernel::node_name() {
            return Some(format!("an editor on {} may have it", crate::shown::shown(host)).into());
        }
        pid.parse().ok()?
    } else {
        let head = match read_head(path, 68 + 40) {
            Ok(head) => head,
            Err(error) => return Some(not_read(&error)),
        };
        if head.get(..2)? != b"b0" {
            return None;
        }
        // the block begins with: id, version (10), page size, time, inode, process (4 each), user (40), host (40)
        let host = head.get(68..108)?;
        let host = &host[..host.iter().position(|byte| *byte == 0).unwrap_or(host.len())];
        if host != kernel::node_name().as_bytes() {
            let host = crate::shown::shown(std::ffi::OsStr::from_bytes(host));
            return Some(format!("an editor on {host} may have it").into());
        }
        u32::from_le_bytes(head.get(24..28)?.try_into().ok()?)
    };
    match Process::look(pid) {
        Some(process) => Some(format!("{} (pid {pid}) is there", process.command).into()),
        None if Process::has_ended(pid) => None,
        None => Some(format!("process {pid} is there").into()),
    }
}

fn not_read(error: &io::Error) -> Arc<str> {
    format!("it cannot be read: {error}").into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn damaged_dumps_are_none_and_never_stop_the_program() {
        assert_eq!(dumped_program(b"\x7fELF"), None);
        let mut head = vec![0; 256];
        head[..6].copy_from_slice(b"\x7fELF\x02\x01");
        head[16] = 4;
        assert_eq!(dumped_program(&head), Some(String::new()));
        // a table that lies at the end of all numbers, and a note without an end
        head[32..40].fill(0xff);
        head[54] = 56;
        head[56] = 9;
        assert_eq!(dumped_program(&head), Some(String::new()));
        head[32..40].copy_from_slice(&64u64.to_le_bytes());
        head[64] = 4;
        head[72..80].copy_from_slice(&128u64.to_le_bytes());
        head[128..136].fill(0xff);
        assert_eq!(dumped_program(&head), Some(String::new()));
        head[16] = 3;
        assert_eq!(dumped_program(&head), None, "a program is no dump");
    }

    #[test]
    fn names_of_kept_dumps_tell_the_program() {
        let systemd = b"core.tide\x2dmodel.1000.0123456789abcdef.4242.2041000000.zst";
        assert_eq!(named_dump(systemd).unwrap(), "what was kept of tide-model, which crashed");
        assert!(named_dump(b"_usr_bin_tide.1000.crash").unwrap().contains("/usr/bin/tide"));
        assert_eq!(named_dump(b"core.1"), None);
    }
}
