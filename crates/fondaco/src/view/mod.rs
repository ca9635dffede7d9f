//! Draws the model; decides nothing. One file for each station and for each part of the frame.

mod ages;
mod books;
mod breakdown;
mod directories;
mod evidence;
mod evidence_looking;
mod files;
mod gauge;
mod header;
mod hints;
mod journal;
mod leftovers;
mod lens;
mod map;
mod overlay;
mod pen;
mod plan;
mod route;
mod theme;
mod volumes;

use ratatui::Frame;
use ratatui::layout::Rect;

use crate::app::geometry::{self, LEAST};
use crate::app::model::{Model, Station};
use pen::Pen;

#[cfg(test)]
pub use pen::typed;
pub use pen::{Hits, Target};
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
    match model.station {
        Station::Volumes => volumes::draw(model, pen, parts.panel),
        Station::Directories => directories::draw(model, pen, parts.panel),
        Station::Ages => ages::draw(model, pen, parts.panel),
        Station::Breakdown => breakdown::draw(model, pen, parts.panel),
        Station::Leftovers => leftovers::draw(model, pen, parts.panel),
        Station::Plan => plan::draw(model, pen, parts.panel),
        Station::Journal => journal::draw(model, pen, parts.panel),
        later => not_yet(later, pen, parts.panel),
    }
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
fn nothing_scanned(model: &Model, pen: &mut Pen<'_>, area: Rect) -> bool {
    if !model.scan.roots.is_empty() {
        return false;
    }
    let text = "Nothing has been scanned yet. Choose a volume under 1 Volumes and press Enter, or type \
                a path with p there.";
    let style = pen.theme.dim;
    pen.wrapped(Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area }, text, style);
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

fn not_yet(station: Station, pen: &mut Pen<'_>, area: Rect) {
    let will_be = station.will_be().unwrap_or_default();
    let text = format!("{} is not in this version yet. It will be: {will_be}.", station.name());
    let style = pen.theme.dim;
    pen.wrapped(Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area }, &text, style);
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
