//! From text to a lens, with the place of what is wrong.

use std::ops::Range;

use super::word::{Attribute, WORDS, Word, WordRow};
use super::{Account, Accounts, Lens, Term, Test};
use crate::naming::FileKind;
use crate::pattern::Pattern;
use crate::units::{Age, Bytes};

/// What is wrong with a lens, and where.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct LensError {
    /// Where in the text, in bytes.
    pub at: Range<usize>,
    /// What, and what would be right.
    pub message: String,
}

impl LensError {
    fn new(at: Range<usize>, message: impl Into<String>) -> Self {
        Self { at, message: message.into() }
    }
}

/// A piece of the text without its quotes and escapes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Value {
    pub(super) bytes: Vec<u8>,
    pub(super) at: Range<usize>,
}

impl Value {
    fn text(&self) -> Result<&str, LensError> {
        std::str::from_utf8(&self.bytes)
            .map_err(|_| LensError::new(self.at.clone(), "these bytes are no text"))
    }
}

/// A term as it is written.
#[derive(Clone, Debug)]
pub(super) struct Written {
    pub(super) negated: bool,
    /// As typed, and where; nothing for a bare text.
    pub(super) word: Option<(String, Range<usize>)>,
    pub(super) values: Vec<Value>,
}

impl Lens {
    /// Reads a lens.
    ///
    /// # Errors
    ///
    /// [`LensError`] for the first thing that is wrong.
    pub fn parse(text: &str, accounts: &dyn Accounts) -> Result<Self, LensError> {
        let written = Reader { text, at: 0 }.terms()?;
        near_misses(&written)?;
        let term = |written: Written| {
            Ok(Term { negated: written.negated, test: test(&written, accounts)? })
        };
        let terms = written.into_iter().map(term).collect::<Result<_, _>>()?;
        Ok(Self { terms, ..Self::default() })
    }

    /// One word with its values, each as it is and not as it would have to be quoted.
    ///
    /// # Errors
    ///
    /// The same message as [`Lens::parse`], without a place.
    pub fn of_word(
        word: Word,
        values: &[String],
        accounts: &dyn Accounts,
    ) -> Result<Self, LensError> {
        let values = values.iter().map(|value| Value { bytes: value.clone().into(), at: 0..0 });
        let test = test_of(word, &values.collect::<Vec<_>>(), 0..0, accounts)?;
        Ok(Self { terms: vec![Term { negated: false, test }], ..Self::default() })
    }

    /// A term as it would be typed, with quotes and escapes where they are needed.
    pub fn write(word: Word, value: &[u8]) -> String {
        let plain = |byte: &u8| byte.is_ascii_alphanumeric() || b"-_./*#@+".contains(byte);
        let word = WORDS.iter().find(|row| row.word == word).map_or("", |row| row.text);
        if !value.is_empty() && value.iter().all(plain) {
            return format!("{word}:{}", String::from_utf8_lossy(value));
        }
        let mut quoted = String::new();
        for chunk in value.utf8_chunks() {
            for c in chunk.valid().chars() {
                match c {
                    '"' | '\\' => quoted.extend(['\\', c]),
                    c if c.is_control() || crate::shown::drives_a_terminal(c) => {
                        let mut bytes = [0; 4];
                        let bytes = c.encode_utf8(&mut bytes).bytes();
                        bytes.for_each(|byte| quoted.push_str(&format!("\\x{byte:02x}")));
                    }
                    c => quoted.push(c),
                }
            }
            chunk.invalid().iter().for_each(|byte| quoted.push_str(&format!("\\x{byte:02x}")));
        }
        format!("{word}:\"{quoted}\"")
    }
}

/// Goes through the text once.
pub(super) struct Reader<'a> {
    pub(super) text: &'a str,
    pub(super) at: usize,
}

impl Reader<'_> {
    fn rest(&self) -> &[u8] {
        &self.text.as_bytes()[self.at..]
    }

    pub(super) fn terms(&mut self) -> Result<Vec<Written>, LensError> {
        let mut terms = Vec::new();
        loop {
            self.skip_spaces();
            if self.rest().is_empty() {
                return Ok(terms);
            }
            let from = self.at;
            let mut negated = false;
            while self.rest().starts_with(b"not") && self.rest().get(3).is_none_or(|b| *b == b' ') {
                negated = !negated;
                self.at += 3;
                self.skip_spaces();
            }
            if self.rest().is_empty() {
                let message = "after `not` comes what must not be, such as `not owner:root`";
                return Err(LensError::new(from..self.at, message));
            }
            terms.push(self.term(negated)?);
        }
    }

    fn skip_spaces(&mut self) {
        while self.rest().first() == Some(&b' ') {
            self.at += 1;
        }
    }

    fn term(&mut self, negated: bool) -> Result<Written, LensError> {
        let from = self.at;
        let letters = self.rest().iter().take_while(|byte| byte.is_ascii_alphabetic()).count();
        let word = (letters > 0 && self.rest().get(letters) == Some(&b':')).then(|| {
            self.at += letters + 1;
            (self.text[from..from + letters].to_owned(), from..from + letters)
        });
        let mut values = vec![self.value()?];
        while self.rest().first() == Some(&b',') {
            self.at += 1;
            values.push(self.value()?);
        }
        Ok(Written { negated, word, values })
    }

    /// Up to a space or comma, or all between quotes.
    fn value(&mut self) -> Result<Value, LensError> {
        let from = self.at;
        if self.rest().first() == Some(&b'"') {
            return self.quoted();
        }
        let is_end = |byte: &&u8| **byte != b' ' && **byte != b',';
        let length = self.rest().iter().take_while(is_end).count();
        let bytes = self.rest()[..length].to_vec();
        self.at += length;
        Ok(Value { bytes, at: from..self.at })
    }

    fn quoted(&mut self) -> Result<Value, LensError> {
        let from = self.at;
        let mut bytes = Vec::new();
        self.at += 1;
        loop {
            match self.rest() {
                [b'"', ..] => {
                    self.at += 1;
                    return Ok(Value { bytes, at: from..self.at });
                }
                [b'\\', b'x', high, low, ..] => {
                    let digits = [*high, *low];
                    let byte = std::str::from_utf8(&digits).ok();
                    let byte = byte.and_then(|digits| u8::from_str_radix(digits, 16).ok());
                    let message = "after \\x come two hexadecimal digits";
                    let end = (self.at + 4).min(self.text.len());
                    bytes.push(byte.ok_or_else(|| LensError::new(self.at..end, message))?);
                    self.at += 4;
                }
                [b'\\', byte, ..] => {
                    bytes.push(*byte);
                    self.at += 2;
                }
                [byte, ..] => {
                    bytes.push(*byte);
                    self.at += 1;
                }
                [] => return Err(LensError::new(from..self.at, "a closing quote is missing")),
            }
        }
    }
}

fn test(written: &Written, accounts: &dyn Accounts) -> Result<Test, LensError> {
    let Some((word, at)) = &written.word else { return bare(&written.values) };
    let known = WORDS.iter().find(|row| row.text == word);
    let row = known.ok_or_else(|| unknown_word(word, at))?;
    let end = written.values.last().map_or(at.end, |value| value.at.end);
    let empty = |value: &&Value| value.bytes.is_empty() && value.at.is_empty();
    if let Some(value) = written.values.iter().find(empty) {
        let message = format!("a value is missing, such as {}:{}", row.text, row.example);
        return Err(LensError::new(at.start..value.at.end.max(at.end + 1), message));
    }
    test_of(row.word, &written.values, at.start..end, accounts)
}

/// What people write who know other languages for the same: each is a name to this one, and would find nothing.
fn near_misses(terms: &[Written]) -> Result<(), LensError> {
    for (number, term) in terms.iter().enumerate() {
        let (None, [value]) = (&term.word, &term.values[..]) else { continue };
        // what stands in quotes is meant as it is written
        if value.at.len() != value.bytes.len() {
            continue;
        }
        let Ok(text) = value.text() else { continue };
        let wrong = |message: String| Err(LensError::new(value.at.clone(), message));
        // only where a size or an age is meant: group:0 b asks for a name with a b in it
        let is_unit = |word: &str, text: &str| match word {
            "larger" | "smaller" => Bytes::parse(&format!("1{text}")).is_ok(),
            "older" | "newer" | "unread" => Age::parse(&format!("1{text}")).is_ok(),
            _ => false,
        };
        let before = number.checked_sub(1).and_then(|before| {
            let Written { word: Some((word, _)), values, .. } = &terms[before] else { return None };
            let [number] = &values[..] else { return None };
            let digits = number.text().ok().filter(|t| t.bytes().all(|b| b.is_ascii_digit()))?;
            Some((word, digits))
        });
        match text {
            "or" | "OR" | "||" | "|" => {
                return wrong("there is no `or`: values of one word stand beside each other, kind:audio,video; in quotes it is part of a name".into());
            }
            "and" | "AND" | "&&" | "&" => {
                return wrong("there is no `and`: all that is written must hold; in quotes it is part of a name".into());
            }
            "NOT" => return wrong("`not` is written small: not owner:root".into()),
            _ => {}
        }
        if let Some((word, digits)) = before
            && text.bytes().all(|byte| byte.is_ascii_alphabetic())
            && is_unit(word, text)
        {
            return wrong(format!("a number and its unit are one word: {word}:{digits}{text}"));
        }
        match text.chars().next() {
            Some('>' | '<' | '=') => {
                return wrong(
                    "sizes are written larger:100M or smaller:4k, ages older:1y or newer:7d".into(),
                );
            }
            Some('!') => return wrong("what must not be is written not owner:root".into()),
            _ => {}
        }
    }
    Ok(())
}

/// The known word that one was most likely meant to be, as something to say behind a message.
pub(crate) fn nearest<'a>(typed: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    let typed = typed.to_lowercase();
    let distance = |word: &str| strsim::damerau_levenshtein(&typed, &word.to_lowercase());
    let best = known.into_iter().map(|word| (distance(word), word)).min();
    match best {
        // two letters in five may be wrong
        Some((distance, word)) if distance * 5 <= word.chars().count().max(3) * 2 => {
            format!("; did you mean {}?", crate::shown::shown(word))
        }
        _ => String::new(),
    }
}

/// Texts without a word: parts of the name, or patterns for it.
fn bare(values: &[Value]) -> Result<Test, LensError> {
    if let Some(value) = values.iter().find(|value| value.bytes.is_empty() && value.at.is_empty()) {
        let message = "a text is missing beside the comma; in quotes a comma is part of a name";
        let from = value.at.start.saturating_sub(1);
        return Err(LensError::new(from..value.at.end.max(from + 1), message));
    }
    let is_pattern = |value: &&Value| value.bytes.iter().any(|byte| b"*?[".contains(byte));
    let patterns = values.iter().filter(is_pattern).count();
    if patterns == 0 {
        let lower = values.iter().map(|value| value.bytes.to_ascii_lowercase());
        return Ok(Test::Parts(lower.collect()));
    }
    if patterns < values.len() {
        let at = values[0].at.start..values.last().map_or(0, |value| value.at.end);
        let message = "patterns and plain texts do not go together: write *text* for a plain one";
        return Err(LensError::new(at, message));
    }
    Ok(Test::Names(values.iter().map(pattern).collect::<Result<_, _>>()?))
}

fn unknown_word(word: &str, at: &Range<usize>) -> LensError {
    let words: Vec<&str> = WORDS.iter().map(|row| row.text).collect();
    let near = nearest(word, words.iter().copied());
    let message = format!("`{word}` is no word of the lens{near}; there are {}", words.join(", "));
    LensError::new(at.clone(), message)
}

fn test_of(
    word: Word,
    values: &[Value],
    at: Range<usize>,
    accounts: &dyn Accounts,
) -> Result<Test, LensError> {
    let one = || match values {
        [one] => Ok(one),
        _ => Err(LensError::new(at.clone(), "one value and no more makes sense here")),
    };
    let wrong = |value: &Value, message: String| LensError::new(value.at.clone(), message);
    let bytes = |value: &Value| {
        Bytes::parse(value.text()?).map_err(|error| wrong(value, error.to_string()))
    };
    let age =
        |value: &Value| Age::parse(value.text()?).map_err(|error| wrong(value, error.to_string()));
    let lower = |value: &Value| value.bytes.to_ascii_lowercase();
    Ok(match word {
        Word::Kind => Test::Kinds(values.iter().map(kind).collect::<Result<_, _>>()?),
        Word::Ext => Test::Extensions(
            values
                .iter()
                .map(|v| lower(v).strip_prefix(b".").map_or(lower(v), <[u8]>::to_vec))
                .collect(),
        ),
        Word::Name => Test::Names(values.iter().map(pattern).collect::<Result<_, _>>()?),
        Word::Larger => Test::Larger(bytes(one()?)?),
        Word::Smaller => Test::Smaller(bytes(one()?)?),
        Word::Older => Test::Older(age(one()?)?),
        Word::Newer => Test::Newer(age(one()?)?),
        Word::Unread => Test::Unread(age(one()?)?),
        Word::Owner => {
            let known = || accounts.users();
            Test::Owners(accounts_of(values, "user", |name| accounts.user_number(name), known)?)
        }
        Word::Group => {
            let known = || accounts.groups();
            Test::Groups(accounts_of(values, "group", |name| accounts.group_number(name), known)?)
        }
        Word::Under => Test::Under(values.iter().map(under).collect::<Result<_, _>>()?),
        Word::Family => Test::Families(values.iter().map(|value| value.bytes.clone()).collect()),
        Word::Links => {
            let value = one()?;
            if value.bytes == b"first" {
                return Ok(Test::FirstName);
            }
            let number = value.text()?.parse().ok().filter(|number| *number > 0);
            let message = "expected a number of names, such as links:2, or links:first";
            Test::Links(number.ok_or_else(|| wrong(value, message.to_owned()))?)
        }
        Word::Depth => Test::Depth(values.iter().map(range).collect::<Result<_, _>>()?),
        Word::Length => Test::Length(values.iter().map(range).collect::<Result<_, _>>()?),
        Word::Is => Test::Attributes(values.iter().map(attribute).collect::<Result<_, _>>()?),
    })
}

fn kind(value: &Value) -> Result<FileKind, LensError> {
    FileKind::of_word(value.text()?).ok_or_else(|| {
        let words: Vec<&str> = FileKind::all().map(FileKind::word).collect();
        let near = nearest(&String::from_utf8_lossy(&value.bytes), words.iter().copied());
        let message = format!("no such kind{near}; there are {}", words.join(", "));
        LensError::new(value.at.clone(), message)
    })
}

fn attribute(value: &Value) -> Result<Attribute, LensError> {
    let text = value.text()?;
    Attribute::ALL.into_iter().find(|attribute| attribute.word() == text).ok_or_else(|| {
        let words: Vec<&str> = Attribute::ALL.iter().map(|attribute| attribute.word()).collect();
        let near = nearest(text, words.iter().copied());
        let message = format!("no such attribute{near}; there are {}", words.join(", "));
        LensError::new(value.at.clone(), message)
    })
}

fn pattern(value: &Value) -> Result<Pattern, LensError> {
    Pattern::parse(value.text()?)
        .map_err(|error| LensError::new(value.at.clone(), error.to_string()))
}

fn under(value: &Value) -> Result<Vec<u8>, LensError> {
    let parts = value.bytes.split(|byte| *byte == b'/');
    let plain: Vec<&[u8]> = parts.filter(|part| !part.is_empty() && *part != b".").collect();
    if value.bytes.is_empty() || plain.contains(&&b".."[..]) {
        let message = "expected a path without `..`";
        return Err(LensError::new(value.at.clone(), message));
    }
    let mut path = plain.join(&b'/');
    if value.bytes.first() == Some(&b'/') {
        path.insert(0, b'/');
    }
    Ok(path)
}

fn range(value: &Value) -> Result<(u32, u32), LensError> {
    let text = value.text()?;
    let (from, to) = text.split_once('-').unwrap_or((text, text));
    match (from.parse(), to.parse()) {
        (Ok(from), Ok(to)) if from <= to => Ok((from, to)),
        _ => {
            let message = "expected a number, or from-to such as 3-5";
            Err(LensError::new(value.at.clone(), message))
        }
    }
}

fn accounts_of(
    values: &[Value],
    what: &str,
    number: impl Fn(&str) -> Option<u32>,
    known: impl Fn() -> Vec<String>,
) -> Result<Vec<Account>, LensError> {
    let account = |value: &Value| {
        let text = value.text()?;
        if text == "unknown" {
            return Ok(Account::Unknown);
        }
        let number = text.parse().ok().or_else(|| number(text));
        number.map(Account::Number).ok_or_else(|| {
            let known = known();
            let near = nearest(text, known.iter().map(String::as_str));
            let message = format!("no {what} has this name{near}; a number is taken too");
            LensError::new(value.at.clone(), message)
        })
    };
    values.iter().map(account).collect()
}

/// The row of a word, by what is typed.
pub(super) fn row_of(text: &str) -> Option<&'static WordRow> {
    WORDS.iter().find(|row| row.text == text)
}

#[cfg(test)]
mod tests {
    use super::super::accounts::tests::Few;
    use super::super::complete;
    use super::*;

    #[test]
    fn what_is_wrong_in_a_lens_is_told_with_its_place() {
        let cases: &[(&str, &str, &str)] = &[
            ("colour:red", "colour", "no word of the lens"),
            ("kind:audio older:soon", "soon", "an age such as"),
            ("larger:10parsecs", "10parsecs", "a size such as"),
            ("larger:1M,2M", "larger:1M,2M", "one value"),
            ("kind:sound", "sound", "no such kind"),
            ("kind:audio,", "kind:audio,", "a value is missing"),
            ("kind:", "kind:", "a value is missing"),
            ("is:big", "big", "no such attribute"),
            ("owner:nemo", "nemo", "no user has this name"),
            ("under:../x", "../x", "without `..`"),
            ("depth:5-3", "5-3", "from-to"),
            ("links:0", "0", "number of names"),
            ("name:[", "[", "a name pattern"),
            ("name:\"x", "\"x", "closing quote"),
            ("name:\"\\xzz\"", "\\xzz", "hexadecimal"),
            ("x not", "not", "what must not be"),
            (",", ",", "a text is missing"),
            ("log,", ",", "a text is missing"),
            ("log,,txt", ",", "a text is missing"),
            ("*.raw,wav", "*.raw,wav", "do not go together"),
            ("older:1y or ext:wav", "or", "there is no `or`"),
            ("ext:wav && name:x", "&&", "there is no `and`"),
            ("larger:10 M", "M", "larger:10M"),
            ("older:1 y", "y", "older:1y"),
            ("size >10M", ">10M", "larger:100M"),
            ("!owner:root", "!owner:root", ""),
        ];
        for (text, place, words) in cases {
            let error = Lens::parse(text, &Few).unwrap_err();
            assert_eq!(&text[error.at.clone()], *place, "{text}: {error}");
            assert!(error.message.contains(words), "{text}: {error}");
        }
        for text in [
            "",
            "  ",
            "not not x",
            "notes",
            "kind:audio,video not owner:unknown,7 *.wav",
            "group:0 B",
        ] {
            assert!(Lens::parse(text, &Few).is_ok(), "{text}");
        }
        assert!(Lens::parse(" ", &Few).unwrap().is_open());
    }

    #[test]
    fn the_page_about_the_lens_names_every_word_kind_and_attribute() {
        let page = include_str!("../../../../docs/lens.md");
        let words = WORDS.iter().map(|row| row.text);
        let kinds = FileKind::all().map(FileKind::word);
        for word in words.chain(kinds).chain(Attribute::ALL.map(Attribute::word)) {
            assert!(page.contains(&format!("`{word}`")), "{word}");
        }
    }

    #[test]
    fn any_value_can_be_written_and_read_again() {
        let hostile: [&[u8]; 7] = [
            b"plain-1.csv",
            b"",
            b"two words",
            b"quo\"te\\",
            b"\xff\xfe\n",
            b"a,b:c",
            "潮\u{202e}".as_bytes(),
        ];
        for value in hostile {
            let text = Lens::write(Word::Family, value);
            assert!(!text.chars().any(|c| c.is_control() || crate::shown::drives_a_terminal(c)));
            let terms = Reader { text: &text, at: 0 }.terms().unwrap();
            assert_eq!(terms.len(), 1, "{text}");
            assert_eq!(terms[0].values[0].bytes, value, "{text}");
            assert!(Lens::parse(&text, &Few).is_ok());
        }
    }

    #[test]
    fn the_end_of_a_text_is_completed_with_words_and_values() {
        let texts = |typed: &str| -> Vec<String> {
            complete(typed, &Few).into_iter().map(|completion| completion.text).collect()
        };
        assert_eq!(texts("kind:audio ol"), ["kind:audio older:"]);
        assert_eq!(texts("not own"), ["not owner:"]);
        assert_eq!(texts("owner:"), ["owner:acoustics", "owner:modelling", "owner:unknown"]);
        assert_eq!(texts("kind:audio,vid"), ["kind:audio,video"]);
        assert_eq!(texts("is:im"), ["is:immutable"]);
        assert_eq!(texts("").len(), WORDS.len());
        assert!(texts("nothing:x").is_empty());
        // whatever is offered as a whole is a lens
        let whole = WORDS.iter().flat_map(|row| complete(&format!("{}:", row.text), &Few));
        for completion in whole {
            assert!(Lens::parse(&completion.text, &Few).is_ok(), "{}", completion.text);
        }
        for row in WORDS.iter().filter(|row| row.word != Word::Under) {
            let text = format!("{}:{}", row.text, row.example);
            assert!(Lens::parse(&text, &Few).is_ok(), "{text}");
        }
    }
}
