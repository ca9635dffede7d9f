//! Text that is made to fit a number of columns.

use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// Text of at most `width` columns; an ellipsis says that it was cut.
pub fn cut(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_owned();
    }
    let mut out = String::new();
    let mut used = 0;
    for c in text.chars() {
        let next = c.width().unwrap_or(0);
        if used + next + 1 > width {
            break;
        }
        used += next;
        out.push(c);
    }
    if width > 0 {
        out.push('…');
    }
    out
}

/// A path of at most `width` columns, shortened in its middle: its end tells it from its neighbours, its beginning
/// where it lies. Of a name that is too long itself, beginning and end stay.
pub fn cut_path(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_owned();
    }
    let name_at = text.trim_end_matches('/').rfind('/').map_or(0, |slash| slash + 1);
    let (before, name) = text.split_at(name_at);
    // as much of the beginning as is worth having, then the whole name
    if !before.is_empty() && name.width() + 2 <= width {
        let room = width - name.width() - 2;
        let begin = if room < 4 { String::new() } else { begin_of(before, room) };
        return format!("{begin}…/{name}");
    }
    let (mark, name) = if before.is_empty() { ("", text) } else { ("…/", name) };
    let width = match width.checked_sub(mark.width()) {
        Some(left) if left >= 7 => left,
        _ => return middle_of(name, width),
    };
    format!("{mark}{}", middle_of(name, width))
}

/// Beginning and end of a text, with an ellipsis between them.
fn middle_of(text: &str, width: usize) -> String {
    match width {
        0 => String::new(),
        _ if text.width() <= width => text.to_owned(),
        // endings of names are short
        _ => {
            let end = end_of(text, (width - 1) / 2);
            format!("{}…{end}", begin_of(text, width - 1 - end.width()))
        }
    }
}

fn begin_of(text: &str, width: usize) -> String {
    let mut used = 0;
    let fits = |c: &char| {
        used += c.width().unwrap_or(0);
        used <= width
    };
    text.chars().take_while(fits).collect()
}

/// The last `width` columns of a text.
pub fn end_of(text: &str, width: usize) -> String {
    let mut used = 0;
    let fits = |c: &char| {
        used += c.width().unwrap_or(0);
        used <= width
    };
    let kept: Vec<char> = text.chars().rev().take_while(fits).collect();
    kept.into_iter().rev().collect()
}

/// Lines of at most `width` columns, broken where the text breaks, and at spaces where there are any.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    text.split('\n').flat_map(|line| wrap_line(line, width)).collect()
}

fn wrap_line(text: &str, width: usize) -> Vec<String> {
    let mut lines = Vec::new();
    let mut line = String::new();
    for word in text.split(' ') {
        let gap = usize::from(!line.is_empty());
        if line.width() + gap + word.width() <= width {
            line.extend(std::iter::repeat_n(' ', gap));
            line.push_str(word);
            continue;
        }
        if !line.is_empty() {
            lines.push(std::mem::take(&mut line));
        }
        for c in word.chars() {
            if line.width() + c.width().unwrap_or(0) > width {
                lines.push(std::mem::take(&mut line));
            }
            line.push(c);
        }
    }
    lines.push(line);
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_is_cut_by_columns_and_never_in_the_middle_of_a_wide_sign() {
        assert_eq!(cut("tide-gauge", 20), "tide-gauge");
        assert_eq!(cut("tide-gauge", 6), "tide-…");
        assert_eq!(cut("潮位表", 4), "潮…");
        assert_eq!(wrap("a bc def", 4), ["a bc", "def"]);
        assert_eq!(wrap("unbreakable", 5), ["unbre", "akabl", "e"]);
        assert_eq!(wrap("a b\n\nc d e", 3), ["a b", "", "c d", "e"]);
    }

    #[test]
    fn a_path_keeps_its_beginning_and_its_name_as_far_as_there_is_room() {
        let path = "/srv/seamark/incoming/tide-2041-03-07.run.log";
        for (width, fits) in [
            (60, path),
            (44, "/srv/seamark/incomi…/tide-2041-03-07.run.log"),
            (30, "/srv/…/tide-2041-03-07.run.log"),
            (26, "…/tide-2041-03-07.run.log"),
            (20, "…/tide-2041….run.log"),
            (8, "tide…log"),
            (1, "…"),
            (0, ""),
        ] {
            let found = cut_path(path, width);
            assert_eq!(found, fits);
            assert!(found.width() <= width.max(1));
        }
        assert_eq!(cut_path("/srv/seamark/incoming/", 12), "…/incoming/");
        assert_eq!(cut_path("/srv/seamark/incoming", 11), "…/incoming");
        assert_eq!(cut_path("潮位表潮位表", 7), "潮位…表");
    }
}
