//! A look into the file at hand.

use std::path::PathBuf;

use fondaco_core::kernel::Kind;
use fondaco_core::peek::{HexRow, Inside, Peek};
use fondaco_core::shown::shown;

use crate::failure::Failure;
use crate::frame::message::Job;
use crate::frame::model::{Model, Overlay};

pub fn ask(model: &mut Model) -> Vec<Job> {
    let (Some(id), Some(catalog)) = (model.subject(), model.scan.read()) else {
        return Vec::new();
    };
    if catalog.kind(id) != Kind::File {
        let word = catalog.kind(id).word();
        drop(catalog);
        model.say(format!("Only files are looked into; this is a {word}"));
        return Vec::new();
    }
    vec![Job::Peek(catalog.path(id))]
}

pub fn on_peeked(model: &mut Model, path: PathBuf, outcome: Result<Peek, Failure>) -> Vec<Job> {
    // something else may stand in front by now
    if model.overlay.is_some() {
        return Vec::new();
    }
    match outcome {
        Err(reason) => model.say_trouble(reason),
        Ok(found) => {
            let name = shown(path.file_name().unwrap_or_default());
            let title = format!("{name}: {}, {}", found.sort, model.bytes(found.length));
            let lines = lines(model, found.inside);
            model.overlay = Some(Overlay::Listing { title, lines, offset: 0 });
        }
    }
    Vec::new()
}

fn lines(model: &Model, inside: Inside) -> Vec<String> {
    let hex = |row: HexRow| format!("{:>8x}  {:<47}  {}", row.offset, row.hex, row.text);
    match inside {
        Inside::Nothing => vec!["There is not a byte in it.".to_owned()],
        Inside::Text(text) => {
            let mut lines = text.head;
            if !text.tail.is_empty() {
                lines.push(format!("… {} are left out …", model.bytes(text.between)));
                lines.extend(text.tail);
            }
            lines
        }
        Inside::Bytes(first, last) => {
            let mut lines: Vec<String> = first.into_iter().map(hex).collect();
            if !last.is_empty() {
                lines.push("…".to_owned());
                lines.extend(last.into_iter().map(hex));
            }
            lines
        }
        Inside::Archive(listing) => {
            let entry = |entry: fondaco_core::peek::Listed| {
                let length = entry.length.map_or_else(String::new, |length| model.bytes(length));
                format!("{length:>12}  {}", entry.name)
            };
            let mut lines: Vec<String> = listing.entries.into_iter().map(entry).collect();
            if listing.more {
                lines.push("… there is more that is not listed".to_owned());
            }
            if lines.is_empty() {
                lines.push("The archive holds nothing.".to_owned());
            }
            lines
        }
        Inside::Media(facts) => {
            facts.into_iter().map(|(name, value)| format!("{name:<18}{value}")).collect()
        }
    }
}
