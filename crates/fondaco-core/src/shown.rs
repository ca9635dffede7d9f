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
