//! What this user may do about files of others.

use std::os::fd::{AsFd, AsRawFd};

use rustix::fs::{Access, AtFlags, CWD};

use super::{Kind, Stat, effective_user};

/// Whether this user may make another name of an open file (`proc_sys_fs(5)`, `protected_hardlinks`).
pub fn may_link(file: impl AsFd, stat: &Stat) -> bool {
    let us = effective_user();
    if us == 0 || stat.uid == us {
        return true;
    }
    let said = std::fs::read_to_string("/proc/sys/fs/protected_hardlinks");
    if said.is_ok_and(|said| said.trim() == "0") {
        return true;
    }
    // set-user-id, or set-group-id with the right to run it
    let is_special = stat.mode & 0o4000 != 0 || stat.mode & 0o2010 == 0o2010;
    let open = format!("/proc/self/fd/{}", file.as_fd().as_raw_fd());
    let rights = Access::READ_OK | Access::WRITE_OK;
    let allowed = rustix::fs::accessat(CWD, open, rights, AtFlags::EACCESS).is_ok();
    stat.kind == Kind::File && !is_special && allowed
}

/// Whether this user may give a file that it makes to an owner and a group (`chown(2)`).
pub fn may_give_to(uid: u32, gid: u32) -> bool {
    let us = effective_user();
    if us == 0 {
        return true;
    }
    let groups = rustix::process::getgroups().unwrap_or_default();
    let ours = rustix::process::getegid().as_raw();
    uid == us && (gid == ours || groups.iter().any(|group| group.as_raw() == gid))
}
