//! The text of the rule file, edited in place: checked as it is typed, saved in one step.

use std::path::PathBuf;
use std::sync::Arc;

use fondaco_core::rule::{
    Form, NewRule, RuleError, RuleSet, RuleText, RuleWord, SaveError, WORDS, WordOf, rule_lines,
    switched, with_rule,
};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use ratatui_textarea::{CursorMove, Input, Key as TextKey, TextArea};

use super::trial::try_out;
use crate::failure::Failure;
use crate::frame::commands::Key;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{Asking, Model, TypedAnswer};
use crate::frame::update::ask;

/// The rule file, as it is being edited.
#[derive(Clone, Debug)]
pub(super) struct Editor {
    /// The text with its cursor and what can be undone.
    pub area: TextArea<'static>,
    /// The file, with what it was when it was read.
    stored: RuleText,
    /// What ends its lines: `\r\n` if all of them end so.
    line_end: &'static str,
    /// Keys go to it. If they do not, it keeps what has not been saved.
    pub is_open: bool,
    /// What is wrong with the text, as far as it has been checked.
    pub mistake: Option<RuleError>,
    /// Counts the changes.
    change: u64,
    /// The change that is being checked.
    checking: Option<u64>,
    /// The change that was checked last, or is being checked.
    checked: Option<u64>,
    /// It is being saved.
    saving: bool,
}

impl Editor {
    fn new(stored: RuleText, text: &str, line: usize) -> Self {
        let lone = text.replace("\r\n", "").contains(['\n', '\r']);
        let line_end = if text.contains("\r\n") && !lone { "\r\n" } else { "\n" };
        // with an empty last line for the end of the last one, so that the text is the same when it is put together again
        let mut area = TextArea::new(text.split(line_end).map(str::to_owned).collect());
        area.set_tab_length(0);
        area.move_cursor(CursorMove::Jump(line as u16, 0));
        Self {
            area,
            stored,
            line_end,
            is_open: true,
            mistake: None,
            change: 0,
            checking: None,
            checked: None,
            saving: false,
        }
    }

    /// The text as it would be saved.
    pub fn text(&self) -> String {
        self.area.lines().join(self.line_end)
    }

    /// It is not what the file holds.
    pub fn is_changed(&self) -> bool {
        self.text() != self.stored.read.as_deref().unwrap_or("")
    }

    /// The line of the cursor, from 0.
    pub fn line(&self) -> usize {
        self.area.cursor().0
    }

    /// The line of the cursor up to it.
    fn before_cursor(&self) -> String {
        let cursor = self.area.cursor();
        self.area
            .lines()
            .get(cursor.0)
            .map_or_else(String::new, |line| line.chars().take(cursor.1).collect())
    }

    /// What the line of the cursor is about: the word that it begins with.
    pub fn word(&self) -> Option<&'static RuleWord> {
        let line = self.area.lines().get(self.line())?;
        let name = line.split('=').next()?.trim();
        let above = self.area.lines()[..=self.line()].join("\n");
        let of = if rule_lines(&above).is_empty() { WordOf::File } else { WordOf::Rule };
        RuleWord::all_of(of).find(|word| word.name == name)
    }

    /// Words that begin as the line of the cursor does up to it.
    pub fn offers(&self) -> Vec<&'static str> {
        let before = self.before_cursor();
        let begun = before.trim_start();
        if let Some((name, value)) = begun.split_once('=') {
            let word =
                WORDS.iter().find(|word| word.of == WordOf::Rule && word.name == name.trim());
            let (Some(word), Some(value)) = (word, value.trim_start().strip_prefix('"')) else {
                return Vec::new();
            };
            let Form::Choice(choices) = word.form else { return Vec::new() };
            return choices.iter().copied().filter(|choice| choice.starts_with(value)).collect();
        }
        let is_word = begun.chars().all(|c| c.is_ascii_lowercase() || c == '_');
        let words = RuleWord::all_of(WordOf::Rule).map(|word| word.name);
        words.filter(|word| is_word && word.starts_with(begun)).collect()
    }

    /// Completes the word at the cursor as far as it is clear.
    fn complete(&mut self) -> bool {
        let offers = self.offers();
        let before = self.before_cursor();
        let begun = before.rsplit(['"', ' ', '=']).next().unwrap_or("").len();
        let Some(first) = offers.first() else { return false };
        let common = offers.iter().fold(first.len(), |length, offer| {
            offer.bytes().zip(first.bytes()).take(length).take_while(|(a, b)| a == b).count()
        });
        let is_value = before.contains('=');
        let mut rest = first[begun.min(common)..common].to_owned();
        if offers.len() == 1 {
            rest.push_str(if is_value { "\"" } else { " = " });
        }
        self.area.insert_str(rest)
    }
}

/// Whether keys go to the editor.
pub(super) fn is_open(model: &Model) -> bool {
    model.rooms.rules.editor.as_ref().is_some_and(|editor| editor.is_open)
}

/// Whether there are changes that have not been saved.
pub(super) fn is_changed(model: &Model) -> bool {
    model.rooms.rules.editor.as_ref().is_some_and(Editor::is_changed)
}

/// What the text is read for.
#[derive(Clone, Debug)]
enum Purpose {
    /// To be edited at this rule.
    Edit(usize),
    /// To add a rule, and to edit that.
    Add(NewRule),
    /// To switch this rule on or off at once.
    Switch(usize, bool),
}

/// Reads the text of the rule file.
#[derive(Debug)]
struct ReadText(Purpose, PathBuf, State);

impl Work for ReadText {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let Self(purpose, file, state) = *self;
        let read = RuleText::read(&file).map_err(Failure::of);
        match (purpose, read) {
            (Purpose::Switch(rule, on), Ok(mut stored)) => {
                let text = stored.read.clone().unwrap_or_default();
                let saved = switched(&text, rule, on)
                    .map_err(Failure::of)
                    .and_then(|text| stored.save(&text, &state).map_err(Failure::of));
                Box::new(Switched(rule, on, saved))
            }
            (purpose, read) => Box::new(TextRead(purpose, read)),
        }
    }
}

/// The text has been read.
#[derive(Debug)]
struct TextRead(Purpose, Result<RuleText, Failure>);

impl News for TextRead {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let stored = match self.1 {
            Ok(stored) => stored,
            Err(failure) => {
                model.say_trouble(failure.to_string());
                return Vec::new();
            }
        };
        let text = stored.read.clone().unwrap_or_default();
        let (text, line) = match self.0 {
            Purpose::Add(new) => {
                let text = with_rule(&text, &new);
                let line = rule_lines(&text).last().map_or(0, |line| line + 1);
                (text, line)
            }
            Purpose::Edit(rule) | Purpose::Switch(rule, _) => {
                let line = rule_lines(&text).get(rule).copied().unwrap_or(0);
                (text, line)
            }
        };
        model.rooms.rules.editor = Some(Editor::new(stored, &text, line));
        check(model)
    }
}

/// A rule has been switched on or off.
#[derive(Debug)]
struct Switched(usize, bool, Result<(), Failure>);

impl News for Switched {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let Self(rule, on, saved) = *self;
        match saved {
            Ok(()) => {
                let word = if on { "on" } else { "off" };
                model.say(format!("Rule {} is {word} now", rule + 1));
            }
            Err(failure) => model.say_trouble(failure.to_string()),
        }
        try_out(model).into_iter().collect()
    }
}

fn read(model: &Model, purpose: Purpose) -> Vec<Job> {
    let file = model.state.rules_file();
    vec![Job::Work(Box::new(ReadText(purpose, file, model.state.clone())))]
}

/// Opens the text at the selected rule, or goes on with what has not been saved.
pub(super) fn edit(model: &mut Model) -> Vec<Job> {
    let cursor = model.rooms.rules.cursor;
    match &mut model.rooms.rules.editor {
        Some(editor) => {
            editor.is_open = true;
            Vec::new()
        }
        None => read(model, Purpose::Edit(cursor)),
    }
}

/// Opens the text with a new rule at its end.
pub(super) fn add(model: &mut Model, new: NewRule) -> Vec<Job> {
    match &mut model.rooms.rules.editor {
        Some(editor) => {
            let text = with_rule(&editor.text(), &new);
            let line = rule_lines(&text).last().map_or(0, |line| line + 1);
            let change = editor.change + 1;
            *editor = Editor { change, ..Editor::new(editor.stored.clone(), &text, line) };
            check(model)
        }
        None => read(model, Purpose::Add(new)),
    }
}

/// Switches the selected rule on or off, in the file.
pub(super) fn switch(model: &mut Model) -> Vec<Job> {
    if is_changed(model) {
        model.say_trouble(
            "There are changes that are not saved: Enter goes on with them, Ctrl-S saves them",
        );
        return Vec::new();
    }
    let cursor = model.rooms.rules.cursor;
    let on =
        super::tried(model).and_then(|tried| tried.rules.rules.get(cursor)).map(|rule| rule.on);
    on.map_or_else(Vec::new, |on| read(model, Purpose::Switch(cursor, !on)))
}

/// Takes a key while the text is edited.
pub(super) fn on_key(model: &mut Model, key: Key) -> Option<Vec<Job>> {
    let editor = model.rooms.rules.editor.as_mut().filter(|editor| editor.is_open)?;
    let changed = match key {
        Key::Escape => return Some(leave(model)),
        Key::Ctrl('s') => return Some(save(model)),
        Key::Ctrl('c' | 'p') => return None,
        Key::Ctrl('z') => editor.area.undo(),
        Key::Ctrl('y') => editor.area.redo(),
        Key::Tab => editor.complete(),
        key => match text_key(key) {
            Some((key, ctrl)) => editor.area.input(Input { key, ctrl, alt: false, shift: false }),
            None => false,
        },
    };
    if changed {
        editor.change += 1;
        return Some(check(model));
    }
    Some(Vec::new())
}

fn text_key(key: Key) -> Option<(TextKey, bool)> {
    Some(match key {
        Key::Char(c) => (TextKey::Char(c), false),
        Key::Ctrl(c) => (TextKey::Char(c), true),
        Key::Enter => (TextKey::Enter, false),
        Key::Backspace => (TextKey::Backspace, false),
        Key::Delete => (TextKey::Delete, false),
        Key::Left => (TextKey::Left, false),
        Key::Right => (TextKey::Right, false),
        Key::Up => (TextKey::Up, false),
        Key::Down => (TextKey::Down, false),
        Key::Home => (TextKey::Home, false),
        Key::End => (TextKey::End, false),
        Key::PageUp => (TextKey::PageUp, false),
        Key::PageDown => (TextKey::PageDown, false),
        Key::Escape | Key::Tab | Key::Function(_) => return None,
    })
}

fn leave(model: &mut Model) -> Vec<Job> {
    let Some(editor) = &mut model.rooms.rules.editor else { return Vec::new() };
    editor.is_open = false;
    if editor.is_changed() {
        model.say("Not saved yet: Enter goes on editing, Ctrl-S saves, Delete forgets the changes");
    } else {
        model.rooms.rules.editor = None;
    }
    Vec::new()
}

/// Checks a text away from the screen: names of owners may have to be asked for.
#[derive(Debug)]
struct CheckText {
    change: u64,
    file: PathBuf,
    text: String,
    state: State,
}

impl Work for CheckText {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let mistake = RuleSet::parse(&self.file, &self.text, &self.state).err();
        Box::new(Checked(self.change, mistake))
    }
}

/// A text has been checked.
#[derive(Debug)]
struct Checked(u64, Option<RuleError>);

impl News for Checked {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let Some(editor) = &mut model.rooms.rules.editor else { return Vec::new() };
        if editor.checking.take() != Some(self.0) {
            return Vec::new();
        }
        editor.mistake = self.1;
        check(model)
    }
}

/// Checks the text, unless that is being done or has been done. One check is under way at a time.
fn check(model: &mut Model) -> Vec<Job> {
    let state = model.state.clone();
    let Some(editor) = &mut model.rooms.rules.editor else { return Vec::new() };
    if editor.checking.is_some() || editor.checked == Some(editor.change) {
        return Vec::new();
    }
    let (change, file, text) = (editor.change, editor.stored.file.clone(), editor.text());
    (editor.checking, editor.checked) = (Some(change), Some(change));
    vec![Job::Work(Box::new(CheckText { change, file, text, state }))]
}

/// Saves a text.
#[derive(Debug)]
struct SaveText {
    change: u64,
    stored: RuleText,
    text: String,
    state: State,
}

impl Work for SaveText {
    fn run(mut self: Box<Self>) -> Box<dyn News> {
        let saved = self.stored.save(&self.text, &self.state);
        Box::new(Saved { change: self.change, stored: self.stored, saved })
    }
}

/// A text has been saved, or not.
#[derive(Debug)]
struct Saved {
    change: u64,
    stored: RuleText,
    saved: Result<(), SaveError>,
}

impl News for Saved {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let Some(editor) = &mut model.rooms.rules.editor else { return Vec::new() };
        editor.saving = false;
        match self.saved {
            Ok(()) => {
                let kept = match self.stored.before().file_name() {
                    Some(name) if editor.stored.read.is_some() => {
                        format!("; the version before it is in {}", Shown(name))
                    }
                    _ => String::new(),
                };
                editor.stored = self.stored;
                if editor.change == self.change {
                    model.rooms.rules.editor = None;
                }
                model.say(format!("Saved{kept}"));
                try_out(model).into_iter().collect()
            }
            Err(SaveError::Rule(mistake)) => {
                let text = format!("Not saved: line {}: {}", mistake.line, mistake.message);
                editor.mistake = Some(mistake);
                model.say_trouble(text);
                Vec::new()
            }
            Err(error) => {
                model.say_trouble(format!("Not saved: {error}"));
                Vec::new()
            }
        }
    }
}

/// Saves the text and tries it.
pub(super) fn save(model: &mut Model) -> Vec<Job> {
    let state = model.state.clone();
    let Some(editor) = &mut model.rooms.rules.editor else { return Vec::new() };
    if editor.saving {
        return Vec::new();
    }
    editor.saving = true;
    let (change, stored, text) = (editor.change, editor.stored.clone(), editor.text());
    vec![Job::Work(Box::new(SaveText { change, stored, text, state }))]
}

/// Forgets the changes once that is typed out.
#[derive(Debug)]
struct ForgetChanges;

impl TypedAnswer for ForgetChanges {
    fn take(&self, model: &mut Model, _: &str) -> Result<Vec<Job>, Failure> {
        model.rooms.rules.editor = None;
        model.say("The changes are forgotten; the file is as it was");
        Ok(Vec::new())
    }
}

/// Asks whether the changes are to be forgotten.
pub(super) fn forget(model: &mut Model) -> Vec<Job> {
    let sentence =
        "The changes to the rule file that are not saved will be forgotten. Type forget:"
            .to_owned();
    ask(model, Asking::Own(Arc::new(ForgetChanges)), sentence, Some("forget".to_owned()))
}
