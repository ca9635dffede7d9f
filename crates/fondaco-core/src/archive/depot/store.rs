//! A depot that is a store over HTTP.
//!
//! A collection of WebDAV is used as a directory is: an archive gets its name when it is proved. An object of a bucket has
//! only one name, so there an archive has its last name as soon as all of it has come, and its index, which is written when
//! it has been proved, says that it has been.

use std::ffi::OsString;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fondaco_store::{Environment, Patience, Store, StoreAddress, StoreError, Upload};

use super::{ArchiveFiles, Depot, DepotError, NewObject, unfinished};
use crate::kernel::{CallError, Op};
use crate::units::Bytes;

/// A store that is open as a depot.
#[derive(Debug)]
pub struct StoreDepot {
    path: PathBuf,
    store: Arc<dyn Store>,
}

impl StoreDepot {
    /// Opens the store of an address. What it holds is not asked yet.
    ///
    /// # Errors
    ///
    /// [`DepotError::Store`] if the address makes no sense, or it is not known how to come in.
    pub fn open(
        path: &Path,
        environment: &Environment,
        patience: Patience,
    ) -> Result<Self, DepotError> {
        let wrong = |source| DepotError::Store { path: path.to_owned(), source };
        let text = path.to_str().ok_or_else(|| {
            wrong(StoreError::Access("the address of a store is written in UTF-8".to_owned()))
        })?;
        let address = StoreAddress::parse(text).map_err(wrong)?;
        let store = fondaco_store::open(&address, environment, patience).map_err(wrong)?;
        Ok(Self { path: PathBuf::from(address.to_string()), store })
    }

    /// As [`StoreDepot::open`], as this process comes in.
    ///
    /// # Errors
    ///
    /// As [`StoreDepot::open`].
    pub fn of_process(path: &Path) -> Result<Self, DepotError> {
        Self::open(path, &Environment::of_process(), Patience::default())
    }

    /// Asks the store something that every run needs, so that what is wrong is known before anything is done.
    ///
    /// # Errors
    ///
    /// [`DepotError::Store`].
    pub fn ask(&self) -> Result<(), DepotError> {
        let asked = self.store.facts("fondaco-is-there");
        asked.map(drop).map_err(|source| DepotError::Store { path: self.path.clone(), source })
    }

    fn call(&self, op: Op, name: &str) -> impl Fn(StoreError) -> CallError + use<> {
        let path = self.object(name);
        move |error| CallError::on(op, &path)(error)
    }

    fn depot_error(&self, op: Op, name: &str, error: StoreError) -> DepotError {
        match error {
            StoreError::Taken => DepotError::Taken(self.object(name)),
            other => self.call(op, name)(other).into(),
        }
    }
}

/// The name that an unfinished object will have.
fn finished(part: &str) -> Option<&str> {
    part.strip_prefix('.').and_then(|name| name.strip_suffix(".part"))
}

impl Depot for StoreDepot {
    fn identity(&self) -> String {
        self.store.identity()
    }

    fn object(&self, name: &str) -> PathBuf {
        self.path.join(name)
    }

    fn names(&self) -> Result<Vec<(OsString, Option<Bytes>)>, CallError> {
        let mut names = Vec::new();
        let listed = self.store.list(&mut |listed| {
            // what lies deeper is not of this depot
            if !listed.name.contains('/') {
                names.push((OsString::from(listed.name), Some(Bytes::new(listed.length))));
            }
            true
        });
        listed.map_err(CallError::on(Op::ReadDirectory, &self.path))?;
        Ok(names)
    }

    fn length(&self, name: &str) -> Result<Bytes, CallError> {
        let error = self.call(Op::Examine, name);
        let facts = self.store.facts(name).and_then(|facts| facts.ok_or(StoreError::Absent));
        facts.map(|facts| Bytes::new(facts.length)).map_err(error)
    }

    fn has(&self, name: &str) -> Result<bool, CallError> {
        let facts = self.store.facts(name);
        facts.map(|facts| facts.is_some()).map_err(self.call(Op::Examine, name))
    }

    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, DepotError> {
        let begun = match (self.store.renames(), finished(name)) {
            (false, Some(last)) => last,
            _ => name,
        };
        let upload = Arc::clone(&self.store).begin(begun);
        let upload = upload.map_err(|error| self.depot_error(Op::Create, begun, error))?;
        Ok(Box::new(NewStoreObject(upload)))
    }

    fn read(
        &self,
        name: &str,
        from: u64,
        length: Option<u64>,
    ) -> Result<Box<dyn Read + Send>, CallError> {
        Arc::clone(&self.store).open(name, from, length).map_err(self.call(Op::Read, name))
    }

    fn read_stored(&self, name: &str) -> Result<Box<dyn Read + Send>, CallError> {
        self.read(name, 0, None)
    }

    fn rename_new(&self, from: &str, to: &str) -> Result<(), DepotError> {
        if self.store.renames() {
            let renamed = self.store.rename_new(from, to);
            return renamed.map_err(|error| self.depot_error(Op::Rename, to, error));
        }
        // it has that name since it was stored
        match finished(from) == Some(to) && self.has(to)? {
            true => Ok(()),
            false => Err(self.depot_error(Op::Rename, from, StoreError::Absent)),
        }
    }

    fn sync(&self) -> Result<(), CallError> {
        Ok(())
    }

    fn remove(&self, name: &str) -> Result<(), CallError> {
        match (self.store.renames(), finished(name)) {
            (false, Some(last)) => self.store.withdraw(last).map_err(self.call(Op::Remove, last)),
            _ => self.store.remove(name).map_err(self.call(Op::Remove, name)),
        }
    }

    fn write_new(&self, name: &str, contents: &[u8]) -> Result<(), DepotError> {
        let written = self.store.put_new(name, contents);
        written.map_err(|error| self.depot_error(Op::Write, name, error))
    }

    fn clear_unfinished(&self, name: &str) -> Result<(), CallError> {
        let files = ArchiveFiles::of(name);
        let archive = unfinished(&files.archive);
        if self.store.renames() {
            let is_named = self.has(&files.archive)?;
            self.remove(&archive)?;
            return if is_named { Ok(()) } else { self.remove_all(&[&files.index, &files.sums]) };
        }
        // without an index it has never been proved, so that no original was removed for it
        let is_proved = self.has(&files.archive)? && self.has(&files.index)?;
        self.remove(&archive)?;
        if is_proved {
            return Ok(());
        }
        self.remove_all(&[&files.index, &files.sums, &files.archive])
    }
}

impl StoreDepot {
    fn remove_all(&self, names: &[&str]) -> Result<(), CallError> {
        names.iter().try_for_each(|name| self.remove(name))
    }
}

/// An object of a store that is being written.
#[derive(Debug)]
struct NewStoreObject(Box<dyn Upload>);

impl Write for NewStoreObject {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl NewObject for NewStoreObject {
    fn can_take_back(&self) -> bool {
        self.0.can_take_back()
    }

    fn keep_from(&mut self, _length: u64) {
        self.0.keep_from();
    }

    fn take_back_to(&mut self, _length: u64) -> io::Result<()> {
        self.0.take_back()
    }

    fn store(&mut self) -> io::Result<()> {
        Ok(self.0.finish()?)
    }

    fn read_back(&mut self) -> io::Result<Box<dyn Read + Send + '_>> {
        Ok(self.0.read_back()?)
    }
}
