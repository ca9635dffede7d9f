//! What is written on a whole file system, as the kernel tells it while it happens.
//!
//! The queue of events is bounded by the kernel: what does not fit is lost, and that is told.
//!
//! Source: `fanotify(7)`, `fanotify_init(2)`, `fanotify_mark(2)`; `open_by_handle_at(2)`.

use std::ffi::CString;
use std::io;
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// Takes from the queue at once.
const BUFFER: usize = 256 << 10;

/// Length of the head of an event.
const HEAD: usize = 24;
/// The sort of a record that names a directory and an entry in it.
const DIRECTORY_AND_NAME: u8 = 2;
/// The longest handle that there is (`MAX_HANDLE_SZ`).
const LONGEST: usize = 128;

/// See the [module](self).
#[derive(Debug)]
pub struct FileEvents {
    queue: OwnedFd,
    /// Any directory on the file system: handles are opened by it.
    mount: OwnedFd,
    buffer: Vec<u8>,
}

/// What happened to an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FileEvent<'a> {
    /// The process that did it.
    pub pid: u32,
    /// It was made.
    pub made: bool,
    /// It came here by a new name.
    pub moved_here: bool,
    /// The handle of its directory, with the sort of handle in its first four bytes.
    pub directory: &'a [u8],
    /// The name of the entry in its directory.
    pub name: &'a [u8],
}

impl FileEvents {
    /// Begins to listen to the file system that holds a path.
    ///
    /// # Errors
    ///
    /// `EPERM` for users without `CAP_SYS_ADMIN`, `EXDEV` or `EOPNOTSUPP` on file systems that cannot be listened to, and as
    /// `fanotify_init(2)` and `fanotify_mark(2)`.
    pub fn begin(place: &Path) -> io::Result<Self> {
        let flags = libc::FAN_CLASS_NOTIF
            | libc::FAN_CLOEXEC
            | libc::FAN_NONBLOCK
            | libc::FAN_REPORT_DIR_FID
            | libc::FAN_REPORT_NAME;
        // SAFETY: it takes numbers only
        let queue = unsafe { libc::fanotify_init(flags, libc::O_RDONLY as u32) };
        if queue < 0 {
            return Err(io::Error::last_os_error());
        }
        // SAFETY: the descriptor was just given to us, and to nobody else
        let queue = unsafe { OwnedFd::from_raw_fd(queue) };
        let mount = super::open_root(place)?;
        let path = CString::new(place.as_os_str().as_bytes())?;
        let what = libc::FAN_CREATE | libc::FAN_MODIFY | libc::FAN_MOVED_TO;
        let how = libc::FAN_MARK_ADD | libc::FAN_MARK_FILESYSTEM;
        // SAFETY: the path ends with a zero byte and lives as long as the call
        let marked = unsafe {
            libc::fanotify_mark(queue.as_raw_fd(), how, what, libc::AT_FDCWD, path.as_ptr())
        };
        if marked < 0 {
            return Err(io::Error::last_os_error());
        }
        Ok(Self { queue, mount, buffer: vec![0; BUFFER] })
    }

    /// Takes all events that wait. Says whether some were lost because the queue was full.
    ///
    /// # Errors
    ///
    /// As `read(2)`.
    pub fn take(&mut self, mut each: impl FnMut(FileEvent<'_>)) -> io::Result<bool> {
        let mut lost = false;
        loop {
            let read = match rustix::io::read(&self.queue, &mut self.buffer[..]) {
                Ok(read) => read,
                Err(rustix::io::Errno::AGAIN) => return Ok(lost),
                Err(rustix::io::Errno::INTR) => continue,
                Err(error) => return Err(error.into()),
            };
            if read == 0 {
                return Ok(lost);
            }
            let mut events = &self.buffer[..read];
            while let Some((event, rest)) = next_event(events) {
                match event {
                    Parsed::Lost => lost = true,
                    Parsed::Event(event) => each(event),
                    Parsed::Other => {}
                }
                events = rest;
            }
        }
    }

    /// The path of a directory, by its handle, and a descriptor of it.
    ///
    /// # Errors
    ///
    /// `ESTALE` if it is gone; as `open_by_handle_at(2)`.
    pub fn open_directory(&self, handle: &[u8]) -> io::Result<(OwnedFd, PathBuf)> {
        let (sort, bytes) = handle.split_at_checked(4).ok_or(io::ErrorKind::InvalidInput)?;
        if bytes.len() > LONGEST {
            return Err(io::ErrorKind::InvalidInput.into());
        }
        // `struct file_handle`: the number of bytes, the sort, the bytes
        let mut whole = [0u32; 2 + LONGEST / 4];
        whole[0] = bytes.len() as u32;
        whole[1] = u32::from_ne_bytes([sort[0], sort[1], sort[2], sort[3]]);
        for (number, four) in bytes.chunks(4).enumerate() {
            let mut word = [0; 4];
            word[..four.len()].copy_from_slice(four);
            whole[2 + number] = u32::from_ne_bytes(word);
        }
        let flags = libc::O_PATH | libc::O_DIRECTORY | libc::O_CLOEXEC;
        let at = self.mount.as_raw_fd();
        // SAFETY: the handle is aligned, says how long it is and lives as long as the call
        let opened = unsafe { libc::open_by_handle_at(at, whole.as_mut_ptr().cast(), flags) };
        if opened < 0 {
            return Err(io::Error::last_os_error());
        }
        // SAFETY: the descriptor was just given to us, and to nobody else
        let opened = unsafe { OwnedFd::from_raw_fd(opened) };
        let path = std::fs::read_link(format!("/proc/self/fd/{}", opened.as_raw_fd()))?;
        Ok((opened, path))
    }
}

enum Parsed<'a> {
    Event(FileEvent<'a>),
    Lost,
    /// Nothing that tells a directory and a name.
    Other,
}

/// The first event of some, and the others; nothing where no whole event follows.
fn next_event(bytes: &[u8]) -> Option<(Parsed<'_>, &[u8])> {
    let word = |at: usize| Some(u32::from_ne_bytes(bytes.get(at..at + 4)?.try_into().ok()?));
    let length = word(0)? as usize;
    let mask = u64::from_ne_bytes(bytes.get(8..16)?.try_into().ok()?);
    let pid = word(20)?;
    if length < HEAD || length > bytes.len() {
        return None;
    }
    let (event, rest) = bytes.split_at(length);
    if mask & libc::FAN_Q_OVERFLOW != 0 {
        return Some((Parsed::Lost, rest));
    }
    let mut records = &event[HEAD..];
    while records.len() >= 4 {
        let length = usize::from(u16::from_ne_bytes([records[2], records[3]]));
        if length < 4 || length > records.len() {
            break;
        }
        let (record, others) = records.split_at(length);
        if record[0] == DIRECTORY_AND_NAME
            && let Some((directory, name)) = directory_and_name(record)
        {
            let made = mask & libc::FAN_CREATE != 0;
            let moved_here = mask & libc::FAN_MOVED_TO != 0;
            return Some((
                Parsed::Event(FileEvent { pid, made, moved_here, directory, name }),
                rest,
            ));
        }
        records = others;
    }
    Some((Parsed::Other, rest))
}

/// The parts of such a record: after its head the id of the file system in eight bytes, then the handle, then the name.
fn directory_and_name(record: &[u8]) -> Option<(&[u8], &[u8])> {
    let bytes = u32::from_ne_bytes(record.get(12..16)?.try_into().ok()?) as usize;
    let directory = record.get(16..20usize.checked_add(bytes)?)?;
    let name = record.get(20 + bytes..)?;
    let end = name.iter().position(|byte| *byte == 0)?;
    Some((directory, &name[..end]))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// An event as the kernel writes it.
    fn event(mask: u64, pid: u32, record: &[u8]) -> Vec<u8> {
        let mut event = Vec::new();
        event.extend(((HEAD + record.len()) as u32).to_ne_bytes());
        event.extend([3, 0, HEAD as u8, 0]);
        event.extend(mask.to_ne_bytes());
        event.extend((-1i32).to_ne_bytes());
        event.extend(pid.to_ne_bytes());
        event.extend(record);
        event
    }

    fn record(handle: &[u8], name: &[u8]) -> Vec<u8> {
        let length = 4 + 8 + 8 + handle.len() + name.len() + 1;
        let mut record = vec![DIRECTORY_AND_NAME, 0];
        record.extend((length as u16).to_ne_bytes());
        record.extend([7; 8]);
        record.extend((handle.len() as u32).to_ne_bytes());
        record.extend(1i32.to_ne_bytes());
        record.extend(handle);
        record.extend(name);
        record.push(0);
        record
    }

    #[test]
    fn events_are_read_one_after_the_other_and_cut_ones_end_it() {
        let mut bytes = event(libc::FAN_CREATE, 12, &record(&[1; 8], b"tide.csv"));
        bytes.extend(event(libc::FAN_Q_OVERFLOW, 0, &[]));
        bytes.extend(event(libc::FAN_MODIFY, 13, &record(&[2; 12], b"buoy.log")));
        let (first, rest) = next_event(&bytes).unwrap();
        let Parsed::Event(first) = first else { panic!("an event") };
        assert_eq!((first.pid, first.made, first.name), (12, true, &b"tide.csv"[..]));
        let (second, rest) = next_event(rest).unwrap();
        assert!(matches!(second, Parsed::Lost));
        let (third, rest) = next_event(rest).unwrap();
        let Parsed::Event(third) = third else { panic!("an event") };
        assert_eq!((third.directory.len(), third.name), (16, &b"buoy.log"[..]));
        assert!(next_event(rest).is_none());
        // whatever is cut off, nothing is made up and nothing panics
        for length in 0..bytes.len() {
            let mut left = &bytes[..length];
            while let Some((_, rest)) = next_event(left) {
                left = rest;
            }
        }
        // and with any single byte changed
        for at in 0..bytes.len() {
            for value in [0, 1, 2, 127, 255] {
                let mut other = bytes.clone();
                other[at] = value;
                let mut left = &other[..];
                let mut count = 0;
                while let Some((_, rest)) = next_event(left) {
                    (left, count) = (rest, count + 1);
                }
                assert!(count <= 3);
            }
        }
    }

    #[test]
    fn what_is_written_is_told_with_its_place_and_process() {
        let directory = tempfile::tempdir().unwrap();
        let mut events = match FileEvents::begin(directory.path()) {
            Ok(events) => events,
            Err(error) => {
                eprintln!("SKIPPED: this user may not listen to a file system: {error}");
                return;
            }
        };
        std::fs::create_dir(directory.path().join("logs")).unwrap();
        std::fs::write(directory.path().join("logs/buoy.log"), b"rise").unwrap();
        let mut found = Vec::new();
        events
            .take(|event| {
                if event.name == b"buoy.log" && event.pid == std::process::id() {
                    found.push((event.made, event.directory.to_vec()));
                }
            })
            .unwrap();
        assert!(found.iter().any(|(made, _)| *made), "{found:?}");
        let (_, path) = events.open_directory(&found[0].1).unwrap();
        assert_eq!(path, directory.path().canonicalize().unwrap().join("logs"));
    }
}
