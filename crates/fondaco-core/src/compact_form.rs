//! The compact form in which very many records lie in memory and in the journal: that of the library `postcard`, which
//! writes values one behind the other and no names. Points in time and paths have theirs here.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use postcard::ser_flavors::Flavor;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::units::Time;

/// A point in time: seconds since 1970 and nanoseconds.
pub(crate) type Moment = (i64, u32);

/// A point in time in the compact form.
pub(crate) fn moment(time: Time) -> Moment {
    (time.sec, time.nsec)
}

/// The point in time again.
pub(crate) fn time_of((sec, nsec): Moment) -> Time {
    Time { sec, nsec }
}

/// Bytes in the compact form, which are written as a list of them would be, but all at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct ByteString<'a>(pub(crate) &'a [u8]);

impl Serialize for ByteString<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_bytes(self.0)
    }
}

impl<'de: 'a, 'a> Deserialize<'de> for ByteString<'a> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        Ok(Self(Deserialize::deserialize(from)?))
    }
}

/// A path in the compact form: its bytes.
pub(crate) fn path_bytes(path: &Path) -> ByteString<'_> {
    ByteString(path.as_os_str().as_bytes())
}

/// The path again, where it lies.
pub(crate) fn path_in(bytes: ByteString<'_>) -> &Path {
    Path::new(OsStr::from_bytes(bytes.0))
}

/// The path again.
pub(crate) fn path_of_bytes(bytes: ByteString<'_>) -> PathBuf {
    path_in(bytes).to_owned()
}

/// Appends a value in the form of the library `postcard`. `false` if it has none; then nothing is appended.
pub(crate) fn append(value: &impl Serialize, out: &mut Vec<u8>) -> bool {
    let length = out.len();
    let appended = postcard::serialize_with_flavor(value, Appending(out)).is_ok();
    if !appended {
        out.truncate(length);
    }
    appended
}

/// Writes whole slices at once, which the library's own way of appending does not.
struct Appending<'a>(&'a mut Vec<u8>);

impl Flavor for Appending<'_> {
    type Output = ();

    fn try_push(&mut self, byte: u8) -> postcard::Result<()> {
        self.0.push(byte);
        Ok(())
    }

    fn try_extend(&mut self, bytes: &[u8]) -> postcard::Result<()> {
        self.0.extend_from_slice(bytes);
        Ok(())
    }

    fn finalize(self) -> postcard::Result<()> {
        Ok(())
    }
}

/// Takes a value in the form of the library `postcard` from the front.
pub(crate) fn take<'a, T: Deserialize<'a>>(from: &mut &'a [u8]) -> Option<T> {
    let (value, rest) = postcard::take_from_bytes(from).ok()?;
    *from = rest;
    Some(value)
}

/// For serde: a path as its bytes.
pub(crate) mod path_as_bytes {
    use std::ffi::OsString;
    use std::os::unix::ffi::OsStringExt;
    use std::path::{Path, PathBuf};

    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub(crate) fn serialize<S: Serializer>(path: &Path, to: S) -> Result<S::Ok, S::Error> {
        super::path_bytes(path).serialize(to)
    }

    pub(crate) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<PathBuf, D::Error> {
        Ok(OsString::from_vec(Vec::deserialize(from)?).into())
    }
}
