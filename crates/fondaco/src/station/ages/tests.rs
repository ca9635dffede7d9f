//! The matrix of Ages: what a cell holds is what it narrows the lens to.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use fondaco_core::analysis::AgeBy;

use crate::frame::commands::Key;
use crate::frame::message::Message;
use crate::frame::model::{Focus, Overlay};
use crate::frame::tests::{NOW, Stage, scan};

const DAY: u64 = 86_400;

impl Stage {
    /// With files of many sizes and ages.
    fn aged() -> Self {
        let mut stage = Self::new();
        let root = stage.model.scan.roots[0].clone();
        for (n, days) in
            [0, 1, 6, 7, 29, 30, 89, 90, 364, 365, 730, 1460, 4000].into_iter().enumerate()
        {
            let path = root.join(format!("tide/gauge-{n}"));
            std::fs::write(&path, vec![1; 3000 << (n % 8)]).unwrap();
            let at = |days: u64| -> SystemTime {
                UNIX_EPOCH + Duration::from_secs(NOW.sec as u64 - days * DAY)
            };
            let read = [0, 400, 5000][n % 3];
            let times = std::fs::FileTimes::new().set_modified(at(days)).set_accessed(at(read));
            std::fs::File::options().write(true).open(&path).unwrap().set_times(times).unwrap();
        }
        stage.scan = scan(&root);
        stage.model.scan.running = true;
        let catalog = stage.scan.shared_catalog();
        stage.send(Message::ScanBegun { number: 0, catalog });
        stage.progress();
        stage
    }

    fn lens(&self) -> &str {
        &self.model.lens.text
    }
}

#[test]
fn what_a_cell_holds_is_what_it_narrows_the_lens_to() {
    for (times, by) in [(0, AgeBy::Written), (1, AgeBy::Read)] {
        let mut stage = Stage::aged();
        stage.model.state.settings.age_classes =
            ["90 s", "1 d", "30 d", "1 y", "4 y"].map(str::to_owned).to_vec();
        stage.look(&[Key::Char('3')]);
        stage.look(&vec![Key::Char('t'); times]);
        assert_eq!(stage.model.rooms.ages.by, by);
        let matrix = stage.model.rooms.ages.matrix.clone().unwrap();
        let (rows, columns) = (matrix.cells.len(), matrix.classes.ages.len() + 1);
        let mut filled = 0;
        for (row, column) in (0..=rows).flat_map(|row| (0..=columns).map(move |c| (row, c))) {
            // a click does what the arrows do; the last row and column are the sums
            stage.send(Message::ClickCell(row, column));
            stage.look(&[Key::Enter]);
            if (row, column) == (rows, columns) {
                let said = stage.model.notice.take().unwrap().text;
                assert!(said.contains("This is everything") && stage.lens().is_empty(), "{said}");
                continue;
            }
            let sizes = if row == rows { 0..rows } else { rows - 1 - row..rows - row };
            let ages = if column == columns { 0..columns } else { column..column + 1 };
            let cells = matrix.cells[sizes].iter().flat_map(|cells| &cells[ages.clone()]);
            let expected = cells.fold((0, 0), |(entries, bytes), cell| {
                (entries + cell.entries, bytes + cell.allocated.get())
            });
            let found = stage.model.rooms.ages.matrix.as_ref().unwrap().whole();
            let lens = stage.lens().to_owned();
            assert_eq!((found.entries, found.allocated.get()), expected, "{by:?} {lens}");
            filled += u64::from(expected.0 > 0);
            stage.look(&[Key::Char('a')]);
            assert_eq!(stage.lens(), "", "all is shown again");
        }
        assert!(filled > 10, "{by:?}: only {filled} cells hold something");
    }
}

#[test]
fn a_block_grows_with_the_arrows_lists_its_files_and_ends_without_a_trace() {
    let mut stage = Stage::aged();
    stage.look(&[Key::Char('3'), Key::Up, Key::Left, Key::Char('x'), Key::Up, Key::Up, Key::Left]);
    let (from, to) = stage.model.rooms.ages.selection().unwrap();
    assert_eq!((to.row - from.row, to.column - from.column), (2, 1));
    let listed = stage.model.rooms.ages.files.list.whole;
    let matrix = stage.model.rooms.ages.matrix.clone().unwrap();
    let block = stage.model.rooms.ages.block().unwrap();
    let cells: u64 = block
        .sizes
        .clone()
        .flat_map(|size| block.ages.clone().map(move |age| (size, age)))
        .map(|(size, age)| matrix.cells[size][age].allocated.get())
        .sum();
    // directories are in the matrix, and not among the files
    assert!(listed.entries > 0 && listed.allocated.get() <= cells, "{listed:?} {cells}");
    stage.look(&[Key::Tab]);
    assert_eq!(stage.model.focus, Focus::Below);
    stage.look(&[Key::End, Key::Enter]);
    let place = stage.model.place.path.clone();
    assert!(place.ends_with("tide"), "where the file lies: {place:?}");
    stage.look(&[Key::Char('3'), Key::Char('x')]);
    assert_eq!(stage.model.rooms.ages.anchor, None);
}

#[test]
fn times_for_which_the_lens_has_no_word_are_said_to_have_none() {
    let mut stage = Stage::aged();
    stage.look(&[Key::Char('3'), Key::Char('t'), Key::Char('t'), Key::Up, Key::Left, Key::Enter]);
    let said = stage.model.notice.clone().unwrap().text;
    assert!(said.contains("words for written and read only") && stage.lens().is_empty(), "{said}");
    // when something was made is known after a closer look only; until then it has no known age
    stage.model.scan.saved = true;
    stage.look(&[Key::Char('t')]);
    let said = stage.model.notice.clone().unwrap().text;
    assert!(said.contains("does not keep when things were made"), "{said}");
    let columns = stage.model.rooms.ages.columns();
    stage.send(Message::ClickCell(0, columns - 1));
    stage.look(&[Key::Enter]);
    let said = stage.model.notice.clone().unwrap().text;
    assert!(said.contains("a time that is not known") && stage.lens().is_empty(), "{said}");
}

#[test]
fn all_files_can_be_planned_before_their_list_stands_and_anything_else_calls_that_off() {
    let asked = |stage: &Stage| match stage.model.overlay {
        Some(Overlay::ChooseForMany { count, .. }) => count,
        _ => 0,
    };
    // the matrix stands, and its list is still awaited
    for between in [None, Some(Key::Up), Some(Key::Escape), Some(Key::Char('u'))] {
        let mut stage = Stage::aged();
        stage.look(&[Key::Char('3')]);
        let all = stage.model.rooms.ages.files.list.whole.entries;
        let mut jobs = stage.keys(&[Key::Up, Key::Down, Key::Char('A')]);
        let said = stage.model.notice.clone().unwrap().text;
        assert!(said.contains("as soon as the list stands") && asked(&stage) == 0, "{said}");
        jobs.extend(stage.keys(between.as_slice()));
        stage.serve(jobs);
        let expected = if between.is_none() { all } else { 0 };
        assert_eq!(asked(&stage), expected, "{between:?}");
        assert!(stage.model.draft.is_empty() && all > 13);
    }
}
