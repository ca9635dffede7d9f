//! The sort of contents that a name's ending stands for, by a table of our own.

use std::sync::OnceLock;

use rustc_hash::FxHashMap;
use serde::Deserialize;

/// A sort of contents, or what an entry is if it is no regular file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FileKind(u8);

#[derive(Deserialize)]
struct Raw {
    kinds: toml::map::Map<String, toml::Value>,
}

struct Table {
    /// In the order of the file, and after them those that no ending stands for.
    words: Vec<String>,
    by_ending: FxHashMap<u128, FileKind>,
}

/// The kinds that no ending stands for.
const OTHERS: [&str; 4] = ["other", "directory", "link", "special"];

/// Longer endings stand for nothing.
const LONGEST: usize = 16;

fn table() -> &'static Table {
    static TABLE: OnceLock<Table> = OnceLock::new();
    TABLE.get_or_init(|| {
        // held by a test: the file is a part of the program
        let raw: Raw = toml::from_str(include_str!("kinds.toml"))
            .unwrap_or(Raw { kinds: toml::map::Map::new() });
        let mut table = Table { words: Vec::new(), by_ending: FxHashMap::default() };
        for (word, endings) in &raw.kinds {
            let kind = FileKind(table.words.len() as u8);
            table.words.push(word.clone());
            for ending in endings.as_array().into_iter().flatten() {
                let ending = ending.as_str().unwrap_or_default();
                table.by_ending.insert(packed(ending.as_bytes()), kind);
            }
        }
        table.words.extend(OTHERS.map(str::to_owned));
        table
    })
}

impl FileKind {
    /// What a name's ending stands for. A generation of a log is a log, numbered or dated, packed or not: `tide.log.3`,
    /// `tide.log-20410307`, `syslog.2.gz`.
    pub fn of_name(name: &[u8]) -> Self {
        let ending = extension(name);
        let kind = of_ending(ending);
        let is_packed = PACKED.contains(&ending);
        if kind.is_some() && !is_packed {
            return kind.unwrap_or(Self::other(0));
        }
        let whole = if is_packed { &name[..name.len() - ending.len() - 1] } else { name };
        let log = match without_generation(whole) {
            Some(stem) => of_log(stem),
            None if is_packed => of_log(whole),
            None => None,
        };
        log.or(kind).unwrap_or(Self::other(0))
    }

    fn other(place: usize) -> Self {
        Self((table().words.len() - OTHERS.len() + place) as u8)
    }

    /// A regular file of which no more is known.
    pub fn unknown() -> Self {
        Self::other(0)
    }

    /// The kind of all directories.
    pub fn directory() -> Self {
        Self::other(1)
    }

    /// A symbolic link.
    pub fn link() -> Self {
        Self::other(2)
    }

    /// A FIFO, socket or device node.
    pub fn special() -> Self {
        Self::other(3)
    }

    /// All there are.
    pub fn all() -> impl Iterator<Item = Self> {
        (0..table().words.len() as u8).map(Self)
    }

    /// The kind that a word stands for.
    pub fn of_word(word: &str) -> Option<Self> {
        table().words.iter().position(|known| known == word).map(|place| Self(place as u8))
    }

    /// Its place among all.
    pub(crate) fn number(self) -> u8 {
        self.0
    }

    /// The kind at a place.
    pub(crate) fn of_number(number: u8) -> Self {
        Self(number.min(table().words.len() as u8 - 1))
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        &table().words[usize::from(self.0)]
    }
}

/// Endings of what a log is packed into once it is no longer written.
const PACKED: [&[u8]; 5] = [b"gz", b"xz", b"zst", b"bz2", b"lz4"];

/// What an ending stands for, if it stands for something.
fn of_ending(ending: &[u8]) -> Option<FileKind> {
    if ending.is_empty() || ending.len() > LONGEST {
        return None;
    }
    table().by_ending.get(&packed(ending)).copied()
}

/// The kind of logs, if a name without its generation is one: by its ending, or a name such as `syslog`.
fn of_log(name: &[u8]) -> Option<FileKind> {
    let ending = extension(name);
    let kind = of_ending(if ending.is_empty() { name } else { ending })?;
    (kind.word() == "log").then_some(kind)
}

/// A name without the number or date of a generation at its end: `tide.log` of `tide.log.3` and `tide.log-20410307`.
fn without_generation(name: &[u8]) -> Option<&[u8]> {
    let number = |byte: &u8| byte.is_ascii_digit() || *byte == b'-' || *byte == b'_';
    let length = name.iter().rev().take_while(|byte| number(byte)).count();
    let stem = &name[..name.len() - length];
    let rest = &name[stem.len()..];
    match rest.first()? {
        b'-' | b'_' => rest.iter().any(u8::is_ascii_digit).then_some(stem),
        _ => stem.strip_suffix(b"."),
    }
}

/// An ending of at most [`LONGEST`] bytes in small letters, as a number; no name holds a zero.
fn packed(ending: &[u8]) -> u128 {
    let mut bytes = [0; LONGEST];
    for (place, byte) in bytes.iter_mut().zip(ending) {
        *place = *byte;
    }
    bytes.make_ascii_lowercase();
    u128::from_le_bytes(bytes)
}

/// What follows the last dot of a name; nothing if there is no dot but at its beginning or end.
pub fn extension(name: &[u8]) -> &[u8] {
    match name.iter().rposition(|byte| *byte == b'.') {
        Some(dot) if dot > 0 => &name[dot + 1..],
        _ => &[],
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_ending_stands_for_one_kind_and_every_kind_has_a_word_of_its_own() {
        let raw: Raw = toml::from_str(include_str!("kinds.toml")).unwrap();
        let endings: Vec<&str> = raw
            .kinds
            .values()
            .flat_map(|endings| endings.as_array().unwrap())
            .map(|ending| ending.as_str().unwrap())
            .collect();
        assert!(endings.len() > 300);
        assert_eq!(endings.len(), table().by_ending.len(), "an ending stands in two lists");
        assert!(endings.iter().all(|e| e.len() <= LONGEST && *e == e.to_lowercase()));
        for kind in FileKind::all() {
            assert_eq!(FileKind::of_word(kind.word()), Some(kind));
        }
    }

    #[test]
    fn names_are_sorted_by_what_follows_their_last_dot() {
        let cases: &[(&[u8], &[u8], &str)] = &[
            (b"tide.WAV", b"WAV", "audio"),
            (b"2041.tar.zst", b"zst", "archive"),
            (b".profile", b"", "other"),
            (b".cache.log", b"log", "log"),
            (b"ends.", b"", "other"),
            // generations of logs, and what only looks like one
            (b"tide.log.3", b"3", "log"),
            (b"tide.log.12.GZ", b"GZ", "archive"),
            (b"tide.log.12.gz", b"gz", "log"),
            (b"tide.log-20410307", b"log-20410307", "log"),
            (b"tide.log-2041-03-07.xz", b"xz", "log"),
            (b"syslog.1", b"1", "log"),
            (b"tide.log.gz", b"gz", "log"),
            (b"tide.gz", b"gz", "archive"),
            (b"tide.tar.3.gz", b"gz", "archive"),
            (b"survey.3", b"3", "other"),
            (b"2041", b"", "other"),
            (b"-", b"", "other"),
            (b".gz", b"", "other"),
            (b"plain", b"", "other"),
            (b"x.\xff\xfe", b"\xff\xfe", "other"),
            (b"x.an-ending-longer-than-any", b"an-ending-longer-than-any", "other"),
        ];
        for (name, ending, kind) in cases {
            assert_eq!(extension(name), *ending);
            assert_eq!(FileKind::of_name(name).word(), *kind, "{}", name.escape_ascii());
        }
    }
}
