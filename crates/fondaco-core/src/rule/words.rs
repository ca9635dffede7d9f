//! The words of the rule file, with what each means: for editors, hints and the schema.

/// What a word stands in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WordOf {
    /// The file itself.
    File,
    /// A rule: what follows `[[rule]]`.
    Rule,
    /// A data store: what follows `[[store]]`.
    Store,
    /// The table `thin` of a rule.
    Thin,
    /// The table `at_most` of a rule.
    AtMost,
}

/// What a word's value looks like.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// A text in quotes.
    Text,
    /// A text or a list of them.
    Texts,
    /// A list of texts.
    List,
    /// A size such as `10 MiB`, or a number of bytes.
    Size,
    /// As [`Form::Texts`] of sizes or ages, of which the first counts.
    Measure,
    /// A share such as `85 %`.
    Level,
    /// A whole number from this one on.
    Count(u32),
    /// `true` or `false`.
    Flag,
    /// One of these.
    Choice(&'static [&'static str]),
    /// A table of the words of this.
    Table(WordOf),
}

/// A word of the rule file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RuleWord {
    /// As it is written.
    pub name: &'static str,
    /// What it stands in.
    pub of: WordOf,
    /// What its value looks like.
    pub form: Form,
    /// What it means, in a line.
    pub meaning: &'static str,
    /// A value as it could stand in a file.
    pub example: &'static str,
}

const fn word(
    of: WordOf,
    name: &'static str,
    form: Form,
    example: &'static str,
    meaning: &'static str,
) -> RuleWord {
    RuleWord { name, of, form, meaning, example }
}

use Form::{Choice, Count, Flag, Level, List, Measure, Size, Table, Text, Texts};
use WordOf::{AtMost, File, Rule, Store, Thin};

/// All there are, in the order in which they are explained.
#[rustfmt::skip] // a table is read down its columns
pub static WORDS: &[RuleWord] = &[
    word(File, "protect", List, "[\"surveys/calibration\"]",
        "places that no rule touches, nor what is below them; relative ones begin at the scanned directory"),
    word(Rule, "title", Text, "\"old recordings\"",
        "what the rule is for; its actions carry it as their reason"),
    word(Rule, "action", Choice(&["delete", "set-aside", "archive", "move"]), "\"set-aside\"",
        "what is done with what the rule takes"),
    word(Rule, "store", Text, "\"readings\"",
        "takes members of this data store, which a [[store]] of the file defines, and no files"),
    word(Rule, "on", Flag, "false",
        "false switches the rule off; it stays in the file"),
    word(Rule, "takes", Choice(&["files", "directories"]), "\"directories\"",
        "files each for itself, or whole directories in which every file holds"),
    word(Rule, "leftovers", List, "[\"bins\", \"caches\"]",
        "what is left over of these groups (`fondaco leftovers`), each leftover whole"),
    word(Rule, "kind", Texts, "\"log\"",
        "kind of contents: log, audio, archive, temporary …"),
    word(Rule, "name", Texts, "[\"*.wav\", \"surveys/*/*.raw\"]",
        "one of the patterns matches the name; with a slash, the path below the scanned directory"),
    word(Rule, "ext", Texts, "[\"wav\", \"flac\"]",
        "the name ends in one of these"),
    word(Rule, "under", Texts, "[\"hydrophone\", \"surveys\"]",
        "only below these directories"),
    word(Rule, "older", Measure, "\"90 d\"",
        "this long ago or longer: h, d, w, mo, y"),
    word(Rule, "newer", Measure, "\"30 d\"",
        "less long ago than this"),
    word(Rule, "unread", Measure, "\"1 y\"",
        "not read for so long"),
    word(Rule, "age", Choice(&["written", "read", "changed", "named"]), "\"named\"",
        "what ages count from: last written, read or changed, or the date in the name"),
    word(Rule, "larger", Measure, "\"1 MiB\"",
        "so much on disk or more"),
    word(Rule, "smaller", Measure, "\"10 GiB\"",
        "less on disk than this"),
    word(Rule, "owner", Texts, "\"1000\"",
        "of one of these users, by name or number; orphan: of none that exists"),
    word(Rule, "group", Texts, "\"1000\"",
        "of one of these groups, by name or number"),
    word(Rule, "family", Texts, "\"tide-#.csv\"",
        "of one family of names that differ only in numbers and dates"),
    word(Rule, "links", Measure, "\"2\"",
        "so many names, or more"),
    word(Rule, "depth", Measure, "\"2\"",
        "so many directories below the scanned one, or more"),
    word(Rule, "length", Measure, "\"200\"",
        "a name of so many bytes, or more"),
    word(Rule, "is", Texts, "\"sparse\"",
        "an attribute: hidden, executable, sparse, multi-linked, empty …"),
    word(Rule, "lens", Text, "\"kind:audio not is:multi-linked\"",
        "a whole lens, for what single words cannot say"),
    word(Rule, "keep", Count(1), "12",
        "so many of the newest of each group stay"),
    word(Rule, "keep_named", List, "[\"*-final*\"]",
        "what these patterns match stays, and is not counted"),
    word(Rule, "thin", Table(Thin), "{ daily = 14, weekly = 8, monthly = 12 }",
        "the newest of each period stays"),
    word(Rule, "total", Size, "\"2 GiB\"",
        "each group may hold so much: its oldest go until it does"),
    word(Rule, "of", Choice(&["family", "directory", "owner", "all"]), "\"family\"",
        "what keep, thin and total count in; a family is that of one directory"),
    word(Rule, "until", Text, "\"waterline\"",
        "stop as soon as the level is there: waterline, or a level such as 85 %"),
    word(Rule, "free", Size, "\"20 GiB\"",
        "stop as soon as so much is free"),
    word(Rule, "order", Choice(&["oldest", "largest", "byte-years"]), "\"largest\"",
        "what goes first until there is enough"),
    word(Rule, "above", Level, "\"85 %\"",
        "only if the volume's level is above this"),
    word(Rule, "inodes_above", Level, "\"90 %\"",
        "only if more of the inodes are used than this"),
    word(Rule, "at_most", Table(AtMost), "{ entries = 10000, size = \"50 GiB\", share = \"20 %\" }",
        "over one of these limits the rule does nothing at all"),
    word(Rule, "protect", List, "[\"hydrophone/calibration\"]",
        "places that no rule of the file touches"),
    word(Rule, "depot", Text, "\"/mnt/depot\"",
        "where archives go; the depot of the settings if left out"),
    word(Rule, "to", Text, "\"/mnt/spare\"",
        "where the rule moves things to; below it they have their whole path"),
    word(Rule, "purge_after", Text, "\"14 d\"",
        "how long what the rule sets aside is held before it is due to be purged"),
    word(Store, "name", Text, "\"readings\"",
        "what it is called: a rule says store = \"readings\", and a command store:readings"),
    word(Store, "list", Text, "\"https://store.seamark.example/indices\"",
        "the address that lists what it holds, in JSON"),
    word(Store, "members", Text, "\"/indices\"",
        "where in the answer the list is; the whole answer if left out"),
    word(Store, "name_at", Text, "\"/index\"",
        "where in a member its name is"),
    word(Store, "bytes_at", Text, "\"/bytes\"",
        "where in a member its bytes are, as a number"),
    word(Store, "date_at", Text, "\"/created\"",
        "where its date is: RFC 3339, or seconds or milliseconds since 1970; the date in its name if left out"),
    word(Store, "remove", Text, "\"DELETE https://store.seamark.example/{name}\"",
        "the request that removes a member"),
    word(Store, "snapshot", Text, "\"PUT https://store.seamark.example/snapshots/{name}\"",
        "a request that must be answered well before a member is removed"),
    word(Store, "capacity", Size, "\"500 GiB\"",
        "what it can hold, so that until and above can be asked of it"),
    word(Thin, "daily", Count(0), "14", "so many days that have a generation"),
    word(Thin, "weekly", Count(0), "8", "so many weeks, from Monday on"),
    word(Thin, "monthly", Count(0), "12", "so many months"),
    word(Thin, "yearly", Count(0), "3", "so many years"),
    word(AtMost, "entries", Count(0), "10000", "entries, with all that lies in directories"),
    word(AtMost, "size", Size, "\"50 GiB\"", "bytes on disk"),
    word(AtMost, "share", Level, "\"20 %\"", "share of the bytes that the rule looks at, of whatever age"),
];

impl RuleWord {
    /// The words of a part of the file.
    pub fn all_of(of: WordOf) -> impl Iterator<Item = &'static Self> {
        WORDS.iter().filter(move |word| word.of == of)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;
    use std::path::Path;

    use super::*;
    use crate::lens::tests::Few;
    use crate::rule::RuleSet;

    fn parse(text: &str) -> Result<RuleSet, crate::rule::RuleError> {
        RuleSet::parse(Path::new("r.toml"), text, &Few)
    }

    /// The words that the parser knows, by what it says of one that it does not.
    fn known(text: &str) -> BTreeSet<String> {
        let message = parse(text).unwrap_err().message;
        let (_, offered) = message.split_once("expected ").unwrap();
        offered.split('`').skip(1).step_by(2).map(str::to_owned).collect()
    }

    #[test]
    fn the_table_has_every_word_of_the_parser_with_an_example_that_is_one() {
        let head = "[[rule]]\ntitle = \"x\"\naction = \"delete\"\n";
        let of =
            |of| RuleWord::all_of(of).map(|word| word.name.to_owned()).collect::<BTreeSet<_>>();
        let mut file = of(File);
        file.extend(["rule".to_owned(), "store".to_owned()]);
        assert_eq!(known("zzzzzzzzzzzz = 1"), file);
        assert_eq!(known(&format!("{head}zzzzzzzzzzzz = 1")), of(Rule));
        assert_eq!(known("[[store]]\nzzzzzzzzzzzz = 1"), of(Store));
        assert_eq!(known(&format!("{head}thin = {{ zzzzzzzzzzzz = 1 }}")), of(Thin));
        assert_eq!(known(&format!("{head}at_most = {{ zzzzzzzzzzzz = 1 }}")), of(AtMost));
        let store = RuleWord::all_of(Store).fold("[[store]]\n".to_owned(), |text, word| {
            format!("{text}{} = {}\n", word.name, word.example)
        });
        for word in RuleWord::all_of(Rule) {
            let RuleWord { name, example, .. } = word;
            let beside = match *name {
                "title" | "action" => continue,
                "older" => "",
                "of" | "keep_named" => "older = \"1 y\"\nkeep = 3\n",
                "order" => "older = \"1 y\"\nuntil = \"waterline\"\n",
                _ => "older = \"1 y\"\n",
            };
            let head = match *name {
                "depot" => head.replace("delete", "archive"),
                "to" => head.replace("delete", "move"),
                "purge_after" => head.replace("delete", "set-aside"),
                _ => head.to_owned(),
            };
            let store = if *name == "store" { store.as_str() } else { "" };
            let text = format!("{head}{beside}{name} = {example}\n{store}");
            assert!(parse(&text).is_ok(), "{text}\n{:?}", parse(&text).err());
            if let Choice(choices) = word.form {
                for choice in choices {
                    let text = format!("{head}{beside}{name} = \"{choice}\"\n");
                    assert!(parse(&text).is_ok(), "{text}");
                }
            }
        }
    }
}
