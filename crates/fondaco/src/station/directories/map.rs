//! The map of the directory at hand, made when the directory, the lens or the screen is another.

use fondaco_core::analysis::{AreaOf, MapShape, Place, map};
use fondaco_core::shown::Shown;
use ratatui::layout::Rect;

use super::{DrawnMap, Shows, cascade};
use crate::frame::geometry::panel;
use crate::frame::model::{Model, read};
use crate::frame::update::{lens, place};

/// A map of fewer lines shows nothing worth having.
const LEAST_BELOW: u16 = 8;

/// Whether there is room for a map below the stairs.
pub(super) fn has_room_below(model: &Model) -> bool {
    panel(model).height / 2 >= LEAST_BELOW
}

/// The part of the panel that the map has: all of it, or what the stairs leave.
pub(super) fn area(model: &Model) -> Rect {
    let panel = panel(model);
    if model.rooms.directories.shows != Shows::Together {
        return panel;
    }
    let stairs = 1 + cascade::rows_drawn(model) as u16;
    let used = stairs.min(panel.height);
    Rect { y: panel.y + used, height: panel.height - used, ..panel }
}

/// Where its areas are: without its heading and legend.
fn map_place(model: &Model) -> Rect {
    let area = area(model);
    let height = area.height.saturating_sub(2);
    Rect { x: area.x + 1, y: area.y + 1, width: area.width.saturating_sub(1), height }
}

pub(super) fn draw_up(model: &mut Model) {
    let (Some(at), Some(shared)) = (place::at(model), model.scan.catalog.clone()) else { return };
    let panel = map_place(model);
    let catalog = read(&shared);
    let selection = lens::selection(model);
    let seen = catalog.seen(selection.as_deref());
    let shape = MapShape {
        whole: Place {
            x: f64::from(panel.x),
            y: f64::from(panel.y),
            width: f64::from(panel.width),
            height: f64::from(panel.height),
        },
        tallness: 2.0,
        margin: (1.0, 1.0, 0.0, 0.0),
        least: (3.0, 1.0),
        least_open: (10.0, 3.0),
    };
    let areas = map(seen, at, &shape);
    let name = |of: &AreaOf| match of {
        AreaOf::Entry { id, .. } => {
            let slash = if catalog.is_directory(*id) { "/" } else { "" };
            format!("{}{slash}", Shown(catalog.name(*id)))
        }
        AreaOf::Rest { count, .. } => format!("{count} more"),
    };
    let names = areas.iter().map(|area| name(&area.of)).collect();
    model.rooms.directories.map = DrawnMap { areas, names };
}
