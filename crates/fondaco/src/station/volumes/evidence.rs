//! What is known about the selected volume, or about a line of its books.

use fondaco_core::books::{LineKind, Sure};
use fondaco_core::drive::{Drives, Health};
use fondaco_core::history::Outlook;
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, counted, grouped};

use super::shown_books;
use crate::frame::model::Model;
use crate::frame::view::{Pen, Sheet};
use crate::query::reasons;
use crate::words;

pub(super) fn of_volume(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let Some(volume) = model.selected_volume() else { return sheet };
    let theme = pen.theme;
    match &volume.capacity {
        Err(reason) => sheet.verdict = Some((format!("Not known: {reason}"), theme.trouble)),
        Ok(capacity) => {
            let relief = model.draft.relief(&volume.mount_point);
            let to_find = volume.to_find(relief.now);
            sheet.verdict = Some(if volume.short_of_inodes() {
                let text = format!(
                    "Short of inodes: above {} of them are in use. Soon no file can be made, however \
                     much room there is: many small files must go.",
                    volume.waterline
                );
                (text, theme.trouble)
            } else if to_find > Bytes::ZERO {
                let text = format!(
                    "Above its waterline of {}: {} must go. Enter scans it.",
                    volume.waterline,
                    model.bytes(to_find)
                );
                (text, theme.trouble)
            } else {
                (format!("Below its waterline of {}.", volume.waterline), theme.teal)
            });
            let (whom, other) = (volume.level_for, volume.level_for.other());
            let (level, beside) = (capacity.level_for(whom), capacity.level_for(other));
            sheet.fact(
                "level",
                match level == beside {
                    true => level.to_string(),
                    false => format!("{level} for {}, {beside} for {}", whom.word(), other.word()),
                },
            );
            sheet.fact("capacity", model.bytes(capacity.total));
            sheet.fact("used", model.bytes(capacity.used));
            sheet.fact("free root", model.bytes(capacity.free_root));
            sheet.fact("free users", model.bytes(capacity.free_users));
            let reserve = capacity.free_root.less(capacity.free_users);
            sheet.fact("reserve", format!("{} for root", model.bytes(reserve)));
            sheet.fact("planned", model.bytes(relief.now));
            let inodes = match capacity.inodes {
                0 => "made as needed".to_owned(),
                all => format!("{} of {}", grouped(all - capacity.inodes_free), grouped(all)),
            };
            sheet.fact("inodes", inodes);
            let outlook = model.outlook(volume);
            if let Some(trend) = outlook.trend() {
                let signed = |bytes: f64| words::signed_bytes(bytes as i64, model.units);
                let (low, high) = (signed(trend.low), signed(trend.high));
                let range = if low == high { String::new() } else { format!(", {low} to {high}") };
                sheet.fact("rise a day", format!("{}{range}", signed(trend.rise)));
                if trend.falls > 0 {
                    let falls = counted(trend.falls as u64, "clean-up");
                    sheet.fact("seen", format!("{falls} in {:.0} d, left out of it", trend.days));
                }
            }
            sheet.fact(
                "full in",
                match &outlook {
                    Outlook::Full(_, forecast) => words::range(forecast),
                    other => words::full_in(other),
                },
            );
            sheet.fact("block", model.bytes(Bytes::new(capacity.block)));
        }
    }
    if let Some(drives) = model.drives.get(&volume.mount_point) {
        add_drives(&mut sheet, drives, pen);
    }
    sheet.fact("type", volume.fs_type.clone());
    sheet.fact("device", shown(&volume.source));
    sheet.fact("mounted at", shown(&volume.mount_point));
    if volume.root.as_os_str() != "/" {
        sheet.fact("part of it", shown(&volume.root));
    }
    for place in &volume.also {
        sheet.fact("also at", words::in_words(place));
    }
    for quota in volume.quotas.iter().take(8) {
        sheet.fact("limit", words::quota_line(quota, model.names.of_machine(), model.units));
    }
    let removable = if volume.removable { ", removable" } else { "" };
    sheet.fact("storage", format!("{}{removable}", volume.class.word()));
    sheet.fact("writable", if volume.read_only { "no: read-only" } else { "yes" });
    sheet
}

/// The disks behind a volume; if one is failing, that comes first.
fn add_drives(sheet: &mut Sheet, drives: &Drives, pen: &Pen<'_>) {
    if drives.health() == Health::Failing {
        let said = sheet.verdict.take().map_or_else(String::new, |(text, _)| text);
        let why = reasons(drives).into_iter().next().unwrap_or_default();
        let text = format!("The disk {}. {why}. {said}", drives.verdict());
        sheet.verdict = Some((text, pen.theme.trouble));
    } else if drives.none.is_none() || drives.disks.is_empty() {
        sheet.fact("disks", drives.verdict());
    }
    for reason in reasons(drives) {
        sheet.fact("", reason);
    }
    for disk in &drives.disks {
        let mut words = vec![disk.health.word().to_owned()];
        words.extend(disk.model().map(str::to_owned));
        words.extend(disk.temperature().map(|degrees| format!("{degrees} °C")));
        if let Some(own) = &disk.own {
            words.extend(own.wear.map(|wear| format!("{wear} % worn")));
            words.extend(own.spare.map(|spare| format!("{spare} % spare")));
            words.extend(own.hours.map(|hours| format!("{} h on", grouped(hours))));
        }
        sheet.fact("disk", format!("{}: {}", disk.name, words.join(", ")));
    }
}

/// What a line of the books means, and the largest things behind it.
pub(super) fn of_line(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let theme = pen.theme;
    let Some(books) = shown_books(model) else { return sheet };
    let Some(line) = books.lines.get(model.rooms.volumes.books.cursor) else { return sheet };
    let style = match (line.kind, line.figure.bytes) {
        (LineKind::Held, 1..) => theme.trouble,
        (LineKind::Unexplained, bytes) if bytes != 0 => theme.trouble,
        _ => theme.plain,
    };
    sheet.verdict = Some((meaning(line.kind).to_owned(), style));
    let sure = match line.figure.sure {
        Sure::Exact => "exact",
        Sure::AtMost => "it is at most this",
        Sure::AtLeast => "it is at least this",
        Sure::Unknown => "nothing can be said",
    };
    sheet.fact("how sure", sure);
    sheet.fact("of the used", {
        let share = line.figure.bytes as f64 / books.used.get().max(1) as f64;
        format!("{:.1} %", share * 100.0)
    });
    if line.kind == LineKind::Metadata {
        for item in &books.beside {
            let bytes = Bytes::new(item.bytes.unwrap_or(0).unsigned_abs());
            sheet.fact("beside it", format!("{} {}", model.bytes(bytes), item.what));
        }
    }
    sheet.list_title = "behind it";
    sheet.list = line
        .items
        .iter()
        .map(|item| {
            let sign = if item.bytes.is_some_and(|bytes| bytes < 0) { "-" } else { "" };
            let size = |bytes: i64| model.bytes(Bytes::new(bytes.unsigned_abs()));
            let bytes = item.bytes.map_or_else(String::new, |b| format!("{sign}{}", size(b)));
            (item.what.clone(), bytes)
        })
        .collect();
    sheet
}

fn meaning(kind: LineKind) -> &'static str {
    match kind {
        LineKind::Visible => "What the scan saw: every inode once, however many names it has.",
        LineKind::OtherSubvolumes => {
            "Subvolumes of the same file system that do not lie below this mount point. Mount them \
             to look into them."
        }
        LineKind::Beneath => {
            "What lies in directories that other volumes are mounted on: hidden, but it takes space. \
             Nothing was unmounted to see it."
        }
        LineKind::Held => {
            "Files that were deleted while a process has them open. The space comes back when it \
             ends or closes them. Enter shows who."
        }
        LineKind::Unreadable => "What the scan was not allowed to read, or could not.",
        LineKind::Metadata => {
            "What the file system keeps for itself and counts as used, by its own interfaces."
        }
        LineKind::Shared => {
            "Files have extents in common, or lie smaller on the device than they count: taken off \
             what is visible."
        }
        LineKind::Unexplained => {
            "Used space that no line explains. On a volume that is written to, some of it is what \
             changed since the scan."
        }
    }
}
