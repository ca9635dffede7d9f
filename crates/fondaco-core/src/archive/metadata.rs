//! What a file has besides its contents: owner, mode, times and extended attributes.

use std::collections::BTreeMap;
use std::os::fd::OwnedFd;
use std::path::Path;

use serde::{Deserialize, Serialize};

use super::ArchivedEntry;
use super::dress::dress;
use super::original::attributes;
use crate::kernel::{self, CallError, Kind, Op, Stat};
use crate::shown::{DocPath, shown};
use crate::units::Time;

/// See the [module](self).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Metadata {
    /// `st_mode`, with the type bits.
    pub mode: u32,
    /// Number of the user that owns it.
    pub uid: u32,
    /// Number of the group that owns it.
    pub gid: u32,
    /// When it was last written.
    pub mtime: Time,
    /// When it was last read.
    pub atime: Time,
    /// Extended attributes, access control lists among them, in base64.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub attributes: BTreeMap<String, String>,
}

impl Metadata {
    /// Of a file that is open.
    ///
    /// # Errors
    ///
    /// [`CallError`]; `path` is for its message.
    pub(crate) fn of(file: &OwnedFd, path: &Path) -> Result<Self, CallError> {
        let stat = kernel::stat_descriptor(file).map_err(CallError::on(Op::Examine, path))?;
        let attributes = attributes(file).map_err(CallError::on(Op::Read, path))?;
        Ok(Self::with(&stat, attributes))
    }

    fn with(stat: &Stat, attributes: BTreeMap<String, String>) -> Self {
        let Stat { mode, uid, gid, mtime, atime, .. } = *stat;
        Self { mode, uid, gid, mtime, atime, attributes }
    }

    /// What another file with the same contents has otherwise, in words; when it was last read does not count.
    pub(crate) fn differences(&self, other: &Self) -> Vec<String> {
        let mut found = Vec::new();
        if (self.uid, self.gid) != (other.uid, other.gid) {
            let (own, theirs) = ((self.uid, self.gid), (other.uid, other.gid));
            found.push(format!("owner {}:{}, not {}:{}", theirs.0, theirs.1, own.0, own.1));
        }
        if self.mode != other.mode {
            found.push(format!("mode {:04o}, not {:04o}", other.mode & 0o7777, self.mode & 0o7777));
        }
        if self.mtime != other.mtime {
            let (own, theirs) = (self.mtime.rfc3339(), other.mtime.rfc3339());
            found.push(format!("last written {theirs}, not {own}"));
        }
        let names = self.attributes.keys().chain(other.attributes.keys());
        let mut names: Vec<&String> = names
            .filter(|name| self.attributes.get(*name) != other.attributes.get(*name))
            .collect();
        names.sort();
        names.dedup();
        if !names.is_empty() {
            let names: Vec<String> = names.into_iter().map(shown).collect();
            found.push(format!("other attributes: {}", names.join(", ")));
        }
        found
    }

    /// Gives it to a file that is open.
    ///
    /// # Errors
    ///
    /// [`CallError`]; `path` is for its message.
    pub(crate) fn give_to(&self, file: &OwnedFd, path: &Path) -> Result<(), CallError> {
        dress(file, &self.entry(path), path)
    }

    fn entry(&self, path: &Path) -> ArchivedEntry {
        ArchivedEntry {
            name: DocPath(path.to_owned()),
            kind: Kind::File,
            mode: self.mode,
            uid: self.uid,
            gid: self.gid,
            size: 0,
            mtime: self.mtime,
            atime: self.atime,
            sha256: None,
            link: None,
            same_as: None,
            device: 0,
            attributes: self.attributes.clone(),
        }
    }
}
