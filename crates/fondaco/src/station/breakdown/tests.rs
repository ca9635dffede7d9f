//! The breakdown while a scan grows.

use std::sync::Arc;
use std::time::Duration;

use fondaco_core::analysis::{BreakdownBy, breakdown};

use super::slices::FoundSlices;
use crate::frame::commands::Key;
use crate::frame::message::{Job, Message};
use crate::frame::questions::Answer;
use crate::frame::tests::Stage;

#[test]
fn while_a_scan_runs_questions_leave_it_sixty_times_as_long_as_they_take() {
    let mut stage = Stage::new();
    stage.model.scan.running = true;
    let grown = |stage: &mut Stage, elapsed: u64| {
        let mut progress = stage.scan.progress();
        progress.elapsed = Duration::from_millis(elapsed);
        let grows = Message::ScanProgress { number: 0, progress, done: false };
        let asked = |job: Job| if let Job::Ask(question) = job { Some(*question) } else { None };
        stage.send(grows).into_iter().filter_map(asked).collect::<Vec<_>>()
    };
    assert_eq!(grown(&mut stage, 1000).len(), 0, "without a lens the cascade asks nothing");
    stage.keys(&[Key::Char('4')]);
    let first = grown(&mut stage, 1050);
    assert_eq!(first.len(), 0, "the question of the station is still on its way");
    let sort = "breakdown";
    let number = stage.model.questions.asked[sort];
    let found = stage.scan.catalog();
    let top = found.top().unwrap();
    let slices = breakdown(found.whole(), top, BreakdownBy::default());
    drop(found);
    let answer = Answer::Own(Box::new(FoundSlices(Arc::new(slices))));
    let took = Duration::from_millis(25);
    stage.send(Message::Answered { scan: 0, sort, number, answer, took });
    assert!(stage.model.rooms.breakdown.largest.is_some());
    assert_eq!(grown(&mut stage, 2500).len(), 0);
    assert_eq!(grown(&mut stage, 2600).len(), 1, "60 × 25 ms later");
    assert_eq!(grown(&mut stage, 2700).len(), 0, "not twice");
}
