//! Names of one inode that belong to different targets of an archive: its contents are stored once, with the name that
//! was packed first, and whichever names come back become links of each other again.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, Read};
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, OFlags};

use super::original::ContentHash;
use super::tar_form::plain_name;
use super::tar_read::{Member, TarReader};
use super::unpack::OpenArchive;
use super::{ArchivedEntry, DepotError};
use crate::kernel::{self, CallError, Kind, Op, Stat, open_beneath};
use crate::plan::locate;
use crate::shown::{DocPath, Shown};

/// The entry of an archive with the contents of a name, and where the other names were.
struct Sibling<'a> {
    content: &'a ArchivedEntry,
    /// Places of names in other targets.
    places: Vec<PathBuf>,
}

/// The names of one target that have others in other targets.
pub(super) struct Siblings<'a> {
    archive: &'a OpenArchive,
    of: HashMap<&'a DocPath, Sibling<'a>>,
}

type Content<'a> =
    TarReader<zstd::stream::read::Decoder<'static, io::BufReader<Box<dyn Read + Send>>>>;

impl<'a> Siblings<'a> {
    /// The entries of a target, by its place in the index.
    pub(super) fn new(archive: &'a OpenArchive, place: usize) -> Self {
        let targets = &archive.index.targets;
        let mut of = HashMap::new();
        for entry in &targets[place].entries {
            let first = entry.same_as.as_ref().unwrap_or(&entry.name);
            let Some(names) = archive.links.get(first) else { continue };
            let entries = names.iter().map(|(at, number)| (*at, &targets[*at].entries[*number]));
            let Some((_, content)) = entries.clone().find(|(_, other)| other.name == *first) else {
                continue;
            };
            let elsewhere = entries.filter(|(at, _)| *at != place).filter_map(|(at, other)| {
                let original = &targets[at].original.0;
                let below = other.name.0.strip_prefix(plain_name(original)).ok()?;
                Some(original.join(below).components().collect())
            });
            let places: Vec<PathBuf> = elsewhere.collect();
            if !places.is_empty() {
                of.insert(&entry.name, Sibling { content, places });
            }
        }
        Self { archive, of }
    }

    /// Makes a name a link of one of its siblings that is in its place and is what was archived. Gives whether it is.
    pub(super) fn link(
        &self,
        name: &DocPath,
        parent: &OwnedFd,
        held: &OsStr,
    ) -> Result<bool, DepotError> {
        let Some(sibling) = self.of.get(name) else { return Ok(false) };
        for place in &sibling.places {
            // what cannot be looked at is no reason not to put back: the contents are in the archive
            let Ok(Some(stat)) = as_archived(place, sibling.content) else { continue };
            let Ok(located) = locate(place) else { continue };
            if rustix::fs::linkat(&located.parent, &located.name, parent, held, AtFlags::empty())
                .is_err()
            {
                continue;
            }
            let call = |error| CallError::on(Op::Examine, place)(error);
            let made = kernel::stat_at(parent, held).map_err(call)?;
            let same = (made.dev, made.ino, made.size, made.mtime)
                == (stat.dev, stat.ino, stat.size, stat.mtime);
            if same {
                return Ok(true);
            }
            // somebody put another file there meanwhile: the link that was just made goes again
            rustix::fs::unlinkat(parent, held, AtFlags::empty())
                .map_err(CallError::on(Op::Remove, place))?;
        }
        Ok(false)
    }

    /// Hands out the contents of a name that lies in another target.
    pub(super) fn read(
        &self,
        first: &DocPath,
        take: &mut dyn FnMut(&mut Content<'_>, &Member, &ArchivedEntry) -> Result<(), DepotError>,
    ) -> Result<(), DepotError> {
        let OpenArchive { depot, object, index, links, .. } = self.archive;
        let path = self.archive.path();
        let differs = |reason: String| DepotError::Differs { path: path.to_path_buf(), reason };
        let names = links.get(first).into_iter().flatten();
        let holds =
            |(at, number): &&(usize, usize)| index.targets[*at].entries[*number].name == *first;
        let target = names.clone().find(holds).map(|(at, _)| &index.targets[*at]);
        let target =
            target.ok_or_else(|| differs(format!("it does not hold {}", Shown(&first.0))))?;
        let frame = depot.read(object, target.offset, Some(target.length))?;
        let decoder = zstd::stream::read::Decoder::new(frame);
        let mut tar = TarReader::new(decoder.map_err(CallError::on(Op::Read, path))?);
        for wanted in &target.entries {
            let member = tar.next().map_err(|error| differs(error.to_string()))?;
            let member =
                member.ok_or_else(|| differs("it holds less than its index says".to_owned()))?;
            let difference = member.difference(wanted);
            if let Some(what) = difference.map_err(|error| differs(error.to_string()))? {
                return Err(differs(format!("{what} of {}", Shown(&wanted.name.0))));
            }
            if wanted.name == *first {
                return take(&mut tar, &member, wanted);
            }
            if super::tar_read::has_content(wanted) {
                tar.content(&member, wanted.size, &mut |_, _| Ok(()))
                    .map_err(CallError::on(Op::Read, path))?;
            }
        }
        Err(differs(format!("it does not hold {}", Shown(&first.0))))
    }
}

/// The facts of what is in a place, if it is just what was archived.
fn as_archived(place: &Path, wanted: &ArchivedEntry) -> io::Result<Option<Stat>> {
    let Ok(located) = locate(place) else { return Ok(None) };
    let name = Path::new(&located.name);
    let flags = match wanted.kind {
        Kind::File => OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOATIME,
        _ => OFlags::PATH,
    };
    let open = open_beneath(located.parent.as_fd(), name, flags)?;
    let before = kernel::stat_descriptor(&open)?;
    let is_alike = (before.kind, before.mode, before.uid, before.gid, before.mtime)
        == (wanted.kind, wanted.mode, wanted.uid, wanted.gid, wanted.mtime);
    if !is_alike {
        return Ok(None);
    }
    if wanted.kind != Kind::File {
        return Ok(Some(before).filter(|_| wanted.kind == Kind::Special));
    }
    let mut file = File::from(open);
    let mut hash = ContentHash::default();
    let mut buffer = vec![0; 256 * 1024];
    loop {
        match file.read(&mut buffer)? {
            0 => break,
            got => hash.update(&buffer[..got]),
        }
    }
    let after = kernel::stat_descriptor(&file)?;
    let same = (before.ctime, before.size) == (after.ctime, after.size)
        && Some(hash.finish()) == wanted.sha256;
    Ok(same.then_some(after))
}
