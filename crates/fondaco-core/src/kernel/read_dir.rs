//! Reading a directory by descriptor, in large pieces.

use std::ffi::{CStr, OsStr, OsString};
use std::io;
use std::mem::MaybeUninit;
use std::os::fd::AsFd;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use rustix::fs::{FileType, RawDir};

/// All names in a directory at a path. Used for the kernel's own listings, and not the standard library's reader,
/// which ends the program if a directory cannot be closed.
///
/// # Errors
///
/// As `openat(2)` and `getdents64(2)`.
pub fn names_in(directory: &Path) -> io::Result<Vec<OsString>> {
    let open = super::open_root(directory)?;
    let mut names = Vec::new();
    DirReader::default().read(&open, |entry| {
        names.push(OsStr::from_bytes(entry.name.to_bytes()).to_owned());
        true
    })?;
    Ok(names)
}

/// A buffer for directory entries, kept and used again from directory to directory.
pub struct DirReader {
    buffer: Vec<MaybeUninit<u8>>,
    names: Vec<u8>,
    order: Vec<(u64, u32, Listed)>,
}

/// What a directory says about an entry without being asked for more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Listed {
    /// The directory says that it is a directory.
    Directory,
    /// Anything that is no directory.
    NoDirectory,
    /// Nothing: some file systems do not say.
    Unknown,
}

/// One name as the directory gives it.
pub struct RawEntry<'a> {
    /// The name; never `.` or `..`.
    pub name: &'a CStr,
    /// What it is said to be.
    pub listed: Listed,
    /// The inode that the directory names; where something is mounted, not the one that is seen there.
    pub inode: u64,
}

/// The greatest place in a directory. Some file systems (ext4 with indexed directories) put it behind their
/// last entry, and need not be asked whether there is one more.
const LAST_PLACE: u64 = i64::MAX as u64;

/// The order in which entries are handed out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReadOrder {
    /// As the directory has them: costs nothing.
    Directory,
    /// By inode number within each piece that was read: inodes lie on the device in this order.
    Inode,
}

impl Default for DirReader {
    fn default() -> Self {
        let buffer = vec![MaybeUninit::uninit(); 64 * 1024];
        Self { buffer, names: Vec::new(), order: Vec::new() }
    }
}

impl DirReader {
    /// Calls `each` for every name in the directory (`getdents64(2)`), except `.` and `..`.
    ///
    /// Holds no more than one buffer of names, so a directory of millions is no burden. Stops
    /// early when `each` returns `false`.
    ///
    /// # Errors
    ///
    /// As `getdents64(2)`; names met before the error have been handed out.
    pub fn read(
        &mut self,
        directory: impl AsFd,
        each: impl FnMut(RawEntry<'_>) -> bool,
    ) -> io::Result<()> {
        self.read_in(ReadOrder::Directory, directory, each)
    }

    /// As [`DirReader::read`], in an order.
    ///
    /// # Errors
    ///
    /// As there.
    pub fn read_in(
        &mut self,
        order: ReadOrder,
        directory: impl AsFd,
        mut each: impl FnMut(RawEntry<'_>) -> bool,
    ) -> io::Result<()> {
        let mut entries = RawDir::new(directory, &mut self.buffer);
        self.order.clear();
        self.names.clear();
        while let Some(entry) = entries.next() {
            let entry = entry?;
            let (name, inode) = (entry.file_name(), entry.ino());
            let is_last = entry.next_entry_cookie() == LAST_PLACE;
            if !matches!(name.to_bytes(), b"." | b"..") {
                let listed = match entry.file_type() {
                    FileType::Directory => Listed::Directory,
                    FileType::Unknown => Listed::Unknown,
                    _ => Listed::NoDirectory,
                };
                if order == ReadOrder::Inode {
                    self.order.push((inode, self.names.len() as u32, listed));
                    self.names.extend_from_slice(name.to_bytes_with_nul());
                } else if !each(RawEntry { name, listed, inode }) {
                    break;
                }
            }
            if entries.is_buffer_empty() && !self.order.is_empty() {
                self.order.sort_unstable();
                for (inode, at, listed) in self.order.drain(..) {
                    let rest = &self.names[at as usize..];
                    let Ok(name) = CStr::from_bytes_until_nul(rest) else { continue };
                    if !each(RawEntry { name, listed, inode }) {
                        return Ok(());
                    }
                }
                self.names.clear();
            }
            if is_last {
                break;
            }
        }
        Ok(())
    }
}
