//! The index beside an archive, `NAME.json`; its form is described in `docs/formats.md`.

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::kernel::Kind;
use crate::shown::DocPath;
use crate::units::Time;

/// What an archive holds and where it came from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Index {
    /// Version of the document: [`VERSION`].
    pub fondaco: u32,
    /// The kind of document: always `archive-index`.
    pub kind: String,
    /// Name of the archive's file.
    pub archive: String,
    /// SHA-256 of the archive's file.
    pub sha256: String,
    /// When it was made, RFC 3339.
    pub created: String,
    /// The machine that the originals were on.
    pub machine: String,
    /// In the order of the archive.
    pub targets: Vec<ArchivedTarget>,
}

/// One target in an archive.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ArchivedTarget {
    /// Number of its action in the plan.
    pub action: u32,
    /// Where it was.
    pub original: DocPath,
    /// Where its frame begins in the archive's file.
    pub offset: u64,
    /// Length of its frame.
    pub length: u64,
    /// In the order of the archive, directories before what they hold.
    pub entries: Vec<ArchivedEntry>,
}

impl ArchivedTarget {
    /// The number of its action, and where it was.
    pub fn place(&self) -> (u32, PathBuf) {
        (self.action, self.original.0.clone())
    }
}

/// One name in an archive.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ArchivedEntry {
    /// Its name in the archive.
    pub name: DocPath,
    /// What it is.
    pub kind: Kind,
    /// `st_mode`, with the type bits.
    pub mode: u32,
    /// Number of the user that owns the original.
    pub uid: u32,
    /// Number of the group that owns the original.
    pub gid: u32,
    /// Length of a file.
    pub size: u64,
    /// When the original was last written.
    pub mtime: Time,
    /// When the original was last read.
    pub atime: Time,
    /// SHA-256 of a file's contents, holes read as zeros; none for another name of a file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
    /// What a symbolic link points to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<DocPath>,
    /// For a hard link: the earlier name in the archive that shares its inode.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub same_as: Option<DocPath>,
    /// Device number of a device node.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub device: u64,
    /// Extended attributes, access control lists among them, in base64.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub attributes: BTreeMap<String, String>,
}

#[allow(clippy::trivially_copy_pass_by_ref)] // the form that serde asks for
fn is_zero(number: &u64) -> bool {
    *number == 0
}

impl ArchivedEntry {
    /// Whether it is one more name of something that stands before it in the archive.
    pub fn is_other_name(&self) -> bool {
        self.same_as.is_some()
    }
}

/// The version of the document that is written. Version 1 told other names of a file by `link`, and knew none of
/// anything else.
pub const VERSION: u32 = 2;

impl Index {
    /// Reads an index of any version so far.
    ///
    /// # Errors
    ///
    /// What is wrong with it.
    pub fn parse(text: &[u8]) -> Result<Self, serde_json::Error> {
        use serde::de::Error;
        let mut index: Self = serde_json::from_slice(text)?;
        if index.kind != "archive-index" {
            return Err(Error::custom("it is no index of an archive"));
        }
        match index.fondaco {
            VERSION => {}
            1 => {
                let entries = index.targets.iter_mut().flat_map(|target| &mut target.entries);
                for entry in entries.filter(|entry| entry.kind == Kind::File) {
                    entry.same_as = entry.link.take();
                }
            }
            other => {
                let words = format!("it has version {other}; this program reads 1 and {VERSION}");
                return Err(Error::custom(words));
            }
        }
        Ok(index)
    }
}
