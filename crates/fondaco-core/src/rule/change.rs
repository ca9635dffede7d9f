//! Changes to the text of a rule file that leave its comments and layout as they are.

use toml_edit::{Array, DocumentMut, Item, Table, TomlError, Value, value};

use crate::leftovers::{Group, GroupName};

/// A rule that is to be added.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NewRule {
    /// What it is called.
    pub title: String,
    /// The directory that it is for, below the scanned one; empty for all.
    pub under: String,
    /// What it takes, as a lens.
    pub lens: String,
    /// What ages count from, if not from the last writing: a word of `age`.
    pub age: Option<&'static str>,
    /// A group of leftovers that it takes.
    pub leftovers: Option<&'static str>,
}

/// Why a text cannot be changed.
#[derive(Debug, thiserror::Error)]
pub enum ChangeError {
    /// It is no TOML.
    #[error("the rule file has a mistake: mend that first")]
    Syntax(#[from] TomlError),
    /// It has fewer rules.
    #[error("the rule file has no rule {0} any more")]
    NoSuchRule(usize),
}

/// The text with one rule, counted from 0, switched on or off.
///
/// # Errors
///
/// [`ChangeError`].
pub fn switched(text: &str, rule: usize, on: bool) -> Result<String, ChangeError> {
    let mut document: DocumentMut = text.parse()?;
    let missing = || ChangeError::NoSuchRule(rule + 1);
    match document.get_mut("rule").ok_or_else(missing)? {
        Item::ArrayOfTables(rules) => {
            let rule = rules.get_mut(rule).ok_or_else(missing)?;
            set(rule.entry("on").or_insert(value(on)), on);
        }
        Item::Value(Value::Array(rules)) => {
            let rule = rules.get_mut(rule).and_then(Value::as_inline_table_mut);
            rule.ok_or_else(missing)?.insert("on", on.into());
        }
        _ => return Err(missing()),
    }
    Ok(document.to_string())
}

/// Puts a value in place of another and leaves what stands around it, such as a comment behind it.
fn set(item: &mut Item, on: bool) {
    let mut new = Value::from(on);
    if let Item::Value(old) = item {
        *new.decor_mut() = old.decor().clone();
    }
    *item = Item::Value(new);
}

/// The text with a new rule at its end. It sets aside, which is the least that a rule can do, or has the program remove what
/// only a program of its own removes.
pub fn with_rule(text: &str, new: &NewRule) -> String {
    let mut table = Table::new();
    table.insert("title", value(&new.title));
    let group = new.leftovers.and_then(GroupName::of_key).map(GroupName::group);
    let is_of_program = group.is_some_and(Group::goes_through_program);
    table.insert("action", value(if is_of_program { "delete" } else { "set-aside" }));
    if !new.under.is_empty() {
        table.insert("under", value(&new.under));
    }
    if let Some(group) = new.leftovers {
        table.insert("leftovers", value(std::iter::once(group).collect::<Array>()));
    }
    match fields(&new.lens) {
        Some(fields) => {
            for (word, mut values) in fields {
                let item = match values.len() {
                    1 => value(values.swap_remove(0)),
                    _ => value(values.into_iter().collect::<Array>()),
                };
                table.insert(&word, item);
            }
        }
        None => {
            table.insert("lens", value(&new.lens));
        }
    }
    if let Some(age) = new.age {
        table.insert("age", value(age));
    }
    let mut out = text.trim_end().to_owned();
    if !out.is_empty() {
        out.push_str("\n\n");
    }
    format!("{out}[[rule]]\n{table}")
}

/// A lens that is a row of words, each with its values, as fields of a rule; `None` if it says more than fields can.
fn fields(lens: &str) -> Option<Vec<(String, Vec<String>)>> {
    const FIELDS: [&str; 15] = [
        "kind", "ext", "name", "larger", "smaller", "older", "newer", "unread", "owner", "group",
        "links", "depth", "length", "is", "family",
    ];
    let mut fields: Vec<(String, Vec<String>)> = Vec::new();
    for term in lens.split_whitespace() {
        let (word, values) = term.split_once(':')?;
        let is_plain = |c: char| !c.is_ascii_punctuation() || "-_.*#?+%,".contains(c);
        let known = FIELDS.contains(&word) && !fields.iter().any(|(known, _)| known == word);
        if !known || values.is_empty() || !values.chars().all(is_plain) {
            return None;
        }
        let values: Vec<String> = values.split(',').map(str::to_owned).collect();
        if values.iter().any(String::is_empty) {
            return None;
        }
        fields.push((word.to_owned(), values));
    }
    Some(fields)
}

/// The lines, from 0, on which rules begin. For a text that may have mistakes.
pub fn rule_lines(text: &str) -> Vec<usize> {
    let begins = |line: &str| line.split_whitespace().collect::<String>().starts_with("[[rule]]");
    let lines = text.lines().enumerate().filter(|(_, line)| begins(line));
    lines.map(|(number, _)| number).collect()
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;
    use crate::lens::tests::Few;
    use crate::rule::RuleSet;

    const TEXT: &str = "# rules of the station\n\n[[rule]]\ntitle = \"one\" # first\naction = \"delete\"\n\
                        name   = \"*.tmp\"\n\n# and then\n[[rule]]\ntitle = \"two\"\naction = \"delete\"\n\
                        on = true   # for now\nolder = \"1 y\"\n";

    #[test]
    fn switching_a_rule_changes_its_word_and_nothing_else() {
        let off = switched(TEXT, 1, false).unwrap();
        assert_eq!(off, TEXT.replace("on = true ", "on = false "));
        assert_eq!(switched(&off, 1, true).unwrap(), TEXT);
        let off = switched(TEXT, 0, false).unwrap();
        assert_eq!(off.replace("on = false\n", ""), TEXT);
        let rules = RuleSet::parse(Path::new("r"), &off, &Few).unwrap().rules;
        assert_eq!(rules.iter().map(|rule| rule.on).collect::<Vec<_>>(), [false, true]);
        assert!(switched(TEXT, 2, false).is_err() && switched("[[rule", 0, true).is_err());
        let inline = "rule = [{ title = \"x\", action = \"delete\", older = \"1 y\" }]\n";
        let off = switched(inline, 0, false).unwrap();
        assert!(!RuleSet::parse(Path::new("r"), &off, &Few).unwrap().rules[0].on);
    }

    #[test]
    fn a_new_rule_has_the_words_of_a_lens_and_comes_last() {
        let cases = [
            ("kind:log older:90d", "kind = \"log\"\nolder = \"90d\"\n"),
            ("ext:wav,flac", "ext = [\"wav\", \"flac\"]\n"),
            ("kind:log not is:hidden", "lens = \"kind:log not is:hidden\"\n"),
            ("name:*.raw larger:1M name:x", "lens = \"name:*.raw larger:1M name:x\"\n"),
            ("name:\"a b\"", "lens = 'name:\"a b\"'\n"),
        ];
        for (lens, wanted) in cases {
            let new =
                NewRule { title: "the \"third\"".into(), lens: lens.into(), ..NewRule::default() };
            let text = with_rule(TEXT, &new);
            assert!(text.starts_with(TEXT) && text.ends_with(wanted), "{text}");
            let rules = RuleSet::parse(Path::new("r"), &text, &Few).unwrap().rules;
            assert_eq!(rules[2].title, "the \"third\"");
            assert_eq!(text.lines().nth(rule_lines(&text)[2]), Some("[[rule]]"));
        }
        assert_eq!(rule_lines(TEXT), [2, 8]);
        assert!(with_rule("", &NewRule::default()).starts_with("[[rule]]\n"));
    }
}
