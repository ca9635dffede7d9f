//! What the end of a lens that is being typed could become.

use super::Accounts;
use super::parse::row_of;
use super::word::{Attribute, WORDS, Word};
use crate::naming::FileKind;

/// One way to go on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Completion {
    /// The whole text with it.
    pub text: String,
    /// What is added, as it is listed.
    pub label: String,
    /// What it means.
    pub help: String,
}

/// Ways to go on with a text, whose end is being typed; the words in the order of their table, names in that
/// of the alphabet.
pub fn complete(text: &str, accounts: &dyn Accounts) -> Vec<Completion> {
    let start = text.rfind(' ').map_or(0, |space| space + 1);
    let (before, term) = text.split_at(start);
    let Some((word, values)) = term.split_once(':') else {
        let words = WORDS.iter().filter(|row| row.text.starts_with(term));
        return words
            .map(|row| Completion {
                text: format!("{before}{}:", row.text),
                label: format!("{}:{}", row.text, row.example),
                help: row.help.to_owned(),
            })
            .collect();
    };
    let Some(row) = row_of(word) else { return Vec::new() };
    let typed = values.rfind(',').map_or(values, |comma| &values[comma + 1..]);
    let kept = &text[..text.len() - typed.len()];
    let offer = |value: String, help: String| Completion {
        text: format!("{kept}{value}"),
        label: value,
        help,
    };
    let fixed = |values: &[&str]| -> Vec<(String, String)> {
        values.iter().map(|value| ((*value).to_owned(), String::new())).collect()
    };
    let mut offers: Vec<(String, String)> = match row.word {
        Word::Kind => FileKind::all().map(|kind| (kind.word().to_owned(), String::new())).collect(),
        Word::Is => Attribute::ALL
            .map(|attribute| (attribute.word().to_owned(), attribute.help().to_owned()))
            .to_vec(),
        Word::Owner => named(accounts.users()),
        Word::Group => named(accounts.groups()),
        Word::Older | Word::Unread => fixed(&["30d", "90d", "1y", "2y", "4y"]),
        Word::Newer => fixed(&["1h", "1d", "7d", "30d"]),
        Word::Larger => fixed(&["1M", "16M", "100M", "1G"]),
        Word::Smaller => fixed(&["4k", "64k", "1M"]),
        Word::Links => fixed(&["2"]),
        _ => Vec::new(),
    };
    offers.retain(|(value, _)| value.starts_with(typed));
    // what is there already is no way to go on
    offers.retain(|(value, _)| value != typed);
    offers.into_iter().map(|(value, help)| offer(value, help)).collect()
}

fn named(mut names: Vec<String>) -> Vec<(String, String)> {
    let plain =
        |name: &String| name.chars().all(|c| c.is_ascii_alphanumeric() || "-_.".contains(c));
    names.retain(plain);
    names.sort();
    names.dedup();
    let unknown = ("unknown".to_owned(), "numbers that no account has".to_owned());
    names.into_iter().map(|name| (name, String::new())).chain([unknown]).collect()
}
