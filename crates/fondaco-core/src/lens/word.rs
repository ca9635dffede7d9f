//! The words of the lens, in one table from which parsing, completion and help are made.

use crate::catalog::{Catalog, EntryId};
use crate::kernel::Kind;

/// What a term asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // the table below says what each means
pub enum Word {
    Kind,
    Ext,
    Name,
    Larger,
    Smaller,
    Older,
    Newer,
    Unread,
    Owner,
    Group,
    Under,
    Family,
    Links,
    Depth,
    Length,
    Is,
}

impl Word {
    /// The word as it is typed.
    pub fn text(self) -> &'static str {
        WORDS.iter().find(|row| row.word == self).map_or("", |row| row.text)
    }
}

/// A word, as it is typed, with what it means.
#[derive(Clone, Copy, Debug)]
pub struct WordRow {
    /// The word that the row is about.
    pub word: Word,
    /// As it is typed.
    pub text: &'static str,
    /// A value that it may have.
    pub example: &'static str,
    /// What passes a term with this word, for the help.
    pub help: &'static str,
}

const fn row(word: Word, text: &'static str, example: &'static str, help: &'static str) -> WordRow {
    WordRow { word, text, example, help }
}

/// All words of the lens.
#[rustfmt::skip] // a table is read down its columns
pub static WORDS: &[WordRow] = &[
    row(Word::Kind, "kind", "audio,video", "contents by the name's ending, or directory, link, special"),
    row(Word::Ext, "ext", "wav", "the name's ending; \"\" for none"),
    row(Word::Name, "name", "*.raw", "a pattern for the name; with a slash for the path below the root"),
    row(Word::Larger, "larger", "100M", "so many bytes on disk or more"),
    row(Word::Smaller, "smaller", "4k", "fewer bytes on disk than this"),
    row(Word::Older, "older", "1y", "last written so long ago or longer"),
    row(Word::Newer, "newer", "7d", "last written less long ago"),
    row(Word::Unread, "unread", "90d", "last read so long ago or longer"),
    row(Word::Owner, "owner", "acoustics", "a user by name or number; unknown for numbers without an account"),
    row(Word::Group, "group", "buoyops", "a group, likewise"),
    row(Word::Under, "under", "/srv/seamark/logs", "below a directory; a relative one begins at the root"),
    row(Word::Family, "family", "tide-#.csv.gz", "names that differ only in numbers, which are written #"),
    row(Word::Links, "links", "2", "so many names or more; first: of its names the first that passes what stands before"),
    row(Word::Depth, "depth", "3-5", "levels below the root"),
    row(Word::Length, "length", "65-255", "bytes in the name"),
    row(Word::Is, "is", "hidden", "an attribute"),
];

/// Something that an entry is or is not.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[allow(missing_docs)] // `help` says what each means
pub enum Attribute {
    Hidden,
    Executable,
    SetId,
    WorldWritable,
    Sparse,
    MultiLinked,
    Empty,
    Immutable,
    AppendOnly,
}

impl Attribute {
    /// All there are.
    pub const ALL: [Self; 9] = [
        Self::Hidden,
        Self::Executable,
        Self::SetId,
        Self::WorldWritable,
        Self::Sparse,
        Self::MultiLinked,
        Self::Empty,
        Self::Immutable,
        Self::AppendOnly,
    ];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Hidden => "hidden",
            Self::Executable => "executable",
            Self::SetId => "set-id",
            Self::WorldWritable => "world-writable",
            Self::Sparse => "sparse",
            Self::MultiLinked => "multi-linked",
            Self::Empty => "empty",
            Self::Immutable => "immutable",
            Self::AppendOnly => "append-only",
        }
    }

    /// What it means.
    pub fn help(self) -> &'static str {
        match self {
            Self::Hidden => "the name begins with a dot",
            Self::Executable => "a file that may be run by somebody",
            Self::SetId => "a file that runs as its owner or group",
            Self::WorldWritable => "anybody may write to it",
            Self::Sparse => "a file with holes, or stored smaller than it is",
            Self::MultiLinked => "its inode has several names",
            Self::Empty => "a file without a byte, a directory without an entry",
            Self::Immutable => {
                "it cannot be changed or removed until that is taken off (chattr +i)"
            }
            Self::AppendOnly => "it can only be appended to (chattr +a)",
        }
    }

    /// Whether a scan alone does not tell it.
    pub fn wants_closer_look(self) -> bool {
        matches!(self, Self::Immutable | Self::AppendOnly)
    }

    /// Whether an entry has it. What only a closer look tells nothing has before that.
    pub fn holds(self, catalog: &Catalog, id: EntryId) -> bool {
        let mode = || catalog.mode(id);
        let is_file = || catalog.kind(id) == Kind::File;
        let closer = |look: fn(&crate::catalog::Closer, EntryId) -> bool| {
            catalog.closer().is_some_and(|closer| look(closer, id))
        };
        match self {
            Self::Hidden => catalog.own_name(id).first() == Some(&b'.'),
            Self::Executable => is_file() && mode() & 0o111 != 0,
            Self::SetId => is_file() && mode() & 0o6000 != 0,
            // a directory with the sticky bit protects what others put there; links have no mode
            Self::WorldWritable => {
                mode() & 0o2 != 0 && mode() & 0o1000 == 0 && catalog.kind(id) != Kind::Link
            }
            Self::Sparse => is_file() && catalog.allocated(id) < catalog.apparent(id),
            Self::MultiLinked => catalog.is_multi_linked(id),
            Self::Empty => match catalog.kind(id) {
                Kind::File => catalog.apparent(id).get() == 0,
                Kind::Directory => catalog.is_known_empty(id),
                _ => false,
            },
            Self::Immutable => closer(crate::catalog::Closer::is_immutable),
            Self::AppendOnly => closer(crate::catalog::Closer::is_append_only),
        }
    }
}
