//! Asking stores for their objects.

use std::cell::RefCell;
use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fondaco_store::{
    Environment, Managed, ManagedStore, Patience, Store, StoreAddress, StoreError,
};

use super::{ObjectTarget, Refusal};
use crate::kernel::{CallError, Op};
use crate::shown::DocPath;
use crate::units::Bytes;

/// Stores that have been asked, so that a connection serves many objects.
#[derive(Debug, Default)]
pub(crate) struct Objects {
    stores: RefCell<HashMap<PathBuf, Arc<dyn Store>>>,
}

impl Objects {
    /// What a store tells of an object now; `managed` is how its store is managed, if it is.
    ///
    /// # Errors
    ///
    /// [`Refusal::Gone`], [`Refusal::Call`].
    pub(crate) fn look(
        &self,
        path: &Path,
        managed: Option<&ManagedStore>,
    ) -> Result<ObjectTarget, Refusal> {
        let (length, written) = match managed {
            Some(definition) => member(path, definition)?,
            None => {
                let (store, name) = self.open(path)?;
                let facts = store.facts(name).map_err(call(Op::Examine, path))?;
                let facts = facts.ok_or_else(|| Refusal::Gone(path.to_owned()))?;
                (facts.length, facts.written)
            }
        };
        let address = DocPath(path.to_owned());
        Ok(ObjectTarget { address, length, written, managed: managed.cloned().map(Box::new) })
    }

    /// Makes sure that an object is what was reviewed. A member of a managed store may have become smaller, since stores
    /// tidy up by themselves.
    ///
    /// # Errors
    ///
    /// [`Refusal::Changed`], those of [`Objects::look`].
    pub(crate) fn is_as_reviewed(&self, reviewed: &ObjectTarget) -> Result<(), Refusal> {
        let path = &reviewed.address.0;
        let now = self.look(path, reviewed.managed.as_deref())?;
        let is_as_long = match &reviewed.managed {
            Some(_) => now.length <= reviewed.length,
            None => now.length == reviewed.length,
        };
        let difference = match (is_as_long, now.written, reviewed.written) {
            (false, ..) => "its length is another one",
            (true, Some(now), Some(then)) if now != then => "it was written since",
            (true, None, Some(_)) if reviewed.managed.is_none() => {
                "the store does not say any more when it was written"
            }
            _ => return Ok(()),
        };
        Err(Refusal::Changed { path: path.clone(), difference: difference.to_owned() })
    }

    /// Removes an object, and sees that it is gone. If a snapshot has to be made first, it is looked at once more after that.
    ///
    /// # Errors
    ///
    /// [`Refusal`].
    pub(crate) fn remove(&self, object: &ObjectTarget) -> Result<(), Refusal> {
        let path = &object.address.0;
        let removed = match &object.managed {
            Some(definition) => {
                let (store, name) = open_managed(path, definition)?;
                if definition.snapshot.is_some() {
                    store.snapshot(name).map_err(call(Op::Create, path))?;
                    self.is_as_reviewed(object)?;
                }
                store.remove(name)
            }
            None => {
                let (store, name) = self.open(path)?;
                store.remove(name)
            }
        };
        removed.map_err(call(Op::Remove, path))?;
        match self.look(path, object.managed.as_deref()) {
            Err(Refusal::Gone(_)) => Ok(()),
            Err(other) => Err(other),
            Ok(_) => {
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

/// Bytes of all that a managed store lists now.
///
/// # Errors
///
/// [`StoreError`].
pub(crate) fn used_in(definition: &ManagedStore) -> Result<Bytes, StoreError> {
    let store = Managed::open(definition, &Environment::of_process(), Patience::short())?;
    Ok(store.members()?.members.iter().map(|member| Bytes::new(member.length)).sum())
}

fn open_managed<'p>(
    path: &'p Path,
    definition: &ManagedStore,
) -> Result<(Managed, &'p str), Refusal> {
    let name = path.file_name().and_then(|name| name.to_str());
    let name = name.ok_or_else(|| Refusal::Gone(path.to_owned()))?;
    let store = Managed::open(definition, &Environment::of_process(), Patience::default());
    Ok((store.map_err(call(Op::Open, path))?, name))
}

/// Length and date of a member, as the store lists it now.
fn member(path: &Path, definition: &ManagedStore) -> Result<(u64, Option<i64>), Refusal> {
    let (store, name) = open_managed(path, definition)?;
    let found = store.members().map_err(call(Op::Examine, path))?;
    let member = found.members.into_iter().find(|member| member.name == name);
    let member = member.ok_or_else(|| Refusal::Gone(path.to_owned()))?;
    Ok((member.length, member.written))
}

fn call(op: Op, path: &Path) -> impl Fn(StoreError) -> Refusal + use<> {
    let path = path.to_owned();
    move |error| CallError::on(op, &path)(error).into()
}
