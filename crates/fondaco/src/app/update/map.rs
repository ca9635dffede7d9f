//! The map of the directory at hand, made when the directory, the lens or the screen is another.

use fondaco_core::analysis::{AreaOf, MapShape, Place, map};
use fondaco_core::shown::Shown;

use super::directories;
use crate::app::geometry::map_place;
use crate::app::looking::MapStation;
use crate::app::model::Model;

pub(super) fn draw_up(model: &mut Model) {
    let (Some(at), Some(readable)) = (directories::at(model), directories::read(model)) else {
        return;
    };
    let Some(panel) = map_place(model) else { return };
    let catalog = readable.read_now();
    let selection = super::lens::selection(model);
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
    model.looking.map = MapStation { areas, names };
}
