//! The first line: name, station, the trail of directories, and what is going on.

use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{counted, grouped};
use ratatui::layout::Rect;
use unicode_width::UnicodeWidthStr;

use super::pen::Pen;
use crate::fit::{cut, cut_path};
use crate::frame::model::{Model, RunStage};

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let mut x = pen.text(1, area.y, "FONDACO", theme.brass, 10) + 2;
    x = pen.text(x, area.y, model.station.name(), theme.plain, 14) + 2;
    let (going_on, urgent) = going_on(model);
    let most = usize::from(area.width.saturating_sub(x + 20));
    let going_on = cut(&going_on, most);
    let style = if urgent { theme.brass } else { theme.dim };
    pen.text_right(area.width - 1, area.y, &going_on, style);
    let left = area.width.saturating_sub(x + going_on.width() as u16 + 3);
    let looks = model.station.room().shows_scan();
    if looks && !model.place.path.as_os_str().is_empty() {
        trail(model, pen, x, area.y, left);
    } else if looks && model.scan.roots.len() > 1 {
        let places = counted(model.scan.roots.len() as u64, "place");
        pen.text(x, area.y, &places, theme.plain, left);
    }
}

/// The path with a mark between its parts; in the trail, the chosen ancestor stands out.
fn trail(model: &Model, pen: &mut Pen<'_>, x: u16, y: u16, width: u16) {
    let theme = pen.theme;
    let path = &model.place.path;
    let root = model.scan.roots.iter().find(|root| path.starts_with(root));
    let below = root.and_then(|root| path.strip_prefix(root).ok());
    let (Some(root), Some(below)) = (root, below) else {
        pen.text(x, y, &cut_path(&shown(path), usize::from(width)), theme.plain, width);
        return;
    };
    let mut parts = vec![Shown(root).to_string()];
    parts.extend(below.iter().map(shown));
    let whole = parts.join(" ▸ ");
    let Some(trail) = model.place.trail else {
        pen.text(x, y, &cut_path(&whole, usize::from(width)), theme.plain, width);
        return;
    };
    let end = x + width;
    let mut x = x;
    for (place, part) in parts.iter().enumerate() {
        let chosen = place == trail;
        let style = if chosen { theme.selected } else { theme.plain };
        x = pen.text(x, y, part, style, end.saturating_sub(x));
        if place + 1 < parts.len() {
            x = pen.text(x, y, " ▸ ", theme.dim, end.saturating_sub(x));
        }
    }
}

/// Long work: what, how far, how fast, how to stop it; else how old the scan is.
fn going_on(model: &Model) -> (String, bool) {
    match &model.run.stage {
        RunStage::Rehearsing(f) => {
            return (format!("rehearsing {} of {} · S stops", f.done, f.total), true);
        }
        RunStage::Running(f, _) => {
            let text = format!(
                "{} {} of {} · {} freed · S stops",
                f.phase,
                f.done,
                f.total,
                model.bytes(f.freed)
            );
            return (text, true);
        }
        RunStage::Returning(what) => return (format!("{what} …"), true),
        RunStage::Idle => {}
    }
    let progress = &model.scan.progress;
    let unreadable = match progress.unreadable {
        0 => String::new(),
        n => format!(" · {} unreadable", grouped(n)),
    };
    if model.scan.running {
        let rate = progress.entries as f64 / progress.elapsed.as_secs_f64().max(0.001);
        let text = format!(
            "scanning {} entries · {} · {}/s{unreadable} · S stops",
            grouped(progress.entries),
            model.bytes(progress.bytes),
            grouped(rate as u64)
        );
        return (text, true);
    }
    if let Some(mending) = &model.scan.mending {
        let entries = grouped(mending.progress.entries);
        let text = match &mending.path {
            Some(path) => {
                let name = path.file_name().map(shown).unwrap_or_default();
                format!("scanning {name} again · {entries} entries · S stops")
            }
            None => "looking again at what was changed …".to_owned(),
        };
        return (text, true);
    }
    match model.scan.ended {
        Some(ended) => {
            let word = match (model.scan.saved, model.scan.complete) {
                (true, true) => "saved scan,",
                (true, false) => "saved scan, stopped,",
                (false, true) => "scanned",
                (false, false) => "scan stopped",
            };
            let (age, entries) = (ended.age(model.now), grouped(progress.entries));
            (format!("{word} {age} ago · {entries} entries{unreadable}"), model.scan.saved)
        }
        None => (String::new(), false),
    }
}
