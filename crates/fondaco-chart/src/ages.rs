//! Size classes by age classes, shaded by their bytes.

use fondaco_core::analysis::{AgeBy, Cell, Matrix};
use fondaco_core::units::Bytes;

use crate::chart::{Chart, Context, PLAIN, SMALL, Sheet};
use crate::colours::is_dark;
use crate::svg::Anchor;

/// Draws a matrix with its sums.
pub fn ages(matrix: &Matrix, by: AgeBy, context: &Context) -> Chart {
    let unknown = matrix.of_no_age().entries > 0;
    let (rows, columns) =
        (matrix.cells.len(), matrix.classes.ages.len() + 1 + usize::from(unknown));
    let line = 34.0;
    let height = (rows + 1) as f64 * line + 46.0;
    let whole = matrix.whole();
    let note = format!(
        "{} in {} entries, by bytes on disk and by when {}. The more, the {}er.",
        whole.allocated.shown(context.units),
        fondaco_core::units::grouped(whole.entries),
        by.clause(),
        context.look.strongest()
    );
    let (mut sheet, area) = Sheet::new(context, "How old against how large", &note, Some(height));
    if whole.entries == 0 {
        sheet.nothing(area);
        return sheet.finish();
    }
    let names = 76.0;
    let width = (area.width - names) / (columns + 1) as f64;
    let most = matrix.cells.iter().flatten().chain(&matrix.not_known).map(|cell| cell.allocated);
    let most = most.max().unwrap_or_default();
    let left = |column: usize| area.x + names + width * column as f64;
    let top = |row: usize| area.y + 14.0 + line * row as f64;
    let colours = sheet.colours;
    for column in 0..=columns {
        let words = if column == columns { "all".into() } else { matrix.classes.age_words(column) };
        let x = left(column) + width - 6.0;
        sheet.words_right(x, area.y + 8.0, SMALL, colours.dim, &words);
    }
    for row in 0..=rows {
        let size = rows.checked_sub(row + 1);
        let words = match size {
            Some(size) => matrix.classes.size_words(size, context.units),
            None => "all".to_owned(),
        };
        sheet.words_right(area.x + names - 8.0, top(row) + 20.0, SMALL, colours.dim, &words);
        for column in 0..=columns {
            let found = match (size, column) {
                (Some(size), column) if column == columns => matrix.of_size(size),
                (Some(size), column) => {
                    *matrix.cells[size].get(column).unwrap_or(&matrix.not_known[size])
                }
                (None, column) if column == columns => whole,
                (None, column) if column < matrix.classes.ages.len() + 1 => matrix.of_age(column),
                (None, _) => matrix.of_no_age(),
            };
            let place = (left(column), top(row), width, line);
            cell(&mut sheet, place, found, (size.is_some() && column < columns).then_some(most));
        }
    }
    let y = top(rows + 1) + 22.0;
    sheet.drawing.text(area.x, y, SMALL, colours.dim, Anchor::Start, "share of the fullest class:");
    let legend: Vec<(&str, &str)> = [(0, "little"), (2, "a fifth"), (4, "half"), (7, "all of it")]
        .iter()
        .map(|(shade, words)| (colours.ages[*shade], *words))
        .collect();
    sheet.legend(area.x + 130.0, y, &legend);
    sheet.finish()
}

fn cell(
    sheet: &mut Sheet<'_>,
    (x, y, width, height): (f64, f64, f64, f64),
    found: Cell,
    most: Option<Bytes>,
) {
    let colours = sheet.colours;
    let mut ink = if found.entries == 0 { colours.dim } else { colours.text };
    if let Some(most) = most.filter(|_| found.allocated > Bytes::ZERO) {
        // a root brings out what is small
        let share = found.allocated.share_of(most).sqrt();
        let shade = colours.ages[((share * 8.0) as usize).min(7)];
        sheet.drawing.rect(x + 1.0, y + 1.0, width - 2.0, height - 2.0, shade);
        ink = if is_dark(shade) { "#ffffff" } else { "#101820" };
    }
    let words = if found.entries == 0 { "·".to_owned() } else { sheet.bytes(found.allocated) };
    let words = crate::text::cut(&words, PLAIN, width - 8.0);
    sheet.words_right(x + width - 6.0, y + height / 2.0 + 4.0, PLAIN, ink, &words);
}
