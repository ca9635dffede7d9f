//! The list of a collection, as `PROPFIND` gives it (RFC 4918, 9.1).

use std::io::{BufReader, Read};

use jiff::fmt::rfc2822;
use percent_encoding::percent_decode_str;
use quick_xml::Reader;
use quick_xml::events::Event;
use url::Url;

use crate::http::Client;
use crate::{Below, Listed, StoreError};

/// What is asked of each object.
pub(super) const WANTED: &str = "<?xml version=\"1.0\" encoding=\"utf-8\"?>\
    <propfind xmlns=\"DAV:\"><prop><resourcetype/><getcontentlength/><getlastmodified/></prop></propfind>";

/// A longer list is no list of archives.
const LONGEST: u64 = 1 << 30;

/// What lies directly in a collection, which is itself one of those that the list names.
pub(super) fn members(
    text: impl Read,
    collection: &Url,
    client: &Client,
) -> Result<Vec<Below>, StoreError> {
    let mut reader = Reader::from_reader(BufReader::new(text.take(LONGEST)));
    let senseless = |error: &dyn std::fmt::Display| client.senseless(error.to_string());
    let (mut found, mut inside, mut bytes) = (Vec::new(), Vec::new(), Vec::new());
    let mut this = Response::default();
    let mut is_whole = false;
    loop {
        let event = reader.read_event_into(&mut bytes).map_err(|error| match error {
            quick_xml::Error::Io(error) => client.cut(&error.to_string()),
            other => senseless(&other),
        })?;
        match event {
            Event::Start(start) => {
                let name = start.local_name().as_ref().to_vec();
                match name.as_slice() {
                    b"response" => this = Response::default(),
                    b"collection" => this.is_collection = true,
                    _ => {}
                }
                inside.push(name);
            }
            Event::Empty(start) if start.local_name().as_ref() == b"collection" => {
                this.is_collection = true;
            }
            Event::Text(text) => {
                this.add(&inside, &text.decode().map_err(|error| senseless(&error))?);
            }
            Event::GeneralRef(reference) => {
                let name = reference.decode().map_err(|error| senseless(&error))?;
                this.add(
                    &inside,
                    quick_xml::escape::resolve_predefined_entity(&name).unwrap_or("?"),
                );
            }
            Event::End(_) => match inside.pop().as_deref() {
                Some(b"response") => found.extend(this.below(collection)),
                Some(b"multistatus") => is_whole = true,
                _ => {}
            },
            Event::Eof if is_whole => return Ok(found),
            Event::Eof => return Err(client.cut("the list ends too early")),
            _ => {}
        }
        bytes.clear();
    }
}

/// What is told of one object.
#[derive(Default)]
struct Response {
    href: String,
    length: String,
    written: String,
    is_collection: bool,
}

impl Response {
    fn add(&mut self, inside: &[Vec<u8>], text: &str) {
        match inside.last().map(Vec::as_slice) {
            Some(b"href") => self.href.push_str(text),
            Some(b"getcontentlength") => self.length.push_str(text),
            Some(b"getlastmodified") => self.written.push_str(text),
            _ => {}
        }
    }

    /// What it is, if it lies directly in the collection.
    fn below(&self, collection: &Url) -> Option<Below> {
        // an address that leads elsewhere has another beginning
        let url = collection.join(self.href.trim()).ok()?;
        let name = (url.origin() == collection.origin())
            .then(|| url.path().strip_prefix(collection.path()))
            .flatten()?;
        let name = percent_decode_str(name).decode_utf8().ok()?;
        let name = if self.is_collection { name.trim_end_matches('/') } else { &name };
        if name.is_empty() || name.contains('/') {
            return None;
        }
        if self.is_collection {
            return Some(Below::Directory(name.to_owned()));
        }
        let written = rfc2822::parse(self.written.trim()).ok();
        Some(Below::Object(Listed {
            name: name.to_owned(),
            length: self.length.trim().parse().unwrap_or(0),
            written: written.map(|zoned| zoned.timestamp().as_second()),
        }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_lies_in_a_collection_is_listed_and_nothing_else() {
        let url: Url = "http://127.0.0.1:9/dav/pier/".parse().unwrap();
        let client = Client::new(&url, None).unwrap();
        let one = |href: &str, rest: &str| {
            format!(
                "<D:response><D:href>{href}</D:href><D:propstat><D:prop>{rest}</D:prop>\
                 <D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>"
            )
        };
        let length = "<D:resourcetype/><D:getcontentlength>70</D:getcontentlength>\
                      <D:getlastmodified>Thu, 07 Mar 2041 03:00:00 GMT</D:getlastmodified>";
        let text = format!(
            "<?xml version=\"1.0\"?><D:multistatus xmlns:D=\"DAV:\">{}{}{}{}{}{}{}</D:multistatus>",
            one("/dav/pier/", "<D:resourcetype><D:collection/></D:resourcetype>"),
            one("/dav/pier/a%20%26%20b.tar.zst", length),
            one("http://127.0.0.1:9/dav/pier/c&amp;d", "<D:resourcetype/>"),
            one("/dav/pier/deeper/", "<D:resourcetype><D:collection/></D:resourcetype>"),
            one("/dav/other/e", length),
            one("/dav/pier/../f", length),
            one("http://elsewhere.seamark.example/dav/pier/g", length),
        );
        let found = members(text.as_bytes(), &url, &client).unwrap();
        let object = |name: &str, length, written| {
            Below::Object(Listed { name: name.to_owned(), length, written })
        };
        let wanted = [
            object("a & b.tar.zst", 70, Some(2_246_238_000)),
            object("c&d", 0, None),
            Below::Directory("deeper".to_owned()),
        ];
        assert_eq!(found, wanted);
        for cut in [10, text.len() / 2, text.len() - 4] {
            assert!(members(&text.as_bytes()[..cut], &url, &client).is_err(), "{cut}");
        }
    }
}
