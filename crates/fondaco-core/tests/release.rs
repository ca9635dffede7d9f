//! Letting go of deleted files, on real processes: what is freed, and who is left alone.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::cell::Cell;
use std::fs::File;
use std::io::Write;
use std::ops::ControlFlow;
use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use common::{Place, planned};
use fondaco_core::carry_out::{
    EntryState, Journal, RunSummary, carry_out, finish, rehearse, settle,
};
use fondaco_core::kernel::{DeletedFile, DeletedFiles, OpenFiles, Process};
use fondaco_core::plan::{Deed, Draft, Plan, Planned, Review, survey_held, survey_with_open};
use fondaco_core::units::{Bytes, Time};

/// Processes that are ended with the test.
struct Processes(Vec<Child>);

impl Processes {
    /// One that has the file open for writing.
    fn hold(&mut self, file: &File) -> u32 {
        let file = file.try_clone().unwrap();
        let child = Command::new("sleep").arg("600").stdout(file).spawn().unwrap();
        let pid = child.id();
        self.0.push(child);
        pid
    }
}

impl Drop for Processes {
    fn drop(&mut self) {
        for child in &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

fn log(place: &Place, name: &str, length: usize) -> (PathBuf, File) {
    let path = place.root.join(name);
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    let mut file = File::create(&path).unwrap();
    file.write_all(&vec![7; length]).unwrap();
    file.sync_all().unwrap();
    (path, file)
}

fn held(path: &Path) -> Option<(DeletedFile, DeletedFiles)> {
    let all = DeletedFiles::collect(Time::now());
    all.files.iter().find(|file| file.path == path).cloned().map(|file| (file, all))
}

/// A plan of these deeds with held files, in this order.
fn plan(place: &Place, deeds: &[(&Path, Deed)]) -> Plan {
    let mut draft = Draft::default();
    for (path, deed) in deeds {
        let (file, all) = held(path).unwrap();
        let survey = survey_held(&file, &all);
        let path = survey.target.path.0.clone();
        let review = Review::Ready(Box::new(survey));
        draft.put(Planned { review, ..planned(&path, deed.clone(), &place.root) });
    }
    let plan = draft.to_plan(Vec::new(), Time::now()).unwrap();
    // a plan is a document: what comes back from it is what was put in
    assert_eq!(Plan::parse(&serde_json::to_string(&plan).unwrap()).unwrap(), plan);
    plan
}

fn carried_out(place: &Place, plan: &Plan) -> RunSummary {
    carry_out(plan, &place.state, &Time::now, &|_| ControlFlow::Continue(())).unwrap()
}

const TERM: Deed = Deed::End { by_force: false };
const SIZE: u64 = 300_000;

fn allocated() -> Bytes {
    Bytes::new(SIZE.next_multiple_of(4096))
}

#[test]
fn processes_are_asked_to_end_and_what_they_held_is_free_and_measured() {
    let place = Place::new();
    let mut processes = Processes(Vec::new());
    let (first, file) = log(&place, "gauge.log", SIZE as usize);
    let (second, other) = log(&place, "buoy.log", SIZE as usize);
    processes.hold(&file);
    // one that holds both
    let both = Command::new("sleep")
        .arg("600")
        .stdout(file.try_clone().unwrap())
        .stderr(other.try_clone().unwrap())
        .spawn()
        .unwrap();
    processes.0.push(both);
    drop((file, other));
    std::fs::remove_file(&first).unwrap();
    std::fs::remove_file(&second).unwrap();
    assert_eq!(held(&first).unwrap().0.holds.len(), 2);

    let plan = plan(&place, &[(&first, TERM), (&second, TERM)]);
    // the first action ends both processes, and so frees both files; the second has nothing left to do
    assert_eq!(plan.actions[0].frees.now, allocated() + allocated());
    assert_eq!(plan.actions[1].frees.now, Bytes::ZERO);
    let rehearsal =
        rehearse(&plan, &place.state, Time::now(), &|_| ControlFlow::Continue(())).unwrap();
    assert_eq!((rehearsal.refused(), rehearsal.frees.now), (0, plan.frees().now));
    assert!(held(&first).is_some(), "a rehearsal ends nobody");

    let summary = carried_out(&place, &plan);
    let states: Vec<_> = summary.entries.iter().map(|entry| entry.state).collect();
    assert_eq!(states, [EntryState::Ended, EntryState::Ended]);
    assert_eq!(summary.freed, plan.frees().now);
    assert_eq!(summary.measured, Some(summary.freed.get() as i64), "{:?}", summary.reasons);
    assert!(held(&first).is_none() && held(&second).is_none());
    for child in &mut processes.0 {
        assert_eq!(child.wait().unwrap().signal(), Some(15));
    }
}

#[test]
fn a_process_that_does_not_end_is_told_of_and_ends_by_force_only_when_that_is_planned() {
    let place = Place::new();
    let mut processes = Processes(Vec::new());
    let (path, file) = log(&place, "gauge.log", SIZE as usize);
    let deaf = "trap '' TERM; echo deaf >&2; exec sleep 600";
    let mut child = Command::new("sh")
        .args(["-c", deaf])
        .stdout(file.try_clone().unwrap())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut said = [0; 5];
    std::io::Read::read_exact(child.stderr.as_mut().unwrap(), &mut said).unwrap();
    let pid = child.id();
    processes.0.push(child);
    drop(file);
    std::fs::remove_file(&path).unwrap();

    let summary = carried_out(&place, &plan(&place, &[(&path, TERM)]));
    let entry = &summary.entries[0];
    assert_eq!((entry.state, summary.freed), (EntryState::Failed, Bytes::ZERO));
    assert!(entry.message.contains("still there") && entry.message.contains(&format!("pid {pid}")));
    assert!(processes.0[0].try_wait().unwrap().is_none() && held(&path).is_some());

    let summary = carried_out(&place, &plan(&place, &[(&path, Deed::End { by_force: true })]));
    assert_eq!((summary.entries[0].state, summary.freed), (EntryState::Ended, allocated()));
    assert_eq!(processes.0[0].wait().unwrap().signal(), Some(9));
    assert!(held(&path).is_none());
}

#[test]
fn a_held_file_is_cut_or_saved_and_cut_and_its_process_goes_on() {
    let place = Place::new();
    let mut processes = Processes(Vec::new());
    let (cut, file) = log(&place, "cut.log", SIZE as usize);
    processes.hold(&file);
    let (saved, file) = log(&place, "saved.log", SIZE as usize);
    processes.hold(&file);
    drop(file);
    std::fs::remove_file(&cut).unwrap();
    std::fs::remove_file(&saved).unwrap();
    let to = place.root.parent().unwrap().join("kept.log");
    let save = Deed::Save { to: to.clone(), same_volume: false };
    let plan = plan(&place, &[(&cut, Deed::Cut), (&saved, save)]);
    let summary = carried_out(&place, &plan);
    let states: Vec<_> = summary.entries.iter().map(|entry| entry.state).collect();
    assert_eq!(states, [EntryState::Cut, EntryState::Saved], "{:?}", summary.entries);
    assert_eq!(summary.freed, allocated() + allocated());
    assert_eq!(summary.measured, Some(summary.freed.get() as i64));
    assert_eq!(std::fs::read(&to).unwrap(), vec![7; SIZE as usize]);
    for path in [&cut, &saved] {
        assert_eq!(held(path).unwrap().0.allocated, Some(Bytes::ZERO), "held still, and empty");
    }
    for child in &mut processes.0 {
        assert!(child.try_wait().unwrap().is_none(), "nobody was ended");
    }
}

#[test]
fn whoever_is_not_what_was_reviewed_is_left_alone() {
    let place = Place::new();
    let mut processes = Processes(Vec::new());
    let (path, file) = log(&place, "gauge.log", SIZE as usize);
    let pid = processes.hold(&file);
    std::fs::remove_file(&path).unwrap();
    let good = plan(&place, &[(&path, TERM)]);
    let refused = |plan: &Plan| {
        let summary = carried_out(&place, plan);
        let entry = &summary.entries[0];
        assert_eq!(entry.state, EntryState::Refused, "{}", entry.message);
        entry.message.clone()
    };
    let changed = |change: &dyn Fn(&mut Vec<Process>)| {
        let mut action = good.actions[0].clone();
        change(&mut action.held.as_mut().unwrap().holders);
        Plan::new(vec![action], Vec::new(), Time::now()).unwrap()
    };
    // its number has passed to another process since
    let message = refused(&changed(&|holders| holders[0].started -= 1));
    assert!(message.contains(&format!("pid {pid}")), "{message}");
    // the first process; the one that runs this test
    let first = Process::look(1).unwrap();
    assert!(refused(&changed(&|holders| holders.push(first.clone()))).contains("never touched"));
    let ours = Process::look(std::process::id()).unwrap();
    assert!(refused(&changed(&|holders| holders.push(ours.clone()))).contains("this session"));
    // somebody else has opened it since
    let second = processes.hold(&file);
    let message = refused(&Plan::new(good.actions.clone(), Vec::new(), Time::now()).unwrap());
    assert!(message.contains(&format!("pid {second}")), "{message}");
    for child in &mut processes.0 {
        assert!(child.try_wait().unwrap().is_none(), "nobody was ended");
    }
    // it has been let go of meanwhile
    drop(file);
    processes.0.iter_mut().for_each(|child| {
        child.kill().unwrap();
        child.wait().unwrap();
    });
    assert!(refused(&good).contains("free already"));
}

#[test]
fn a_mapped_file_is_not_cut_and_one_that_is_written_to_all_the_time_is_not_lost() {
    let place = Place::new();
    let mut processes = Processes(Vec::new());
    // a program that runs is mapped
    let program = place.root.join("gauge");
    std::fs::copy("/bin/sleep", &program).unwrap();
    processes.0.push(Command::new(&program).arg("600").spawn().unwrap());
    // one that writes without end, to a file that is not saved before it has had its turn again
    let busy = place.root.join("busy.log");
    std::fs::write(&busy, vec![b'g'; 32 << 20]).unwrap();
    let file = File::options().append(true).open(&busy).unwrap();
    let child = Command::new("sh")
        .args(["-c", "while :; do echo gauge; done"])
        .stdout(file)
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    processes.0.push(child);
    std::fs::remove_file(&program).unwrap();
    std::fs::remove_file(&busy).unwrap();
    let tries = Cell::new(0);
    while held(&program).is_none_or(|(file, _)| !file.holds[0].mapped) && tries.get() < 100 {
        tries.set(tries.get() + 1); // until the child runs the program
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    let to = place.root.parent().unwrap().join("kept.log");
    let save = Deed::Save { to: to.clone(), same_volume: false };
    let summary = carried_out(&place, &plan(&place, &[(&program, Deed::Cut), (&busy, save)]));
    let messages: Vec<_> = summary.entries.iter().map(|entry| entry.message.clone()).collect();
    assert!(messages[0].contains("mapped into memory"), "{messages:?}");
    assert!(messages[1].contains("written to all the time"), "{messages:?}");
    assert_eq!(summary.freed, Bytes::ZERO);
    assert!(!to.exists() && held(&busy).unwrap().0.size > 0);
}

#[test]
fn what_is_open_is_forecast_to_free_nothing_and_left_alone_until_it_is_closed() {
    let place = Place::new();
    let mut processes = Processes(Vec::new());
    let (path, file) = log(&place, "tide/gauge.log.1", SIZE as usize);
    let pid = processes.hold(&file);
    drop(file);
    let tide = path.parent().unwrap();
    let planned = || {
        let mut draft = Draft::default();
        draft.put(planned(tide, Deed::Delete, &place.root));
        draft.reviewed(tide, survey_with_open(tide, &OpenFiles::collect(Time::now())));
        draft.to_plan(Vec::new(), Time::now()).unwrap()
    };
    let plan = planned();
    assert_eq!(plan.frees().now, Bytes::ZERO);
    let note = &plan.actions[0].notes[0];
    assert!(
        note.contains("gauge.log.1 is open by sleep") && note.contains(&pid.to_string()),
        "{note}"
    );
    let summary = carried_out(&place, &plan);
    assert_eq!(summary.entries[0].state, EntryState::Refused, "{}", summary.entries[0].message);
    drop(processes);
    let plan = planned();
    assert!(plan.frees().now >= allocated() && plan.actions[0].notes.is_empty());
    assert_eq!(carried_out(&place, &plan).freed, plan.frees().now);
}

#[test]
fn a_release_that_was_cut_off_is_settled_by_what_is_still_held() {
    let place = Place::new();
    let mut processes = Processes(Vec::new());
    let (path, file) = log(&place, "gauge.log", SIZE as usize);
    processes.hold(&file);
    drop(file);
    std::fs::remove_file(&path).unwrap();
    let cut_off = |plan: &Plan| {
        let mut journal = Journal::open(&place.state.journal_file()).unwrap();
        let run = journal.begin(plan, "token", Time::now()).unwrap();
        let mut entries = journal.entries(run).unwrap();
        entries[0].state = EntryState::Intended;
        journal.write(run, &entries).unwrap();
        drop(journal);
        let settled = settle(&place.state, Time::now()).unwrap();
        assert_eq!((settled[0].run, settled[0].failed), (run, 0));
        let journal = Journal::open(&place.state.journal_file()).unwrap();
        (run, journal.entries(run).unwrap()[0].state)
    };
    // nothing had been done: it can be finished
    let (run, state) = cut_off(&plan(&place, &[(&path, Deed::Cut)]));
    assert_eq!(state, EntryState::Waiting);
    let watch = |_: &_| ControlFlow::Continue(());
    let summary = finish(run, &place.state, &Time::now, &watch).unwrap();
    assert_eq!((summary.entries[0].state, summary.freed), (EntryState::Cut, allocated()));
    // it had been cut; its process had ended
    assert_eq!(cut_off(&plan(&place, &[(&path, Deed::Cut)])).1, EntryState::Cut);
    let last = plan(&place, &[(&path, TERM)]);
    drop(processes);
    assert_eq!(cut_off(&last).1, EntryState::Ended);
}

#[test]
fn a_copy_is_not_saved_where_others_could_swap_the_directory() {
    use std::os::unix::fs::PermissionsExt;
    let place = Place::new();
    let mut processes = Processes(Vec::new());
    let (path, file) = log(&place, "gauge.log", SIZE as usize);
    processes.hold(&file);
    drop(file);
    std::fs::remove_file(&path).unwrap();
    let open = place.root.parent().unwrap().join("open");
    std::fs::create_dir(&open).unwrap();
    std::fs::set_permissions(&open, PermissionsExt::from_mode(0o777)).unwrap();
    let to = open.join("kept.log");
    let save = || Deed::Save { to: to.clone(), same_volume: false };
    let summary = carried_out(&place, &plan(&place, &[(&path, save())]));
    let entry = &summary.entries[0];
    assert_eq!(entry.state, EntryState::Refused);
    assert!(entry.message.contains("others may write to"), "{}", entry.message);
    // what stands at the place already is never written over
    std::fs::set_permissions(&open, PermissionsExt::from_mode(0o700)).unwrap();
    std::fs::write(&to, "tide").unwrap();
    let summary = carried_out(&place, &plan(&place, &[(&path, save())]));
    assert_eq!(summary.entries[0].state, EntryState::Refused, "{}", summary.entries[0].message);
    assert_eq!(std::fs::read(&to).unwrap(), b"tide");
    assert_eq!(std::fs::read_dir(&open).unwrap().count(), 1, "nothing half written is left");
    assert_eq!(held(&path).unwrap().0.allocated, Some(allocated()), "held still, and whole");
}
