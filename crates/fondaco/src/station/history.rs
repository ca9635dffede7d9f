//! History: a station that this version does not have yet.

use ratatui::layout::Rect;

use crate::frame::model::Model;
use crate::frame::view::{Pen, not_yet};

/// See the [module](self).
pub struct Room;

/// Nothing is known here yet.
#[derive(Clone, Debug, Default)]
pub struct State;

impl super::Room for Room {
    fn will_be(&self) -> Option<&'static str> {
        Some("how levels moved, and when the volume will be full")
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        not_yet(model, pen, area);
    }
}
