//! Families: names that differ only in dates, numbers or version.

/// The name that all members of a family have in common: every run of numbers is a `#`.
pub type Family = Vec<u8>;

/// The family of a name; nothing if there is no number in it, so that it stands for itself.
///
/// Runs of digits become `#`, and so do hexadecimal numbers that stand by themselves, dates and versions: runs
/// that only `-`, `_`, `.`, `:` or `T` part. A number at the very end, before an ending of compressed files or
/// not, is the count of a rotated file and is left out, so that `buoy.log.1` and `buoy.log.2.gz` are of the family
/// that `buoy.log` stands for. An ending such as `mp4` stays what it is.
pub fn family(name: &[u8]) -> Option<Family> {
    let mut out = Vec::with_capacity(name.len());
    write(name, &mut out).then_some(out)
}

/// As [`family`], into a vector that is used again; says whether the name is of a family other than itself.
pub(crate) fn write(name: &[u8], out: &mut Family) -> bool {
    out.clear();
    let (stem, ending) = name.split_at(name.len() - kept_ending(name));
    // most names have no number; every byte is looked at, since that is faster than to stop at the first
    if !stem.iter().fold(false, |any, byte| any | byte.is_ascii_digit()) {
        return false;
    }
    out.reserve(name.len());
    let mut at = 0;
    while at < stem.len() {
        let run = Run::at(stem, at);
        let end = at + run.length;
        if run.any & DIGIT == 0 {
            // with what parts it from the next run
            let next = stem.len().min(end + 1);
            out.extend_from_slice(&stem[at..next]);
            at = next;
        } else if run.is_hexadecimal() {
            out.push(b'#');
            at = end;
        } else {
            at = write_numbers(stem, at, out);
        }
    }
    out.extend_from_slice(ending);
    cut_rotation(out);
    true
}

const DIGIT: u8 = 1;
const HEXADECIMAL: u8 = 2;
const WORD: u8 = 4;

/// What each byte may be part of.
const CLASSES: [u8; 256] = {
    let mut classes = [0; 256];
    let mut byte = 0;
    while byte < 128 {
        let is = byte as u8;
        classes[byte] = if is.is_ascii_digit() { DIGIT } else { 0 }
            | if is.is_ascii_hexdigit() { HEXADECIMAL } else { 0 }
            | if is.is_ascii_alphanumeric() { WORD } else { 0 };
        byte += 1;
    }
    classes
};

/// How long the ending is that tells what the file is, with its dot: a few signs, one of them a letter.
fn kept_ending(name: &[u8]) -> usize {
    let ending = super::extension(name);
    let tells = (1..=4).contains(&ending.len()) && ending.iter().any(u8::is_ascii_alphabetic);
    if tells { ending.len() + 1 } else { 0 }
}

/// A run of letters and digits, with what all of its bytes may be part of, and any of them.
struct Run {
    length: usize,
    all: u8,
    any: u8,
}

impl Run {
    fn at(name: &[u8], at: usize) -> Self {
        let mut run = Self { length: 0, all: u8::MAX, any: 0 };
        for byte in &name[at..] {
            let class = CLASSES[usize::from(*byte)];
            if class & WORD == 0 {
                break;
            }
            run.length += 1;
            run.all &= class;
            run.any |= class;
        }
        run
    }

    /// Whether it is a hexadecimal number, as in the names of temporary files: six signs or more, one of them a
    /// digit and one a letter.
    fn is_hexadecimal(&self) -> bool {
        self.length >= 6 && self.all & (HEXADECIMAL | DIGIT) == HEXADECIMAL && self.any & DIGIT != 0
    }
}

/// Writes a run of letters with numbers among them, and gives where it went on to: a number may go beyond.
fn write_numbers(name: &[u8], mut at: usize, out: &mut Family) -> usize {
    while at < name.len() && name[at].is_ascii_alphanumeric() {
        if name[at].is_ascii_digit() {
            at = past_number(name, at);
            out.push(b'#');
        } else {
            out.push(name[at]);
            at += 1;
        }
    }
    at
}

/// Past a run of digits and those that belong to the same date or version.
fn past_number(name: &[u8], mut at: usize) -> usize {
    loop {
        while at < name.len() && name[at].is_ascii_digit() {
            at += 1;
        }
        let parts = name.get(at).is_some_and(|byte| b"-_.:T".contains(byte));
        let goes_on = name.get(at + 1).is_some_and(u8::is_ascii_digit);
        if !(parts && goes_on) {
            return at;
        }
        at += 1;
    }
}

/// Takes away the count of a rotated file: `.#` at the end, also before an ending of compressed files.
fn cut_rotation(out: &mut Family) {
    const PACKED: [&[u8]; 4] = [b".gz", b".xz", b".zst", b".bz2"];
    let mut end = out.len();
    if let Some(packed) = PACKED.iter().find(|packed| out.ends_with(packed)) {
        end -= packed.len();
    }
    if out[..end].ends_with(b".#") && end > 2 {
        out.truncate(end - 2);
    }
}

/// Whether a name is of a family: [`family`] gives it, or it is the name that stands for it.
pub(crate) fn is_of(name: &[u8], family: &[u8], spare: &mut Family) -> bool {
    // what stands before the first number is the same in all of them
    let same = family.iter().position(|byte| *byte == b'#').unwrap_or(family.len());
    if !name.starts_with(&family[..same]) && !name.contains(&b'#') {
        return false;
    }
    if write(name, spare) { spare == family } else { name == family }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_differ_in_dates_numbers_or_version_are_one_family() {
        let cases: &[(&str, &[&str])] = &[
            ("tide-#.csv.gz", &["tide-2041-03-07.csv.gz", "tide-2040_1_1.csv.gz", "tide-7.csv.gz"]),
            ("run-#.tar", &["run-1.0.3.tar", "run-12.tar"]),
            ("still-#Z.jpg", &["still-20410307T101500Z.jpg", "still-2041-03-07T10:15:00Z.jpg"]),
            ("buoy.log", &["buoy.log.1", "buoy.log.22", "buoy.log.3.gz", "buoy.log.4.bz2"]),
            ("#.wav", &["2041.wav", "2041-03.wav"]),
            ("dive-#.mp4", &["dive-1.mp4", "dive-2041-03.mp4"]),
            ("lib.so", &["lib.so.1", "lib.so.1.2.3"]),
            ("r#-#", &["r7-ab1cdef", "r2041-ab1cdef"]),
            ("x#abc#def", &["x1-2abc1def"]),
            (".tmp-#", &[".tmp-000aac", ".tmp-ab12cdef", ".tmp-7"]),
        ];
        for (expected, names) in cases {
            for name in *names {
                let found = family(name.as_bytes()).map(|f| String::from_utf8(f).unwrap());
                assert_eq!(found.as_deref(), Some(*expected), "{name}");
                assert!(is_of(name.as_bytes(), expected.as_bytes(), &mut Vec::new()));
            }
        }
        assert_eq!(family(b"buoy.log"), None);
        assert!(is_of(b"buoy.log", b"buoy.log", &mut Vec::new()));
        assert!(!is_of(b"buoys.log", b"buoy.log", &mut Vec::new()));
        assert_eq!(family(b"7"), Some(b"#".to_vec()));
        assert_eq!(family(b".1"), Some(b".#".to_vec()));
    }
}
