//! The sort of contents that the first bytes of a file stand for.

use super::FileKind;

/// How many bytes at the beginning of a file are looked at.
pub const HEAD: usize = 4096;

/// What the beginning of a file tells, if anything: by the signs that file formats begin with, else whether it
/// is plain text.
pub fn kind_of_content(head: &[u8]) -> Option<FileKind> {
    if head.is_empty() {
        return None;
    }
    if let Some(found) = infer::get(head) {
        use infer::MatcherType;
        let word = match (found.matcher_type(), found.extension()) {
            (
                MatcherType::App,
                "wasm" | "exe" | "elf" | "dll" | "mach" | "class" | "dex" | "dey" | "coff",
            ) => "program",
            (MatcherType::App | MatcherType::Archive, "deb" | "rpm" | "crx") => "package",
            (_, "sqlite") => "database",
            (_, "iso") => "disk-image",
            (_, "pem" | "der") => "config",
            (_, "html" | "xml" | "sh") => "code",
            (MatcherType::Archive, "pdf" | "ps" | "rtf" | "epub") => "document",
            (MatcherType::Archive, "nes" | "swf" | "eot") => "data",
            (MatcherType::Archive, _) => "archive",
            (MatcherType::Audio, _) => "audio",
            (MatcherType::Book | MatcherType::Doc, _) => "document",
            (MatcherType::Font, _) => "font",
            (MatcherType::Image, _) => "image",
            (MatcherType::Video, _) => "video",
            (MatcherType::Text, _) => "text",
            _ => "data",
        };
        return FileKind::of_word(word);
    }
    is_text(head).then(|| FileKind::of_word("text")).flatten()
}

/// Whether it is UTF-8 without controls, but for what parts lines and columns. The end may be cut.
pub fn is_text(head: &[u8]) -> bool {
    let valid = match std::str::from_utf8(head) {
        Ok(text) => text,
        Err(error) if error.error_len().is_none() => {
            std::str::from_utf8(&head[..error.valid_up_to()]).unwrap_or_default()
        }
        Err(_) => return false,
    };
    !valid.is_empty() && !valid.chars().any(|c| c.is_control() && !"\t\n\r\u{c}\u{1b}".contains(c))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contents_are_told_by_their_first_bytes() {
        let elf = [b"\x7fELF\x02\x01\x01".as_slice(), &[0; 60]].concat();
        let wav = [b"RIFF\x24\x00\x00\x00WAVEfmt ".as_slice(), &[0; 60]].concat();
        let sqlite = [b"SQLite format 3\0".as_slice(), &[0; 60]].concat();
        let cases: &[(&[u8], Option<&str>)] = &[
            (b"tide,height\n2041,3.2\n", Some("text")),
            ("Ebbe und Flut, 潮".as_bytes(), Some("text")),
            (&"潮".as_bytes()[..2], None),
            (b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR", Some("image")),
            (b"\x1f\x8b\x08\0\0\0\0\0", Some("archive")),
            (b"%PDF-1.7\n", Some("document")),
            (&elf, Some("program")),
            (&wav, Some("audio")),
            (&sqlite, Some("database")),
            (b"\0\x01\x02\x03", None),
            (b"", None),
        ];
        for (head, expected) in cases {
            let found = kind_of_content(head).map(FileKind::word);
            assert_eq!(found, *expected, "{}", head.escape_ascii());
        }
    }
}
