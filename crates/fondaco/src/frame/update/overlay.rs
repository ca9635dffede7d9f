//! Keys while something stands in front of the station.

use std::path::{Path, PathBuf};

use fondaco_core::archive::is_store;
use fondaco_core::units::Level;

use super::moving::{self, Moving};
use super::{export, held, run, scans, start_scan};
use crate::failure::Failure;
use crate::frame::Field;
use crate::frame::commands::{Command, Key, available};
use crate::frame::deed_key;
use crate::frame::geometry;
use crate::frame::message::Job;
use crate::frame::model::{Asking, Model, Overlay};

pub fn on_key(model: &mut Model, key: Key) -> Vec<Job> {
    if key == Key::Escape {
        model.overlay = None;
        return Vec::new();
    }
    match model.overlay.take() {
        Some(Overlay::ChooseDeed { path, name, deeds, held, bytes, mut cursor, changes }) => {
            let letter = |c| deeds.iter().position(|deed| deed_key(deed) == c);
            let chosen = match key {
                Key::Enter => Some(cursor),
                Key::Char(c) => letter(c),
                Key::Up => {
                    cursor = cursor.saturating_sub(1);
                    None
                }
                Key::Down => {
                    cursor = (cursor + 1).min(deeds.len() - 1);
                    None
                }
                _ => None,
            };
            if let Some(chosen) = chosen {
                let deed = deeds[chosen].clone();
                return match held {
                    Some(inode) => held::put(model, inode, deed, changes),
                    None => moving::put(model, deed, Moving::One(path, changes)),
                };
            }
            model.overlay =
                Some(Overlay::ChooseDeed { path, name, deeds, held, bytes, cursor, changes });
        }
        Some(Overlay::ChooseForMany { count, named, bytes, deeds, mut cursor }) => {
            let chosen = match key {
                Key::Enter => Some(cursor),
                Key::Char(c) => deeds.iter().position(|deed| deed_key(deed) == c),
                _ => None,
            };
            if let Some(chosen) = chosen {
                return moving::put(model, deeds[chosen].clone(), Moving::Many(count));
            }
            match key {
                Key::Up => cursor = cursor.saturating_sub(1),
                Key::Down => cursor = (cursor + 1).min(deeds.len() - 1),
                _ => {}
            }
            model.overlay = Some(Overlay::ChooseForMany { count, named, bytes, deeds, cursor });
        }
        Some(Overlay::Ask { asking, sentence, wanted, mut typed, mut error, offers }) => {
            match key {
                Key::Up => typed = neighbour(&offers, typed.text(), -1),
                Key::Down => typed = neighbour(&offers, typed.text(), 1),
                Key::Enter => {
                    match answer(model, &asking, wanted.as_deref(), typed.text().trim()) {
                        Ok(jobs) => return jobs,
                        Err(reason) => error = Some(reason.to_string()),
                    }
                }
                key => {
                    typed.on_key(key);
                }
            }
            model.overlay = Some(Overlay::Ask { asking, sentence, wanted, typed, error, offers });
        }
        Some(Overlay::Saved { rows, cursor, forgets }) => {
            return scans::in_list(model, rows, cursor, forgets, key);
        }
        Some(Overlay::Palette { typed, cursor }) => return in_palette(model, typed, cursor, key),
        Some(Overlay::Help { offset }) => {
            model.overlay = scrolled(offset, key).map(|offset| Overlay::Help { offset });
            hold_in_list(model);
        }
        Some(Overlay::Listing { title, lines, offset }) => {
            let offset = scrolled(offset, key);
            model.overlay = offset.map(|offset| Overlay::Listing { title, lines, offset });
            hold_in_list(model);
        }
        None => {}
    }
    Vec::new()
}

/// The offered answer before or after the one that is typed; that itself if none is offered.
fn neighbour(offers: &[String], typed: &str, by: isize) -> Field {
    let next = match offers.iter().position(|offer| offer == typed) {
        Some(place) => place.saturating_add_signed(by).min(offers.len() - 1),
        None if by > 0 => 0,
        None => offers.len().saturating_sub(1),
    };
    Field::of(offers.get(next).map_or(typed, String::as_str))
}

/// Where a list stands after a key; nothing if the key closes it.
fn scrolled(offset: usize, key: Key) -> Option<usize> {
    match key {
        Key::Up => Some(offset.saturating_sub(1)),
        Key::Down => Some(offset + 1),
        Key::PageUp => Some(offset.saturating_sub(10)),
        Key::PageDown => Some(offset + 10),
        Key::Home => Some(0),
        Key::End => Some(usize::MAX),
        _ => None,
    }
}

/// Puts something in front of the station.
pub fn open(model: &mut Model, overlay: Overlay) -> Vec<Job> {
    model.overlay = Some(overlay);
    Vec::new()
}

/// Keeps the offset of a list within its lines.
pub fn hold_in_list(model: &mut Model) {
    let (room, commands) = (geometry::listing_room(model.size), available(model).count());
    match &mut model.overlay {
        Some(Overlay::Help { offset }) => *offset = (*offset).min(commands.saturating_sub(room.1)),
        Some(Overlay::Listing { lines, offset, .. }) => {
            *offset = (*offset).min(geometry::last_offset(lines, room));
        }
        _ => {}
    }
}

/// What a typed answer sets off, or why it is not one.
fn answer(
    model: &mut Model,
    asking: &Asking,
    wanted: Option<&str>,
    typed: &str,
) -> Result<Vec<Job>, Failure> {
    if let Some(wanted) = wanted
        && typed != wanted
    {
        return Err(
            format!("That is not {wanted}. Nothing has been done; Esc leaves it so.").into()
        );
    }
    match asking {
        Asking::CarryOut => Ok(run::carry_out(model)),
        Asking::Own(own) => own.take(model, typed),
        Asking::Quit => {
            model.quitting = true;
            Ok(if model.run.is_active() { vec![Job::StopRun] } else { Vec::new() })
        }
        Asking::Path => {
            // an address of a store is one place, whatever it has between slashes
            if is_store(Path::new(typed)) {
                return Ok(start_scan(model, vec![PathBuf::from(typed)]));
            }
            if !typed.starts_with('/') {
                return Err("a path begins with /, and a store with s3:// or https://".into());
            }
            Ok(start_scan(model, scans::paths_in(typed)))
        }
        Asking::Export => export::begin(model, typed),
        Asking::SaveHeld(inode, changes) => held::save_as(*inode, typed, *changes),
        Asking::Waterline(at) => {
            let level = Level::parse(typed).map_err(Failure::of)?;
            let key = fondaco_core::shown::shown(at);
            model.state.settings.waterlines.insert(key, level);
            for volume in model.volumes.iter_mut().filter(|v| v.mount_point == *at) {
                volume.waterline = level;
            }
            model.say(format!("The waterline is {level} now"));
            Ok(vec![Job::Save(model.state.clone())])
        }
    }
}

/// The commands that the palette lists: what works here and fits what is typed.
pub fn palette_rows(model: &Model, typed: &str) -> Vec<&'static Command> {
    let typed = typed.to_lowercase();
    let fits = |row: &&'static Command| {
        row.name.to_lowercase().contains(&typed) || row.help.to_lowercase().contains(&typed)
    };
    available(model).filter(|row| !row.keys.contains(&Key::Ctrl('p'))).filter(fits).collect()
}

fn in_palette(model: &mut Model, mut typed: String, mut cursor: usize, key: Key) -> Vec<Job> {
    let rows = palette_rows(model, &typed);
    match key {
        Key::Char(c) => {
            typed.push(c);
            cursor = 0;
        }
        Key::Backspace => {
            typed.pop();
            cursor = 0;
        }
        Key::Up => cursor = cursor.saturating_sub(1),
        Key::Down => cursor = (cursor + 1).min(rows.len().saturating_sub(1)),
        Key::Enter => {
            return match rows.get(cursor) {
                Some(row) => (row.run)(model),
                None => Vec::new(),
            };
        }
        _ => {}
    }
    model.overlay = Some(Overlay::Palette { typed, cursor });
    Vec::new()
}
