//! What the facts mean: which places are never to be touched, and what is known about one entry.

mod evidence;
mod protection;

pub use evidence::{Evidence, Verdict, gather};
pub use protection::{HOLDING_AREA_PREFIX, Protection};
