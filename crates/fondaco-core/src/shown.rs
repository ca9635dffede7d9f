//! The display form of file names, which are bytes and may be hostile.
//!
//! Takes any path or name and gives text that is safe in a terminal, a log line or a table:
//! controls, bidirectional overrides, invisible separators and invalid UTF-8 become escapes.
//! Every place that puts a name in front of a person goes through [`Shown`].

use std::ffi::OsStr;
use std::fmt::{self, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::ser::Formatter;

/// A path or name in its display form: `{}` writes it escaped.
///
/// The escapes are those of Rust and C string literals (`\n`, `\x1b`, `\u{202e}`), and a backslash
/// is doubled, so that two different names never look the same.
pub struct Shown<T>(pub T);

impl<T: AsRef<OsStr>> fmt::Display for Shown<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for chunk in self.0.as_ref().as_bytes().utf8_chunks() {
            for c in chunk.valid().chars() {
                match c {
                    '\\' => f.write_str("\\\\")?,
                    '\n' => f.write_str("\\n")?,
                    '\t' => f.write_str("\\t")?,
                    '\r' => f.write_str("\\r")?,
                    c if c.is_ascii_control() => write!(f, "\\x{:02x}", c as u32)?,
                    c if drives_a_terminal(c) => write!(f, "\\u{{{:x}}}", c as u32)?,
                    c => f.write_char(c)?,
                }
            }
            for byte in chunk.invalid() {
                write!(f, "\\x{byte:02x}")?;
            }
        }
        Ok(())
    }
}

/// The display form as a string.
pub fn shown(name: impl AsRef<OsStr>) -> String {
    Shown(name).to_string()
}

/// Whether a character could move, hide or reorder what stands around it: C1 controls, bidirectional
/// marks and overrides, zero-width and line separators, byte-order mark, tags and private use.
pub fn drives_a_terminal(c: char) -> bool {
    matches!(c,
        '\u{7f}'..='\u{9f}' | '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}'
        | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}'
        | '\u{e000}'..='\u{f8ff}' | '\u{e0000}'..='\u{10ffff}')
}

/// Text that others wrote, such as a message that quotes a file, in a form that is safe in a terminal or a log: as
/// [`Shown`], but line breaks and backslashes stay.
pub fn safe_text(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '\n' => out.push('\n'),
            '\t' => out.push(' '),
            c if c.is_control() || drives_a_terminal(c) => {
                out.extend(c.escape_unicode());
            }
            c => out.push(c),
        }
    }
    out
}

/// A document as one line of JSON. Characters that could drive a terminal are written as `\u` escapes, which mean
/// the same to every reader.
///
/// # Errors
///
/// If it cannot be put into JSON.
pub fn safe_json(document: &impl Serialize) -> std::io::Result<Vec<u8>> {
    let mut out = Vec::new();
    write_safe_json(document, &mut out)?;
    Ok(out)
}

/// As [`safe_json`], to anywhere.
///
/// # Errors
///
/// If it cannot be put into JSON, or `out` cannot be written.
pub fn write_safe_json(document: &impl Serialize, out: impl std::io::Write) -> std::io::Result<()> {
    let mut serializer = serde_json::Serializer::with_formatter(out, SafeText);
    Ok(document.serialize(&mut serializer)?)
}

/// As [`safe_json`], indented for people.
///
/// # Errors
///
/// As [`safe_json`].
pub fn safe_json_pretty(document: &impl Serialize) -> std::io::Result<Vec<u8>> {
    let text = serde_json::to_string_pretty(document)?;
    let mut out = Vec::with_capacity(text.len());
    // characters that have to be escaped stand in texts only
    SafeText.write_string_fragment(&mut out, &text)?;
    Ok(out)
}

struct SafeText;

impl Formatter for SafeText {
    fn write_string_fragment<W: ?Sized + std::io::Write>(
        &mut self,
        writer: &mut W,
        fragment: &str,
    ) -> std::io::Result<()> {
        let mut rest = fragment;
        while let Some(at) = rest.find(drives_a_terminal) {
            writer.write_all(&rest.as_bytes()[..at])?;
            let mut after = rest[at..].chars();
            for unit in after.next().unwrap_or_default().encode_utf16(&mut [0; 2]) {
                write!(writer, "\\u{unit:04x}")?;
            }
            rest = after.as_str();
        }
        writer.write_all(rest.as_bytes())
    }
}

/// A path inside a document of ours: text when it is UTF-8, otherwise its display form together
/// with the exact bytes in base64, so that a program gets back the very name.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct DocPath(pub std::path::PathBuf);

impl DocPath {
    /// The exact bytes in base64, if the display form alone would not give the name back.
    pub fn bytes_if_needed(path: &Path) -> Option<String> {
        path.to_str().is_none().then(|| STANDARD.encode(path.as_os_str().as_bytes()))
    }
}

#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum DocForm {
    Text(String),
    Bytes { path: String, path_bytes: String },
}

impl Serialize for DocPath {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0.to_str() {
            Some(text) => DocForm::Text(text.to_owned()),
            None => DocForm::Bytes {
                path: shown(&self.0),
                path_bytes: STANDARD.encode(self.0.as_os_str().as_bytes()),
            },
        }
        .serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for DocPath {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        match DocForm::deserialize(deserializer)? {
            DocForm::Text(text) => Ok(Self(text.into())),
            DocForm::Bytes { path_bytes, .. } => {
                let bytes = STANDARD.decode(path_bytes).map_err(serde::de::Error::custom)?;
                Ok(Self(OsStr::from_bytes(&bytes).into()))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn hostile_names_are_escaped_and_plain_ones_are_not() {
        let cases: &[(&[u8], &str)] = &[
            (b"tide-2041.csv", "tide-2041.csv"),
            ("Bojenübersicht ☂".as_bytes(), "Bojenübersicht ☂"),
            (b"a\nb\tc", "a\\nb\\tc"),
            (b"\x1b[2Jgone", "\\x1b[2Jgone"),
            (b"back\\slash", "back\\\\slash"),
            (b"bad\xff\xfe", "bad\\xff\\xfe"),
            ("fdp.\u{202e}exe".as_bytes(), "fdp.\\u{202e}exe"),
            ("\u{9b}31m".as_bytes(), "\\u{9b}31m"),
        ];
        for (name, expected) in cases {
            assert_eq!(shown(OsStr::from_bytes(name)), *expected);
        }
    }

    #[test]
    fn json_text_cannot_drive_a_terminal_and_means_the_same() {
        let hostile = "fdp.\u{202e}exe \u{9b}2J \u{1b}[2J \u{7f} \u{e0041} \n ☂";
        for text in [safe_json(&[hostile]).unwrap(), safe_json_pretty(&[hostile]).unwrap()] {
            let text = String::from_utf8(text).unwrap();
            assert!(
                !text.chars().any(|c| c != '\n' && c.is_control() || drives_a_terminal(c)),
                "{text}"
            );
            assert_eq!(serde_json::from_str::<Vec<String>>(&text).unwrap(), [hostile]);
        }
        let text = safe_text("rules.toml:2\n  \u{1b}]0;x\u{7} \u{202e}");
        assert_eq!(text, "rules.toml:2\n  \\u{1b}]0;x\\u{7} \\u{202e}");
    }

    proptest! {
        #[test]
        fn no_name_reaches_the_terminal_with_a_control_and_documents_give_it_back(
            name in proptest::collection::vec(any::<u8>(), 1..60)
        ) {
            let path = DocPath(OsStr::from_bytes(&name).into());
            prop_assert!(!shown(&path.0).chars().any(|c| c.is_control() || drives_a_terminal(c)));
            let document = serde_json::to_string(&path).unwrap();
            prop_assert_eq!(serde_json::from_str::<DocPath>(&document).unwrap(), path);
        }
    }
}
