//! Finds which files hold the same bytes, and which tree is contained in which.
//!
//! Takes a [`Catalog`](crate::catalog::Catalog) and reads file contents; changes neither. The way in is
//! [`Candidates::of`], which groups files by length, and [`search`], which reads of each group as little as tells its
//! members apart: sets come out in order of relief. What has been read before is [`Known`] by inode and times.
//! [`Containment`] compares directories by the sets. [`Keep`] says which copy of a set stays; that is carried out
//! elsewhere, by plans.

mod all_known;
mod blocks;
mod candidates;
mod containment;
mod contents;
mod earlier;
mod first_look;
mod keep;
mod known;
mod same_names;
mod search;
mod tell_apart;

pub use candidates::{Candidate, Candidates};
pub use containment::{Contained, Containment, Count, Relation};
pub use first_look::Places;
pub use keep::{Arranged, KEEP_WORDS, Keep};
pub use known::{Known, KnownError};
pub use same_names::{SameName, Version, same_names};
pub use search::{Figures, Found, NotRead, Set, guessed_time, search};
