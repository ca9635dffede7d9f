//! The application on a real screen, through tmux.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use common::{Demo, FONDACO, Terminal, differences, picture};

#[test]
fn from_the_volumes_to_below_the_waterline_and_back() {
    let demo = Demo::new();
    let before = picture(&demo.root());
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.shows(&["FONDACO", "Volumes", "level 94.4 %", "still to find 41.0 MiB", "/seamark"]);
    terminal.keys(&["Enter"]).shows(&["hydrophone/", "model-runs/", "4 248 entries"]);

    // two levels in, and the oldest year is to be deleted
    terminal.keys(&["Enter"]).shows(&["north-basin/", "south-reef/"]);
    terminal.keys(&["Enter"]).shows(&["2035/", "2041/", "Unknown whether needed"]);
    terminal.keys(&["Space"]).shows(&["Do what with 2035?", "cannot be put back"]);
    terminal.keys(&["d"]).shows(&["D 2035/", "planned ▒ 6.9 MiB", "still to find 34.1 MiB"]);
    // out again: the selection is where it was; surveys are archived, cameras set aside
    terminal.keys(&["Left", "Left"]).shows(&["▸   1   hydrophone/"]);
    terminal.keys(&["Down", "Space"]).shows(&["Do what with surveys?"]);
    terminal.keys(&["a"]).shows(&["A surveys/", "enough is planned"]);
    terminal.keys(&["Down", "Space", "s"]).shows(&["S cameras/", "+ 26.2 MiB later"]);

    terminal.keys(&["8"]).shows(&["3 actions free 44.8 MiB now and 26.2 MiB once purged"]);
    terminal.keys(&["R"]).shows(&["Rehearsed: every action would be done"]);
    assert_eq!(differences(&before, &picture(&demo.root()), &[]), [] as [std::path::PathBuf; 0]);
    terminal.keys(&["C"]).shows(&["Type the number", "cannot be put back"]);
    terminal.keys(&["2", "Enter"]).shows(&["That is not 3. Nothing has been done"]);
    terminal.keys(&["BSpace", "3", "Enter"]).shows(&["Run 1 is done", "✓ archived"]);
    terminal.shows(&["level 78.7 %", "below the waterline"]);
    assert!(demo.level() < 0.8 && !demo.root().join("surveys").exists());

    terminal.keys(&["9"]).shows(&["1 archived, 1 deleted, 1 set aside"]);
    terminal.keys(&["Enter"]).shows(&["no  state", "hydrophone/north-basin/2035"]);
    // marks the second and third, and puts just those back
    terminal.keys(&["Down", "Space", "Space", "r"]).shows(&["2 put back, as they were"]);
    let gone = demo.root().join("hydrophone/north-basin/2035");
    let different = differences(&before, &picture(&demo.root()), std::slice::from_ref(&gone));
    assert_eq!(different, [gone.parent().unwrap()], "only what held the deleted year differs");
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}

/// One decision for a tree: its copies go, what is only in it stays, and all of it comes back.
#[test]
fn a_tree_that_is_contained_in_another_is_set_aside_by_its_copies_and_put_back() {
    let demo = Demo::new();
    let before = picture(&demo.root());
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.shows(&["level 94.4 %"]);
    terminal.keys(&["5"]).shows(&["Nothing has been scanned"]);
    terminal.keys(&["Enter"]).shows(&["could be equal", "Enter begins. Nothing is changed."]);
    terminal.keys(&["Enter"]).shows(&["61 sets of equal files", "15.9 MiB if one of each stays"]);
    terminal.shows(&["▸ field-kits/kit-b/", "100.0 %", "All of it is in field-kits/kit-b (old)"]);
    // what is only in the tree is seen before anything is planned
    terminal.keys(&["Down", "Down", "Enter"]);
    terminal
        .shows(&["5 files of field-kits/kit-b/ not in field-kits/kit-a/", "differs, newer here"]);
    terminal.keys(&["Escape"]).shows(&["held there", "Not there: 5 files"]);
    terminal.keys(&["Space"]).shows(&["Do what with all 56 files"]);
    terminal.keys(&["s"]).shows(&["Planned: set aside 56 copies"]);
    // what is to stay beside them is not planned in its turn
    terminal
        .keys(&["End", "Up", "Space", "s"])
        .shows(&["what was to stay beside them is planned itself"]);
    // the order of preference says which copy of a set stays
    terminal.keys(&["="]).shows(&["● stays", "shortest path"]);
    terminal.keys(&["K"]).shows(&["(chosen by hand)"]);
    terminal.keys(&["k"]).shows(&["Which copies stay"]);
    terminal.type_text("*(old) newest");
    terminal
        .keys(&["Enter"])
        .shows(&["keep  1 *(old)  2 newest", "field-kits/kit-b (old)/manuals"]);
    terminal.keys(&["8"]).shows(&["56 actions", "equal to"]);
    terminal.keys(&["C"]).shows(&["Type the number"]);
    terminal.keys(&["5", "6", "Enter"]).shows(&["Run 1 is done"]);
    assert!(!demo.root().join("field-kits/kit-b/manuals/sheet-000.pdf").exists());
    assert!(demo.root().join("field-kits/kit-b/manuals/sheet-059.pdf").exists());
    terminal.keys(&["9"]).shows(&["56 set aside"]);
    terminal.keys(&["B"]).shows(&["put back"]);
    terminal.shows(&["56 put back"]);
    assert_eq!(differences(&before, &picture(&demo.root()), &[]), [] as [std::path::PathBuf; 0]);
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}

/// What is wholly contained goes with its directories, and copies of a set become one file.
#[test]
fn directories_that_a_plan_empties_go_with_it_and_copies_are_linked_and_all_comes_back() {
    let demo = Demo::new();
    let before = picture(&demo.root());
    let terminal = Terminal::on_demo(&demo, 120, 36);
    terminal.shows(&["level 94.4 %"]);
    terminal.keys(&["5"]).shows(&["Nothing has been scanned"]);
    terminal.keys(&["Enter"]).shows(&["Enter begins"]);
    terminal.keys(&["Enter"]).shows(&["61 sets of equal files", "▸ field-kits/kit-b/"]);
    // what is found says so wherever the file is looked at, and can be had as a file
    terminal.keys(&["2"]).shows(&["field-kits/"]);
    for (name, inside) in [("field-kits", "kit-a/"), ("kit-a", "manuals/"), ("manuals", "sheet-")] {
        terminal.keys(&["f"]).shows(&["find a name"]);
        terminal.type_text(name);
        terminal.keys(&["Enter", "Enter"]).shows(&[inside]);
    }
    terminal.shows(&["2 equal copies"]);
    let chart = demo.root().with_file_name("twice.svg");
    terminal.keys(&["5", "e"]).shows(&["Write what is shown"]);
    terminal.type_text(chart.to_str().unwrap());
    terminal.keys(&["Enter"]).shows(&["Written: "]);
    assert!(std::fs::read_to_string(&chart).unwrap().contains("Which trees are contained"));
    std::fs::remove_file(&chart).unwrap();
    terminal.keys(&["Space"]).shows(&["Do what with all 61 files", "one file under both names"]);
    terminal.keys(&["s"]).shows(&["Planned: set aside 61 copies"]);
    terminal.keys(&["8"]).shows(&["61 actions"]);
    terminal.keys(&["E"]).shows(&["emptied directories, each to go when it is empty"]);
    terminal.keys(&["R"]).shows(&["every action would be done"]);
    terminal.keys(&["C"]).shows(&["Type the number", "All of it can be put back"]);
    let count = terminal.screen().lines().find_map(|line| {
        let (before, _) = line.split_once(" actions:")?;
        before.rsplit(|c: char| !c.is_ascii_digit()).next().map(str::to_owned)
    });
    let count = count.unwrap();
    terminal.type_text(&count);
    terminal.keys(&["Enter"]).shows(&["Run 1 is done"]);
    assert!(!demo.root().join("field-kits/kit-b").exists());
    terminal.keys(&["9"]).shows(&[&format!("{count} set aside")]);
    terminal.keys(&["B"]).shows(&[&format!("{count} put back")]);
    assert_eq!(differences(&before, &picture(&demo.root()), &[]), [] as [std::path::PathBuf; 0]);
    // it has been looked for again, without being read
    terminal.keys(&["5"]).shows(&["▸ field-kits/kit-b/", "61 sets of equal files"]);
    terminal.keys(&["Space", "l"]).shows(&["Planned: link 61 copies"]);
    terminal.keys(&["8"]).shows(&["61 actions"]);
    terminal.keys(&["C"]).shows(&["Type the number"]);
    terminal.keys(&["6", "1", "Enter"]).shows(&["Run 2 is done"]);
    let inode = |path: &str| demo.root().join(path).metadata().unwrap().ino();
    let sheet = |kit: &str| inode(&format!("field-kits/{kit}/manuals/sheet-000.pdf"));
    assert_eq!(sheet("kit-b"), sheet("kit-b (old)"));
    // linked files are one copy, and the sets say what was done
    terminal.keys(&["5"]).shows(&["run 2: 61 copies linked"]);
    terminal.keys(&["9"]).shows(&["61 linked"]);
    terminal.keys(&["B"]).shows(&["61 put back"]);
    assert_eq!(differences(&before, &picture(&demo.root()), &[]), [] as [std::path::PathBuf; 0]);
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}

#[test]
fn a_rule_is_written_mended_tried_on_the_past_planned_and_carried_out() {
    let demo = Demo::with_kept_scans();
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.shows(&["level 94.4 %"]);
    terminal.keys(&["7"]).shows(&["Nothing has been scanned"]);
    terminal.keys(&["1", "Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    terminal.keys(&["7"]).shows(&["There is no such file yet", "N begins a rule"]);
    terminal.keys(&["N"]).shows(&["text of the rule file, not saved", "older = \"30d\""]);
    // the cursor is on the title; a word that is not one is marked while it is typed
    terminal.keys(&["Up", "Home"]);
    terminal.type_text("# pruned at night");
    terminal.keys(&["Enter"]).shows(&["1 # pruned at night", "2 [[rule]]"]);
    terminal.keys(&["Down", "Home"]);
    terminal.type_text("keeep = 4");
    terminal.keys(&["Enter"]).shows(&["! line 3, column 1", "did you mean `keep`?"]);
    terminal.keys(&["C-s"]).shows(&["Not saved: line 3"]);
    terminal.keys(&["Up", "Right", "Right", "Delete"]).shows(&["keep = 4"]);
    terminal.wait("the mistake to go", |screen| !screen.contains("did you mean"));
    terminal.keys(&["C-s"]).shows(&["Saved", "new rule", "set aside", "generations"]);
    let file = std::fs::read_to_string(demo.at.join("state/rules.toml")).unwrap();
    assert!(file.starts_with("# pruned at night\n[[rule]]\nkeep = 4\n"), "{file}");
    terminal.keys(&["H"]).shows(&["The waterline would", "of 60 days", "▒ what the rules take"]);
    terminal.keys(&["Escape"]).shows(&["generation 13 of 13"]);
    let screen = terminal.keys(&["A"]).shows(&["Planned: by the rules"]);
    let count = screen.split("by the rules ").nth(1).and_then(|rest| rest.split(' ').next());
    let count = count.unwrap().to_owned();
    terminal.keys(&["8"]).shows(&[&format!("{count} actions free 0 B now"), "rule: new rule"]);
    terminal.keys(&["C"]).shows(&["Type the number"]);
    terminal.type_text(&count).keys(&["Enter"]).shows(&["Run 1 is done"]);
    terminal.keys(&["9"]).shows(&[&format!("{count} set aside")]);
    // what is left is what the rule keeps, and it knows when it last did something
    let left = std::fs::read_dir(demo.root().join("telemetry/buoy-01")).unwrap().count();
    assert!((4..13).contains(&left), "{left} are left");
    terminal.keys(&["7"]).shows(&["new rule", "last run", "run 1,"]);
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}

#[test]
fn it_can_be_used_at_80_by_24_and_says_what_it_needs_below_that() {
    let demo = Demo::new();
    let terminal = Terminal::on_demo(&demo, 80, 24);
    terminal.shows(&["still to find 41.0 MiB", "▸1 Volumes", "8 Plan"]);
    let screen = terminal.keys(&["Enter"]).shows(&["hydrophone/", "tail: 3 more", "4 248 entries"]);
    assert!(screen.lines().all(|line| line.chars().count() <= 80));
    terminal.keys(&["End", "Enter"]).shows(&["incoming/", "home/"]);
    terminal.resize(40, 10).shows(&["This terminal is 40 × 10.", "72 × 20"]);
    terminal.resize(144, 36).shows(&["EVIDENCE", "ROUTE", "home/"]);
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}

#[test]
fn names_paths_units_waterline_and_ancestors() {
    let demo = Demo::new();
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.shows(&["level 94.4 %"]);
    terminal.keys(&["w"]).shows(&["should be below, in percent"]);
    terminal.keys(&["x", "Enter"]).shows(&["not a level in percent"]);
    terminal.keys(&["BSpace", "9", "5", "Enter"]).shows(&["waterline 95 %", "below the waterline"]);
    terminal.keys(&["p"]).shows(&["Scan this directory"]);
    terminal.type_text("/no/such/place").keys(&["Enter"]).shows(&["there is no /no/such/place"]);
    terminal.keys(&["p"]).shows(&["Scan this directory"]);
    terminal.type_text(&demo.path("")).keys(&["Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    // names that would drive the terminal are shown, not obeyed
    terminal.keys(&["f"]).shows(&["find a name"]);
    terminal.type_text("inc").keys(&["Enter"]).shows(&["▸  10   incoming/"]);
    terminal.keys(&["Enter"]).shows(&[
        "core.2464",
        "\\x1b[31mred\\x1b[0m.log",
        "chart\\u{202e}gpj.sh",
    ]);
    terminal.keys(&["u", "u"]).shows(&["5 152 768 B"]);
    terminal.keys(&["o", "o", "o", "o"]).shows(&["name ↓"]);
    terminal.keys(&["Tab", "Enter"]).shows(&["Directories", "hydrophone/"]);
    terminal.keys(&["C-p"]).shows(&["all commands"]);
    terminal.type_text("rehear").shows(&["No command here fits"]);
    terminal.keys(&["Escape"]).wait("the palette to go", |s| !s.contains("all commands:"));
    terminal.keys(&["?"]).shows(&["What works in Directories", "scan this directory anew"]);
    terminal.keys(&["Escape"]).wait("the help to go", |s| !s.contains("What works"));
    terminal.keys(&["0"]).shows(&["It rises by", "No earlier scan of this place is kept"]);
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
    let again = Terminal::on_demo(&demo, 160, 50);
    again.shows(&["waterline 95 %"]);
}

#[test]
fn one_directory_is_scanned_again_and_saved_scans_are_opened_and_forgotten() {
    let demo = Demo::new();
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.keys(&["s"]).shows(&["None yet: every scan that goes to its end here is saved"]);
    terminal.keys(&["Escape"]).wait("the list to go", |s| !s.contains("None yet"));
    terminal.keys(&["Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    terminal.keys(&["Enter"]).shows(&["▸ hydrophone", "north-basin/"]);
    // what came and went since is seen when this directory alone is looked at again
    std::fs::write(demo.root().join("hydrophone/new-sound.wav"), vec![1; 3 << 20]).unwrap();
    std::fs::remove_dir_all(demo.root().join("chart-tiles")).unwrap();
    terminal.keys(&["F5"]).shows(&["Scanned again", "new-sound.wav", "4 249 entries"]);
    terminal.keys(&["Left"]).shows(&["▸   1   hydrophone/", "chart-tiles/"]);
    // all of it
    terminal.keys(&["F5"]).shows(&["hydrophone/", "Scanned 2 943 entries"]);
    terminal.wait("the tiles to go", |screen| !screen.contains("chart-tiles/"));

    // the first scan is still what it was; planning from it looks at what is there now
    terminal.keys(&["s"]).shows(&["saved scans: Enter opens", "4 248", "2 943"]);
    terminal.keys(&["Down", "Enter"]).shows(&["saved scan,", "chart-tiles/", "4 248 entries"]);
    terminal.keys(&["f"]).shows(&["find a name"]);
    terminal.type_text("chart-t").keys(&["Enter"]).shows(&["Gone: it is no longer there"]);
    // the list stands only when the scans in it have been looked for
    terminal.keys(&["s"]).shows(&["saved scans: Enter opens", "2 943"]);
    terminal.keys(&["Delete"]).shows(&["Delete once more forgets scan", "2 943"]);
    terminal
        .keys(&["Delete"])
        .wait("one to go", |s| s.contains("4 248  ") && !s.contains(" 2 943 "));
    terminal.keys(&["Escape"]).wait("the list to go", |s| !s.contains("Enter opens"));

    // roots used before are offered, and several can be scanned together
    let root = demo.root().to_str().unwrap().to_owned();
    // the header names it too, behind fewer spaces than an offer
    terminal.keys(&["p"]).shows(&["Scan this directory", &format!("      {root}  ")]);
    terminal.keys(&["Down", "Enter"]).shows(&["Scanned 2 943 entries"]);
    terminal.keys(&["p"]).shows(&["Scan this directory"]);
    terminal.type_text(&format!("{}:{}", demo.path("hydrophone"), demo.path("backups")));
    terminal.keys(&["Enter"]).shows(&["2 places", "…/backups/", "…/hydrophone/"]);
    terminal.shows(&["level 91.5 %"]);
    terminal.keys(&["Enter"]).shows(&["north-basin/", "new-sound.wav"]);
    terminal.keys(&["Left"]).shows(&["2 places"]);
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}

#[test]
fn planning_inside_and_around_what_is_planned_is_resolved_and_leaving_asks() {
    let demo = Demo::new();
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.keys(&["Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    terminal.keys(&["Enter"]).shows(&["north-basin/"]);
    terminal.keys(&["Space", "d"]).shows(&["D north-basin/"]);
    terminal.keys(&["Left", "Space"]).shows(&["Do what with hydrophone?"]);
    terminal.keys(&["s"]).shows(&["1 planned before below it are taken in"]);
    terminal.keys(&["Up", "Enter", "Space"]).shows(&["Goes already with", "take that off"]);
    terminal.keys(&["Left", "Space"]).shows(&["Taken off the plan: hydrophone"]);
    terminal.keys(&["Space", "d"]).shows(&["D hydrophone/"]);
    // a process that works in it is found by the rehearsal
    let work = demo.root().join("hydrophone/south-reef");
    let mut sleeper =
        std::process::Command::new("sleep").arg("60").current_dir(&work).spawn().unwrap();
    terminal.keys(&["8", "R"]).shows(&["1 would be refused", "in use by pid"]);
    sleeper.kill().unwrap();
    sleeper.wait().unwrap();
    terminal.keys(&["q"]).shows(&["1 planned action not carried out will be forgotten"]);
    terminal.keys(&["Escape"]).wait("the dialog to go", |s| !s.contains("will be forgotten"));
    terminal.keys(&["q"]).shows(&["Type quit"]);
    terminal.type_text("quit").keys(&["Enter"]).shows(&["ENDED 0"]);
    assert!(work.exists());
}

#[test]
fn the_mouse_selects_goes_in_and_runs_what_is_hinted() {
    let demo = Demo::new();
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.keys(&["Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    // SGR mouse reports: button, column, row; the third entry stands in row 8
    let click = |column: u16, row: u16| {
        terminal.type_text(&format!("\x1b[<0;{column};{row}M\x1b[<0;{column};{row}m"));
    };
    click(40, 8);
    terminal.shows(&["▸   3   model-runs/"]);
    click(40, 9);
    click(40, 9);
    terminal.shows(&["▸ cameras", "jetty/", "lighthouse/"]);
    click(5, 7);
    let screen = terminal.shows(&["mounted at", "u units"]);
    let hints = screen.trim_end().lines().last().unwrap();
    let units = hints.chars().count() - hints.split("u units").nth(1).unwrap().chars().count() - 3;
    click(units as u16, 50);
    terminal.shows(&["281.2 MB"]);
}

#[test]
fn a_panic_leaves_a_terminal_that_can_be_used() {
    let demo = Demo::new();
    let (at, log) = (demo.at.display(), demo.at.join("strace.log"));
    // a system without random numbers is beyond what the standard library can bear
    let command = format!(
        "RUST_BACKTRACE=0 LANG=C.UTF-8 strace -f -o {} -e inject=getrandom:error=EIO:when=1 \
         {FONDACO} demo --at {at}",
        log.display()
    );
    let terminal = Terminal::run(120, 36, &command);
    let screen = terminal.wait("the end", |screen| screen.contains("ENDED"));
    assert!(screen.contains("random data") && !screen.contains("1 Volumes"), "{screen}");
}

#[test]
fn what_was_cut_off_is_announced_finished_and_purged_on_screen() {
    let demo = Demo::new();
    let plan = demo.at.join("plan.json").to_str().unwrap().to_owned();
    let targets = ["chart-tiles/6", "chart-tiles/7", "backups/weekly-4"].map(|t| demo.path(t));
    let mut arguments = vec!["plan", "-o", &plan];
    targets.iter().for_each(|target| arguments.extend(["--set-aside", target]));
    demo.fondaco(&arguments).ok();
    // killed as it takes the second target
    let status = std::process::Command::new("strace")
        .args(["-f", "-qq", "-o", "/dev/null", "-e", "trace=renameat2"])
        .args(["-e", "inject=renameat2:signal=SIGKILL:when=3", FONDACO, "carry-out", &plan])
        .env("FONDACO_STATE", demo.at.join("state"))
        .stdout(std::process::Stdio::null())
        .status()
        .unwrap();
    assert!(!status.success());
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.shows(&["Run 1 had been cut off: 1 finished", "2 given their place back"]);
    terminal.keys(&["9"]).shows(&["cut off", "1 set aside", "2 not begun"]);
    terminal.keys(&["F"]).shows(&["Run 2 is done", "2 can be put back"]);
    assert!(targets.iter().all(|target| !std::path::Path::new(target).exists()));
    terminal.keys(&["9"]).shows(&["newest first", "2 set aside"]);
    terminal.keys(&["P"]).shows(&["Type their number to purge them", "removed for good"]);
    terminal.keys(&["9", "Enter"]).shows(&["That is not 2. Nothing has been done"]);
    terminal.keys(&["BSpace", "2", "Enter"]).shows(&["2 purged"]);
    terminal.keys(&["Down", "B"]).shows(&["1 put back, as it was"]);
    assert!(std::path::Path::new(&targets[0]).exists());
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}

#[test]
fn without_colour_or_unicode_the_same_things_are_said() {
    let demo = Demo::new();
    let at = demo.at.display();
    let terminal = Terminal::run(100, 30, &format!("NO_COLOR=1 LANG=C {FONDACO} demo --at {at}"));
    terminal.shows(&["level", "still to find 41.0 MiB", ">1 Volumes"]);
    let screen = terminal.keys(&["Enter"]).shows(&["hydrophone/", "####", "4 248 entries"]);
    assert!(screen.is_ascii(), "{screen}");
    terminal.keys(&["Space", "d"]).shows(&["D hydrophone/", "////", "enough is planned"]);
    terminal.keys(&["q"]).shows(&["Type quit"]);
}

#[test]
fn a_group_of_leftovers_is_planned_by_its_number_carried_out_and_put_back() {
    let demo = Demo::new();
    // only root can lay out what belongs to no account
    let leftovers = if common::is_root() { 53 } else { 52 };
    let all = format!("{leftovers} leftovers");
    let before = picture(&demo.root());
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.shows(&["level 94.4 %"]);
    terminal.keys(&["Enter"]).shows(&["4 248 entries"]);
    terminal.keys(&["6"]).shows(&[
        "rotated logs",
        "crash dumps",
        "bins that still hold space",
        &all,
    ]);
    let down = if common::is_root() { &["Down"; 5][..] } else { &["Down"; 4] };
    terminal.keys(down).shows(&[
        "▸  rotated logs",
        "newer ones are kept",
        "telemetry/buoy-01/telemetry.log.10",
    ]);
    terminal
        .keys(&["A"])
        .shows(&["Do what with 40 leftovers of the group rotated logs", "▸ s  set aside"]);
    terminal.keys(&["Enter"]).shows(&["Type 40:"]);
    terminal.keys(&["4", "Enter"]).shows(&["That is not 40"]);
    terminal.keys(&["0", "Enter"]).shows(&["Planned: set aside 40 entries, 2.7 MiB"]);
    terminal.keys(&["8", "R"]).shows(&["Rehearsed: every action would be done"]);
    terminal.keys(&["C"]).shows(&["Type the number"]);
    terminal.keys(&["4", "0", "Enter"]).shows(&["Run 1 is done"]);
    terminal.keys(&["6"]).shows(&[&format!("{} leftovers", leftovers - 40)]);
    terminal.keys(&["9", "B"]).shows(&["put back"]);
    terminal.wait("all to be back", |_| common::is_again(&before, &demo.root()));
    terminal.keys(&["6"]).shows(&[&all]);
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}

#[test]
fn a_process_that_holds_a_deleted_file_is_found_by_the_books_and_ended_by_the_plan() {
    let demo = Demo::new();
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.shows(&["level 94.4 %", "8.0 MiB are held by deleted files", "19 d"]);
    let sure = |root: &'static str, user: &'static str| if common::is_root() { root } else { user };
    terminal.keys(&["b"]).shows(&[
        "visible entries       4 248 entries",
        sure("deleted but open      1 file                       8 388 608   ▸", "at least"),
        sure("unexplained                                                0", "at most"),
    ]);
    terminal.keys(&["Tab", "Down", "Down"]).shows(&["▸  deleted but open"]);
    terminal.keys(&["Enter"]).shows(&["…/tide-logger.log", "In use: tide-logger (pid"]);
    terminal.keys(&["Space", "Enter"]).shows(&["Planned: end process", "▸E      8.0 MiB"]);
    terminal.keys(&["8", "R"]).shows(&["Rehearsed: every action would be done"]);
    terminal.keys(&["C"]).shows(&["asked", "None of it", "Type the number"]);
    // what is measured is what was foretold, to the byte
    terminal.keys(&["1", "Enter"]).shows(&["Run 1 is done", "✓ ended", "level 91.6 %"]);
    let screen = terminal.keys(&["u", "u"]).shows(&["8 388 608 B"]);
    let figure = |name: &str| {
        let line = screen.lines().find(|line| line.contains(name)).unwrap().split(name).nth(1);
        line.unwrap().split('B').next().unwrap().trim().to_owned()
    };
    assert_eq!(figure("│ measured on the volume"), "8 388 608", "{screen}");
    assert_eq!(figure("│ forecast"), figure("│ measured on the volume"));
    terminal.keys(&["1"]).wait("nothing to be held", |screen| {
        let line = screen.lines().find(|line| line.contains("deleted but open"));
        line.is_some_and(|line| line.split_whitespace().any(|word| word == "0"))
    });
    // other processes may hold others; this one is gone
    let home = demo.root().parent().unwrap().parent().unwrap().file_name().unwrap().to_owned();
    let home = home.to_str().unwrap();
    terminal.keys(&["6"]).shows(&["space held by deleted files"]);
    terminal.wait("its file to go", |screen| {
        let list = screen.lines().filter(|line| line.contains("tide-logger"));
        !list.map(str::to_owned).any(|line| line.contains(&format!("{home}/demo")))
    });
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}

#[test]
fn what_was_archived_is_restored_as_a_copy_into_a_directory_that_is_typed() {
    let demo = Demo::new();
    let notes = demo.path("field-kits");
    let plan = demo.at.join("plan.json").to_str().unwrap().to_owned();
    let before = picture(&demo.root().join("field-kits"));
    demo.fondaco(&["plan", "--archive", &notes, "-o", &plan]).ok();
    demo.fondaco(&["carry-out", &plan]).ok();
    let elsewhere = demo.at.join("elsewhere");
    std::fs::create_dir(&elsewhere).unwrap();
    let terminal = Terminal::on_demo(&demo, 120, 40);
    terminal.keys(&["9"]).shows(&["1 archived"]);
    terminal.keys(&["Enter"]).shows(&["archived", "field-kits"]);
    terminal.keys(&["W"]).shows(&["A copy of", "type which one"]);
    terminal.type_text("elsewhere");
    terminal.keys(&["Enter"]).shows(&["type the whole path of a directory"]);
    terminal.keys(&["C-u"]).type_text(elsewhere.to_str().unwrap());
    terminal.keys(&["Enter"]).shows(&["1 restored into", "the archive stays"]);
    let copy = picture(&elsewhere.join("field-kits"));
    let names = |all: &BTreeMap<PathBuf, common::Seen>, root: &Path| -> Vec<(PathBuf, String)> {
        let below = |path: &PathBuf| path.strip_prefix(root).unwrap().to_owned();
        all.iter().map(|(path, seen)| (below(path), seen.what.clone())).collect()
    };
    assert_eq!(names(&copy, &elsewhere), names(&before, &demo.root()));
    assert!(!Path::new(&notes).exists());
    // nothing is replaced
    terminal.keys(&["W"]).shows(&["A copy of"]);
    terminal.type_text(elsewhere.to_str().unwrap());
    terminal.keys(&["Enter"]).shows(&["0 restored into", "1 not"]);
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}
