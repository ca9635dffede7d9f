//! The rule file edited, switched, tried and planned from the screen.

use crate::frame::commands::Key;
use crate::frame::message::Message;
use crate::frame::tests::Stage;
use crate::frame::view::{Depth, Theme};

fn keys(stage: &mut Stage, keys: &[Key]) {
    stage.work_keys(keys);
}

fn text(stage: &mut Stage, text: &str) {
    let jobs = stage.send(Message::Paste(text.to_owned()));
    stage.work(jobs);
}

fn screen(stage: &mut Stage) -> String {
    stage.screen(120, 36, &Theme::new(Depth::None, false, false))
}

fn file(stage: &Stage) -> String {
    std::fs::read_to_string(stage.model.state.rules_file()).unwrap_or_default()
}

const RULES: &str = "# of the station\n[[rule]]\ntitle = \"tables\"\naction = \"delete\"\next = \"csv\"\n\n\
                     [[rule]]\ntitle = \"logs\"\naction = \"set-aside\"\nkind = \"log\"\n";

fn with_rules() -> Stage {
    let stage = Stage::new();
    std::fs::write(stage.model.state.rules_file(), RULES).unwrap();
    stage
}

#[test]
fn a_rule_is_begun_mended_saved_and_tried() {
    let mut stage = Stage::new();
    keys(&mut stage, &[Key::Char('7')]);
    assert!(screen(&mut stage).contains("There is no such file yet"));
    keys(&mut stage, &[Key::Char('N')]);
    assert!(
        screen(&mut stage).contains("text of the rule file, not saved"),
        "{}",
        screen(&mut stage)
    );
    // the cursor stands on the title of the new rule
    text(&mut stage, "keeep = 3\n");
    let seen = screen(&mut stage);
    assert!(
        seen.contains("! line 2, column 1: unknown field `keeep`: did you mean `keep`?"),
        "{seen}"
    );
    keys(&mut stage, &[Key::Ctrl('s')]);
    assert!(screen(&mut stage).contains("Not saved: line 2"));
    assert_eq!(file(&stage), "", "nothing is written");
    for _ in 0..5 {
        keys(&mut stage, &[Key::Ctrl('z')]);
    }
    // undone, word by word; what is left is taken away by hand
    while stage.model.rooms.rules.editor.as_ref().unwrap().mistake.is_some() {
        keys(&mut stage, &[Key::Backspace]);
    }
    text(&mut stage, "tak");
    keys(&mut stage, &[Key::Tab]);
    text(&mut stage, "\"f");
    keys(&mut stage, &[Key::Tab, Key::Enter]);
    assert!(screen(&mut stage).contains("takes = \"files\""), "{}", screen(&mut stage));
    keys(&mut stage, &[Key::Ctrl('s')]);
    assert!(file(&stage).contains("takes = \"files\"\n"));
    let seen = screen(&mut stage);
    assert!(seen.contains("● 1 new rule") && seen.contains("Saved"), "{seen}");
}

#[test]
fn leaving_the_text_loses_nothing_and_forgetting_is_asked_for() {
    let mut stage = with_rules();
    keys(&mut stage, &[Key::Char('7'), Key::Down, Key::Enter]);
    let seen = screen(&mut stage);
    assert!(seen.contains("as saved") && seen.contains("7 [[rule]]"), "{seen}");
    keys(&mut stage, &[Key::Escape]);
    assert!(stage.model.rooms.rules.editor.is_none(), "nothing was changed");
    keys(&mut stage, &[Key::Enter]);
    text(&mut stage, "# mine\n");
    keys(&mut stage, &[Key::Escape]);
    assert!(screen(&mut stage).contains("Not saved yet"));
    keys(&mut stage, &[Key::Char('i')]);
    assert!(screen(&mut stage).contains("There are changes that are not saved"));
    keys(&mut stage, &[Key::Char('q')]);
    assert!(!stage.model.quitting && screen(&mut stage).contains("Type quit to leave"));
    keys(&mut stage, &[Key::Escape, Key::Delete]);
    text(&mut stage, "forget");
    keys(&mut stage, &[Key::Enter]);
    assert!(stage.model.rooms.rules.editor.is_none());
    assert_eq!(file(&stage), RULES);
    // somebody else writes the file while it is edited
    keys(&mut stage, &[Key::Enter]);
    text(&mut stage, "# mine\n");
    std::fs::write(stage.model.state.rules_file(), "# theirs\n").unwrap();
    keys(&mut stage, &[Key::Ctrl('s')]);
    assert!(screen(&mut stage).contains("has been changed by somebody else"));
    assert_eq!(file(&stage), "# theirs\n");
}

#[test]
fn a_text_that_is_only_looked_at_stays_as_it_is_to_the_last_byte() {
    for ends in ["", "\n\n\n", "# no end of the last line"] {
        for line_end in ["\n", "\r\n"] {
            let mut stage = Stage::new();
            let text = format!("{RULES}{ends}").replace('\n', line_end);
            std::fs::write(stage.model.state.rules_file(), &text).unwrap();
            keys(&mut stage, &[Key::Char('7'), Key::Enter]);
            let editor = stage.model.rooms.rules.editor.as_ref().unwrap();
            assert_eq!(editor.text(), text, "{ends:?} {line_end:?}");
            assert!(!editor.is_changed() && editor.mistake.is_none());
            // a line more has the end that the others have
            self::text(&mut stage, "# mine\n");
            keys(&mut stage, &[Key::Ctrl('s')]);
            let wanted = text.replacen("[[rule]]", &format!("# mine{line_end}[[rule]]"), 1);
            assert_eq!(file(&stage), wanted);
        }
    }
}

#[test]
fn a_rule_is_switched_with_one_key_and_what_it_takes_is_planned() {
    let mut stage = with_rules();
    keys(&mut stage, &[Key::Char('7'), Key::Char('i')]);
    assert_eq!(file(&stage), RULES.replace("ext = \"csv\"\n", "ext = \"csv\"\non = false\n"));
    assert!(screen(&mut stage).contains("○ 1 tables"));
    let before = stage.model.state.rules_file().with_extension("toml.before");
    assert_eq!(std::fs::read_to_string(before).unwrap(), RULES);
    keys(&mut stage, &[Key::Char('i')]);
    assert!(screen(&mut stage).contains("● 1 tables"));
    keys(&mut stage, &[Key::Down, Key::Char(' ')]);
    let planned: Vec<_> = stage
        .model
        .draft
        .planned()
        .iter()
        .map(|p| p.path.file_name().unwrap().to_owned())
        .collect();
    assert_eq!(planned, ["b.log"], "only what the selected rule takes");
    keys(&mut stage, &[Key::Char('A')]);
    assert_eq!(stage.model.draft.planned().len(), 2);
    assert_eq!(stage.model.draft.planned()[1].reason, "rule: tables");
    // no scan of the place is kept yet
    keys(&mut stage, &[Key::Char('H')]);
    assert!(screen(&mut stage).contains("No whole scan of"));
    let catalog = stage.scan.catalog();
    fondaco_core::saved::save(&stage.model.state, &catalog, false).unwrap();
    drop(catalog);
    keys(&mut stage, &[Key::Char('H')]);
    let seen = screen(&mut stage);
    assert!(
        seen.contains(
            "The waterline would have held: the level is at 80 % or below on 1 of 1 days"
        ),
        "{seen}"
    );
    keys(&mut stage, &[Key::Escape]);
    assert!(screen(&mut stage).contains("all that act"));
}

#[test]
fn a_rule_is_begun_from_the_lens_a_slice_and_a_block() {
    let new = |ways: &[Key]| {
        let mut stage = Stage::new();
        stage.look(ways);
        keys(&mut stage, &[Key::Char('N')]);
        let editor = stage.model.rooms.rules.editor.as_ref().unwrap_or_else(|| panic!("{ways:?}"));
        assert!(editor.mistake.is_none(), "{:?}", editor.mistake);
        editor.text()
    };
    // the largest slice by kind, the heaviest class of all, and a lens
    assert!(new(&[Key::Char('4')]).contains("kind = \"table\"\n"));
    let block = new(&[Key::Char('3'), Key::Up]);
    assert!(block.contains("larger = ") || block.contains("smaller = "), "{block}");
    let mut stage = Stage::new();
    keys(&mut stage, &[Key::Enter, Key::Char('/')]);
    text(&mut stage, "ext:csv");
    keys(&mut stage, &[Key::Enter, Key::Char('N')]);
    let text = stage.model.rooms.rules.editor.as_ref().unwrap().text();
    assert!(text.contains("under = \"tide\"\next = \"csv\"\n"), "{text}");
}
