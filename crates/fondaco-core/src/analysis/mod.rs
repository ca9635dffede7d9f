//! What the facts mean: which places are never to be touched, what is known about one entry, how old and
//! how large things are.

mod ages;
mod evidence;
mod protection;

pub use ages::{AgeBy, Cell, Classes, FileOrder, Matrix, byte_years, first_files, matrix};
pub use evidence::{Evidence, Verdict, gather};
pub use protection::{HOLDING_AREA_PREFIX, Protection};
