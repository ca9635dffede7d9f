//! How wide text is in the font that is carried along, and text that is cut to a width.

use std::sync::OnceLock;

use ttf_parser::Face;

/// DejaVu Sans; see `fonts/LICENSE`.
pub(crate) fn font() -> &'static [u8] {
    static FONT: OnceLock<Vec<u8>> = OnceLock::new();
    let packed = include_bytes!("../fonts/DejaVuSans.ttf.zst");
    // held by a test: it is a part of the program
    FONT.get_or_init(|| zstd::decode_all(&packed[..]).unwrap_or_default())
}

/// The name of the font that is carried along.
pub(crate) const FAMILY: &str = "DejaVu Sans";

fn face() -> Option<&'static Face<'static>> {
    static FACE: OnceLock<Option<Face<'static>>> = OnceLock::new();
    FACE.get_or_init(|| Face::parse(font(), 0).ok()).as_ref()
}

/// The width of a text of a size, in the same unit.
pub fn width(text: &str, size: f64) -> f64 {
    let Some(face) = face() else { return text.chars().count() as f64 * size * 0.65 };
    let unit = f64::from(face.units_per_em());
    let of = |c: char| {
        let glyph = face.glyph_index(c);
        // what the font does not have is as wide as it is high
        glyph.and_then(|glyph| face.glyph_hor_advance(glyph)).map_or(1.0, |w| f64::from(w) / unit)
    };
    text.chars().map(of).sum::<f64>() * size
}

/// The text, or its beginning with an ellipsis, so that it is at most so wide.
pub fn cut(text: &str, size: f64, most: f64) -> String {
    if width(text, size) <= most {
        return text.to_owned();
    }
    let left = most - width("…", size);
    let mut used = 0.0;
    let kept = text.chars().take_while(|c| {
        used += width(c.encode_utf8(&mut [0; 4]), size);
        used <= left
    });
    let kept: String = kept.collect();
    if kept.is_empty() { String::new() } else { format!("{}…", kept.trim_end()) }
}

/// As [`cut`], but what is cut is cut from the beginning: the end of a path tells more.
pub fn cut_path(text: &str, size: f64, most: f64) -> String {
    if width(text, size) <= most {
        return text.to_owned();
    }
    let backwards: String = text.chars().rev().collect();
    let kept = cut(&backwards, size, most);
    kept.chars().rev().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_is_never_wider_than_it_may_be() {
        assert!(face().is_some(), "the font is whole");
        assert!(width("WWWW", 10.0) > 2.0 * width("iiii", 10.0));
        for text in ["north-basin-2041-03-07.wav", "潮位表潮位表潮位表", "\\xff\\xfe odd"]
        {
            for most in [0.0, 12.0, 40.0, 90.0, 400.0] {
                for cut in [cut(text, 11.0, most), cut_path(text, 11.0, most)] {
                    assert!(width(&cut, 11.0) <= most + 1e-9, "{cut} {most}");
                }
            }
        }
        assert_eq!(cut_path("/srv/seamark/tide.csv", 10.0, 60.0).chars().next(), Some('…'));
    }
}
