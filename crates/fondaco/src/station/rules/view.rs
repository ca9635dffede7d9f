//! The panel: the rules in their order, and the selected rule with what it takes.

use fondaco_core::rule::{Keeper, Rule, RuleState, RuleTrial};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, Time, grouped};
use ratatui::layout::Rect;

use super::trial::TriedRules;
use super::{editor_view, has_rules, past_view};
use crate::frame::model::Model;
use crate::frame::view::{Pen, Target, cut_path, nothing_scanned};
use crate::query::{level_words, rule_words};

/// Where the columns are.
struct Columns {
    title: (u16, u16),
    action: u16,
    takes: u16,
    relief: u16,
    held: (u16, u16),
    /// Where the column of the last run ends, if there is room for it.
    last: Option<u16>,
}

impl Columns {
    fn of(area: Rect) -> Self {
        let title = (area.width.saturating_sub(50)).clamp(14, 34);
        let begin = area.x + 6;
        let action = begin + title + 1;
        let takes = action + 9 + 9;
        let relief = takes + 11;
        let held = relief + 2;
        let whole = area.right().saturating_sub(held);
        let last = (whole >= 40).then_some(area.right());
        let held_width = if last.is_some() { whole - 19 } else { whole };
        Self { title: (begin, title), action, takes, relief, held: (held, held_width), last }
    }
}

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    if nothing_scanned(model, pen, area) {
        return;
    }
    let inner = Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area };
    if let Some(past) = &model.rooms.rules.past {
        past_view::draw(model, pen, inner, past);
        return;
    }
    let file = model.state.rules_file();
    let (theme, station) = (pen.theme, &model.rooms.rules);
    let say = |pen: &mut Pen<'_>, text: &str, style| {
        pen.wrapped(
            Rect { y: inner.y + 2, height: inner.height.saturating_sub(2), ..inner },
            text,
            style,
        );
    };
    let place = cut_path(&shown(&file), usize::from(inner.width.saturating_sub(9)));
    let x = pen.text(inner.x, inner.y, "rules of", theme.dim, inner.width);
    pen.text(x + 1, inner.y, &place, theme.plain, inner.width.saturating_sub(9));
    let hides_rules = !has_rules(model) || inner.height < 16;
    if let Some(editor) = station.editor.as_ref().filter(|_| hides_rules) {
        let below = Rect { y: inner.y + 1, height: inner.height.saturating_sub(1), ..inner };
        editor_view::draw(editor, pen, below);
        return;
    }
    match &station.tried {
        None if model.scan.running => {
            say(pen, "The rules are tried as soon as the scan has ended.", theme.dim);
        }
        None => say(pen, "trying …", theme.dim),
        Some(Err(failure)) => {
            let text = format!(
                "{failure}\n\nWith a mistake in it the file does nothing at all, and nothing can be planned. Enter edits it, T tries it again."
            );
            say(pen, &text, theme.trouble);
        }
        Some(Ok(tried)) if tried.rules.rules.is_empty() => {
            let missing = if tried.has_file {
                "There is no rule in it."
            } else {
                "There is no such file yet."
            };
            let text = format!(
                "{missing} N begins a rule, Enter opens the text. For instance:\n\n{EXAMPLE}"
            );
            say(pen, &text, theme.dim);
        }
        Some(Ok(tried)) => rules(model, pen, inner, tried),
    }
}

/// A rule that is harmless and shows the most used words.
const EXAMPLE: &str = "[[rule]]\ntitle = \"old logs, twelve of each\"\naction = \"archive\"\nkind = \"log\"\nolder = \"90 d\"\nkeep = 12\n";

fn rules(model: &Model, pen: &mut Pen<'_>, area: Rect, tried: &TriedRules) {
    let (theme, cursor) = (pen.theme, model.rooms.rules.cursor);
    let columns = Columns::of(area);
    let y = area.y + 1;
    pen.text(columns.title.0, y, "rule", theme.dim, columns.title.1);
    pen.text(columns.action, y, "action", theme.dim, 9);
    pen.text_right(columns.takes, y, "takes", theme.dim);
    pen.text_right(columns.relief, y, "relief", theme.dim);
    pen.text(columns.held.0, y, "held back by", theme.dim, columns.held.1);
    if let Some(last) = columns.last {
        pen.text_right(last, y, "last run", theme.dim);
    }
    let count = tried.rules.rules.len();
    // a third of the panel, the rest is for the selected rule
    let visible = count.min(usize::from(area.height / 3).max(3));
    let offset = (cursor + 1).saturating_sub(visible);
    for (place, number) in (offset..count).take(visible).enumerate() {
        let line = Rect::new(area.x, y + 1 + place as u16, area.width, 1);
        row(model, pen, line, &columns, (tried, number), number == cursor);
        pen.hit(line, Target::Row(number));
    }
    let y = y + 1 + visible as u16;
    let takes = tried.out.takes();
    pen.text(columns.title.0, y, "all that act", theme.dim, columns.title.1);
    pen.text_right(columns.takes, y, &grouped(takes.entries), theme.plain);
    pen.text_right(columns.relief, y, &model.bytes(tried.out.frees()), theme.plain);
    if let Some((volume, frees)) = tried.volumes.first() {
        let text = level_words(volume, *frees, |bytes| model.bytes(bytes));
        pen.text(
            columns.title.0,
            y + 1,
            &text,
            theme.plain,
            area.right().saturating_sub(columns.title.0),
        );
    }
    if let Some(editor) = &model.rooms.rules.editor {
        let y = y + 2;
        let below = Rect { y, height: area.bottom().saturating_sub(y), ..area };
        editor_view::draw(editor, pen, below);
        return;
    }
    // a narrow panel has no line to spare
    let y = if area.height < 16 { y + 2 } else { y + 3 };
    let below = Rect { y, height: area.bottom().saturating_sub(y), ..area };
    selected(model, pen, below, tried, cursor);
}

fn row(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    columns: &Columns,
    (tried, number): (&TriedRules, usize),
    is_selected: bool,
) {
    let theme = pen.theme;
    let (rule, trial) = (&tried.rules.rules[number], &tried.out.rules[number]);
    let (text, quiet) = pen.begin_row(line, is_selected);
    let y = line.y;
    pen.text(line.x + 2, y, if rule.on { "●" } else { "○" }, text, 1);
    pen.text(line.x + 4, y, &(number + 1).to_string(), quiet, 2);
    pen.text(columns.title.0, y, &shown(&rule.title), text, columns.title.1);
    pen.text(columns.action, y, rule.action.words(), quiet, 9);
    let is_stopped = matches!(trial.state, RuleState::OverLimit(_));
    let style = if is_stopped && !is_selected { theme.trouble } else { text };
    pen.text_right(columns.takes, y, &grouped(trial.takes.entries), style);
    pen.text_right(columns.relief, y, &model.bytes(trial.frees), text);
    pen.text(columns.held.0, y, &held_back(rule, trial, tried, number), style, columns.held.1);
    if let Some(right) = columns.last {
        pen.text_right(right, y, &last_run(model, tried, number), quiet);
    }
}

/// How long ago the rule last did something, and what that freed.
fn last_run(model: &Model, tried: &TriedRules, number: usize) -> String {
    let last = tried.last.get(number).and_then(Option::as_ref);
    last.map_or_else(
        || "-".to_owned(),
        |last| {
            let age = Time::of_rfc3339(&last.begun)
                .map_or_else(String::new, |begun| begun.age(model.now).to_string());
            format!("{age}  {}", model.bytes(last.freed))
        },
    )
}

/// What holds entries back, most of them first, in a few words.
fn held_back(rule: &Rule, trial: &RuleTrial, tried: &TriedRules, number: usize) -> String {
    match &trial.state {
        RuleState::Off => return "off".to_owned(),
        RuleState::Rests(_) => return "its time has not come".to_owned(),
        RuleState::OverLimit(_) => return "! over its limit".to_owned(),
        RuleState::Acts => {}
    }
    let mut keepers = tried.keepers[number].clone();
    keepers.sort_by_key(|(_, sum)| std::cmp::Reverse(sum.entries));
    let words =
        keepers.iter().map(|(by, sum)| format!("{} {}", grouped(sum.entries), in_short(*by)));
    let mut words: Vec<String> = words.collect();
    if trial.still_over > Bytes::ZERO && rule.total.is_some() {
        words.push("still over the cap".to_owned());
    }
    if words.is_empty() { "-".to_owned() } else { words.join(", ") }
}

/// What keeps an entry, in a word or two: evidence has it in full.
pub(super) fn in_short(by: Keeper) -> &'static str {
    match by {
        Keeper::Protected => "protected",
        Keeper::TakenBefore(_) => "taken before",
        Keeper::KeptBefore(_) => "kept before",
        Keeper::Generation => "generations",
        Keeper::Named => "named",
        Keeper::Fits => "under the cap",
        Keeper::InUse => "in use",
        Keeper::Enough => "enough is free",
        Keeper::Limit => "over its limit",
    }
}

/// The selected rule in words, and what it takes.
fn selected(model: &Model, pen: &mut Pen<'_>, area: Rect, tried: &TriedRules, number: usize) {
    let theme = pen.theme;
    let Some(rule) = tried.rules.rules.get(number) else { return };
    let mut y = area.y;
    let is_narrow = area.height < 8;
    for line in
        rule_words(rule).iter().take(if is_narrow { 1 } else { usize::from(area.height / 2) })
    {
        pen.text(area.x + 2, y, &shown(line), theme.dim, area.width.saturating_sub(2));
        y += 1;
    }
    y += u16::from(!is_narrow);
    let list = &tried.listed[number];
    let room = usize::from(area.bottom().saturating_sub(y));
    let whole = tried.out.rules[number].takes.entries;
    let fits = if list.len() > room { room.saturating_sub(1) } else { list.len() };
    for taken in list.iter().take(fits) {
        pen.text_right(area.x + 11, y, &model.bytes(taken.allocated), theme.plain);
        pen.text_right(area.x + 18, y, &taken.age, theme.dim);
        let width = area.width.saturating_sub(20);
        let has_place = list.iter().any(|taken| !taken.place.is_empty());
        let why_width = if width >= 60 && has_place { width * 2 / 5 } else { 0 };
        let path_width = width - why_width;
        let path = cut_path(&shown(&taken.path), usize::from(path_width.saturating_sub(1)));
        pen.text(area.x + 20, y, &path, theme.plain, path_width);
        pen.text(area.x + 20 + path_width, y, &taken.place, theme.dim, why_width);
        y += 1;
    }
    if list.len() > fits && room > 0 {
        let more =
            format!("… {} more; e exports all of them", grouped(whole.saturating_sub(fits as u64)));
        pen.text(area.x + 20, y, &more, theme.dim, area.width.saturating_sub(20));
    }
    if list.is_empty() && room > 0 {
        let nothing = match &tried.out.rules[number].state {
            RuleState::Rests(why) | RuleState::OverLimit(why) => why.clone(),
            RuleState::Off => "It is off: on = true in the file switches it on.".to_owned(),
            RuleState::Acts => "It takes nothing from this scan.".to_owned(),
        };
        pen.wrapped(
            Rect {
                y,
                height: area.bottom().saturating_sub(y),
                x: area.x + 2,
                width: area.width.saturating_sub(2),
            },
            &nothing,
            theme.plain,
        );
    }
}
