//! One unattended run at a time.

use std::fs::{File, OpenOptions};
use std::io::{Read, Seek, Write};
use std::os::unix::fs::OpenOptionsExt;

use rustix::fs::{FlockOperation, flock};

use super::UnattendedError;
use crate::kernel::{CallError, Op};
use crate::shown::shown;
use crate::state::State;
use crate::units::Time;

/// Held while an unattended run is at work. The kernel takes it back however the process ends.
#[derive(Debug)]
pub struct UnattendedLock(File);

impl UnattendedLock {
    /// Takes it, and writes down who has it.
    ///
    /// # Errors
    ///
    /// [`UnattendedError::Busy`] with who has it, if another process does.
    pub fn take(state: &State, now: Time) -> Result<Self, UnattendedError> {
        let path = state.unattended_lock_file();
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false).mode(0o600);
        let mut file = options.open(&path).map_err(CallError::on(Op::Create, &path))?;
        match flock(&file, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => {}
            Err(rustix::io::Errno::WOULDBLOCK) => {
                let mut who = String::new();
                // who has just begun may not have written yet
                let read = file.take(200).read_to_string(&mut who).is_ok();
                let who = Some(shown(who.trim_end())).filter(|who| read && !who.is_empty());
                return Err(UnattendedError::Busy(who.unwrap_or_else(|| "just begun".to_owned())));
            }
            Err(error) => return Err(CallError::on(Op::Lock, path)(error).into()),
        }
        let who = format!("pid {}, begun {}\n", std::process::id(), now.rfc3339());
        let written = file.set_len(0).and_then(|()| file.rewind());
        let written = written.and_then(|()| file.write_all(who.as_bytes()));
        written.map_err(CallError::on(Op::Write, &path))?;
        Ok(Self(file))
    }
}

impl Drop for UnattendedLock {
    /// Closing alone would not do: a program that was started meanwhile may have a copy of the descriptor.
    fn drop(&mut self) {
        // what is not given back here is when the process ends
        let _ = flock(&self.0, FlockOperation::Unlock);
    }
}
