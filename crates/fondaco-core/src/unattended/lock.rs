//! One unattended run at a time.

use std::io::{Read, Seek, Write};

use super::UnattendedError;
use crate::kernel::{CallError, FileLock, Op};
use crate::shown::shown;
use crate::state::State;
use crate::units::Time;

/// Held while an unattended run is at work.
#[derive(Debug)]
pub struct UnattendedLock {
    _lock: FileLock,
}

impl UnattendedLock {
    /// Takes it, and writes down who has it.
    ///
    /// # Errors
    ///
    /// [`UnattendedError::Busy`] with who has it, if another process does.
    pub fn take(state: &State, now: Time) -> Result<Self, UnattendedError> {
        let path = state.unattended_lock_file();
        let mut lock = FileLock::open(&path)?;
        if !lock.try_lock(&path)? {
            let mut who = String::new();
            // who has just begun may not have written yet
            let read = lock.file().take(200).read_to_string(&mut who).is_ok();
            let who = Some(shown(who.trim_end())).filter(|who| read && !who.is_empty());
            return Err(UnattendedError::Busy(who.unwrap_or_else(|| "just begun".to_owned())));
        }
        let who = format!("pid {}, begun {}\n", std::process::id(), now.rfc3339());
        let file = lock.file();
        let written = file.set_len(0).and_then(|()| file.rewind());
        let written = written.and_then(|()| file.write_all(who.as_bytes()));
        written.map_err(CallError::on(Op::Write, &path))?;
        Ok(Self { _lock: lock })
    }
}
