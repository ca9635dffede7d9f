//! Draws the frame and what several stations share; decides nothing. One file for each part.

mod evidence;
pub mod file_list;
mod gauge;
mod header;
mod hints;
mod lens;
mod level_scale;
mod overlay;
mod parts;
mod pen;
mod route;
mod theme;

use ratatui::Frame;
use ratatui::layout::Rect;

use crate::frame::geometry::{self, LEAST};
use crate::frame::model::Model;

pub use crate::fit::{cut, cut_path, wrap};
pub use evidence::{EntryFacts, Sheet, dated, of_entry};
pub use gauge::bar;
pub use level_scale::{LevelScale, SCALE};
pub use parts::{age_profile, growth_title, growth_words, share};
#[cfg(test)]
pub use pen::typed;
pub use pen::{Hits, Pen, Target, stair};
#[cfg(test)]
pub use theme::Depth;
pub use theme::Theme;

/// Draws one frame; gives what a click would mean where.
pub fn draw(model: &Model, frame: &mut Frame<'_>, theme: &Theme) -> Hits {
    let mut hits = Hits::default();
    let area = frame.area();
    let mut pen = Pen::new(frame.buffer_mut(), theme, &mut hits);
    pen.clear(area);
    match geometry::frame(model.size) {
        Some(parts) if area.width >= LEAST.0 && area.height >= LEAST.1 => {
            draw_parts(model, &mut pen, &parts);
        }
        _ => too_small(model, &mut pen, area),
    }
    theme.finish(frame.buffer_mut());
    hits
}

fn draw_parts(model: &Model, pen: &mut Pen<'_>, parts: &geometry::Frame) {
    header::draw(model, pen, parts.header);
    gauge::draw(model, pen, parts.gauge);
    rules(pen, parts);
    route::draw(model, pen, parts.route, parts.is_wide);
    model.station.room().draw(model, pen, parts.panel);
    evidence::draw(model, pen, parts.evidence, parts.is_wide);
    lens::on_rule(
        model,
        pen,
        Rect { y: parts.panel.bottom(), height: 1, x: 0, width: parts.header.width },
    );
    hints::notice(model, pen, parts.notice);
    hints::draw(model, pen, parts.hints);
    lens::offers(model, pen, parts.panel);
    overlay::draw(model, pen, parts.panel);
}

/// Says so if there is nothing to look at; says whether that is so.
pub fn nothing_scanned(model: &Model, pen: &mut Pen<'_>, area: Rect) -> bool {
    if !model.scan.roots.is_empty() {
        return false;
    }
    let volume = model.selected_volume().map(|volume| {
        format!("Enter scans {}, the volume that is selected under 1 Volumes. ", {
            fondaco_core::shown::Shown(&volume.mount_point)
        })
    });
    let text = format!(
        "Nothing has been scanned yet. {}p takes any path, s opens a scan that was saved.",
        volume.unwrap_or_default()
    );
    let style = pen.theme.dim;
    pen.wrapped(Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area }, &text, style);
    true
}

/// Thin rules between the parts.
fn rules(pen: &mut Pen<'_>, parts: &geometry::Frame) {
    let style = pen.theme.rule;
    if parts.is_wide {
        let width = parts.header.width;
        pen.fill(Rect::new(0, parts.panel.y - 1, width, 1), "─", style);
        pen.fill(Rect::new(0, parts.panel.bottom(), width, 1), "─", style);
        for x in [parts.route.right(), parts.evidence.x - 1] {
            pen.fill(Rect::new(x, parts.panel.y, 1, parts.panel.height), "│", style);
            pen.text(x, parts.panel.y - 1, "┬", style, 1);
            pen.text(x, parts.panel.bottom(), "┴", style, 1);
        }
    } else {
        for y in [parts.route.bottom(), parts.panel.bottom()] {
            pen.fill(Rect::new(0, y, parts.header.width, 1), "─", style);
        }
    }
}

fn too_small(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let text = format!(
        "This terminal is {} × {}. Fondaco needs {} × {}: make it larger. {}",
        area.width,
        area.height,
        LEAST.0,
        LEAST.1,
        if model.run.is_active() { "The run goes on." } else { "q leaves." }
    );
    let style = pen.theme.plain;
    pen.wrapped(area, &text, style);
}
