//! Volumes: which file system is in trouble, how far above its waterline, how soon it is full; and below
//! the list the books of the selected one.

use fondaco_core::drive::Health;
use fondaco_core::kernel::LevelFor;
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, UnitStyle, counted};
use fondaco_core::volume::{Class, Volume};
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::books_view as books;
use crate::frame::model::{Focus, Model};
use crate::frame::view::{Pen, Target, bar, cut_path};
use crate::words;

/// Widths of the columns behind the mount point, which gets the rest.
struct Columns {
    /// Of a size.
    number: u16,
    bar: u16,
    free_root: bool,
    users: bool,
    inodes: bool,
    rise: bool,
    sort: bool,
}

const FORECAST: u16 = 11;
const SORT: u16 = 11;
/// Other places of a volume that are listed below it at most.
const PLACES: usize = 3;

impl Columns {
    fn of_width(width: u16, units: UnitStyle) -> Self {
        // to the byte, sizes are long: other columns make room for them
        let number = if units == UnitStyle::Bytes { 21 } else { 11 };
        let width = width.saturating_sub(3 * (number - 11));
        Self {
            number,
            bar: if width >= 90 { 16 } else { 10 },
            free_root: width >= 72,
            users: width >= 118,
            inodes: width >= 72,
            rise: width >= 124,
            sort: width >= 90,
        }
    }

    fn fixed(&self) -> u16 {
        let is = u16::from;
        self.bar
            + 9
            + self.number * (1 + is(self.free_root) + is(self.users))
            + 8 * is(self.inodes)
            + self.number * is(self.rise)
            + SORT * is(self.sort)
            + FORECAST
    }
}

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    if model.volumes.is_empty() {
        let text = if model.volumes_loaded {
            "No volume is mounted that holds data. Type a path with p to scan a directory."
        } else {
            "Asking the volumes …"
        };
        pen.wrapped(Rect { x: area.x + 1, ..area }, text, theme.dim);
        return;
    }
    // where both do not fit, the one that has the keys is shown
    let both = area.height >= books::HEIGHT + 6;
    if !both && model.focus == Focus::Below {
        return books::draw(model, pen, area);
    }
    let height = if both { area.height - books::HEIGHT - 1 } else { area.height };
    let used = list(model, pen, Rect { height, ..area });
    if both {
        // right below a short list, so that the eye need not wander
        let y = area.y + used.min(height) + 1;
        pen.fill(Rect::new(area.x, y - 1, area.width, 1), "─", theme.rule);
        books::draw(model, pen, Rect { y, height: area.bottom() - y, ..area });
    }
}

/// A line of the list: a volume, or what is said of the one above.
enum Line {
    Volume(usize),
    Below(String, Style),
}

/// Draws the list; says how many lines it took.
fn list(model: &Model, pen: &mut Pen<'_>, area: Rect) -> u16 {
    let columns = Columns::of_width(area.width, model.units);
    let name = area.width.saturating_sub(columns.fixed() + 3);
    heading(pen, area, &columns, name, model.state.settings.level_for);
    let mut lines = Vec::new();
    for (i, volume) in model.volumes.iter().enumerate() {
        lines.push(Line::Volume(i));
        lines.extend(below(model, pen, volume));
    }
    if model.interfaces > 0 {
        let more = counted(model.interfaces as u64, "file system");
        let text = format!("and {more} of the kernel's own, which hold no data");
        lines.push(Line::Below(text, pen.theme.dim));
    }
    let selected =
        lines.iter().position(|line| matches!(line, Line::Volume(i) if *i == model.volume_cursor));
    let visible = usize::from(area.height.saturating_sub(1));
    let offset = (selected.unwrap_or(0) + 1).saturating_sub(visible);
    let shown_lines = lines.iter().skip(offset).take(visible);
    for (at, line) in shown_lines.enumerate() {
        let place = Rect::new(area.x, area.y + 1 + at as u16, area.width, 1);
        match line {
            Line::Volume(i) => {
                row(
                    model,
                    pen,
                    place,
                    &model.volumes[*i],
                    &columns,
                    name,
                    *i == model.volume_cursor,
                );
                if model.focus != Focus::Below {
                    pen.hit(place, Target::Row(*i));
                }
            }
            Line::Below(text, style) => {
                pen.text(place.x + 4, place.y, text, *style, place.width.saturating_sub(5));
            }
        }
    }
    1 + (lines.len() - offset).min(visible) as u16
}

/// What stands below a volume: where else it is mounted, and limits that are nearly used up.
fn below(model: &Model, pen: &Pen<'_>, volume: &Volume) -> Vec<Line> {
    let theme = pen.theme;
    let drives = model.drives.get(&volume.mount_point);
    let bad = drives.filter(|drives| drives.health() >= Health::Worn).map(|drives| {
        let failing = drives.health() == Health::Failing;
        let style = if failing { theme.trouble } else { theme.amber };
        Line::Below(format!("! {}", drives.verdict()), style)
    });
    let mut lines: Vec<Line> = bad.into_iter().collect();
    for quota in volume.tight_quotas().take(PLACES) {
        let text = format!("! {}", words::quota_line(quota, model.names.of_machine(), model.units));
        lines.push(Line::Below(text, theme.trouble));
    }
    for place in volume.also.iter().take(PLACES) {
        let text = format!("the same space at {}", words::in_words(place));
        lines.push(Line::Below(text, theme.dim));
    }
    if volume.also.len() > PLACES {
        let more = counted((volume.also.len() - PLACES) as u64, "more place");
        lines.push(Line::Below(format!("and at {more}"), theme.dim));
    }
    lines
}

fn heading(pen: &mut Pen<'_>, area: Rect, columns: &Columns, name: u16, whom: LevelFor) {
    let style = pen.theme.dim;
    pen.text(area.x + 2, area.y, "mounted at", style, name);
    let mut x = area.x + 2 + name + 1;
    pen.text(x, area.y, "level", style, columns.bar);
    x += columns.bar + 9;
    let headings = [
        ("used", columns.number, true),
        ("free", columns.number, columns.free_root),
        (whom.other().word(), columns.number, columns.users),
        ("inodes", 8, columns.inodes),
        ("rise a day", columns.number, columns.rise),
        ("full in", FORECAST, true),
    ];
    for (text, width, _) in headings.into_iter().filter(|(.., shown)| *shown) {
        x += width;
        pen.text_right(x, area.y, text, style);
    }
    if columns.sort {
        pen.text(x + 2, area.y, "type", style, SORT - 2);
    }
}

fn row(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    volume: &Volume,
    columns: &Columns,
    name: u16,
    selected: bool,
) {
    let theme = pen.theme;
    let (text, quiet) = pen.begin_row(line, selected);
    let is_less = matches!(volume.class, Class::Memory | Class::Overlay);
    let style = if is_less { quiet } else { text };
    let path = cut_path(&shown(&volume.mount_point), usize::from(name));
    pen.text(line.x + 2, line.y, &path, style, name);
    let mut x = line.x + 2 + name + 1;
    let capacity = match &volume.capacity {
        Ok(capacity) => capacity,
        Err(reason) => {
            pen.text(x, line.y, &reason.to_string(), theme.trouble, line.right() - x);
            return;
        }
    };
    let relief = model.draft.relief(&volume.mount_point).now;
    bar(pen, Rect::new(x, line.y, columns.bar, 1), volume, capacity, relief);
    x += columns.bar + 8;
    let level = capacity.level_for(volume.level_for);
    let over = level > volume.waterline;
    let level = if over { format!("! {level}") } else { level.to_string() };
    let alarm = theme.in_row(theme.trouble, selected);
    pen.text_right(x, line.y, &level, if over { alarm } else { style });
    x += 1;
    let mut cell = |text: &str, width: u16, style: Style, shown: bool| {
        if shown {
            x += width;
            pen.text_right(x, line.y, text, style);
        }
    };
    let mut number = |bytes: Bytes, shown| cell(&model.bytes(bytes), columns.number, style, shown);
    number(capacity.used, true);
    number(capacity.free_for(volume.level_for), columns.free_root);
    number(capacity.free_for(volume.level_for.other()), columns.users);
    let short = volume.short_of_inodes();
    let inodes = match capacity.inode_level() {
        Some(level) if short => format!("! {level}"),
        Some(level) => level.to_string(),
        None => "—".to_owned(),
    };
    cell(&inodes, 8, if short { alarm } else { style }, columns.inodes);
    let outlook = model.outlook(volume);
    cell(&words::rise(&outlook, model.units), columns.number, style, columns.rise);
    cell(&words::full_in_short(&outlook), FORECAST, style, true);
    if columns.sort {
        let mut sort = volume.fs_type.clone();
        sort.push_str(if volume.read_only { " ro" } else { "" });
        sort.push_str(if volume.removable { " rem" } else { "" });
        pen.text(x + 2, line.y, &sort, style, SORT - 2);
    }
}
