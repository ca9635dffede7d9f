//! What the facts mean: which places are never to be touched, what is known about one entry, how old and
//! how large things are.

mod ages;
mod below;
mod breakdown;
mod by_name;
mod evidence;
mod map;
mod protection;

pub use ages::{
    AgeBy, Block, Cell, Classes, FileList, FileOrder, Matrix, byte_years, first_files, matrix,
};
pub use breakdown::{
    Breakdown, BreakdownBy, SLICES, Slice, SliceKey, breakdown, breakdown_in, slice_of,
};
pub use evidence::{
    Evidence, Generations, Ownership, Packages, Regenerable, Regenerables, Repository,
    RepositoryState, Sources, TableError, Totals, Verdict, gather,
};
pub(crate) use evidence::{KnownRow, is_cache_tag, repository_of, repository_state};
pub use map::{Area, AreaOf, MapShape, Place, map};
pub use protection::{HOLDING_AREA_PREFIX, Protection, is_kernel_part};
pub(crate) use protection::{is_holding_area, release_in_boot};
