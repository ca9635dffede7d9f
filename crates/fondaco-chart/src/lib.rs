//! Charts and reports from what `fondaco-core` has found: SVG, PDF, HTML.
//!
//! A chart is drawn once, as SVG with real text ([`Chart`]); PDF is made of that. Text is measured with the font
//! that is carried along ([`text`]), so that nothing is cut by chance or runs into something else. Names come
//! in their display form. Every chart has a title, what it is of, its date, units and a legend, and is told by
//! lightness as well as by colour.

mod ages;
mod breakdown;
mod cascade;
mod changes;
mod chart;
mod colours;
mod containment;
mod letter;
mod levels;
mod map;
mod past;
mod pdf;
mod report;
mod svg;
pub mod text;
mod tide;

pub use ages::ages;
pub use breakdown::breakdown;
pub use cascade::cascade;
pub use changes::{ChangeLine, changes};
pub use chart::{Chart, ChartError, Context};
pub use colours::Look;
pub use containment::{ContainedLine, containment};
pub use letter::{Letter, Line, Section};
pub use levels::{Level, levels};
pub use map::map;
pub use past::{PastLevel, past};
pub use report::{FileLine, Report, SliceLine, Trouble};
pub use tide::{TideMark, TidePoint, tide};
