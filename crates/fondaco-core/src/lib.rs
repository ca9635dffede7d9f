//! Everything of Fondaco but its screen.
//!
//! ```text
//!  kernel ─▶ scan ─▶ catalog ─▶ lens ─▶ analysis ─▶ plan ─▶ carry_out ─▶ journal ─▶ put back
//!             │        └▶ books     └▶ rule ──────────▲          │
//!  volume ────┴▶ history                                         └▶ archive ─▶ depot
//! ```
//!
//! [`kernel`] asks the system; [`scan`] walks trees into a [`catalog`], which [`saved`]
//! keeps and takes back; [`naming`] says what names tell, and a [`lens`] narrows a catalog; [`volume`] knows levels
//! and waterlines, [`history`] how they moved and what changed, [`activity`] who writes now, [`drive`] how the disks behind them do; [`books`] explain what a volume says is in use; [`analysis`] and
//! [`rule`] say what may go and why, [`leftovers`] what nobody may need, [`duplicates`] which files and trees hold the same, [`peek`]
//! looks into one file; [`plan`] records what is to go, as reviewed;
//! [`carry_out`] does it, or rehearses it, and undoes it; [`archive`] packs and unpacks; [`unattended`] keeps what runs came
//! to that nobody watched. A module uses only those before it in this list, and none of them prints, parses arguments or
//! knows a terminal.

pub mod activity;
pub mod analysis;
pub mod archive;
pub mod books;
pub mod carry_out;
pub mod catalog;
mod compact_form;
pub mod contained;
pub mod drive;
pub mod duplicates;
pub mod history;
// the only place where calls are made that the compiler cannot check
#[allow(unsafe_code)]
pub mod kernel;
pub mod leftovers;
pub mod lens;
pub mod naming;
pub mod packed_list;
pub mod parallel;
pub mod pattern;
pub mod peek;
pub mod plan;
pub mod rule;
pub mod saved;
pub mod scan;
pub mod shown;
pub mod state;
pub mod unattended;
pub mod units;
pub mod volume;
