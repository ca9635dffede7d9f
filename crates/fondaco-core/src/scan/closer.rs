//! A closer look at every entry of a catalog: births, attributes and contents, which a scan leaves out.

use std::io::Read;
use std::ops::ControlFlow;
use std::os::fd::OwnedFd;
use std::sync::Arc;

use crate::catalog::{Catalog, Closer, EntryId};
use crate::kernel::{self, Kind, Stat};
use crate::naming::{FileKind, HEAD, kind_of_content};

/// Looks at every entry once more. What is gone, has become another inode or cannot be reached stays unknown.
/// With `into`, the first bytes of files are read whose names tell no kind; nothing but regular files is ever
/// opened, and access times stay (where permitted).
/// `watch` is told now and then how many have been looked at, and can end it; then there is no result.
pub fn look_closer(
    catalog: &Catalog,
    into: bool,
    watch: &dyn Fn(u64) -> ControlFlow<()>,
) -> Option<Closer> {
    let mut closer = Closer::new(catalog.ids().len());
    if into {
        closer.set_looked_into();
    }
    let mut looked = 0u64;
    // a directory, and the one that it is opened from
    let mut open: Vec<(EntryId, Option<Arc<OwnedFd>>)> = Vec::new();
    for root in catalog.roots() {
        if let Ok(stat) = kernel::stat_path(&root.path) {
            put(&mut closer, catalog, root.entry, &stat);
        }
        open.push((root.entry, None));
    }
    while let Some((directory, parent)) = open.pop() {
        let opened = match &parent {
            Some(parent) => kernel::open_directory(parent, catalog.own_name(directory)),
            None => kernel::open_root(&catalog.path(directory)),
        };
        drop(parent);
        let Ok(opened) = opened.map(Arc::new) else { continue };
        for child in catalog.children(directory) {
            looked += 1;
            if looked.is_multiple_of(4096) && watch(looked).is_break() {
                return None;
            }
            let Ok(stat) = kernel::stat_at(&opened, catalog.own_name(child)) else { continue };
            let is_same = put(&mut closer, catalog, child, &stat);
            let nameless = FileKind::of_name(catalog.own_name(child)) == FileKind::unknown();
            if into && is_same && stat.kind == Kind::File && nameless {
                let kind = head_of(&opened, catalog.own_name(child))
                    .and_then(|head| kind_of_content(&head));
                kind.into_iter().for_each(|kind| closer.put_content(child, kind));
            }
            let is_read = catalog.reading(child) == Some(crate::catalog::Reading::Done);
            if is_same && is_read && catalog.children(child).len() > 0 {
                open.push((child, Some(Arc::clone(&opened))));
            }
        }
    }
    Some(closer)
}

/// The first bytes of a regular file.
fn head_of(directory: &OwnedFd, name: &[u8]) -> Option<Vec<u8>> {
    let file = kernel::open_file(directory, name).ok()?;
    let mut head = Vec::with_capacity(HEAD);
    file.take(HEAD as u64).read_to_end(&mut head).ok()?;
    Some(head)
}

/// Keeps what is known of an entry, if it is still the inode that the scan saw; says whether it is.
fn put(closer: &mut Closer, catalog: &Catalog, id: EntryId, stat: &Stat) -> bool {
    let is_same = (catalog.inode(id), catalog.kind(id)) == (stat.ino, stat.kind);
    if is_same {
        closer.put(id, stat);
    }
    is_same
}
