//! The station driven by keys: groups, their leftovers, and the ways of planning them.

use fondaco_core::kernel::DeletedFiles;
use fondaco_core::plan::Deed;

use crate::frame::commands::Key;
use crate::frame::message::{Job, Message};
use crate::frame::model::Overlay;
use crate::frame::tests::{Stage, scan};
use crate::frame::view::{Depth, Theme};

/// Sends messages, does the work that they set off, and that of its news.
fn work(stage: &mut Stage, mut jobs: Vec<Job>) {
    while let Some(job) = jobs.pop() {
        match job {
            Job::Work(work) => {
                let mut told = Vec::new();
                let news = work.run_telling(&mut |news| told.push(news));
                for news in told.into_iter().chain([news]) {
                    jobs.extend(news.take(&mut stage.model));
                }
            }
            Job::Ask(question) => jobs.extend(stage.answer(*question)),
            _ => {}
        }
    }
}

fn keys(stage: &mut Stage, keys: &[Key]) {
    for key in keys {
        let jobs = stage.send(Message::Key(*key));
        work(stage, jobs);
    }
}

fn screen(stage: &mut Stage, (width, height): (u16, u16)) -> String {
    stage.screen(width, height, &Theme::new(Depth::None, false, false))
}

const WIDE: (u16, u16) = (160, 50);

/// A scan with three temporary files, an empty one, and a link that leads to nothing.
fn with_leftovers() -> Stage {
    let mut stage = Stage::new();
    let root = stage.model.scan.roots[0].clone();
    for (name, size) in [("a.tmp", 9000), ("b.tmp", 5000), ("c.tmp", 3000), ("empty.csv", 0)] {
        std::fs::write(root.join("tide").join(name), vec![1; size]).unwrap();
    }
    std::os::unix::fs::symlink("nowhere", root.join("tide/gone")).unwrap();
    stage.scan = scan(&root);
    let catalog = stage.scan.shared_catalog();
    let jobs = stage.send(Message::ScanBegun { number: 0, catalog });
    work(&mut stage, jobs);
    stage.progress();
    stage.model.held = DeletedFiles::default();
    keys(&mut stage, &[Key::Char('6')]);
    stage
}

#[test]
fn groups_say_what_they_are_and_open_to_their_leftovers() {
    let mut stage = with_leftovers();
    let seen = screen(&mut stage, WIDE);
    for text in [
        "temporary files",
        "empty files",
        "broken links",
        "names that will not survive",
        "against",
        "only you can know",
    ] {
        assert!(seen.contains(text), "{text}\n{seen}");
    }
    keys(&mut stage, &[Key::Enter]);
    let seen = screen(&mut stage, WIDE);
    assert!(seen.contains("tide/a.tmp") && seen.contains("temporary by its name"), "{seen}");
    // in a small terminal one of the two is seen, and Escape leads back
    let small = screen(&mut stage, (80, 24));
    assert!(small.contains("tide/a.tmp") && !small.contains("broken links"), "{small}");
    keys(&mut stage, &[Key::Escape]);
    let small = screen(&mut stage, (80, 24));
    assert!(small.contains("broken links") && !small.contains("tide/a.tmp"), "{small}");
    // there the evidence says what speaks for and against
    assert!(small.contains("against") && small.contains("names that will not survive"), "{small}");
    // what is only told cannot be planned, and says so
    keys(&mut stage, &[Key::End, Key::Char('A'), Key::Enter, Key::Char(' ')]);
    assert!(stage.model.draft.is_empty() && stage.model.overlay.is_none());
    assert!(stage.model.notice.as_ref().is_some_and(|notice| notice.text.contains("only told")));
}

#[test]
fn a_leftover_is_planned_and_taken_off_and_a_group_needs_its_number() {
    let mut stage = with_leftovers();
    keys(&mut stage, &[Key::Enter, Key::Char(' '), Key::Enter]);
    assert_eq!(stage.model.draft.planned().len(), 1);
    assert_eq!(
        stage.model.draft.planned()[0].deed,
        Deed::SetAside,
        "the usual one is offered first"
    );
    assert_eq!(stage.model.draft.planned()[0].reason, "left over: temporary files");
    assert!(screen(&mut stage, WIDE).contains('▒'));
    keys(&mut stage, &[Key::Char(' ')]);
    assert!(stage.model.draft.is_empty());
    // the wrong number plans nothing
    keys(&mut stage, &[Key::Char('A'), Key::Char('d'), Key::Char('2'), Key::Enter]);
    assert!(stage.model.draft.is_empty());
    assert!(matches!(&stage.model.overlay, Some(Overlay::Ask { error: Some(_), .. })));
    keys(&mut stage, &[Key::Backspace, Key::Char('3'), Key::Enter]);
    assert_eq!(stage.model.draft.planned().len(), 3);
    assert!(stage.model.draft.planned().iter().all(|planned| planned.deed == Deed::Delete));
    keys(&mut stage, &[Key::Char('A')]);
    assert!(stage.model.overlay.is_none(), "all are planned already");
}

#[test]
fn asked_one_by_one_each_stays_unless_something_else_is_said() {
    let mut stage = with_leftovers();
    keys(&mut stage, &[Key::Char('O')]);
    let seen = screen(&mut stage, WIDE);
    assert!(seen.contains("1 of 3: tide/a.tmp") && seen.contains("Enter alone"), "{seen}");
    keys(&mut stage, &[Key::Enter, Key::Char('y'), Key::Enter, Key::Enter]);
    let planned: Vec<_> = stage.model.draft.planned().iter().map(|one| one.path.clone()).collect();
    assert_eq!(planned, [stage.model.scan.roots[0].join("tide/b.tmp")]);
    // Escape forgets all answers
    keys(&mut stage, &[Key::Char('O'), Key::Char('y'), Key::Enter, Key::Escape]);
    assert_eq!(stage.model.draft.planned().len(), 1);
    keys(&mut stage, &[Key::Char('O'), Key::Char('a'), Key::Enter]);
    assert_eq!(stage.model.draft.planned().len(), 3);
}

#[test]
fn a_group_becomes_a_rule() {
    let mut stage = with_leftovers();
    keys(&mut stage, &[Key::Char('N')]);
    let seen = screen(&mut stage, WIDE);
    assert!(seen.contains("leftovers = [\"temporaries\"]"), "{seen}");
    keys(&mut stage, &[Key::Ctrl('s')]);
    let seen = screen(&mut stage, WIDE);
    assert!(seen.contains("temporary files") && seen.contains("set aside"), "{seen}");
    keys(&mut stage, &[Key::Char(' ')]);
    assert_eq!(stage.model.draft.planned().len(), 3, "{}", screen(&mut stage, WIDE));
}
