//! The station Duplicates, key by key.

use super::searching::Search;
use crate::frame::commands::Key;
use crate::frame::message::Job;
use crate::frame::tests::Stage;
use crate::frame::view::{Depth, Theme};
use crate::station::Station;

fn screen(stage: &mut Stage) -> String {
    stage.screen(120, 36, &Theme::new(Depth::None, false, false))
}

#[test]
fn a_search_that_is_stopped_before_anything_is_compared_is_as_if_it_had_not_begun() {
    let mut stage = Stage::new();
    let root = stage.model.scan.roots[0].clone();
    std::fs::write(root.join("buoy/a.csv"), vec![1; 90_000]).unwrap();
    stage.scan = crate::frame::tests::scan(&root);
    stage.model.scan.catalog = Some(stage.scan.shared_catalog());
    stage.model.station = Station::Directories;
    stage.work_keys(&[Key::Char('5')]);
    assert!(screen(&mut stage).contains("2 files have the length of another one"));
    let jobs = stage.keys(&[Key::Enter]);
    assert!(matches!(jobs[..], [Job::Work(_)]), "{jobs:?}");
    assert!(screen(&mut stage).contains("counting what could be equal"));
    stage.keys(&[Key::Char('S')]);
    let is_as_before = |stage: &mut Stage| {
        assert!(matches!(stage.model.rooms.duplicates.search, Search::None));
        let screen = screen(stage);
        assert!(screen.contains("Stopped: no files had been compared yet"), "{screen}");
        assert!(screen.contains("2 files have the length of another one"), "{screen}");
    };
    is_as_before(&mut stage);
    // what the search says at its end is not wanted any more
    stage.work(jobs);
    is_as_before(&mut stage);
    stage.work_keys(&[Key::Enter]);
    assert!(screen(&mut stage).contains("1 set of equal files"));
}
