//! Limits that a file system keeps for users, groups and projects.

use std::ffi::CString;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use serde::Serialize;

use crate::units::{Bytes, Level};

/// Whose limit it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum QuotaOf {
    /// The limit of a user.
    User,
    /// The limit of a group.
    Group,
    /// A project's: of trees that were given the same number.
    Project,
}

impl QuotaOf {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::User => "user",
            Self::Group => "group",
            Self::Project => "project",
        }
    }
}

/// What one of them uses, and may use; 0 stands for no limit.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Quota {
    /// Whose sort of limit.
    pub of: QuotaOf,
    /// Number of the user, group or project.
    pub id: u32,
    /// Bytes in use.
    pub used: Bytes,
    /// Bytes from which on there is a time of grace.
    pub soft: Bytes,
    /// Bytes that are never exceeded.
    pub hard: Bytes,
    /// Inodes in use.
    pub inodes: u64,
    /// Inodes from which on there is a time of grace.
    pub inodes_soft: u64,
    /// Inodes that are never exceeded.
    pub inodes_hard: u64,
}

impl Quota {
    /// The limit that counts: the hard one, or else the soft one.
    pub fn limit(&self) -> Option<Bytes> {
        [self.hard, self.soft].into_iter().find(|limit| *limit > Bytes::ZERO)
    }

    /// Share of its limit that is in use.
    pub fn level(&self) -> Option<Level> {
        self.limit().map(|limit| Level::of(self.used, limit))
    }

    /// Share of its limit of inodes that is in use.
    pub fn inode_level(&self) -> Option<Level> {
        let limit = [self.inodes_hard, self.inodes_soft].into_iter().find(|limit| *limit > 0)?;
        Some(Level::of(Bytes::new(self.inodes), Bytes::new(limit)))
    }
}

/// `struct if_nextdqblk` (`linux/quota.h`).
#[repr(C)]
#[derive(Default)]
struct NextQuota {
    block_hard: u64,
    block_soft: u64,
    space: u64,
    inode_hard: u64,
    inode_soft: u64,
    inodes: u64,
    block_time: u64,
    inode_time: u64,
    valid: u32,
    id: u32,
}

const NEXT_QUOTA: i32 = 0x80_0009;
/// Limits are counted in these (`QIF_DQBLKSIZE`).
const LIMIT_UNIT: u64 = 1024;

/// All limits that are set on the file system of a device, the fullest first. Empty where none are on.
///
/// # Errors
///
/// As `quotactl(2)`: `EPERM` without `CAP_SYS_ADMIN`.
pub fn quotas(device: &Path) -> io::Result<Vec<Quota>> {
    let device = CString::new(device.as_os_str().as_bytes())?;
    let mut found = Vec::new();
    for (number, of) in [(0, QuotaOf::User), (1, QuotaOf::Group), (2, QuotaOf::Project)] {
        let mut id = 0u32;
        loop {
            match next_quota(&device, number, id) {
                Ok(quota) => {
                    found.push(of_record(of, &quota));
                    let Some(next) = quota.id.checked_add(1) else { break };
                    id = next;
                }
                Err(error) => match error.raw_os_error() {
                    // no more; not on; not known to this kernel or file system; no block device
                    Some(
                        libc::ENOENT
                        | libc::ESRCH
                        | libc::ENOSYS
                        | libc::ENOTBLK
                        | libc::EINVAL
                        | libc::EOPNOTSUPP
                        | libc::ENODEV,
                    ) => break,
                    _ => return Err(error),
                },
            }
        }
    }
    found.retain(|quota| quota.level().is_some() || quota.inode_level().is_some());
    found.sort_by_key(|quota| {
        (std::cmp::Reverse(quota.level().max(quota.inode_level())), quota.of, quota.id)
    });
    Ok(found)
}

fn next_quota(device: &CString, of: i32, id: u32) -> io::Result<NextQuota> {
    let mut quota = NextQuota::default();
    // SAFETY: the kernel writes one `if_nextdqblk`, which `quota` has the layout of, and keeps no pointer;
    // the device's name ends with a zero.
    let result = unsafe {
        libc::quotactl(
            NEXT_QUOTA << 8 | of,
            device.as_ptr(),
            id as i32,
            std::ptr::from_mut(&mut quota).cast(),
        )
    };
    if result == 0 { Ok(quota) } else { Err(io::Error::last_os_error()) }
}

fn of_record(of: QuotaOf, quota: &NextQuota) -> Quota {
    let limit = |units: u64| Bytes::new(units.saturating_mul(LIMIT_UNIT));
    Quota {
        of,
        id: quota.id,
        used: Bytes::new(quota.space),
        soft: limit(quota.block_soft),
        hard: limit(quota.block_hard),
        inodes: quota.inodes,
        inodes_soft: quota.inode_soft,
        inodes_hard: quota.inode_hard,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_limit_has_a_level_of_its_own_and_none_has_none() {
        let record =
            NextQuota { space: 900 << 10, block_hard: 1000, inodes: 7, ..Default::default() };
        let quota = of_record(QuotaOf::Project, &record);
        assert_eq!(quota.limit(), Some(Bytes::new(1000 << 10)));
        assert_eq!(quota.level(), Some(Level::from_permille(900)));
        assert_eq!(quota.inode_level(), None);
        assert!(quotas(Path::new("/no/such/device")).is_ok_and(|quotas| quotas.is_empty()));
    }
}
