//! The journal on the screen: what it offers for a run, and what is said when something fails.

use fondaco_core::carry_out::{Journal, RunState};
use fondaco_core::packed_list::PackedList;
use fondaco_core::units::Bytes;

use super::runs::{CameBack, RunRead, Runs};
use crate::failure::Failure;
use crate::frame::commands::{Key, named};
use crate::frame::message::{Job, Message, News};
use crate::frame::tests::{NOW, Stage};
use crate::frame::view::{self, Theme};
use crate::station::Station;

/// What can fail here, as a job would report it.
pub fn failures(reason: &str) -> Vec<Message> {
    let news: Vec<Box<dyn News>> = vec![
        Box::new(Runs(Err(reason.into()))),
        Box::new(RunRead { run: 1, entries: Err(reason.into()) }),
        Box::new(CameBack { what: "put back", outcome: Err(reason.into()) }),
        Box::new(CameBack { what: "purged", outcome: Err(reason.into()) }),
    ];
    news.into_iter().map(Message::News).collect()
}

#[test]
fn a_cut_off_run_is_announced_and_the_journal_offers_what_can_be_done() {
    let mut stage = Stage::new();
    let settled = fondaco_core::carry_out::Settled {
        run: 4,
        finished: 1,
        returned: 2,
        not_begun: 3,
        failed: 0,
    };
    let jobs = stage.send(Message::Settled(Ok(vec![settled])));
    assert!(matches!(&jobs[..], [Job::Work(work)] if format!("{work:?}").contains("ReadRuns")));
    assert!(stage.model.notice.as_ref().unwrap().text.contains("Run 4 had been cut off"));
    let path = stage.model.scan.roots[0].join("chart.png");
    let survey = fondaco_core::plan::survey(&path).unwrap();
    let mut journal = Journal::open(&stage.model.state.journal_file()).unwrap();
    let mut draft = fondaco_core::plan::Draft::default();
    draft.put(fondaco_core::plan::Planned {
        path: path.clone(),
        deed: fondaco_core::plan::Deed::SetAside,
        reason: "by hand".into(),
        volume: "/".into(),
        depot_on_volume: false,
        estimate: Bytes::ZERO,
        entries: 1,
        review: fondaco_core::plan::Review::Ready(Box::new(survey)),
        purge_after: None,
        stays: None,
        together: None,
        differs: Vec::new(),
        emptied: false,
    });
    let plan = draft.to_plan(Vec::new(), NOW).unwrap();
    let run = journal.begin(&plan, "token", NOW).unwrap();
    journal.end(run, RunState::CutOff, None, &[], &PackedList::new(), NOW).unwrap();
    stage.keys(&[Key::Char('9')]);
    stage.send(Message::News(Box::new(Runs(journal.runs().map_err(Failure::of)))));
    let offered = |stage: &Stage, name| named(&stage.model, name).is_some();
    assert!(offered(&stage, "finish the run") && !offered(&stage, "put all back"));
    stage.keys(&[Key::Enter]);
    let entries = journal.entries(run).map_err(Failure::of);
    stage.send(Message::News(Box::new(RunRead { run, entries })));
    let screen = stage.screen(160, 50, &Theme::new(view::Depth::True, false, false));
    assert!(screen.contains("not begun") && screen.contains("chart.png"), "{screen}");
    stage.keys(&[Key::Char(' ')]);
    assert!(stage.model.notice.as_ref().unwrap().text.contains("Nothing to put back"));
    stage.keys(&[Key::Escape]);
    assert!(stage.model.rooms.journal.open.is_none());
    // carrying out the rest takes us to the plan while it runs
    let jobs = stage.keys(&[Key::Char('F')]);
    assert!(matches!(&jobs[..], [Job::Finish(1, _)]));
    assert!(stage.model.station == Station::Plan && stage.model.run.is_active());
    assert!(offered(&stage, "stop the run") && !offered(&stage, "plan it"));
    assert!(matches!(&stage.keys(&[Key::Char('S')])[..], [Job::StopRun]));
    stage.send(Message::CarriedOut(Box::new(Err("the journal is full".into()))));
    assert!(!stage.model.run.is_active());
    assert!(stage.model.notice.as_ref().unwrap().text.contains("the journal is full"));
}
