//! The stations that look at a scan, on a real screen, through tmux.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use common::{Demo, Terminal, differences, picture};

#[test]
fn dead_weight_is_found_by_size_and_age_and_planned_as_one() {
    let demo = Demo::new();
    let before = picture(&demo.root());
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.keys(&["3"]).shows(&["Nothing has been scanned yet"]);
    terminal.keys(&["1", "Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    terminal.keys(&["3"]).shows(&["by when it was last written", "3 986 files in it", "260.2M"]);
    // a block of what is older than two years and larger than 64 KiB
    terminal.keys(&["Up", "Up", "Left"]).shows(&["155.0M", "▸ 21.1M", "by byte-years"]);
    terminal.keys(&["x", "Left", "Up", "Up"]).shows(&["< 1 MiB to < 256 MiB", "< 4 y to older"]);
    let screen = terminal.shows(&["survey-2038.raw", "files in it"]);
    let of_block = screen.lines().find(|line| line.contains("files in it")).unwrap();
    assert!(of_block.contains("75.1 MiB"), "{of_block}");
    // Escape alone: with another key right behind it, it would be that key with Alt
    terminal.keys(&["Escape"]).wait("one cell", |screen| !screen.contains(" to < 256"));
    terminal.keys(&["Enter"]).shows(&["lens  larger:16777216 smaller:268435456 older:"]);
    terminal.shows(&["1 of 4 248 entries · 20.0 MiB of 260.2 MiB"]);
    terminal.keys(&["A"]).shows(&["Do what with all 1 file of them?", "Nothing happens until"]);
    terminal.keys(&["a"]).shows(&["Planned: archive 1 file", "planned ▒ 20.0 MiB"]);
    terminal.keys(&["a"]).shows(&["Everything is shown again", "1 file in it"]);
    terminal.keys(&["End", "Right", "Right"]).shows(&["3 986 files in it"]);
    terminal.keys(&["t"]).shows(&["By when it was last read", "relatime"]);
    terminal.keys(&["t", "t"]).shows(&["By when it was made"]);
    terminal.wait("births to be known", |screen| !screen.contains("not known"));
    // one file of the list, and where it lies
    terminal.keys(&["t"]).wait("the list by that time", |screen| {
        screen.contains("By when it was last written") && !screen.contains("looking …")
    });
    terminal.keys(&["Tab", "Down", "Down"]).shows(&["Unknown whether needed"]);
    terminal.keys(&["Enter"]).shows(&["Directories", "▸ surveys", "survey-2037.raw"]);
    terminal.keys(&["8"]).shows(&["1 action frees", "by hand, lens"]);
    assert_eq!(differences(&before, &picture(&demo.root()), &[]), [] as [std::path::PathBuf; 0]);
}

#[test]
fn a_lens_is_typed_with_completion_and_narrows_every_station() {
    let demo = Demo::new();
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.keys(&["Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    terminal.keys(&["/"]).shows(&["kind:audio,video", "Tab completes"]);
    terminal.type_text("ki").keys(&["Tab"]).shows(&["lens  kind:▏", "disk-image"]);
    terminal
        .type_text("aud")
        .keys(&["Tab"])
        .shows(&["144 of 4 248 entries · 65.7 MiB of 260.2 MiB"]);
    terminal.type_text(" older:so").shows(&["! `so` is not an age such as"]);
    // what is wrong is not taken, and the last right one holds
    terminal.keys(&["Enter"]).shows(&["lens  kind:audio older:so▏"]);
    terminal.keys(&["BSpace", "BSpace"]).type_text("2y");
    terminal.keys(&["Enter"]).shows(&["lens  kind:audio older:2y ─ ", "of 4 248 entries"]);
    let screen = terminal.wait("one row", |screen| !screen.contains("surveys/"));
    assert!(screen.contains("hydrophone/"), "{screen}");
    terminal.keys(&["4"]).shows(&["broken down by", "▸kind", "audio", "1 of 1 slices"]);
    // only root can lay the demo out with owners
    let owner = if common::is_root() { "acoustics" } else { "100.0 % of 42.7 MiB" };
    terminal.keys(&["Right", "Right", "Right"]).shows(&["▸owner", owner]);
    terminal.keys(&["Left", "Left"]).shows(&["▸family", "north-basin-#.wav"]);
    terminal.keys(&["Down", "Enter"]).shows(&["family:south-reef-#.wav", "older:2y family:"]);
    terminal.keys(&["2", "l"]).shows(&["20 files below", "south-reef-2039-03-26.wav"]);
    // stepping back takes nothing away; the lens goes when that is asked for
    terminal.keys(&["Escape"]).shows(&["share", "lens  kind:audio"]);
    terminal.keys(&["/"]).type_text("x").shows(&["Tab completes"]);
    terminal.keys(&["Escape"]);
    terminal.wait("the lens as it was", |screen| {
        !screen.contains("Tab completes") && screen.contains("lens  kind:audio older:2y family:")
    });
    // a slow line may bring both at once
    terminal
        .keys(&["/", "y", "Escape", "a"])
        .wait("all", |screen| screen.contains("surveys/") && !screen.contains("── lens  "));
}

#[test]
fn the_map_shows_the_same_and_files_are_looked_into() {
    let demo = Demo::new();
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.keys(&["Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    // below the stairs, then alone
    terminal.keys(&["Down", "m"]).shows(&[
        "▸   2   surveys/",
        "half of it written",
        "north-basin/",
    ]);
    terminal.keys(&["m"]).shows(&["half of it written", "survey-2038.raw", "north-basin/"]);
    // the selection is the cascade's, and goes in and out
    terminal.keys(&["Enter"]).shows(&["▸ surveys", "survey-2040.raw", "11.0 MiB"]);
    terminal.keys(&["Left"]).shows(&["model-runs/", "half of it written"]);
    terminal.keys(&["m"]).shows(&["share", "▸   2   surveys/"]);
    terminal.keys(&["l", "o"]).shows(&["oldest first", "north-basin-2035-02-06.wav"]);
    terminal.keys(&["v"]).shows(&["any other key closes", "north-basin-2035-02-06.wav:"]);
    terminal.keys(&["Escape"]).wait("it to close", |screen| !screen.contains("any other key"));
    // what was mistyped is mended where it stands
    terminal.keys(&["/"]).type_text("et:log").keys(&["Home", "Right"]).type_text("x");
    terminal.shows(&["lens  ex▏t:log"]);
    terminal.keys(&["Enter"]).shows(&["14 files below"]);
    terminal.keys(&["v"]).shows(&[": text,", ";ok"]);
}

#[test]
fn what_is_shown_is_exported_and_copied() {
    let demo = Demo::new();
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.set_clipboard();
    terminal.keys(&["Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    let to = |name: &str| demo.at.join(name);
    let export = |name: &str| {
        terminal.keys(&["e"]).shows(&["Write what is shown as a new file"]);
        terminal.type_text(to(name).to_str().unwrap()).keys(&["Enter"]).shows(&["Written: "]);
        std::fs::read(to(name)).unwrap()
    };
    let table = String::from_utf8(export("cascade.csv")).unwrap();
    assert!(
        table.starts_with("allocated,share,apparent,") && table.lines().count() == 13,
        "{table}"
    );
    assert!(export("cascade.svg").starts_with(b"<?xml"));
    terminal.keys(&["m", "m"]).shows(&["half of it written"]);
    assert!(export("map.pdf").starts_with(b"%PDF"));
    terminal.keys(&["3"]).shows(&["3 986 files in it"]);
    let document: serde_json::Value = serde_json::from_slice(&export("ages.json")).unwrap();
    assert_eq!(document["whole"]["allocated"], 272_855_040);
    terminal.keys(&["e"]).shows(&["Write what is shown"]);
    terminal
        .type_text(to("ages.json").to_str().unwrap())
        .keys(&["Enter"])
        .shows(&["! cannot write"]);
    terminal.keys(&["4"]).shows(&["▸kind", "13 slices"]);
    terminal.keys(&["e"]).shows(&["Write what is shown"]);
    terminal.type_text("clipboard").keys(&["Enter"]).shows(&["Given to the terminal's clipboard"]);
    let copied = terminal.clipboard();
    assert!(
        copied.contains("allocated,share,entries") && copied.contains("kind:audio"),
        "{copied}"
    );
}

#[test]
fn the_largest_family_of_old_logs_is_planned_for_the_archive_with_ten_keys() {
    let demo = Demo::new();
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.keys(&["Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    terminal.keys(&["4"]).shows(&["▸kind", "image", "audio"]);
    terminal.keys(&["Right"]).shows(&["▸family", "telemetry.log"]);
    terminal.keys(&["Down", "Down", "Down", "Down", "Down"]).shows(&["▸ telemetry.log"]);
    // the files are listed before it is asked what is to be done with them
    terminal.keys(&["A"]).shows(&["family:telemetry.log", "104 files", "archive"]);
    terminal.keys(&["a"]).shows(&["Planned: archive 104 files, 20.3 MiB"]);
    terminal.keys(&["8"]).shows(&["104 actions free 20.3 MiB now", "by hand, lens"]);
}

#[test]
fn looking_works_at_80_by_24() {
    let demo = Demo::new();
    let terminal = Terminal::on_demo(&demo, 80, 24);
    terminal.keys(&["Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    let narrow = |screen: String| {
        assert!(screen.lines().all(|line| line.chars().count() <= 80), "{screen}");
    };
    narrow(terminal.keys(&["3"]).shows(&["< 1 MiB", "260.2M", "3 986 files"]));
    narrow(terminal.keys(&["Tab"]).shows(&["byte-years", "survey-2038.raw"]));
    narrow(terminal.keys(&["4"]).shows(&["▸kind", "image", "audio"]));
    narrow(terminal.keys(&["2", "m"]).shows(&["half of it written", "hydrophone/"]));
    narrow(terminal.keys(&["l"]).shows(&["allocated ↓", "survey-2038.raw"]));
    narrow(terminal.keys(&["/"]).type_text("kind:im").shows(&["image", "! no such kind"]));
    narrow(terminal.keys(&["Tab", "Enter"]).shows(&["lens  kind:image", "1 649 of 4 248"]));
}
