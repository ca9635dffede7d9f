//! What files have in common on XFS, where its own records do not tell: each file is asked.

use std::collections::BTreeMap;
use std::io;

use rustix::fs::{Mode, OFlags};

use super::beneath::walk;
use super::{Draft, Figure, Item, Line, LineKind, Sure};
use crate::kernel::{self, Kind, extents, private_mount};
use crate::units::Bytes;

/// Where XFS has no record of owners and the lines so far explain more than there is, files share extents:
/// every file is asked for those (`FIEMAP`), and what was counted again is taken off.
pub(super) fn correct(draft: &mut Draft<'_>, used: Bytes) {
    let is_open = draft.line_mut(LineKind::Shared).is_some_and(|l| l.figure.sure == Sure::AtMost);
    if !is_open || draft.line_mut(LineKind::Visible).is_none_or(|l| l.figure.sure != Sure::Exact) {
        return;
    }
    let mut line = Line::new(LineKind::Shared, Figure::exact(0));
    if draft.rest(used) < 0 {
        match counted_again(draft) {
            Ok((bytes, files)) => {
                line.figure = Figure::exact(-(bytes as i64));
                line.items = vec![Item::new(format!("shared by {files} files"), -(bytes as i64))];
            }
            Err(error) => {
                line.figure = Figure::UNKNOWN;
                draft.notes.push(format!("What files share could not be asked for: {error}."));
            }
        }
    }
    draft.lines.retain(|line| line.kind != LineKind::Shared);
    draft.lines.push(line);
}

/// Bytes of shared extents that were counted more than once, and how many files have some.
fn counted_again(draft: &Draft<'_>) -> io::Result<(u64, u64)> {
    let at = &draft.volume.mount_point;
    // as root also beneath mount points
    let top = private_mount(at).or_else(|_| kernel::open_root(at))?;
    let top = kernel::open_directory(&top, c".")?;
    let mut pieces: Vec<(u64, u64)> = Vec::new();
    let mut files = 0;
    let mut failed = None;
    let mut linked = BTreeMap::new();
    walk(top, &mut |directory, name, stat| {
        let again = stat.links > 1 && linked.insert((stat.dev, stat.ino), ()).is_some();
        if stat.kind != Kind::File || stat.blocks == 0 || again {
            return;
        }
        let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NOFOLLOW | OFlags::NOATIME;
        let opened = rustix::fs::openat(directory, name, flags, Mode::empty());
        let all = match opened.map_err(io::Error::from).and_then(extents) {
            Ok(all) => all,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return,
            Err(error) => return failed = Some(error),
        };
        let shared = all.iter().filter(|extent| extent.shared);
        let before = pieces.len();
        pieces.extend(shared.map(|extent| (extent.physical, extent.length)));
        files += u64::from(pieces.len() > before);
    })?;
    if let Some(error) = failed {
        return Err(error); // a sum without some of them would not be exact
    }
    pieces.sort_unstable();
    Ok((overlap(&pieces), files))
}

/// Bytes that pieces, in order of their places, have in common with those before them.
pub(super) fn overlap(pieces: &[(u64, u64)]) -> u64 {
    let (mut covered, mut again) = (0, 0);
    for (place, length) in pieces {
        let end = place + length;
        again += covered.min(end).saturating_sub(*place);
        covered = covered.max(end);
    }
    again
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_pieces_have_in_common_is_counted_for_each_after_the_first() {
        // 0..10, 5..15 (5 again), 5..8 (3), 20..30, 20..30 (10)
        let pieces = [(0, 10), (5, 3), (5, 10), (20, 10), (20, 10)];
        assert_eq!(overlap(&pieces), 3 + 5 + 10);
        assert_eq!(overlap(&[]), 0);
    }
}
