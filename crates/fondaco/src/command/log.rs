//! `fondaco log`

use std::fs::File;
use std::io::{self, BufRead, BufReader, Write};
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use fondaco_core::kernel::names_in;
use fondaco_core::shown::{Shown, safe_text};

use super::Outcome;
use crate::cli;
use crate::environment::open_state;
use crate::output::tell;

/// Prints the last lines of the log, or those from a moment on. What stands in a line was escaped when it was written; it is
/// escaped again here, since somebody else may have had the file in hand.
pub(super) fn run(arguments: &cli::Log, state: Option<PathBuf>) -> Result<Outcome> {
    let directory = open_state(state)?.log_directory();
    let mut files = match names_in(&directory) {
        Ok(names) => names,
        Err(error) if error.kind() == io::ErrorKind::NotFound => Vec::new(),
        Err(error) => {
            return Err(error).with_context(|| format!("cannot read {}", Shown(&directory)));
        }
    };
    // their names hold their days, so that this is the order of time
    files.retain(|name| Path::new(name).extension().is_some_and(|ending| ending == "log"));
    files.sort_unstable();
    let since = arguments.since.as_deref();
    let mut lines: std::collections::VecDeque<Vec<u8>> = std::collections::VecDeque::new();
    let most = if since.is_some() { usize::MAX } else { arguments.lines };
    for name in files {
        let path = directory.join(&name);
        let is_before = |day: &str| name.to_str().is_some_and(|name| name < day);
        if since.is_some_and(|since| is_before(&format!("fondaco.{}", &since[..10]))) {
            continue;
        }
        let file = File::open(&path).with_context(|| format!("cannot read {}", Shown(&path)))?;
        for line in BufReader::new(file).split(b'\n') {
            let line = line.with_context(|| format!("cannot read {}", Shown(&path)))?;
            let is_wanted = match since {
                Some(since) => line.as_slice() >= since.as_bytes(),
                None => true,
            } && (!arguments.trouble || is_trouble(&line));
            if is_wanted {
                lines.push_back(line);
                if lines.len() > most {
                    lines.pop_front();
                }
            }
        }
    }
    if lines.is_empty() {
        tell!("the log in {} has nothing of that", Shown(&directory));
    }
    let mut out = io::BufWriter::new(io::stdout().lock());
    for line in lines {
        writeln!(out, "{}", safe_text(&String::from_utf8_lossy(&line)))?;
    }
    out.flush()?;
    drop(out);
    if since.is_none() && !arguments.trouble {
        tell!("all of it is in {}", Shown(&directory));
    }
    Ok(Outcome::AllDone)
}

/// Whether a line tells of something that was refused or failed.
fn is_trouble(line: &[u8]) -> bool {
    // the level is the second word, filled up in front
    let mut words = line.split(|byte| *byte == b' ').filter(|word| !word.is_empty());
    matches!(words.nth(1), Some(b"WARN" | b"ERROR"))
}
