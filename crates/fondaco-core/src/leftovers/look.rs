//! Looking for leftovers in a scan of this machine, or of another one as far as its scan tells.

use std::io;
use std::path::{Path, PathBuf};

use super::{Found, Homes, Machine, RowError, Table, find};
use crate::analysis::{Packages, Protection};
use crate::catalog::Seen;
use crate::kernel::{self, CallError, DeletedFiles, Mount, Op, OpenFiles};
use crate::lens::AccountsOf;
use crate::shown::Shown;
use crate::state::{KernelsKept, State};
use crate::units::Time;

/// Why nothing was looked for.
#[derive(Debug, thiserror::Error)]
pub enum LookError {
    /// A user's table has a mistake: with it, something might be taken that the table excludes.
    #[error("{}, {error}", Shown(file))]
    Table {
        /// Path of the table.
        file: PathBuf,
        /// What is wrong with it.
        #[source]
        error: RowError,
    },
    /// A user's table cannot be read, or not what is mounted.
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
}

/// The table of the program, with what the user's files in the state directory add.
///
/// # Errors
///
/// [`LookError`].
pub fn table_of(state: &State) -> Result<Table, LookError> {
    let read = |file: &Path| match std::fs::read_to_string(file) {
        Ok(text) => Ok(Some(text)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(CallError::on(Op::Read, file)(error)),
    };
    let (own, made_again) = (read(&state.leftovers_file())?, read(&state.regenerable_file())?);
    match Table::with(own.as_deref(), made_again.as_deref(), &Homes::now()?) {
        (table, None) => Ok(table),
        (_, Some(error)) => Err(LookError::Table { file: state.leftovers_file(), error }),
    }
}

/// What a closer look at this machine stands on, as of one moment.
pub struct Facts {
    protection: Protection,
    packages: Packages,
    open: OpenFiles,
    mounts: Vec<Mount>,
    kernels: KernelsKept,
}

impl Facts {
    /// As things are now.
    ///
    /// # Errors
    ///
    /// [`CallError`] if it is not known what is mounted: a link that leads to an unmounted place must not be taken for a
    /// broken one.
    pub fn now(state: &State, protection: Protection) -> Result<Self, CallError> {
        let mounts = kernel::mounts().map_err(CallError::on(Op::Read, "/proc/self/mountinfo"))?;
        Ok(Self {
            protection,
            packages: Packages::of_system(Path::new("/")),
            open: OpenFiles::collect(Time::now()),
            mounts,
            kernels: state.settings.kernels.clone(),
        })
    }

    /// What [`find`] needs of the machine.
    pub fn machine(&self, with_packages: bool) -> Machine<'_> {
        Machine {
            root: PathBuf::from("/"),
            protection: &self.protection,
            packages: &self.packages,
            open: &self.open,
            mounts: &self.mounts,
            kernels: &self.kernels,
            with_packages,
        }
    }
}

/// What a scan tells by itself of leftovers, without a closer look.
///
/// # Errors
///
/// [`LookError`].
pub fn glance(seen: Seen<'_>, state: &State) -> Result<Found, LookError> {
    let accounts = AccountsOf { origin: seen.catalog().origin(), system: state };
    Ok(find(seen, &table_of(state)?, &accounts, None, &|| false))
}

/// Looks for leftovers: closely if the scan is of this machine, else as far as the scan tells. `with_packages`: what
/// belongs to the machine is told too. `protection`: what is never removed, by the rules too.
///
/// # Errors
///
/// [`LookError`].
pub fn look(
    seen: Seen<'_>,
    state: &State,
    protection: Protection,
    with_packages: bool,
    stop: &dyn Fn() -> bool,
) -> Result<Found, LookError> {
    let catalog = seen.catalog();
    let table = table_of(state)?;
    let accounts = AccountsOf { origin: catalog.origin(), system: state };
    if let Some(elsewhere) = catalog.origin().elsewhere() {
        let mut found = find(seen, &table, &accounts, None, stop);
        found.not_looked_closer = Some(elsewhere.to_string());
        return Ok(found);
    }
    let facts = Facts::now(state, protection)?;
    Ok(find(seen, &table, &accounts, Some(&facts.machine(with_packages)), stop))
}

/// The deleted files that processes hold, of the file systems that were scanned.
pub fn held_of(seen: Seen<'_>, mut all: DeletedFiles) -> DeletedFiles {
    let devices: Vec<u64> =
        seen.catalog().places_by_device().into_iter().map(|(device, _)| device).collect();
    all.files.retain(|file| devices.contains(&file.dev) || devices.contains(&file.volume));
    all
}
