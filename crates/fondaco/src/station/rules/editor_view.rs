//! The text of the rule file while it is edited, with the mistake marked where it is.

use fondaco_core::rule::Form;
use fondaco_core::shown::safe_text;
use ratatui::layout::Rect;
use ratatui::style::Modifier;

use super::editor::Editor;
use crate::frame::view::Pen;

/// Columns of the line numbers.
const NUMBERS: u16 = 5;

pub(super) fn draw(editor: &Editor, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    if area.height < 4 || area.width < 24 {
        return;
    }
    let changed = if editor.is_changed() { "not saved" } else { "as saved" };
    let title = format!(" text of the rule file, {changed} ");
    pen.fill(Rect { height: 1, ..area }, "─", theme.rule);
    pen.text(area.x + 1, area.y, &title, theme.brass, area.width);
    // the mistake or the meaning of the word stands below the text
    let foot = Rect { y: area.bottom() - 2, height: 2, ..area };
    let text = Rect { y: area.y + 1, height: area.height - 3, ..area };
    lines(editor, pen, text);
    match &editor.mistake {
        Some(mistake) => {
            let words =
                format!("! line {}, column {}: {}", mistake.line, mistake.column, mistake.message);
            pen.wrapped(foot, &words, theme.trouble);
        }
        None => {
            pen.wrapped(foot, &meaning(editor), theme.dim);
        }
    }
}

/// What the word at the cursor means, or which words there are.
fn meaning(editor: &Editor) -> String {
    if let Some(word) = editor.word() {
        let choices = match word.form {
            Form::Choice(choices) => format!("; one of {}", choices.join(", ")),
            _ => format!("; such as {} = {}", word.name, word.example),
        };
        return format!("{}: {}{choices}", word.name, word.meaning);
    }
    let offers = editor.offers();
    match offers.len() {
        0 => "No mistake in it.".to_owned(),
        _ => format!("Tab: {}", offers.join("  ")),
    }
}

fn lines(editor: &Editor, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let cursor = editor.area.cursor();
    let all = editor.area.lines();
    let height = usize::from(area.height);
    // the cursor stays in the middle, as far as the ends of the text allow
    let first = cursor.0.saturating_sub(height / 2).min(all.len().saturating_sub(height));
    let width = usize::from(area.width - NUMBERS);
    let shift = (cursor.1 + 2).saturating_sub(width);
    for (place, line) in all.iter().enumerate().skip(first).take(height) {
        let y = area.y + (place - first) as u16;
        let mistake = editor.mistake.as_ref().filter(|mistake| mistake.line == place + 1);
        let number = format!("{}{:>3}", if mistake.is_some() { "!" } else { " " }, place + 1);
        let style = if mistake.is_some() { theme.trouble } else { theme.dim };
        pen.text(area.x, y, &number, style, NUMBERS);
        let begins = line.trim_start();
        let style = if begins.starts_with('#') {
            theme.dim
        } else if begins.starts_with('[') {
            theme.brass
        } else {
            theme.plain
        };
        for (column, sign) in line.chars().enumerate().skip(shift).take(width) {
            let mut style = style;
            if mistake.is_some_and(|mistake| column + 1 >= mistake.column) {
                style = theme.trouble.add_modifier(Modifier::UNDERLINED);
            }
            if editor.is_open && (place, column) == (cursor.0, cursor.1) {
                style = style.add_modifier(Modifier::REVERSED);
            }
            let x = area.x + NUMBERS + (column - shift) as u16;
            // a sign that is wide, or that drives a terminal, takes one column here
            let safe = safe_text(&sign.to_string()).chars().next().unwrap_or(' ');
            pen.text(x, y, &safe.to_string(), style, 1);
        }
        let behind = line.chars().count();
        if editor.is_open && place == cursor.0 && cursor.1 >= behind {
            let x = area.x + NUMBERS + (cursor.1 - shift) as u16;
            pen.fill(Rect::new(x, y, 1, 1), " ", theme.plain.add_modifier(Modifier::REVERSED));
        }
    }
}
