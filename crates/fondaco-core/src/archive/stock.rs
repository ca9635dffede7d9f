//! What a depot holds, whether it can be used, and whether its archives are still what was written.

use std::ffi::{OsStr, OsString};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use super::depot::unfinished;
use super::unpack::read_index;
use super::verify::read_back;
use super::{ArchiveFiles, ArchivedTarget, Depot, DepotAddress, DepotError, NewObject};
use crate::kernel::{self, CallError, Op};
use crate::units::Bytes;

/// An archive in a depot. What it holds is told by [`StoredArchive::about`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoredArchive {
    /// Path of its file, `NAME.tar.zst`.
    pub path: PathBuf,
    /// Length of its file.
    pub length: Bytes,
}

/// What an archive holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AboutArchive {
    /// When it was made, RFC 3339.
    pub created: String,
    /// The machine that the originals were on.
    pub machine: String,
    /// Targets in it, each of which can be had back alone: the number of its action, and where it was.
    pub targets: Vec<(u32, PathBuf)>,
    /// Entries in it.
    pub entries: u64,
    /// Length of all files in it.
    pub contents: Bytes,
}

/// The archives in a depot, in the order of their names, which is that of time.
///
/// # Errors
///
/// [`DepotError`] if the depot cannot be opened or listed.
pub fn archives_in(depot: &Path) -> Result<Vec<StoredArchive>, DepotError> {
    let open = DepotAddress::from(depot).open_existing()?;
    let named = |(file, length): (OsString, Option<Bytes>)| {
        name_of_archive(&file).map(|name| (name, length))
    };
    let mut names: Vec<(String, Option<Bytes>)> =
        open.names()?.into_iter().filter_map(named).collect();
    names.sort_unstable();
    let one = |(name, length): (String, Option<Bytes>)| {
        let file = ArchiveFiles::of(&name).archive;
        let length = length.map_or_else(|| open.length(&file), Ok)?;
        Ok(StoredArchive { length, path: open.object(&file) })
    };
    names.into_iter().map(one).collect()
}

/// The name of an archive without its endings, if a file is one.
fn name_of_archive(file: &OsStr) -> Option<String> {
    let file = file.to_str()?;
    // what is unfinished begins with a dot
    file.strip_suffix(".tar.zst").filter(|name| !name.starts_with('.')).map(str::to_owned)
}

/// The depot of an archive, open, and the names of the archive's files in it.
fn open_depot_of(archive: &Path) -> Result<(Box<dyn Depot>, ArchiveFiles), DepotError> {
    let reason = "its name is not that of an archive".to_owned();
    let no_archive = || DepotError::Differs { path: archive.to_owned(), reason };
    let name = archive.file_name().and_then(name_of_archive).ok_or_else(no_archive)?;
    let depot = DepotAddress::from(archive.parent().unwrap_or(archive)).open_existing()?;
    Ok((depot, ArchiveFiles::of(&name)))
}

impl StoredArchive {
    /// What it holds, as its index tells.
    ///
    /// # Errors
    ///
    /// [`DepotError`] if that cannot be read: then its files are not a whole archive.
    pub fn about(&self) -> Result<AboutArchive, DepotError> {
        let (depot, files) = open_depot_of(&self.path)?;
        let index = read_index(&*depot, &files.index)?;
        let entries = || index.targets.iter().flat_map(|target| &target.entries);
        let contents = entries().filter(|entry| entry.sha256.is_some());
        Ok(AboutArchive {
            entries: entries().count() as u64,
            contents: contents.map(|entry| Bytes::new(entry.size)).sum(),
            targets: index.targets.iter().map(ArchivedTarget::place).collect(),
            created: index.created,
            machine: index.machine,
        })
    }
}

/// Reads a whole archive as it is stored, and compares it with its index and its checksum.
///
/// # Errors
///
/// [`DepotError::Differs`] for the first difference; [`DepotError::Call`] if it cannot be read.
pub fn prove_again(archive: &Path) -> Result<(), DepotError> {
    let differs =
        |reason: &str| DepotError::Differs { path: archive.to_owned(), reason: reason.into() };
    let (depot, files) = open_depot_of(archive)?;
    let index = read_index(&*depot, &files.index)?;
    let sums = depot.object(&files.sums);
    let mut said = String::new();
    let read = depot.read(&files.sums, 0, None)?.take(4096).read_to_string(&mut said);
    read.map_err(CallError::on(Op::Read, &sums))?;
    let hash = read_back(depot.read_stored(&files.archive)?, archive, &index.targets)?;
    if hash != index.sha256 {
        return Err(differs("its checksum is not that of the index"));
    }
    // as sha256sum writes it: the checksum, two spaces, the name
    if said.split_whitespace().next() != Some(hash.as_str()) {
        return Err(differs("its checksum is not that beside it"));
    }
    Ok(())
}

/// Writes a small object into a depot, reads it back, gives it its name, and removes it again: what a run needs of it.
///
/// # Errors
///
/// [`DepotError`] for the first step that is refused.
pub fn round_trip(depot: &Path) -> Result<(), DepotError> {
    let open = DepotAddress::from(depot).open_existing()?;
    let id = kernel::random_id().map_err(CallError::on(Op::Read, "getrandom(2)"))?;
    let name = format!("fondaco-check-{id}");
    let part = unfinished(&name);
    let object = open.create(&part)?;
    // from here on the first name is that of the sample, and the second one as soon as it was renamed
    let tried = read_what_was_written(object, &open.object(&part), &sample())
        .and_then(|()| open.rename_new(&part, &name));
    if let Err(error) = tried {
        // the error that matters is the first one
        let _ = open.remove(&part);
        return Err(error);
    }
    let again = read_a_part(&*open, &name, &sample());
    open.remove(&name)?;
    again?;
    Ok(open.sync()?)
}

fn sample() -> Vec<u8> {
    (0..65_536u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect()
}

fn read_what_was_written(
    mut object: Box<dyn NewObject>,
    path: &Path,
    sample: &[u8],
) -> Result<(), DepotError> {
    object.write_all(sample).map_err(CallError::on(Op::Write, path))?;
    object.store().map_err(CallError::on(Op::Sync, path))?;
    let mut read = Vec::new();
    let back = object.read_back().and_then(|mut back| back.read_to_end(&mut read));
    back.map_err(CallError::on(Op::Read, path))?;
    is_same(&read, sample, path)
}

fn read_a_part(depot: &dyn Depot, name: &str, sample: &[u8]) -> Result<(), DepotError> {
    const FROM: usize = 65_000;
    depot.sync()?;
    let (path, mut read) = (depot.object(name), Vec::new());
    let part = depot.read(name, FROM as u64, None)?.read_to_end(&mut read);
    part.map_err(CallError::on(Op::Read, &path))?;
    is_same(&read, &sample[FROM..], &path)
}

fn is_same(read: &[u8], written: &[u8], path: &Path) -> Result<(), DepotError> {
    let reason = || "a sample was read otherwise than it was written".to_owned();
    let differs = || DepotError::Differs { path: path.to_owned(), reason: reason() };
    (read == written).then_some(()).ok_or_else(differs)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::archive::Packing;
    use crate::plan::{Touched, locate, survey};
    use crate::units::Time;

    /// One that is proved on one thread, and one that is proved on two.
    #[test]
    fn any_flipped_bit_of_an_archive_its_index_or_checksum_is_found() {
        for size in [3_000u32, 9 << 20] {
            let directory = tempfile::tempdir().unwrap();
            let home = directory.path().canonicalize().unwrap();
            let original = home.join("recording");
            // compresses a little
            let noise =
                (0..size).map(|n| (n.wrapping_mul(2_654_435_761) >> 25) as u8 ^ (n >> 9) as u8);
            std::fs::write(&original, noise.collect::<Vec<u8>>()).unwrap();
            let depot = DepotAddress::from(home.join("depot").as_path()).open().unwrap();
            let mut packing = Packing::begin(depot, "run".to_owned()).unwrap();
            let target = survey(&original).unwrap().target;
            let located = locate(&original).unwrap();
            packing.add(3, &target, &located, &Touched::default()).unwrap();
            let archive = packing.publish(Time::at(2_000_000_000)).unwrap().path;
            let about = archives_in(&home.join("depot")).unwrap().remove(0).about().unwrap();
            assert_eq!((about.targets, about.entries), (vec![(3, original)], 1));
            round_trip(&home.join("depot")).unwrap();
            assert_eq!(std::fs::read_dir(home.join("depot")).unwrap().count(), 3);
            prove_again(&archive).unwrap();
            let sums = archive.with_file_name("run.sha256");
            for (file, places) in [(&archive, 24), (&sums, 8)] {
                let whole = std::fs::read(file).unwrap();
                // the checksum itself, and not the name behind it
                let length = if *file == sums { 64 } else { whole.len() };
                for place in 0..places {
                    let mut flipped = whole.clone();
                    flipped[place * (length - 1) / (places - 1)] ^= 1 << (place % 8);
                    std::fs::write(file, flipped).unwrap();
                    assert!(prove_again(&archive).is_err(), "{} {place}", file.display());
                }
                // cut short, and longer than it was
                std::fs::write(file, &whole[..length / 2]).unwrap();
                assert!(prove_again(&archive).is_err(), "{}", file.display());
                std::fs::write(file, &whole).unwrap();
            }
            let mut longer = std::fs::read(&archive).unwrap();
            longer.push(0);
            std::fs::write(&archive, longer).unwrap();
            assert!(prove_again(&archive).is_err());
        }
    }
}
