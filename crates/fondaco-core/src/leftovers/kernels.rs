//! Kernels with what belongs to them, and which of them are superseded.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, ErrorKind};
use std::path::{Path, PathBuf};

use super::dpkg::Dpkg;
use super::found::{Leftover, What};
use super::group::GroupName;
use super::packages;
use super::remains::{head, read_head};
use crate::analysis::{Ownership, Packages, release_in_boot};
use crate::catalog::{Catalog, EntryId};
use crate::kernel::{self, CallError, Kind, Mount, Op};
use crate::state::KernelsKept;
use crate::units::Bytes;

/// A kernel by its release, as `uname -r` says it of the running one.
#[derive(Default)]
struct Installed {
    /// Images, initial file systems, maps, settings, modules and headers, the image first.
    parts: Vec<EntryId>,
    has_image: bool,
}

/// The release that an image says it is of (the kernel's documentation, x86 boot protocol, `kernel_version`).
fn release_of_image(head: &[u8]) -> Option<String> {
    if head.get(0x202..0x206)? != b"HdrS" {
        return None;
    }
    let at = 0x200 + usize::from(u16::from_le_bytes(head.get(0x20e..0x210)?.try_into().ok()?));
    let text = head.get(at..(at + 256).min(head.len()))?;
    let end = text.iter().position(|byte| matches!(byte, 0 | b' '))?;
    String::from_utf8(text[..end].to_vec()).ok().filter(|release| !release.is_empty())
}

/// The order of two releases: numbers count as numbers.
fn compare(one: &str, other: &str) -> Ordering {
    let parts = |text: &str| {
        let mut parts: Vec<(u64, String)> = Vec::new();
        let mut rest = text;
        while !rest.is_empty() {
            let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
            let (number, after) = rest.split_at(digits);
            let letters = after.bytes().take_while(|byte| !byte.is_ascii_digit()).count();
            let (word, after) = after.split_at(letters);
            // what is not yet a release comes before it, and what has been added to one after it
            let word = match word {
                "" => "\"".to_owned(),
                word if word.starts_with("-rc") => format!("!{word}"),
                word => word.to_owned(),
            };
            parts.push((number.parse().unwrap_or(0), word));
            rest = after;
        }
        parts
    };
    parts(one).cmp(&parts(other))
}

/// What the kernels of a system stand on.
pub(super) struct System<'a> {
    pub(super) root: &'a Path,
    pub(super) running: String,
    pub(super) kept: &'a KernelsKept,
    pub(super) dpkg: Option<&'a Dpkg>,
    pub(super) packages: &'a Packages,
    pub(super) mounts: &'a [Mount],
}

impl System<'_> {
    /// Finds superseded kernels in the scan.
    pub(super) fn superseded(&self, catalog: &Catalog) -> Vec<(GroupName, Leftover)> {
        let kernels = self.installed(catalog);
        let (named, not_read) = match self.named_by_boot_loader(&kernels) {
            Ok(named) => (named, None),
            Err(error) => {
                let why = format!("what the boot loader names is not known: {}", error.whole());
                (BTreeSet::new(), Some(why))
            }
        };
        let mut releases: Vec<&String> = kernels
            .iter()
            .filter(|(_, kernel)| kernel.has_image)
            .map(|(release, _)| release)
            .collect();
        releases.sort_by(|a, b| compare(b, a));
        let newest: BTreeSet<&String> =
            releases.iter().take(self.kept.newest.max(1)).copied().collect();
        let mut found = Vec::new();
        for (release, kernel) in &kernels {
            let reason = if *release == self.running {
                Some("it is running")
            } else if newest.contains(release) {
                Some("it is among the newest")
            } else if self.kept.keep.contains(release) {
                Some("the settings name it")
            } else if named.contains(release) {
                Some("the boot loader names it")
            } else if let Some(why) = &not_read {
                Some(why.as_str())
            } else if !kernel.has_image && releases.is_empty() {
                Some("no image of any kernel was found, so nobody knows which is used")
            } else {
                None
            };
            found.extend(self.leftover(catalog, release, kernel).map(|item| match reason {
                Some(reason) => (GroupName::Kernels, item.that_stays(reason)),
                None => (GroupName::Kernels, item),
            }));
        }
        found
    }

    fn installed(&self, catalog: &Catalog) -> BTreeMap<String, Installed> {
        let mut kernels: BTreeMap<String, Installed> = BTreeMap::new();
        let children = |place: &str| {
            let directory =
                catalog.find(&self.root.join(place)).filter(|id| catalog.is_directory(*id));
            directory.into_iter().flat_map(|id| catalog.children(id))
        };
        for id in children("boot").filter(|id| catalog.kind(*id) == Kind::File) {
            let name = String::from_utf8_lossy(catalog.own_name(id)).into_owned();
            let by_name =
                release_in_boot(&name).map(|(release, is_image)| (release.to_owned(), is_image));
            // an image says itself what it is, whatever its name
            let is_image = by_name.as_ref().is_none_or(|(_, is_image)| *is_image);
            let head = if is_image { head(&catalog.path(id), 64 << 10) } else { None };
            let by_itself =
                head.and_then(|head| release_of_image(&head)).map(|release| (release, true));
            let Some((release, is_image)) = by_itself.or(by_name) else { continue };
            let kernel = kernels.entry(release).or_default();
            kernel.has_image |= is_image;
            let place = if is_image { 0 } else { kernel.parts.len() };
            kernel.parts.insert(place, id);
        }
        for (place, prefix) in [
            ("lib/modules", ""),
            ("usr/lib/modules", ""),
            ("usr/src", "linux-headers-"),
            ("usr/src", "linux-"),
        ] {
            for id in children(place).filter(|id| catalog.is_directory(*id)) {
                let name = String::from_utf8_lossy(catalog.own_name(id)).into_owned();
                let Some(release) = name.strip_prefix(prefix) else { continue };
                let is_kernel = release.starts_with(|c: char| c.is_ascii_digit());
                // sources stay where no kernel of theirs is installed: nobody knows what they are for
                let is_known = kernels.contains_key(release);
                if is_kernel && (is_known || place.ends_with("modules")) {
                    let parts = &mut kernels.entry(release.to_owned()).or_default().parts;
                    if !parts.contains(&id) {
                        parts.push(id);
                    }
                }
            }
        }
        kernels
    }

    /// Releases that entries of the boot loader name which somebody has written, and links that lead to an image. A menu
    /// that is made by itself names all there are, and so says nothing.
    ///
    /// # Errors
    ///
    /// [`CallError`] if some of it cannot be read: then any may be named.
    fn named_by_boot_loader(
        &self,
        kernels: &BTreeMap<String, Installed>,
    ) -> Result<BTreeSet<String>, CallError> {
        let mut texts: Vec<String> = Vec::new();
        for directory in ["boot/loader/entries", "boot/efi/loader/entries", "efi/loader/entries"] {
            let directory = self.root.join(directory);
            let names = directory.canonicalize().and_then(|real| kernel::names_in(&real));
            let names = if_there(names).map_err(CallError::on(Op::ReadDirectory, &directory))?;
            for name in names.unwrap_or_default() {
                texts.extend(read_text(&directory.join(name))?);
            }
        }
        for file in [
            "boot/grub/custom.cfg",
            "boot/grub2/custom.cfg",
            "etc/grub.d/40_custom",
            "boot/extlinux/extlinux.conf",
            "boot/grub/grubenv",
            "etc/lilo.conf",
        ] {
            texts.extend(read_text(&self.root.join(file))?);
        }
        for menu in ["boot/grub/grub.cfg", "boot/grub2/grub.cfg"] {
            let text = read_text(&self.root.join(menu))?;
            texts.extend(text.filter(|text| !text.contains("DO NOT EDIT THIS FILE")));
        }
        for link in
            ["vmlinuz", "vmlinuz.old", "boot/vmlinuz", "boot/vmlinuz.old", "boot/vmlinuz-linux"]
        {
            let link = self.root.join(link);
            let target = match std::fs::read_link(&link) {
                // no link
                Err(error) if error.kind() == ErrorKind::InvalidInput => None,
                target => if_there(target).map_err(CallError::on(Op::Read, &link))?,
            };
            texts.extend(target.map(|target| target.to_string_lossy().into_owned()));
        }
        let names_it = |release: &String| {
            let is_end = |rest: &str| {
                !rest.starts_with(|c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '+'))
            };
            texts.iter().any(|text| {
                text.match_indices(release.as_str())
                    .any(|(at, _)| is_end(&text[at + release.len()..]))
            })
        };
        Ok(kernels.keys().filter(|release| names_it(release)).cloned().collect())
    }

    /// A kernel as one leftover: through the package manager if packages own it, else all its parts together.
    fn leftover(&self, catalog: &Catalog, release: &str, kernel: &Installed) -> Option<Leftover> {
        let first = kernel.parts.first()?;
        let mut owners = BTreeSet::new();
        for id in &kernel.parts {
            match self.packages.owner(&catalog.path(*id), false) {
                Ownership::Package { name, source: "dpkg" } => {
                    owners.insert(name);
                }
                Ownership::Package { .. } | Ownership::Several { .. } => return None,
                Ownership::Nobody | Ownership::Unknown => {}
            }
        }
        let shown = crate::shown::shown(release);
        let since = catalog.newest(*first);
        if let Some(dpkg) = self.dpkg.filter(|_| !owners.is_empty()) {
            // what is named for this release goes with it, as headers do
            let belongs = dpkg.installed.iter().map(|one| &one.name);
            let belongs = belongs.filter(|name| {
                name.strip_suffix(release)
                    .is_some_and(|rest| rest.starts_with("linux-") && rest.ends_with('-'))
            });
            owners.extend(belongs.cloned());
            let names: Vec<String> = owners.into_iter().collect();
            let boot = self.root.join("boot");
            let in_boot: Vec<EntryId> = kernel
                .parts
                .iter()
                .filter(|id| catalog.path(**id).starts_with(&boot))
                .copied()
                .collect();
            // what was made when it was installed, such as its initial RAM disk, goes with it
            let paths = in_boot.iter().map(|id| catalog.path(*id));
            let is_made = |path: &PathBuf| self.packages.owner(path, false) == Ownership::Nobody;
            let made = paths.filter(is_made).collect();
            let removal = packages::together(dpkg, self.root, &names, made, self.mounts)?;
            let in_boot: Bytes = in_boot.iter().map(|id| catalog.exclusive(*id)).sum();
            let note = format!(
                "kernel {shown}: the package manager removes {}; {} of it in /boot",
                names.join(", "),
                in_boot.shown(crate::units::UnitStyle::Binary)
            );
            return Some(packages::leftover(removal, since, note.into()));
        }
        let allocated: Bytes = kernel.parts.iter().map(|id| catalog.exclusive(*id)).sum();
        let entries = kernel.parts.iter().map(|id| catalog.entries(*id)).sum();
        let parts: Vec<String> =
            kernel.parts.iter().map(|id| super::pass::name(catalog, *id)).collect();
        let note = format!("kernel {shown}, installed by hand: {}", parts.join(", ")).into();
        let what = What::Entries(kernel.parts.clone().into_boxed_slice());
        Some(Leftover { what, allocated, entries, since, note, stays: None })
    }
}

/// Nothing if it is not there.
fn if_there<T>(found: io::Result<T>) -> io::Result<Option<T>> {
    match found {
        Ok(found) => Ok(Some(found)),
        Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => {
            Ok(None)
        }
        Err(error) => Err(error),
    }
}

/// What a file says, if it is there. Links are followed, as the boot loader follows them.
fn read_text(path: &Path) -> Result<Option<String>, CallError> {
    let read = |real: PathBuf| {
        let text = read_head(&real, 1 << 20)?;
        Ok(String::from_utf8_lossy(&text).into_owned())
    };
    match path.canonicalize().and_then(read) {
        // no regular file, which says nothing
        Err(error) if error.kind() == ErrorKind::InvalidInput => Ok(None),
        text => if_there(text).map_err(CallError::on(Op::Read, path)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scan::{Options, Scan};
    use crate::units::Time;

    #[test]
    fn releases_are_ordered_as_numbers_and_images_say_their_own() {
        let mut releases =
            ["6.1.0-9-amd64", "6.1.0-10-amd64", "5.10.200", "6.10.0-rc2", "6.10.0", "6.9.3-custom"];
        releases.sort_by(|a, b| compare(a, b));
        assert_eq!(
            releases,
            ["5.10.200", "6.1.0-9-amd64", "6.1.0-10-amd64", "6.9.3-custom", "6.10.0-rc2", "6.10.0"]
        );
        let mut image = vec![0; 0x400];
        image[0x202..0x206].copy_from_slice(b"HdrS");
        image[0x20e..0x210].copy_from_slice(&0x100u16.to_le_bytes());
        image[0x300..0x310].copy_from_slice(b"6.1.0-9 (build) ");
        assert_eq!(release_of_image(&image).as_deref(), Some("6.1.0-9"));
        image[0x20e..0x210].copy_from_slice(&0xffffu16.to_le_bytes());
        assert_eq!(release_of_image(&image), None, "it lies behind the end");
        assert_eq!(release_in_boot("initramfs-6.9-fallback.img"), Some(("6.9", false)));
    }

    #[test]
    fn a_kernel_stays_as_long_as_it_is_not_known_what_the_boot_loader_names() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        let entries = root.join("boot/loader/entries");
        std::fs::create_dir_all(&entries).unwrap();
        for release in ["1.1.0", "1.2.0", "1.3.0"] {
            std::fs::write(root.join(format!("boot/vmlinuz-{release}")), "image").unwrap();
        }
        std::fs::write(entries.join("rescue.conf"), "linux /vmlinuz-1.1.0\n").unwrap();
        let mut scan =
            Scan::start(std::slice::from_ref(&root), &Options::new(Time::now())).unwrap();
        scan.wait();
        let packages = Packages::of_system(&root);
        let kept = KernelsKept { newest: 1, keep: Vec::new() };
        let system = System {
            root: &root,
            running: "1.0.0".to_owned(),
            kept: &kept,
            dpkg: None,
            packages: &packages,
            mounts: &[],
        };
        let go = || {
            let found = system.superseded(&scan.catalog());
            let go = found.into_iter().filter(|(_, item)| item.stays.is_none());
            go.map(|(_, item)| item.note.to_string()).collect::<Vec<_>>()
        };
        let known = go();
        assert!(known.len() == 1 && known[0].contains("1.2.0"), "{known:?}");
        std::os::unix::fs::symlink("loop.conf", entries.join("loop.conf")).unwrap();
        assert_eq!(go(), Vec::<String>::new());
    }
}
