//! What cannot be done is said with its reason, and nothing that was there is forgotten for it.

use fondaco_core::carry_out::Figures;
use fondaco_core::plan::Deed;

use super::Stage;
use super::screens::{SIZES, reads, text};
use crate::frame::commands::{Key, available};
use crate::frame::message::{Job, Message};
use crate::frame::model::{Overlay, RunStage, Tone};
use crate::frame::view::{Depth, Theme};
use crate::station::Station;
use crate::station::tests::failures_of_journal;

const REASON: &str = "cannot write /srv/seamark/state: No space left on device";

impl Stage {
    /// With one thing planned and looked at.
    fn with_a_plan() -> Self {
        let mut stage = Self::new();
        stage.keys(&[Key::Char(' '), Key::Char('s')]);
        let path = stage.model.scan.roots[0].join("tide");
        let outcome = Box::new(fondaco_core::plan::survey(&path));
        stage.send(Message::Surveyed { path, outcome });
        assert_eq!(stage.model.ready_actions(), 1);
        stage
    }

    pub fn notice(&self) -> String {
        self.model.notice.as_ref().map_or_else(String::new, |notice| notice.text.clone())
    }
}

#[test]
fn whatever_fails_is_read_whole_and_the_plan_and_the_scan_stay() {
    let theme = Theme::new(Depth::None, false, false);
    type Failure = fn(u64) -> Message;
    let failures: [(Station, Failure); 10] = [
        (Station::Volumes, |_| Message::Saved(Err(REASON.into()))),
        (Station::Volumes, |_| Message::SavedScans(Err(REASON.into()))),
        (Station::Volumes, |_| Message::Settled(Err(REASON.into()))),
        (Station::Directories, |_| Message::ScanSaved(Err(REASON.into()))),
        (Station::Directories, |number| Message::Opened { number, outcome: Err(REASON.into()) }),
        (Station::Directories, |number| Message::Mended { number, outcome: Err(REASON.into()) }),
        (Station::Directories, |_| Message::Exported(Box::new(Err(REASON.into())))),
        (Station::Directories, |_| Message::Peeked {
            path: "/srv/seamark/tide".into(),
            outcome: Box::new(Err(REASON.into())),
        }),
        (Station::Plan, |_| Message::Rehearsed(Err(REASON.into()))),
        (Station::Plan, |_| Message::CarriedOut(Box::new(Err(REASON.into())))),
    ];
    let of_journal = failures_of_journal(REASON).into_iter();
    let mut failures: Vec<_> =
        failures.into_iter().map(|(station, failure)| (station, failure(0))).collect();
    failures.extend(of_journal.map(|failure| (Station::Journal, failure)));
    for (station, failure) in failures {
        let (name, carried_out) =
            (format!("{failure:?}"), matches!(failure, Message::CarriedOut(_)));
        let mut stage = Stage::with_a_plan();
        stage.model.station = station;
        if let Message::Rehearsed(_) | Message::CarriedOut(_) = failure {
            stage.model.run.stage = RunStage::Running(Figures::default(), None);
        }
        let plan = stage.model.draft.clone();
        let jobs = stage.send(failure);
        let notice = stage.model.notice.clone().unwrap_or_else(|| panic!("{name}"));
        assert!(notice.text.contains(REASON), "{name}: {}", notice.text);
        assert_eq!(notice.tone, Tone::Trouble, "{}", notice.text);
        assert_eq!(stage.model.draft.planned().len(), plan.planned().len(), "{}", notice.text);
        assert!(!stage.model.run.is_active(), "{}", notice.text);
        // of a run that broke off it is not known here how far it came
        let anew = jobs.iter().any(|job| matches!(job, Job::Scan(..)));
        assert_eq!(anew, carried_out, "{}", notice.text);
        assert!(anew || stage.model.scan.catalog.is_some(), "{}", notice.text);
        assert!(stage.model.overlay.is_none() && !stage.model.quitting);
        for size in SIZES {
            let (buffer, _) = stage.drawn(size, &theme);
            let screen = text(&buffer);
            assert!(reads(&screen, &notice.text), "{}\n{size:?}\n{screen}", notice.text);
        }
    }
}

#[test]
fn while_a_run_goes_on_nothing_more_is_planned_and_leaving_is_asked_about() {
    // what plans or changes a plan, and where
    let ways: [&[Key]; 4] = [
        &[Key::Char('2'), Key::Down, Key::Char(' ')],
        &[Key::Char('6'), Key::Enter, Key::Char(' ')],
        &[Key::Char('3'), Key::Char('A')],
        &[Key::Char('2'), Key::Char('l'), Key::Char('A')],
    ];
    for way in ways {
        let mut stage = Stage::with_a_plan();
        let (last, before) = way.split_last().unwrap();
        stage.look(before);
        stage.model.run.stage = RunStage::Running(Figures::default(), None);
        stage.model.notice = None;
        let jobs = stage.keys(&[*last]);
        assert!(stage.notice().contains("A run is going on"), "{way:?}: {}", stage.notice());
        assert!(jobs.is_empty() && stage.model.overlay.is_none(), "{way:?}: {jobs:?}");
        assert_eq!(stage.model.draft.planned().len(), 1, "{way:?}");
    }
    let mut stage = Stage::with_a_plan();
    stage.model.run.stage = RunStage::Running(Figures::default(), None);
    stage.model.station = Station::Plan;
    let may_not = ["carry out", "rehearse", "take off", "change"];
    assert!(available(&stage.model).all(|row| !may_not.contains(&row.name)));
    assert!(stage.keys(&[Key::Char('q')]).is_empty() && !stage.model.quitting);
    let Some(Overlay::Ask { sentence, .. }) = &stage.model.overlay else { panic!("nothing asked") };
    assert!(sentence.contains("stopped at its next safe point"), "{sentence}");
    stage.send(Message::Paste("quit".into()));
    let jobs = stage.keys(&[Key::Enter]);
    assert!(matches!(&jobs[..], [Job::StopRun]) && stage.model.quitting, "{jobs:?}");
}

#[test]
fn what_cannot_be_begun_yet_says_what_to_wait_for() {
    // targets that have not been looked at
    let mut stage = Stage::new();
    stage.keys(&[Key::Char(' '), Key::Char('s'), Key::Char('8'), Key::Char('R')]);
    assert!(stage.notice().contains("as soon as all targets"), "{}", stage.notice());
    let path = stage.model.scan.roots[0].join("tide");
    let outcome = Box::new(fondaco_core::plan::survey(&path));
    let jobs = stage.send(Message::Surveyed { path, outcome });
    assert!(jobs.iter().any(|job| matches!(job, Job::Rehearse(..))), "then it begins: {jobs:?}");
    // a scan that runs
    let mut stage = Stage::new();
    stage.look(&[Key::Char('l')]);
    stage.model.scan.running = true;
    stage.keys(&[Key::Char('A')]);
    assert!(stage.notice().contains("The scan is still running"), "{}", stage.notice());
    // a directory has no inside to be looked into
    let mut stage = Stage::new();
    assert!(stage.keys(&[Key::Char('v')]).is_empty());
    assert_eq!(stage.notice(), "Only files are looked into; this is a directory");
    // a saved scan does not keep what only a close look tells
    let mut stage = Stage::new();
    stage.model.scan.saved = true;
    stage.keys(&[Key::Char('/')]);
    stage.send(Message::Paste("is:immutable".into()));
    stage.keys(&[Key::Enter]);
    assert!(stage.notice().contains("F5 scans it anew"), "{}", stage.notice());
    // a setting that is no boundary leaves the usual ones
    let mut stage = Stage::new();
    stage.model.state.settings.age_classes = vec!["tide".into()];
    stage.look(&[Key::Char('3')]);
    assert!(stage.notice().contains("cannot be used") && stage.notice().contains("tide"));
    assert!(stage.model.list_length() > 0, "the matrix is there all the same");
}

#[test]
fn a_held_file_that_is_free_by_now_is_not_planned() {
    let mut stage = Stage::new();
    stage.keys(&[Key::Char('6'), Key::Enter, Key::Char(' ')]);
    assert!(matches!(stage.model.overlay, Some(Overlay::ChooseDeed { held: Some(_), .. })));
    stage.model.held.files.clear();
    let jobs = stage.keys(&[Key::Enter]);
    assert!(jobs.is_empty() && stage.model.draft.is_empty(), "{jobs:?}");
    assert!(stage.notice().contains("no longer held"), "{}", stage.notice());
    // planned once, it is taken off by the same key
    let mut stage = Stage::new();
    stage.keys(&[Key::Char('6'), Key::Enter, Key::Char(' '), Key::Enter]);
    assert_eq!(stage.model.draft.planned()[0].deed, Deed::End { by_force: false });
    stage.keys(&[Key::Home, Key::Char(' ')]);
    assert!(stage.model.draft.is_empty() && stage.notice().contains("Taken off the plan"));
}
