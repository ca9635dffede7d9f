//! The demo: the made-up Seamark observatory as real files, on a simulated volume.
//!
//! Everything lies in one directory that the demo owns: `seamark` (the volume), `state` (a state
//! directory of its own) and `depot`. The same names, sizes, contents and ages come out every time.

mod content;
mod kept;
mod levels;
mod logger;
mod seamark;
mod store;

use std::fs::DirBuilder;
use std::io;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use crate::output::tell;
use anyhow::{Context, Result, bail};
use fondaco_core::kernel;
use fondaco_core::shown::Shown;
use fondaco_core::state::{Settings, SimulatedVolume, State};
use fondaco_core::units::{Bytes, Time};

pub use logger::{Logger, hold};
pub use store::serve;

/// The file that says that a directory is a demo's, and which one.
const MARK: &str = ".fondaco-demo";
/// Changes when the data changes: an older demo is then laid out anew.
const EDITION: &str = "seamark 3\n";
/// What the simulated volume holds at most.
const CAPACITY: Bytes = Bytes::new(284 << 20);

/// A demo that has been laid out.
#[derive(Debug)]
pub struct Place {
    /// Root of the simulated volume.
    pub root: PathBuf,
    /// The demo's own state directory.
    pub state: State,
}

/// Lays the demo out in a directory, or opens what is there.
///
/// # Errors
///
/// If the directory holds anything that is not a demo's; then nothing in it is touched.
pub fn lay_out(at: &Path, reset: bool, now: Time) -> Result<Place> {
    DirBuilder::new()
        .recursive(true)
        .mode(0o755)
        .create(at)
        .with_context(|| format!("cannot make the demo's directory {}", Shown(at)))?;
    let at = at.canonicalize()?;
    let mark = std::fs::read_to_string(at.join(MARK));
    let root = at.join("seamark");
    match mark {
        Ok(edition) if edition == EDITION && !reset => {}
        Ok(_) => {
            clear(&at)?;
            fill(&at, &root, now)?;
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            if std::fs::read_dir(&at)?.next().is_some() {
                bail!(
                    "{} is not empty and holds no demo: choose another directory with --at",
                    Shown(&at)
                );
            }
            fill(&at, &root, now)?;
        }
        Err(error) => return Err(error).with_context(|| format!("cannot read {}", Shown(&at))),
    }
    let state = State::open(&at.join("state"))?;
    Ok(Place { root, state })
}

/// Removes what an earlier demo laid out, and nothing else.
fn clear(at: &Path) -> Result<()> {
    kernel::write_whole(&at.join(MARK), b"unfinished\n")?;
    for name in ["seamark", "state", "depot"] {
        match std::fs::remove_dir_all(at.join(name)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                return Err(error)
                    .with_context(|| format!("cannot clear {}", Shown(at.join(name))));
            }
            _ => {}
        }
    }
    Ok(())
}

fn fill(at: &Path, root: &Path, now: Time) -> Result<()> {
    tell!("laying out the demo in {} …", Shown(at));
    kernel::write_whole(&at.join(MARK), b"unfinished\n")?;
    DirBuilder::new().mode(0o700).create(at.join("state"))?;
    DirBuilder::new().mode(0o700).create(at.join("depot"))?;
    seamark::lay_out(root, now).context("the demo could not be laid out")?;
    let mut state = State::open(&at.join("state"))?;
    state.settings = Settings {
        depot: Some(at.join("depot")),
        simulated: vec![SimulatedVolume { path: root.to_owned(), capacity: CAPACITY }],
        accounts: seamark::accounts(),
        ..Settings::default()
    };
    state.save()?;
    levels::write(&state, root, CAPACITY, now).context("the demo has no history")?;
    kept::write(&state, root, now).context("the demo has no kept scans")?;
    Ok(kernel::write_whole(&at.join(MARK), EDITION.as_bytes())?)
}
