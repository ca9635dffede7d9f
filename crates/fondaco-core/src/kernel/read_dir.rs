//! Reading a directory by descriptor, in large pieces.

use std::ffi::CStr;
use std::io;
use std::mem::MaybeUninit;
use std::os::fd::AsFd;

use rustix::fs::{FileType, RawDir};

/// A buffer for directory entries, kept and used again from directory to directory.
pub struct DirReader {
    buffer: Vec<MaybeUninit<u8>>,
}

/// One name as the directory gives it.
pub struct RawEntry<'a> {
    /// The name; never `.` or `..`.
    pub name: &'a CStr,
    /// Whether the directory already says that this is no directory; some file systems do not say.
    pub surely_no_directory: bool,
}

impl Default for DirReader {
    fn default() -> Self {
        Self { buffer: vec![MaybeUninit::uninit(); 64 * 1024] }
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
        mut each: impl FnMut(RawEntry<'_>) -> bool,
    ) -> io::Result<()> {
        let mut entries = RawDir::new(directory, &mut self.buffer);
        while let Some(entry) = entries.next() {
            let entry = entry?;
            let name = entry.file_name();
            if matches!(name.to_bytes(), b"." | b"..") {
                continue;
            }
            let surely_no_directory =
                !matches!(entry.file_type(), FileType::Directory | FileType::Unknown);
            if !each(RawEntry { name, surely_no_directory }) {
                break;
            }
        }
        Ok(())
    }
}
