//! The panel: what could be equal, how far the search is, the trees, the sets.

use std::path::Path;
use std::time::Duration;

use fondaco_core::archive::is_store;
use fondaco_core::duplicates::{Figures, Relation, guessed_time};
use fondaco_core::shown::shown;
use fondaco_core::units::{Age, Bytes, counted, grouped, share_words};
use ratatui::layout::Rect;

use super::State;
use super::searching::{NotThere, PairRow, Results, Search, SetRow};
use crate::frame::model::Model;
use crate::frame::view::{Pen, Target, cut_path, nothing_scanned, stair};

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    if nothing_scanned(model, pen, area) {
        return;
    }
    let state = &model.rooms.duplicates;
    let inner = Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area };
    match (&state.open, &state.search) {
        (Some((open, cursor)), _) => not_there(model, pen, area, open, *cursor),
        (None, Search::None) => before(model, pen, inner),
        (None, Search::Going { figures, sets, relief, .. }) => {
            going(model, pen, inner, figures, *sets, *relief);
        }
        (None, Search::Done(results)) => {
            head(model, pen, inner, results);
            match state.shows_sets {
                true => sets(model, pen, area, results, state.set),
                false => pairs(model, pen, area, state, results),
            }
        }
    }
}

/// What could be equal, before anything has been read.
fn before(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let text = match &model.rooms.duplicates.could {
        _ if model.scan.roots.iter().any(|root| is_store(root)) => {
            "Objects of a store are not compared: their contents are not read.".to_owned()
        }
        None if model.scan.running => "Files are compared when the scan has ended.".to_owned(),
        None => "counting what could be equal …".to_owned(),
        Some(could) if could.files == 0 => {
            "No two files have the same length: none can be equal.".to_owned()
        }
        Some(could) => format!(
            "{} have the length of another one and could be equal. At most {} would have to be read, which \
             takes about {}; files that differ early are not read on.",
            counted(could.files, "file"),
            model.bytes(could.bytes),
            Age(guessed_time(could.files, could.bytes) + Duration::from_secs(1))
        ),
    };
    let lines = pen.wrapped(area, &text, theme.dim);
    if super::can_begin(model) {
        let y = area.y + lines + 1;
        pen.text(area.x, y, "Enter begins. Nothing is changed.", theme.plain, area.width);
    }
}

fn going(
    model: &Model,
    pen: &mut Pen<'_>,
    area: Rect,
    figures: &Figures,
    sets: u64,
    relief: Bytes,
) {
    let theme = pen.theme;
    let share = figures.share();
    let elapsed = figures.elapsed.as_secs_f64();
    let left = match share > 0.01 {
        true => {
            let seconds = elapsed * (1.0 - share) / share;
            format!(" · about {} left", Age(Duration::from_secs(seconds as u64 + 1)))
        }
        false => String::new(),
    };
    let (files, read) = (counted(figures.candidates, "file"), model.bytes(figures.read));
    let text = match figures.done {
        _ if figures.candidates == 0 => "counting what could be equal …".to_owned(),
        done if done == figures.candidates => {
            format!("{files} compared · {read} read · comparing the trees that they are in …")
        }
        _ if figures.looked_at < figures.candidates => {
            let looked_at = grouped(figures.looked_at);
            format!("looking at the beginnings of {looked_at} of {files}{left} · S stops")
        }
        done => format!("comparing {} of {files} · {read} read{left} · S stops", grouped(done)),
    };
    pen.text(area.x, area.y, &text, theme.plain, area.width);
    let (_, bar) = stair(0.0, share, area.width);
    pen.fill(Rect { y: area.y + 1, height: 1, ..area }, " ", theme.plain);
    pen.text(area.x, area.y + 1, &bar, theme.teal, area.width);
    let text = format!(
        "{} of equal files so far, {} in copies",
        counted(sets, "set"),
        model.bytes(relief)
    );
    pen.text(area.x, area.y + 3, &text, theme.amber, area.width);
}

/// What was found in one line, and the order of preference.
fn head(model: &Model, pen: &mut Pen<'_>, area: Rect, results: &Results) {
    let theme = pen.theme;
    let left_out = match results.found.not_read.len() {
        0 => String::new(),
        n => format!(" · {} left out", counted(n as u64, "file")),
    };
    let done = &model.rooms.duplicates.last_run;
    let text = format!(
        "{} of equal files · {} if one of each stays{left_out}{done}",
        counted(results.found.sets.len() as u64, "set"),
        model.bytes(results.relief)
    );
    let x = pen.text(area.x, area.y, &text, theme.amber, area.width);
    let keep = &model.state.settings.keep;
    let keep = match keep.is_empty() {
        true => "keep  shortest path".to_owned(),
        false => {
            let words =
                keep.iter().zip(1..).map(|(word, number)| format!("{number} {}", shown(word)));
            format!("keep  {}", words.collect::<Vec<_>>().join("  "))
        }
    };
    let left = area.right().saturating_sub(x + 3);
    if left > 12 {
        pen.text(x + 3, area.y, &keep, theme.dim, left);
    }
}

/// Where the columns of pairs are; what is 0 does not fit.
struct PairColumns {
    tree: (u16, u16),
    within: (u16, u16),
    bar: (u16, u16),
    share: u16,
    only: u16,
    newer: u16,
    relief: u16,
}

impl PairColumns {
    /// What is lesser gives way to names: how many of the trees are newer, then the bar. `longest` are the longest names.
    fn of(area: Rect, longest: (u16, u16)) -> Self {
        let wanted = longest.0 + longest.1 + 4;
        let fits = |lesser: u16| area.width >= wanted + 40 + lesser;
        let relief = area.right() - 1;
        let newer = if fits(21) { relief - 12 } else { 0 };
        let only = if newer > 0 { newer - 12 } else { relief - 12 };
        let share = only - 12;
        let bar = if fits(9) { 8 } else { 0 };
        let end = share - 8 - if bar > 0 { bar + 1 } else { 0 };
        let rest = end.saturating_sub(area.x + 3);
        let tree = (rest / 2).max(rest.saturating_sub(longest.1 + 1)).min(longest.0.max(rest / 2));
        Self {
            tree: (area.x + 2, tree),
            within: (area.x + 2 + tree + 1, rest.saturating_sub(tree + 1)),
            bar: (end, bar),
            share,
            only,
            newer,
            relief,
        }
    }
}

fn pairs(model: &Model, pen: &mut Pen<'_>, area: Rect, state: &State, results: &Results) {
    let theme = pen.theme;
    let visible = usize::from(area.height.saturating_sub(2));
    let offset = (state.pair + 1).saturating_sub(visible);
    let shown_pairs = || results.pairs.iter().skip(offset).take(visible);
    let longest = |path: fn(&PairRow) -> &Path| {
        let lengths = shown_pairs().map(|pair| shown(path(pair)).chars().count() as u16 + 1);
        lengths.max().unwrap_or(0).max(15)
    };
    let longest = (longest(|pair| &pair.tree), longest(|pair| &pair.within));
    let columns = PairColumns::of(area, longest);
    let y = area.y + 1;
    if results.pairs.is_empty() {
        let text = "No directory holds much of what is in another one.";
        pen.text(area.x + 1, y + 1, text, theme.dim, area.width);
        return;
    }
    pen.text(columns.tree.0, y, "tree", theme.dim, columns.tree.1);
    pen.text(columns.within.0, y, "is in", theme.dim, columns.within.1);
    pen.text_right(columns.share, y, "held there", theme.dim);
    pen.text_right(columns.only, y, "only here", theme.dim);
    if columns.newer > 0 {
        pen.text_right(columns.newer, y, "newer here", theme.dim);
    }
    pen.text_right(columns.relief, y, "relief ↓", theme.dim);
    for (i, pair) in results.pairs.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, area.y + 2 + (i - offset) as u16, area.width, 1);
        pair_row(model, pen, line, &columns, pair, i == state.pair);
        pen.hit(line, Target::Row(i));
    }
}

fn pair_row(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    columns: &PairColumns,
    pair: &PairRow,
    selected: bool,
) {
    let (text, quiet) = pen.begin_row(line, selected);
    let (y, row, theme) = (line.y, &pair.contained, pen.theme);
    let path = |path: &Path, width: u16| {
        let shown =
            if path.as_os_str().is_empty() { "the whole scan".to_owned() } else { shown(path) };
        cut_path(&format!("{shown}/"), usize::from(width))
    };
    pen.text(columns.tree.0, y, &path(&pair.tree, columns.tree.1), text, columns.tree.1);
    pen.text(columns.within.0, y, &path(&pair.within, columns.within.1), quiet, columns.within.1);
    if columns.bar.1 > 0 {
        let (_, bar) = stair(0.0, row.share, columns.bar.1);
        pen.text(columns.bar.0, y, &bar, theme.in_row(theme.teal, selected), columns.bar.1);
    }
    pen.text_right(columns.share, y, &share_words(row.share), text);
    let only = row.only_here.bytes + row.differs.bytes;
    let nothing = row.only_here.files + row.differs.files == 0;
    let style = if nothing || selected { quiet } else { theme.amber };
    pen.text_right(columns.only, y, &model.bytes(only), style);
    if columns.newer > 0 {
        pen.text_right(columns.newer, y, &grouped(row.newer_here), quiet);
    }
    pen.text_right(columns.relief, y, &model.bytes(row.relief), text);
}

fn sets(model: &Model, pen: &mut Pen<'_>, area: Rect, results: &Results, cursor: usize) {
    let theme = pen.theme;
    let y = area.y + 1;
    let relief = area.right() - 1;
    let (copies, length) = (relief - 12, relief - 20);
    let path = (area.x + 3, length.saturating_sub(area.x + 15));
    pen.text(path.0, y, "● stays · ▒ planned", theme.dim, path.1);
    pen.text_right(length, y, "length", theme.dim);
    pen.text_right(copies, y, "copies", theme.dim);
    pen.text_right(relief, y, "relief ↓", theme.dim);
    let visible = usize::from(area.height.saturating_sub(2));
    let offset = (cursor + 1).saturating_sub(visible);
    for (i, set) in results.sets.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, area.y + 2 + (i - offset) as u16, area.width, 1);
        set_row(model, pen, line, set, (path, length, copies, relief), i == cursor);
        pen.hit(line, Target::Row(i));
    }
}

fn set_row(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    set: &SetRow,
    (path, length, copies, relief): ((u16, u16), u16, u16, u16),
    selected: bool,
) {
    let (text, quiet) = pen.begin_row(line, selected);
    let stays = set.copies.first().map(|copy| shown(&copy.below_root)).unwrap_or_default();
    if set.copies.iter().any(|copy| model.draft.is_planned(&copy.path)) {
        pen.text(path.0 - 2, line.y, "▒", pen.theme.amber, 1);
    }
    pen.text(path.0, line.y, &cut_path(&stays, usize::from(path.1)), text, path.1);
    pen.text_right(length, line.y, &model.bytes(set.arranged.length), quiet);
    pen.text_right(copies, line.y, &grouped(set.copies.len() as u64), quiet);
    pen.text_right(relief, line.y, &model.bytes(set.arranged.relief), text);
}

fn not_there(model: &Model, pen: &mut Pen<'_>, area: Rect, open: &NotThere, cursor: usize) {
    let theme = pen.theme;
    let title = format!(
        "{} of {}/ not in {}/",
        counted(open.files.len() as u64, "file"),
        shown(&open.pair.tree),
        shown(&open.pair.within)
    );
    pen.text(
        area.x + 1,
        area.y,
        &cut_path(&title, usize::from(area.width - 2)),
        theme.amber,
        area.width,
    );
    if open.files.is_empty() {
        let text = "All of it is there too. Space plans the copies; Esc goes back.";
        pen.text(area.x + 1, area.y + 2, text, theme.plain, area.width);
        return;
    }
    let length = area.right() - 1;
    let what = length - 32;
    let visible = usize::from(area.height.saturating_sub(2));
    let offset = (cursor + 1).saturating_sub(visible);
    for (i, (path, bytes, relation)) in open.files.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, area.y + 2 + (i - offset) as u16, area.width, 1);
        let (text, quiet) = pen.begin_row(line, i == cursor);
        let width = what.saturating_sub(area.x + 4);
        pen.text(area.x + 2, line.y, &cut_path(&shown(path), usize::from(width)), text, width);
        let words = match relation {
            Relation::Differs { newer_here: true } => "differs, newer here",
            Relation::Differs { newer_here: false } => "differs, newer there",
            _ => "only here",
        };
        pen.text(what, line.y, words, quiet, 20);
        pen.text_right(length, line.y, &model.bytes(*bytes), text);
        pen.hit(line, Target::Row(i));
    }
}
