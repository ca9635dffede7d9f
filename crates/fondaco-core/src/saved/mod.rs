//! Scans kept in files: saved, listed, opened again and forgotten.
//!
//! A saved scan is one Parquet file, a row an entry, that any reader of that format takes; its footer
//! says what was scanned and when, and holds a checksum. It lies in the state directory under a
//! number, or anywhere else under any name. What is opened is a [`Catalog`] like that of a scan that
//! has just ended; it is as old as [`Catalog::now`] says.
//!
//! Source: the Parquet format, <https://parquet.apache.org/docs/file-format/>.

mod names;
mod read;
mod schema;
mod seal;
mod thin;
mod write;

use std::io;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use crate::catalog::{Catalog, Origin};
use crate::contained::{contained, contained_within, thread};
use crate::kernel::{self, Aside, CallError, Op, names_in};
use crate::lens::Accounts;
use crate::parallel;
use crate::shown::{DocPath, Shown};
use crate::state::State;
use crate::units::{Bytes, Time};
use thin::thin;

use schema::{DOCUMENT_KIND, Document, ExcludedPlaces, UnreadablePlace, VERSION};

/// Why a scan could not be saved or opened.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SavedError {
    /// The kernel refused.
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
    /// There is none of that number.
    #[error("there is no saved scan {0}; `fondaco scans` lists them")]
    Missing(u64),
    /// Not a saved scan.
    #[error("{} is not a saved scan: {reason}", Shown(path))]
    Foreign {
        /// Path of the saved scan.
        path: PathBuf,
        /// What is missing.
        reason: String,
    },
    /// Written by a later version.
    #[error("{} has form {version}; this version reads up to {VERSION}", Shown(path))]
    Newer {
        /// Path of the saved scan.
        path: PathBuf,
        /// The version of the form that it was written in.
        version: u64,
    },
    /// It was one once.
    #[error("{} is damaged: {reason}", Shown(path))]
    Damaged {
        /// Path of the saved scan.
        path: PathBuf,
        /// How that was noticed.
        reason: String,
    },
    /// It could not be put into the form.
    #[error("cannot write {}: {reason}", Shown(path))]
    Encode {
        /// Path of the saved scan.
        path: PathBuf,
        /// The library's words.
        reason: String,
    },
}

/// What a saved scan says of itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct About {
    /// When it began to be scanned.
    pub scanned: Time,
    /// What was scanned.
    pub roots: Vec<PathBuf>,
    /// It went to its end.
    pub complete: bool,
    /// How many entries the scan has.
    pub entries: u64,
    /// Bytes on disk, every inode once.
    pub allocated: Bytes,
    /// Places that could not be read.
    pub unreadable: u64,
    /// It is thinned: as newer ones come, it will be forgotten by itself.
    pub automatic: bool,
    /// Length of its file.
    pub file: Bytes,
}

/// One file among the saved scans.
#[derive(Debug)]
pub struct SavedScan {
    /// The number that it goes by.
    pub number: u64,
    /// Where the saved scan lies.
    pub path: PathBuf,
    /// What it says, or why it cannot be read.
    pub about: Result<About, SavedError>,
}

/// The saved scans of a state directory, oldest first.
///
/// # Errors
///
/// [`SavedError::Call`] if the directory cannot be read. Files that are no saved scans are listed
/// with the reason.
pub fn list(state: &State) -> Result<Vec<SavedScan>, SavedError> {
    let mut found = numbers(state)?;
    found.sort_unstable();
    let one = |number| {
        let path = file_of(state, number);
        SavedScan { number, about: about(&path), path }
    };
    Ok(found.into_iter().map(one).collect())
}

fn numbers(state: &State) -> Result<Vec<u64>, SavedError> {
    let directory = state.scans_directory();
    let names = match names_in(&directory) {
        Ok(names) => names,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(CallError::on(Op::ReadDirectory, directory)(error).into()),
    };
    let number = |name: &str| name.strip_suffix(".parquet")?.parse().ok();
    Ok(names.iter().filter_map(|name| number(name.to_str()?)).collect())
}

fn file_of(state: &State, number: u64) -> PathBuf {
    state.scans_directory().join(format!("{number}.parquet"))
}

/// What a file says of itself.
///
/// # Errors
///
/// [`SavedError`].
pub fn about(path: &Path) -> Result<About, SavedError> {
    let there = path.to_owned();
    let document = in_time(path, move || read::document(&there))?;
    let length = std::fs::metadata(path).map_err(CallError::on(Op::Examine, path))?.len();
    Ok(About {
        scanned: Time::at(document.scanned_seconds),
        roots: document.roots.into_iter().map(|path| path.0).collect(),
        complete: document.complete,
        entries: document.entries,
        allocated: Bytes::new(document.allocated),
        unreadable: document.unreadable.len() as u64,
        automatic: document.automatic,
        file: Bytes::new(length),
    })
}

/// Saves a catalog under the next number; gives the number. After an `automatic` one those like it are thinned, as
/// [`save_and_thin`] does.
///
/// # Errors
///
/// [`SavedError`]; then nothing is left behind.
pub fn save(state: &State, catalog: &Catalog, automatic: bool) -> Result<u64, SavedError> {
    match automatic {
        true => Ok(save_and_thin(state, catalog)?.0),
        false => save_under_next_number(state, catalog, false),
    }
}

/// Saves a catalog as one that nobody asked for, and forgets those like it that are no longer wanted: of each place all of
/// the last day stay, then the last of each day, of each week and of each month, as far as the settings allow. Gives its
/// number, and how many were forgotten.
///
/// # Errors
///
/// [`SavedError`]; if it is of an older scan that cannot be forgotten, the new one is saved all the same.
pub fn save_and_thin(state: &State, catalog: &Catalog) -> Result<(u64, u64), SavedError> {
    let number = save_under_next_number(state, catalog, true)?;
    Ok((number, thin(state, Time::now())?))
}

fn save_under_next_number(
    state: &State,
    catalog: &Catalog,
    automatic: bool,
) -> Result<u64, SavedError> {
    let directory = state.scans_directory();
    std::fs::DirBuilder::new()
        .recursive(true)
        .mode(0o700)
        .create(&directory)
        .map_err(CallError::on(Op::Create, &directory))?;
    kernel::remove_abandoned(&directory);
    let mut number = numbers(state)?.into_iter().max().unwrap_or(0) + 1;
    let mut file = write_aside(&file_of(state, number), catalog, automatic, state)?;
    // another process may save at the same time
    while let Some(again) = file.name_if_free(&file_of(state, number))? {
        (file, number) = (again, number + 1);
    }
    tracing::info!(number, entries = catalog.len(), automatic, "scan saved");
    Ok(number)
}

/// Writes a catalog to a file of any name.
///
/// # Errors
///
/// [`SavedError`]; a file that has the name already is left alone.
pub fn write_to(path: &Path, catalog: &Catalog, accounts: &dyn Accounts) -> Result<(), SavedError> {
    let file = write_aside(path, catalog, false, accounts)?;
    match file.name_if_free(path)? {
        None => Ok(()),
        Some(_) => {
            let taken = io::Error::from(io::ErrorKind::AlreadyExists);
            Err(CallError::on(Op::Create, path)(taken).into())
        }
    }
}

fn write_aside(
    path: &Path,
    catalog: &Catalog,
    automatic: bool,
    accounts: &dyn Accounts,
) -> Result<Aside, SavedError> {
    let mut aside = Aside::create(path)?;
    let mut document = document(catalog, automatic);
    name_owners(catalog, &mut document.origin, accounts);
    let out = io::BufWriter::with_capacity(1 << 20, &mut aside.file);
    write::write(catalog, &document, out)
        .map_err(|error| SavedError::Encode { path: path.to_owned(), reason: error.to_string() })?;
    Ok(aside)
}

/// Keeps the names of all owners: where the scan is opened, others may have the same numbers.
fn name_owners(catalog: &Catalog, origin: &mut Origin, accounts: &dyn Accounts) {
    if origin.elsewhere().is_some() {
        return;
    }
    for (user, group) in catalog.owner_pairs() {
        if let Some(name) = accounts.user_name(*user) {
            origin.users.insert(*user, name);
        }
        if let Some(name) = accounts.group_name(*group) {
            origin.groups.insert(*group, name);
        }
    }
}

fn document(catalog: &Catalog, automatic: bool) -> Document {
    let about = catalog.scan_facts();
    Document {
        fondaco: VERSION,
        kind: DOCUMENT_KIND.to_owned(),
        scanned: about.now.rfc3339(),
        scanned_seconds: about.now.sec,
        roots: about.roots.into_iter().map(DocPath).collect(),
        complete: about.complete,
        entries: catalog.rows() as u64,
        allocated: catalog.top().map_or(0, |top| catalog.allocated(top).get()),
        automatic,
        unreadable: about
            .unreadable
            .into_iter()
            .map(|place| UnreadablePlace {
                path: DocPath(place.path),
                operation: place.op.words().to_owned(),
                error: place.error,
                errno: place.errno,
            })
            .collect(),
        excluded: ExcludedPlaces {
            entries: about.excluded.entries,
            allocated: about.excluded.allocated.get(),
            apparent: about.excluded.apparent.get(),
        },
        origin: about.origin,
    }
}

/// Opens the saved scan of a number.
///
/// # Errors
///
/// [`SavedError`].
pub fn open(state: &State, number: u64) -> Result<Catalog, SavedError> {
    let path = file_of(state, number);
    match kernel::stat_path(&path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Err(SavedError::Missing(number)),
        _ => open_file(&path),
    }
}

/// Opens a saved scan, wherever it lies.
///
/// # Errors
///
/// [`SavedError`].
pub fn open_file(path: &Path) -> Result<Catalog, SavedError> {
    let there = path.to_owned();
    let opened = in_time(path, move || read::open(&there))?;
    contained_in(path, || opened.read())
}

/// How long the library may take for what stands at the end of a file: some numbers of a damaged one have it count to
/// billions.
const END_READ_WITHIN: Duration = Duration::from_secs(120);

/// Reads the end of a file with the library for its format.
fn in_time<T: Send + 'static>(
    path: &Path,
    read: impl FnOnce() -> Result<T, SavedError> + Send + 'static,
) -> Result<T, SavedError> {
    contained_within(END_READ_WITHIN, read).unwrap_or_else(|error| {
        Err(SavedError::Damaged { path: path.to_owned(), reason: error.to_string() })
    })
}

/// Reads a file with the library for its format, whose panics become errors.
fn contained_in<T: Send>(
    path: &Path,
    read: impl FnOnce() -> Result<T, SavedError> + Send,
) -> Result<T, SavedError> {
    contained(read).unwrap_or_else(|error| {
        Err(SavedError::Damaged { path: path.to_owned(), reason: error.to_string() })
    })
}

/// Removes a saved scan.
///
/// # Errors
///
/// [`SavedError`].
pub fn forget(state: &State, number: u64) -> Result<(), SavedError> {
    let path = file_of(state, number);
    match std::fs::remove_file(&path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Err(SavedError::Missing(number)),
        removed => Ok(removed.map_err(CallError::on(Op::Remove, path))?),
    }
}

/// Makes `count` things on several threads, and hands them out in order. No more are ready and waiting
/// than there are threads.
fn in_order<T: Send, E: Send>(
    count: usize,
    make: impl Fn(usize) -> T + Sync,
    mut take: impl FnMut(T) -> Result<(), E>,
) -> Result<(), E> {
    let threads = parallel::threads();
    std::thread::scope(|scope| {
        let lanes: Vec<_> = (0..threads.min(count))
            .map(|lane| {
                let (send, receive) = std::sync::mpsc::sync_channel(0);
                let make = &make;
                let work = move || {
                    let mut numbers = (lane..count).step_by(threads);
                    // the receiving thread may have failed and ended
                    numbers.try_for_each(|number| send.send(make(number)))
                };
                // what no thread can be begun for is made where it is taken
                thread().spawn_scoped(scope, work).ok().map(|_| receive)
            })
            .collect();
        for number in 0..count {
            let made = match &lanes[number % threads] {
                Some(lane) => lane.recv(),
                None => Ok(make(number)),
            };
            // a lane that ended early has panicked, and the scope passes that on
            let Ok(made) = made else { break };
            take(made)?;
        }
        Ok(())
    })
}
