//! What programs of the system remove themselves, as targets of a plan: packages, and files of the system journal.

use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use fondaco_store::ManagedStore;
use serde::{Deserialize, Serialize};

use super::{Deed, Planned, Refusal, Survey, Target};
use crate::kernel::{self, CallError, Kind, Op};
use crate::leftovers::{self, OnVolume, PackageRemoval};
use crate::shown::DocPath;
use crate::units::{Bytes, Time};

/// What was reviewed of what a program is to remove.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "of", rename_all = "kebab-case")]
pub enum ToolTarget {
    /// Packages, with everything that goes with them.
    Packages(PackageRemoval),
    /// Files of the system journal.
    Journal {
        /// The directory that they lie in.
        directory: DocPath,
        /// Just these may go.
        files: Vec<DocPath>,
        /// They begin before this moment.
        before: Time,
    },
    /// An object of a store.
    Object(ObjectTarget),
}

/// What was listed of an object that is to be removed from its store.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ObjectTarget {
    /// The address of its store and its name in it.
    pub address: DocPath,
    /// Its length in bytes.
    pub length: u64,
    /// When it was last written, in seconds since 1970, if the store says.
    pub written: Option<i64>,
    /// Of a member of a managed store: how it is listed and removed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub managed: Option<Box<ManagedStore>>,
}

impl ToolTarget {
    /// The deed that it is for.
    pub fn deed(&self) -> Deed {
        match self {
            Self::Packages(_) => Deed::RemovePackages,
            Self::Journal { .. } => Deed::VacuumJournal,
            Self::Object(_) => Deed::RemoveObject,
        }
    }

    /// What of it lies on other volumes than its action says.
    pub fn elsewhere(&self) -> &[OnVolume] {
        match self {
            Self::Packages(removal) => &removal.elsewhere,
            Self::Journal { .. } | Self::Object(_) => &[],
        }
    }

    /// What people know it by.
    pub fn place(&self) -> &Path {
        match self {
            Self::Packages(removal) => Path::new(&removal.label),
            Self::Journal { directory, .. } => &directory.0,
            Self::Object(object) => &object.address.0,
        }
    }

    /// What it is, in words.
    pub fn words(&self) -> String {
        match self {
            Self::Packages(removal) => {
                let names = removal.removes.iter().map(crate::shown::shown);
                format!("removes just {}", names.collect::<Vec<_>>().join(", "))
            }
            Self::Journal { files, .. } => {
                let files = crate::units::counted(files.len() as u64, "closed file");
                format!("removes {files} of the system journal")
            }
            Self::Object(object) => match &object.managed {
                Some(store) if store.snapshot.is_some() => {
                    "gone from the store once its snapshot has been answered well".to_owned()
                }
                Some(_) => "gone for good: no snapshot of it is asked for".to_owned(),
                None => "gone for good, unless the store keeps versions".to_owned(),
            },
        }
    }
}

/// What a plan needs to know of an object. An object is a target of its own: the number of its record comes from its
/// address, since no inode has one.
pub(crate) fn survey_object(object: ObjectTarget) -> Survey {
    let path = object.address.0.clone();
    let hash = blake3::hash(path.as_os_str().as_bytes());
    let number = hash.as_bytes()[..8].try_into().map_or(0, u64::from_le_bytes);
    let time = Time { sec: object.written.unwrap_or(0), nsec: 0 };
    let target = Target {
        path: DocPath(path),
        device: 0,
        inode: number,
        kind: Kind::File,
        size: object.length,
        mtime: time,
        ctime: time,
        links: 1,
        entries: 1,
        allocated: Bytes::from_blocks(object.length.div_ceil(512)),
        digest: None,
    };
    let alone = Survey::of_target(target, time);
    Survey { tool: Some(Box::new(ToolTarget::Object(object))), ..alone }
}

/// Looks at what a program is to remove. Its target is one file: as long as that is what it was, so is the rest.
fn survey(
    tool: ToolTarget,
    file: &Path,
    (allocated, entries): (Bytes, u64),
) -> Result<Survey, Refusal> {
    let stat = kernel::stat_path(file).map_err(CallError::on(Op::Examine, file))?;
    let target = Target { entries, allocated, ..Target::of_inode(file, &stat) };
    let alone = Survey::of_target(target, Time::default());
    Ok(Survey { tool: Some(Box::new(tool)), ..alone })
}

/// Plans the removal of packages: what goes with them is asked of the package manager, which changes nothing by that.
/// `volume_of` tells the root of the volume of a path.
///
/// # Errors
///
/// [`Refusal::Hopeless`] if it would do anything but remove packages, or does not answer.
pub fn plan_packages(
    removal: &PackageRemoval,
    reason: String,
    volume_of: &dyn Fn(&Path, Kind) -> PathBuf,
) -> Result<Planned, Refusal> {
    let list = removal.list.clone();
    let removes = leftovers::simulate(&removal.packages)
        .map_err(|error| Refusal::Hopeless { path: list.clone(), reason: error.to_string() })?;
    if removes.is_empty() {
        let reason = "the package manager would remove nothing".to_owned();
        return Err(Refusal::Hopeless { path: list, reason });
    }
    let volume = volume_of(Path::new("/usr"), Kind::Directory);
    let mut elsewhere: Vec<OnVolume> = Vec::new();
    let mut amount = (removal.allocated, removal.entries);
    if let Some(sizes) = leftovers::sizes_of(&removes, &removal.beside) {
        amount = (sizes.allocated, sizes.entries);
        for (_, file, allocated) in sizes.by_device {
            let other = volume_of(&file, Kind::File);
            match elsewhere.iter_mut().find(|known| known.volume.0 == other) {
                Some(known) => known.allocated += allocated,
                None if other == volume => {}
                None => elsewhere.push(OnVolume { volume: DocPath(other), allocated }),
            }
        }
    }
    let tool = ToolTarget::Packages(PackageRemoval { removes, elsewhere, ..removal.clone() });
    let survey = survey(tool, &list, amount)?;
    Ok(Planned::of_survey(list, Deed::RemovePackages, reason, volume, survey))
}

/// Plans that the journal's program removes just these closed files of it.
///
/// # Errors
///
/// [`Refusal`] if one of them is not there, or a younger file would go too.
pub fn plan_journal(
    files: &[PathBuf],
    reason: String,
    volume: PathBuf,
) -> Result<Planned, Refusal> {
    let first = files.first().ok_or_else(|| Refusal::Gone(PathBuf::from("/var/log/journal")))?;
    let directory = first.parent().unwrap_or(first).to_owned();
    let hopeless = |reason: String| Refusal::Hopeless { path: directory.clone(), reason };
    let before = leftovers::journal_cutoff(&directory, files)
        .map_err(CallError::on(Op::ReadDirectory, &directory))?
        .ok_or_else(|| {
            hopeless("younger files begin as early as these: they would go too".to_owned())
        })?;
    let begins_before =
        |file: &&PathBuf| leftovers::journal_begin(file).is_some_and(|begin| begin < before);
    let files: Vec<PathBuf> = files
        .iter()
        .filter(|file| file.parent() == Some(&directory))
        .filter(begins_before)
        .cloned()
        .collect();
    let Some(first) = files.first() else {
        return Err(hopeless("when its files begin is not known".to_owned()));
    };
    let mut amount = (Bytes::ZERO, 0);
    for file in &files {
        let stat = kernel::stat_path(file).map_err(CallError::on(Op::Examine, file))?;
        amount = (amount.0 + stat.allocated(), amount.1 + 1);
    }
    let first = first.clone();
    let files = files.into_iter().map(DocPath).collect();
    let tool = ToolTarget::Journal { directory: DocPath(directory), files, before };
    let survey = survey(tool, &first, amount)?;
    Ok(Planned::of_survey(first, Deed::VacuumJournal, reason, volume, survey))
}
