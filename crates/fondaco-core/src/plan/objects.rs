//! Asking stores for their objects.

use std::cell::RefCell;
use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fondaco_store::{Environment, Patience, Store, StoreAddress, StoreError};

use super::{ObjectTarget, Refusal};
use crate::kernel::{CallError, Op};
use crate::shown::DocPath;

/// Stores that have been asked, so that a connection serves many objects.
#[derive(Debug, Default)]
pub(crate) struct Objects {
    stores: RefCell<HashMap<PathBuf, Arc<dyn Store>>>,
}

impl Objects {
    /// What a store tells of an object now.
    ///
    /// # Errors
    ///
    /// [`Refusal::Gone`], [`Refusal::Call`].
    pub(crate) fn look(&self, path: &Path) -> Result<ObjectTarget, Refusal> {
        let (store, name) = self.open(path)?;
        match store.facts(name).map_err(call(Op::Examine, path))? {
            None => Err(Refusal::Gone(path.to_owned())),
            Some(facts) => Ok(ObjectTarget {
                address: DocPath(path.to_owned()),
                length: facts.length,
                written: facts.written,
            }),
        }
    }

    /// Makes sure that an object is what was reviewed.
    ///
    /// # Errors
    ///
    /// [`Refusal::Changed`], those of [`Objects::look`].
    pub(crate) fn is_as_reviewed(&self, reviewed: &ObjectTarget) -> Result<(), Refusal> {
        let path = &reviewed.address.0;
        let now = self.look(path)?;
        let difference = match (now.length == reviewed.length, now.written, reviewed.written) {
            (false, ..) => "its length is another one",
            (true, Some(now), Some(then)) if now != then => "it was written since",
            (true, None, Some(_)) => "the store does not say any more when it was written",
            _ => return Ok(()),
        };
        Err(Refusal::Changed { path: path.clone(), difference: difference.to_owned() })
    }

    /// Removes an object, and sees that it is gone.
    ///
    /// # Errors
    ///
    /// [`Refusal::Call`].
    pub(crate) fn remove(&self, path: &Path) -> Result<(), Refusal> {
        let (store, name) = self.open(path)?;
        store.remove(name).map_err(call(Op::Remove, path))?;
        match store.facts(name).map_err(call(Op::Examine, path))? {
            None => Ok(()),
            Some(_) => {
                let left = io::Error::other("the store said that it is gone, and has it still");
                Err(CallError::on(Op::Remove, path)(left).into())
            }
        }
    }

    /// The store of an object, opened at what lies above it, and its name there.
    fn open<'p>(&self, path: &'p Path) -> Result<(Arc<dyn Store>, &'p str), Refusal> {
        let no_object = || Refusal::Gone(path.to_owned());
        let above = path.parent().ok_or_else(no_object)?;
        let name = path.file_name().and_then(|name| name.to_str()).ok_or_else(no_object)?;
        if let Some(open) = self.stores.borrow().get(above) {
            return Ok((Arc::clone(open), name));
        }
        let address = above.to_str().ok_or_else(no_object)?;
        let address = StoreAddress::parse(address).map_err(call(Op::Open, above))?;
        let store = fondaco_store::open(&address, &Environment::of_process(), Patience::default());
        let store = store.map_err(call(Op::Open, above))?;
        self.stores.borrow_mut().insert(above.to_owned(), Arc::clone(&store));
        Ok((store, name))
    }
}

fn call(op: Op, path: &Path) -> impl Fn(StoreError) -> Refusal + use<> {
    let path = path.to_owned();
    move |error| CallError::on(op, &path)(error).into()
}
