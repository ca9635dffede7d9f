//! The books of a volume: what it says is in use, explained line by line.
//!
//! Takes a [`Volume`], the [`Catalog`] of a scan of it, and the [`DeletedFiles`] that processes hold; asks
//! the file system's own interfaces for what it keeps for itself; gives [`Books`]. What no line explains
//! is a line of its own. Changes nothing: what lies beneath mount points is seen through a private clone
//! of the mount.

mod beneath;
mod metadata;
mod shared;

use std::io;
use std::path::{Path, PathBuf};

use serde::Serialize;

use crate::catalog::{Catalog, EntryId};
use crate::kernel::{self, CallError, DeletedFiles, Mount, Op, capacity};
use crate::shown::{Shown, shown};
use crate::units::{Bytes, Time, UnitStyle, counted};
use crate::volume::{Class, Volume};

/// How sure a number is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Sure {
    /// To the byte.
    Exact,
    /// It is no more than this.
    AtMost,
    /// It is no less than this.
    AtLeast,
    /// Nothing can be said.
    Unknown,
}

/// A number of bytes and how sure it is. Negative where bytes were counted more often than they are there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Figure {
    /// The number; 0 where it is unknown.
    pub bytes: i64,
    /// What it is worth.
    pub sure: Sure,
}

impl Figure {
    /// Nothing can be said.
    pub const UNKNOWN: Self = Self { bytes: 0, sure: Sure::Unknown };

    /// To the byte.
    pub const fn exact(bytes: i64) -> Self {
        Self { bytes, sure: Sure::Exact }
    }

    /// To the byte if that is so, or else no less.
    pub const fn exact_if(is_exact: bool, bytes: i64) -> Self {
        Self { bytes, sure: if is_exact { Sure::Exact } else { Sure::AtLeast } }
    }
}

/// What a line of the books is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum LineKind {
    /// What the scan saw, each inode once.
    Visible,
    /// Subvolumes that do not lie below the mount point.
    OtherSubvolumes,
    /// What other volumes, mounted on top, cover.
    Beneath,
    /// Files without a name that processes hold.
    Held,
    /// What the scan could not read.
    Unreadable,
    /// What the file system keeps for itself.
    Metadata,
    /// What was counted more often, or larger, than it lies on the device.
    Shared,
    /// What no other line explains.
    Unexplained,
}

impl LineKind {
    /// The words for it.
    pub fn words(self) -> &'static str {
        match self {
            Self::Visible => "visible entries",
            Self::OtherSubvolumes => "other subvolumes",
            Self::Beneath => "beneath mount points",
            Self::Held => "deleted but open",
            Self::Unreadable => "unreadable",
            Self::Metadata => "metadata and reserve",
            Self::Shared => "shared or packed",
            Self::Unexplained => "unexplained",
        }
    }

    /// What one of the things that are counted in it is called, if any are.
    pub fn noun(self) -> Option<&'static str> {
        match self {
            Self::Visible => Some("entry"),
            Self::OtherSubvolumes => Some("subvolume"),
            Self::Beneath => Some("place"),
            Self::Held => Some("file"),
            Self::Unreadable => Some("place"),
            Self::Metadata | Self::Shared | Self::Unexplained => None,
        }
    }
}

/// One thing behind a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Item {
    /// What it is; display form.
    pub what: String,
    /// How much of the line it makes, if that is known by itself.
    pub bytes: Option<i64>,
}

impl Item {
    fn new(what: impl Into<String>, bytes: i64) -> Self {
        Self { what: what.into(), bytes: Some(bytes) }
    }

    fn words(what: impl Into<String>) -> Self {
        Self { what: what.into(), bytes: None }
    }
}

/// One line of the books.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// What it is about.
    pub kind: LineKind,
    /// How many bytes, and how sure that is.
    pub figure: Figure,
    /// How many things.
    pub count: u64,
    /// What is behind it.
    pub items: Vec<Item>,
}

impl Line {
    fn new(kind: LineKind, figure: Figure) -> Self {
        Self { kind, figure, count: 0, items: Vec::new() }
    }

    /// What is counted, as in "2 files"; nothing if nothing is.
    pub fn counted(&self) -> String {
        match self.kind.noun() {
            Some(noun) if self.count > 0 => counted(self.count, noun),
            _ => String::new(),
        }
    }
}

/// See the [module](self).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Books {
    /// Where the volume is mounted.
    pub mount_point: PathBuf,
    /// Type of its file system.
    pub fs_type: String,
    /// In use, as the volume says.
    pub used: Bytes,
    /// When they were drawn up.
    pub taken: Time,
    /// When the visible entries were scanned, if they were.
    pub scanned: Option<Time>,
    /// In this order they are read; *unexplained* comes last.
    pub lines: Vec<Line>,
    /// What lies beside the used space: tables, reserves.
    pub beside: Vec<Item>,
    /// What would be known with more rights, or after a scan; one sentence each.
    pub notes: Vec<String>,
}

impl Books {
    /// A line, if there is one of this sort.
    pub fn line(&self, kind: LineKind) -> Option<&Line> {
        self.lines.iter().find(|line| line.kind == kind)
    }

    /// What no line explains.
    pub fn unexplained(&self) -> Figure {
        self.line(LineKind::Unexplained).map_or(Figure::UNKNOWN, |line| line.figure)
    }

    /// Whether every number is exact, and they add up.
    pub fn balance(&self) -> bool {
        self.unexplained() == Figure::exact(0)
    }
}

/// Lets the file system write down what it still has in memory (`syncfs(2)`), so that what it says of
/// itself is of one moment. Does nothing to volumes that are read-only or simulated.
///
/// # Errors
///
/// As `syncfs(2)`.
pub fn settle_writes(volume: &Volume) -> Result<(), CallError> {
    if volume.read_only || !matches!(volume.class, Class::Storage) {
        return Ok(());
    }
    let at = &volume.mount_point;
    let root = kernel::open_root(at).map_err(CallError::on(Op::Open, at))?;
    rustix::fs::syncfs(root).map_err(CallError::on(Op::Sync, at))
}

/// Draws up the books of a volume. `catalog` is the scan of it; whether it began at the mount point is
/// looked up. Call [`settle_writes`] before the scan. Takes as long as reading what is beneath mount
/// points, and on btrfs all trees.
///
/// # Errors
///
/// If the volume does not say how much it uses.
pub fn books(
    volume: &Volume,
    catalog: Option<&Catalog>,
    held: &DeletedFiles,
    now: Time,
) -> Result<Books, CallError> {
    let at = &volume.mount_point;
    let used = match (&volume.capacity, volume.class) {
        (Ok(capacity), Class::Simulated) => capacity.used,
        (Err(reason), _) => {
            return Err(CallError::on(Op::Examine, at)(io::Error::other(reason.clone())));
        }
        (Ok(_), _) => capacity(at).map_err(CallError::on(Op::Examine, at))?.used,
    };
    let mounts = kernel::mounts().unwrap_or_default();
    let mut draft = Draft { volume, notes: Vec::new(), lines: Vec::new(), beside: Vec::new() };
    let whole = catalog.and_then(|catalog| whole_scan(catalog, at));
    let visible = whole.map(|(catalog, _)| catalog);
    draft.visible(whole);
    let tells = metadata::ask(&mut draft);
    draft.beneath(visible, &mounts);
    draft.held(held, &mounts);
    draft.unreadable(visible);
    draft.lines.extend(tells);
    draft.lines.sort_by_key(|line| line.kind as u8);
    shared::correct(&mut draft, used);
    draft.close(used);
    Ok(Books {
        mount_point: at.clone(),
        fs_type: volume.fs_type.clone(),
        used,
        taken: now,
        scanned: visible.map(Catalog::now),
        lines: draft.lines,
        beside: draft.beside,
        notes: draft.notes,
    })
}

/// The catalog with its entry of all that is visible on a volume, if the scan began at its root and went
/// to its end.
fn whole_scan<'a>(catalog: &'a Catalog, mount_point: &Path) -> Option<(&'a Catalog, EntryId)> {
    let root = catalog.roots().iter().find(|root| root.path == mount_point)?;
    let only = catalog.roots().len() == 1;
    // below another root of the same scan, what both hold was counted with that one
    let apart = || {
        !catalog
            .roots()
            .iter()
            .any(|other| other.path != root.path && other.path.starts_with(mount_point))
    };
    // what filters kept out is known for all roots together only
    let fits = only || (apart() && catalog.excluded().entries == 0);
    (catalog.is_complete() && fits).then_some((catalog, root.entry))
}

/// Books that are being drawn up.
struct Draft<'a> {
    volume: &'a Volume,
    notes: Vec<String>,
    lines: Vec<Line>,
    beside: Vec<Item>,
}

impl Draft<'_> {
    fn visible(&mut self, visible: Option<(&Catalog, EntryId)>) {
        let mut line = Line::new(LineKind::Visible, Figure::UNKNOWN);
        match visible {
            Some((catalog, root)) => {
                let out = catalog.excluded();
                let bytes = catalog.allocated(root) + out.allocated;
                line.figure = Figure::exact(bytes.get() as i64);
                line.count = catalog.entries(root) + out.entries;
            }
            None => {
                let at = Shown(&self.volume.mount_point);
                self.notes.push(format!("What is visible is known after a scan of {at}."));
            }
        }
        self.lines.push(line);
    }

    fn beneath(&mut self, catalog: Option<&Catalog>, mounts: &[Mount]) {
        let places = beneath::covered_places(self.volume, mounts);
        let mut line = Line::new(LineKind::Beneath, Figure::exact(0));
        line.count = places.len() as u64;
        match beneath::look(self.volume, &places, catalog) {
            Ok(items) => {
                let all = items.iter().all(|item| item.bytes.is_some());
                let bytes = items.iter().filter_map(|item| item.bytes).sum();
                line.figure = Figure::exact_if(all, bytes);
                line.items = items;
            }
            Err(error) => {
                line.figure = Figure::UNKNOWN;
                line.items = places.iter().map(|place| Item::words(shown(place))).collect();
                self.notes.push(match error.raw_os_error() {
                    Some(libc::EPERM) => {
                        "What lies beneath mount points can be seen by root only.".to_owned()
                    }
                    _ => format!("What lies beneath mount points could not be seen: {error}."),
                });
            }
        }
        self.lines.push(line);
    }

    fn held(&mut self, held: &DeletedFiles, mounts: &[Mount]) {
        let files = held_on(self.volume, held);
        let known: Bytes = files.iter().filter_map(|file| file.allocated).sum();
        // layers lie on other volumes; which, and as which inode, the kernel does not tell
        let layered = |dev| mounts.iter().any(|m| m.dev == dev && m.fs_type == "overlay");
        let in_layers: Bytes = held
            .files
            .iter()
            .filter(|file| layered(file.volume))
            .filter_map(|file| file.allocated)
            .sum();
        let may_hold = self.volume.class == Class::Storage && in_layers > Bytes::ZERO;
        if may_hold {
            let bytes = in_layers.shown(UnitStyle::Binary);
            self.notes.push(format!(
                "{bytes} are held by deleted files of overlays, some of them perhaps on this volume."
            ));
        }
        let all =
            held.hidden == 0 && files.iter().all(|file| file.allocated.is_some()) && !may_hold;
        let mut line = Line::new(LineKind::Held, Figure::exact_if(all, known.get() as i64));
        line.count = files.len() as u64;
        line.items = files
            .iter()
            .map(|file| {
                let holders: Vec<String> = file
                    .holds
                    .iter()
                    .map(|hold| format!("{} (pid {})", hold.process.command, hold.process.pid))
                    .collect();
                Item {
                    what: format!("{}  held by {}", shown(&file.path), holders.join(", ")),
                    bytes: file.allocated.map(|bytes| bytes.get() as i64),
                }
            })
            .collect();
        if held.hidden > 0 {
            let processes = counted(held.hidden as u64, "process");
            self.notes.push(format!("{processes} of other users may hold more: root can tell."));
        }
        self.lines.push(line);
    }

    fn unreadable(&mut self, catalog: Option<&Catalog>) {
        let at = &self.volume.mount_point;
        let places: Vec<_> = catalog.map_or_else(Vec::new, |catalog| {
            catalog.unreadable().iter().filter(|place| place.path.starts_with(at)).collect()
        });
        let figure =
            if places.is_empty() && catalog.is_some() { Figure::exact(0) } else { Figure::UNKNOWN };
        let mut line = Line::new(LineKind::Unreadable, figure);
        line.count = places.len() as u64;
        line.items = places
            .iter()
            .map(|place| Item {
                what: format!(
                    "{}: cannot {}: {}",
                    shown(&place.path),
                    place.op.words(),
                    place.error
                ),
                bytes: None,
            })
            .collect();
        self.lines.push(line);
    }

    fn line_mut(&mut self, kind: LineKind) -> Option<&mut Line> {
        self.lines.iter_mut().find(|line| line.kind == kind)
    }

    /// What all lines so far leave over.
    fn rest(&self, used: Bytes) -> i64 {
        used.get() as i64 - self.lines.iter().map(|line| line.figure.bytes).sum::<i64>()
    }

    fn close(&mut self, used: Bytes) {
        let rest = self.rest(used);
        let visible =
            self.line_mut(LineKind::Visible).is_some_and(|l| l.figure.sure == Sure::Exact);
        let unreadable = self.line_mut(LineKind::Unreadable);
        if let Some(line) = unreadable.filter(|line| visible && line.figure == Figure::UNKNOWN) {
            line.figure = Figure { bytes: rest.max(0), sure: Sure::AtMost };
        }
        let exact = self.lines.iter().all(|line| line.figure.sure == Sure::Exact);
        let figure = match (visible, exact) {
            (false, _) => Figure::UNKNOWN,
            (true, true) => Figure::exact(rest),
            (true, false) => Figure { bytes: rest, sure: Sure::AtMost },
        };
        // what may be unreadable is in both; it is the rest that is bounded
        self.lines.push(Line::new(LineKind::Unexplained, figure));
    }
}

/// The deleted files that take space on a volume.
pub fn held_on<'a>(
    volume: &'a Volume,
    held: &'a DeletedFiles,
) -> Vec<&'a crate::kernel::DeletedFile> {
    match volume.class {
        Class::Simulated => held.below(&volume.mount_point).collect(),
        _ => held.on_volume(volume.dev).collect(),
    }
}
