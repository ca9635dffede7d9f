//! Whole directories that a rule's words hold for: the names of the directory, and all files in it.

use crate::catalog::{Catalog, EntryId, Reading};
use crate::kernel::Kind;
use crate::lens::{Accounts, AgeSource, Lens};

/// The topmost directories, below the roots, that a lens holds for. Name, place and size are asked of the directory
/// itself; kind, ending, owner, group, links and age of each file in it, and of each directory in which there is no file.
/// Links and special files have no kind or ending that would be asked for; their age and owner count.
///
/// A directory that was not read whole, or has another file system or something blocked below it, is none of them.
pub(super) fn holding(
    catalog: &Catalog,
    lens: &Lens,
    ages: AgeSource,
    accounts: &dyn Accounts,
    blocked: &(dyn Fn(EntryId) -> bool + Sync),
) -> Vec<EntryId> {
    let (of_directory, of_files, of_others) = lens.for_directories(ages);
    let names = of_directory.select(catalog, accounts);
    let files = of_files.select(catalog, accounts);
    let others = of_others.select(catalog, accounts);
    let (names, files, others) =
        (catalog.seen(Some(&names)), catalog.seen(Some(&files)), catalog.seen(Some(&others)));
    let count = catalog.len();
    // below each directory: everything holds; there is a file
    let mut holds = vec![false; count];
    let mut has_files = vec![false; count];
    // what lies in a directory has a higher number than the directory
    for number in (0..count as u32).rev() {
        let id = EntryId(number);
        if !catalog.is_directory(id) {
            continue;
        }
        let device = catalog.device_and_inode(id).0;
        let (mut all, mut any) = (catalog.reading(id) == Some(Reading::Done), false);
        for child in catalog.children(id) {
            let at = child.0 as usize;
            all &= !blocked(child) && catalog.device_and_inode(child).0 == device;
            match catalog.kind(child) {
                Kind::Directory => {
                    all &= holds[at] && !catalog.is_subvolume(child);
                    all &= has_files[at] || others.has(child);
                    any |= has_files[at];
                }
                Kind::File => {
                    any = true;
                    all &= files.has(child);
                }
                _ => {
                    any = true;
                    all &= others.has(child);
                }
            }
            if !all {
                break;
            }
        }
        (holds[number as usize], has_files[number as usize]) = (all, any);
    }
    let mut found = Vec::new();
    let mut inside = vec![false; count];
    for id in catalog.ids().filter(|id| catalog.is_directory(*id)) {
        let at = id.0 as usize;
        if catalog.parent(id).is_some_and(|parent| inside[parent.0 as usize]) {
            inside[at] = true;
            continue;
        }
        let itself = has_files[at] || others.has(id);
        let is_free = !blocked(id) && !catalog.is_root(id) && catalog.parent(id).is_some();
        let has_size = lens.allows_size(catalog.allocated(id));
        if holds[at] && names.has(id) && itself && is_free && has_size {
            inside[at] = true;
            found.push(id);
        }
    }
    found
}
