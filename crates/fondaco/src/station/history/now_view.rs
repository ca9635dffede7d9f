//! Draws who writes at this moment.

use fondaco_core::lens::Accounts;
use fondaco_core::shown::shown;
use fondaco_core::units::grouped;
use ratatui::layout::Rect;

use super::now::NowState;
use crate::frame::model::Model;
use crate::frame::view::{Pen, Target, cut_path};
use crate::query::{notes, rate_words, volume_words, writer_words};

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let now = &model.rooms.history.now;
    let path = cut_path(&shown(&now.place), usize::from(area.width / 2));
    let x = pen.text(area.x + 1, area.y, &path, theme.plain, area.width);
    let text = "at this moment, over the last 10 s · n ends it";
    pen.text(x + 2, area.y, text, theme.dim, area.right().saturating_sub(x + 2));
    let activity = match &now.seen {
        None => {
            pen.text(area.x + 1, area.y + 2, "watching …", theme.dim, area.width);
            return;
        }
        Some(Err(reason)) => {
            let text = format!("Nothing can be seen: {reason}");
            pen.wrapped(Rect { x: area.x + 1, y: area.y + 2, ..area }, &text, theme.trouble);
            return;
        }
        Some(Ok(activity)) => activity,
    };
    let fills = activity.volume_rate.is_some_and(|rate| rate > 0.0);
    let style = if fills { theme.trouble } else { theme.teal };
    pen.text(area.x + 1, area.y + 1, &volume_words(activity, model.units), style, area.width - 1);
    let mut y = area.y + 2;
    for note in notes(activity) {
        pen.text(area.x + 1, y, &note, theme.dim, area.width - 1);
        y += 1;
    }
    let left = area.bottom().saturating_sub(y + 1);
    if activity.writers.is_empty() && activity.directories.is_empty() {
        pen.text(area.x + 1, y + 1, "Nothing was seen to grow.", theme.plain, area.width - 1);
        return;
    }
    // the directories get what the processes leave, and at least half
    let processes = (activity.writers.len() as u16 + 2).min(left / 2);
    writers(model, pen, Rect { y: y + 1, height: processes, ..area }, now);
    let y = y + 1 + processes;
    directories(model, pen, Rect { y, height: area.bottom().saturating_sub(y), ..area }, now);
}

fn writers(model: &Model, pen: &mut Pen<'_>, area: Rect, now: &NowState) {
    let Some(activity) = now.activity() else { return };
    let dim = pen.theme.dim;
    let (rate, pid, user, name) = (area.x + 14, area.x + 23, area.x + 25, area.x + 38);
    pen.text_right(rate, area.y, "a second ↓", pen.theme.brass);
    pen.text_right(pid, area.y, "pid", dim);
    pen.text(user, area.y, "user", dim, 12);
    pen.text(name, area.y, "process", dim, 16);
    pen.text(name + 17, area.y, "grows most", dim, area.width);
    let visible = usize::from(area.height.saturating_sub(2));
    let offset =
        (now.cursor.min(activity.writers.len().saturating_sub(1)) + 1).saturating_sub(visible);
    for (number, writer) in activity.writers.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, area.y + 1 + (number - offset) as u16, area.width, 1);
        let (style, _) = pen.begin_row(line, number == now.cursor);
        pen.text_right(rate, line.y, &rate_words(writer.rate, model.units), style);
        if let Some(process) = &writer.process {
            pen.text_right(pid, line.y, &writer.pid.to_string(), style);
            let names = model.names.of_machine();
            let who = names.user_name(process.user).unwrap_or_else(|| process.user.to_string());
            pen.text(user, line.y, &who, style, 12);
        }
        pen.text(name, line.y, &writer_words(writer), style, 16);
        if let Some(path) = &writer.largest {
            let room = line.right().saturating_sub(name + 17);
            let path = path.strip_prefix(&now.place).unwrap_or(path);
            pen.text(name + 17, line.y, &cut_path(&shown(path), usize::from(room)), style, room);
        }
        pen.hit(line, Target::Row(number));
    }
}

fn directories(model: &Model, pen: &mut Pen<'_>, area: Rect, now: &NowState) {
    let Some(activity) = now.activity() else { return };
    let dim = pen.theme.dim;
    let (rate, made, name) = (area.x + 14, area.x + 23, area.x + 25);
    pen.text_right(rate, area.y, "a second ↓", pen.theme.brass);
    pen.text_right(made, area.y, "made", dim);
    pen.text(name, area.y, "directory", dim, 16);
    let before = activity.writers.len();
    let visible = usize::from(area.height.saturating_sub(1));
    let selected = now.cursor.checked_sub(before);
    let offset = selected.map_or(0, |selected| (selected + 1).saturating_sub(visible));
    for (number, directory) in activity.directories.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, area.y + 1 + (number - offset) as u16, area.width, 1);
        let (style, _) = pen.begin_row(line, Some(number) == selected);
        pen.text_right(rate, line.y, &rate_words(directory.rate, model.units), style);
        let count = if directory.made > 0 { grouped(directory.made) } else { String::new() };
        pen.text_right(made, line.y, &count, style);
        let room = line.right().saturating_sub(name);
        let path = match directory.path.strip_prefix(&now.place) {
            Ok(below) if !below.as_os_str().is_empty() => below,
            _ => &directory.path,
        };
        pen.text(name, line.y, &cut_path(&shown(path), usize::from(room)), style, room);
        pen.hit(line, Target::Row(before + number));
    }
}
