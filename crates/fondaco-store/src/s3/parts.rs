//! An object that is sent in parts: while one is on its way the next one is filled.
//!
//! The store has nothing under the object's name before all parts have come. A part that is sent again under its number
//! replaces the earlier one, so that what was written can be taken back although some of it has been sent.

use std::io::{self, Read, Write};
use std::sync::Arc;
use std::thread::JoinHandle;

use super::S3;
use crate::{PART, Store, StoreError, Upload};

/// More parts than this a store does not take.
const MOST_PARTS: usize = 10_000;

/// See the [module](self).
pub(super) struct InParts {
    store: Arc<S3>,
    name: String,
    key: String,
    /// What the store calls this upload, once it has been begun.
    upload: Option<String>,
    /// What the store calls the parts that it has.
    tags: Vec<String>,
    /// The part that comes after those.
    sending: Option<Sending>,
    /// The part that is being filled.
    buffer: Vec<u8>,
    /// Where it begins.
    begins: u64,
    /// What is written from here on may be taken back.
    kept: u64,
    /// The part in which that begins, and where the part begins, if it has been sent.
    kept_part: Option<(Arc<Vec<u8>>, u64)>,
    is_finished: bool,
}

enum Sending {
    On(JoinHandle<Result<String, StoreError>>),
    Done(Result<String, StoreError>),
}

impl std::fmt::Debug for InParts {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("InParts").field("name", &self.name).finish_non_exhaustive()
    }
}

impl InParts {
    pub(super) fn new(store: Arc<S3>, name: &str) -> Result<Self, StoreError> {
        Ok(Self {
            key: store.key(name)?,
            store,
            name: name.to_owned(),
            upload: None,
            tags: Vec::new(),
            sending: None,
            buffer: Vec::new(),
            begins: 0,
            kept: 0,
            kept_part: None,
            is_finished: false,
        })
    }

    fn length(&self) -> u64 {
        self.begins + self.buffer.len() as u64
    }

    /// Waits for the part that is on its way.
    fn arrived(&mut self) -> Result<(), StoreError> {
        let tag = match self.sending.take() {
            None => return Ok(()),
            Some(Sending::Done(tag)) => tag,
            Some(Sending::On(thread)) => thread
                .join()
                .unwrap_or_else(|_| Err(self.store.client.cut("the thread that sends has ended"))),
        };
        self.tags.push(tag?);
        Ok(())
    }

    /// Begins the upload, and notes beside the object what it is called.
    fn begin(&mut self) -> Result<String, StoreError> {
        let upload = self.upload.insert(self.store.begin_parts(&self.key)?).clone();
        self.store.put(&S3::note(&self.name), upload.as_bytes())?;
        Ok(upload)
    }

    fn send_part(&mut self) -> Result<(), StoreError> {
        self.arrived()?;
        let upload = match &self.upload {
            Some(upload) => upload.clone(),
            None => self.begin()?,
        };
        if self.tags.len() >= MOST_PARTS {
            let most = (MOST_PARTS * PART) >> 30;
            return Err(StoreError::Access(format!(
                "an archive in an S3 store has at most {most} GiB: plan less at once"
            )));
        }
        let number = self.tags.len() as u16 + 1;
        let part = Arc::new(std::mem::take(&mut self.buffer));
        let begins = self.begins;
        self.begins += part.len() as u64;
        if (begins..self.begins).contains(&self.kept) {
            self.kept_part = Some((Arc::clone(&part), begins));
        }
        let (store, key) = (Arc::clone(&self.store), self.key.clone());
        let again = (Arc::clone(&part), upload.clone());
        let send = move || store.put_part(&key, &upload, number, &part);
        let thread = std::thread::Builder::new().name("upload".to_owned()).spawn(send);
        self.sending = Some(match thread {
            Ok(thread) => Sending::On(thread),
            Err(_) => Sending::Done(self.store.put_part(&self.key, &again.1, number, &again.0)),
        });
        Ok(())
    }
}

impl Write for InParts {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.buffer.len() == PART {
            self.send_part()?;
        }
        let taken = bytes.len().min(PART - self.buffer.len());
        self.buffer.extend_from_slice(&bytes[..taken]);
        Ok(taken)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Upload for InParts {
    fn can_take_back(&self) -> bool {
        true
    }

    fn keep_from(&mut self) {
        self.kept = self.length();
        self.kept_part = None;
    }

    fn take_back(&mut self) -> io::Result<()> {
        if let Some((part, begins)) = self.kept_part.take() {
            // what became of a part that is not wanted does not matter
            let _ = self.arrived();
            let before = usize::try_from(begins).unwrap_or(usize::MAX) / PART;
            self.tags.truncate(before);
            self.begins = begins;
            self.buffer.clear();
            self.buffer.extend_from_slice(&part);
        }
        let rest = self.kept.checked_sub(self.begins).and_then(|rest| usize::try_from(rest).ok());
        let rest = rest.ok_or_else(|| io::Error::other("it was sent, and not kept"))?;
        self.buffer.truncate(rest);
        Ok(())
    }

    fn finish(&mut self) -> Result<(), StoreError> {
        let length = self.length();
        self.kept_part = None;
        if self.upload.is_none() && self.sending.is_none() {
            self.store.put(&self.name, &self.buffer)?;
        } else {
            if !self.buffer.is_empty() {
                self.send_part()?;
            }
            self.arrived()?;
            let upload = self.upload.clone().unwrap_or_default();
            self.store.complete(&self.name, &upload, &self.tags, length)?;
            self.is_finished = true;
            self.store.remove(&S3::note(&self.name))?;
        }
        self.buffer = Vec::new();
        self.is_finished = true;
        Ok(())
    }

    fn read_back(&mut self) -> Result<Box<dyn Read + Send>, StoreError> {
        Arc::clone(&self.store).open(&self.name, 0, None)
    }
}

impl Drop for InParts {
    fn drop(&mut self) {
        if self.is_finished {
            return;
        }
        let _ = self.arrived();
        if let Some(upload) = self.upload.take()
            && let Err(error) = self
                .store
                .abort(&self.key, &upload)
                .and_then(|()| self.store.remove(&S3::note(&self.name)))
        {
            tracing::warn!("an upload that was given up could not be withdrawn: {error}");
        }
    }
}
