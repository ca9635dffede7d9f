//! Reading an object over connections that may be cut: each next one goes on where the last one ended.

use std::fmt::Debug;
use std::io::{self, Read};
use std::sync::Arc;

use http::header::{CONTENT_LENGTH, CONTENT_RANGE, ETAG, LAST_MODIFIED};
use http::{HeaderMap, Response, StatusCode};
use jiff::fmt::rfc2822;
use ureq::{Body, BodyReader};

use crate::http::{Client, Patience};
use crate::{Facts, StoreError};

/// An object is not asked for more often than this, however much of it comes each time.
const MOST_CONNECTIONS: u32 = 1000;

/// What can be asked for parts of objects.
pub(crate) trait Source: Debug + Send + Sync {
    /// Asks once for an object: from a byte on, and not beyond `to` if that is given; all of it if neither says otherwise.
    fn ask(&self, name: &str, from: u64, to: Option<u64>) -> Result<Response<Body>, StoreError>;

    fn client(&self) -> &Client;

    fn patience(&self) -> Patience;
}

/// An object, or a part of one, that is being read.
pub(crate) struct Reading<S> {
    source: Arc<S>,
    name: String,
    at: u64,
    end: u64,
    /// The version that was begun with: another one is no continuation of it.
    tag: Option<String>,
    stream: Option<BodyReader<'static>>,
    failures: u32,
    connections: u32,
}

impl<S: Source> Reading<S> {
    pub(crate) fn open(
        source: Arc<S>,
        name: &str,
        from: u64,
        length: Option<u64>,
    ) -> Result<Self, StoreError> {
        let to = length.map(|length| from.saturating_add(length));
        let part = source.patience().again(|_| part(&*source, name, from, to))?;
        Ok(Self {
            source,
            name: name.to_owned(),
            at: from,
            end: part.end,
            tag: part.tag,
            stream: Some(part.stream),
            failures: 0,
            connections: 1,
        })
    }

    fn reopen(&mut self) -> Result<(), StoreError> {
        self.connections += 1;
        let part = part(&*self.source, &self.name, self.at, Some(self.end))?;
        if part.end != self.end || (part.tag.is_some() && part.tag != self.tag) {
            // no later try can make it the same object again
            self.failures = self.source.patience().tries;
            return Err(self
                .source
                .client()
                .senseless("the object was replaced while it was read"));
        }
        self.stream = Some(part.stream);
        Ok(())
    }

    /// Whether another try makes sense; waits before it.
    fn goes_on(&mut self, error: &StoreError) -> bool {
        self.stream = None;
        self.failures += 1;
        let patience = self.source.patience();
        let more = error.is_passing()
            && self.failures < patience.tries
            && self.connections < MOST_CONNECTIONS;
        if more {
            tracing::debug!(at = self.at, "an object is asked for again: {error}");
            std::thread::sleep(patience.wait(self.failures));
        }
        more
    }
}

impl<S: Source> Read for Reading<S> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            let left = usize::try_from(self.end.saturating_sub(self.at)).unwrap_or(usize::MAX);
            let want = buffer.len().min(left);
            if want == 0 {
                return Ok(0);
            }
            let error = match &mut self.stream {
                None => match self.reopen() {
                    Ok(()) => continue,
                    Err(error) => error,
                },
                Some(stream) => match stream.read(&mut buffer[..want]) {
                    Ok(0) => self.source.client().cut("the connection ended too early"),
                    Ok(got) => {
                        self.at += got as u64;
                        self.failures = 0;
                        return Ok(got);
                    }
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                    Err(error) => self.source.client().cut(&error.to_string()),
                },
            };
            if !self.goes_on(&error) {
                return Err(error.into());
            }
        }
    }
}

struct Part {
    stream: BodyReader<'static>,
    end: u64,
    tag: Option<String>,
}

/// Asks for a part, and sees that the answer is that part.
fn part(source: &impl Source, name: &str, from: u64, to: Option<u64>) -> Result<Part, StoreError> {
    let client = source.client();
    let answer = source.ask(name, from, to)?;
    let headers = answer.headers();
    let end = match answer.status() {
        StatusCode::OK if from == 0 => {
            let length = length(headers)
                .ok_or_else(|| client.senseless("it does not say how long the object is"))?;
            to.map_or(length, |to| to.min(length))
        }
        StatusCode::PARTIAL_CONTENT => {
            let (first, last, whole) = range(headers)
                .ok_or_else(|| client.senseless("it does not say which part it is"))?;
            let end = to.map_or(whole, |to| to.min(whole));
            if first != from || last.checked_add(1) != Some(end) {
                return Err(client.senseless("it is another part than was asked for"));
            }
            end
        }
        StatusCode::OK => {
            return Err(client.senseless("it gives the whole object for a part of it"));
        }
        StatusCode::NOT_FOUND | StatusCode::GONE => return Err(StoreError::Absent),
        _ => return Err(client.refusal(answer)),
    };
    let tag = tag(headers);
    Ok(Part { stream: answer.into_body().into_reader(), end, tag })
}

/// What lies under a name, beside what was to be written there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Stored {
    /// All of it.
    Whole,
    /// The beginning of it, or nothing: a transfer that was cut.
    Beginning,
    /// An object of somebody else.
    Other,
}

/// Compares what lies under a name with what was to be written there, when the answer to the writing was lost.
pub(crate) fn compare(
    source: &impl Source,
    name: &str,
    contents: &[u8],
) -> Result<Stored, StoreError> {
    let answer = source.ask(name, 0, None)?;
    match answer.status() {
        StatusCode::OK => {}
        StatusCode::NOT_FOUND | StatusCode::GONE => return Ok(Stored::Beginning),
        _ => return Err(source.client().refusal(answer)),
    }
    let mut stored = Vec::new();
    let limit = contents.len() as u64 + 1;
    let read = answer.into_body().into_reader().take(limit).read_to_end(&mut stored);
    read.map_err(|error| source.client().cut(&error.to_string()))?;
    Ok(match (stored == contents, contents.starts_with(&stored)) {
        (true, _) => Stored::Whole,
        (false, true) => Stored::Beginning,
        (false, false) => Stored::Other,
    })
}

/// What an answer to `HEAD` tells.
pub(crate) fn facts(answer: Response<Body>, client: &Client) -> Result<Option<Facts>, StoreError> {
    match answer.status() {
        StatusCode::OK => {
            let length = length(answer.headers())
                .ok_or_else(|| client.senseless("it does not say how long the object is"))?;
            let written = answer.headers().get(LAST_MODIFIED).and_then(|text| text.to_str().ok());
            let written = written.and_then(|text| rfc2822::parse(text).ok());
            let written = written.map(|zoned| zoned.timestamp().as_second());
            Ok(Some(Facts { length, written, tag: tag(answer.headers()) }))
        }
        StatusCode::NOT_FOUND | StatusCode::GONE => Ok(None),
        _ => Err(client.refusal(answer)),
    }
}

/// The value of the header `Range` (RFC 9110, 14.2), if not all is asked for.
pub(crate) fn range_header(from: u64, to: Option<u64>) -> Option<String> {
    match (from, to) {
        (0, None) => None,
        (from, None) => Some(format!("bytes={from}-")),
        (from, Some(to)) => Some(format!("bytes={from}-{}", to.saturating_sub(1).max(from))),
    }
}

pub(crate) fn tag(headers: &HeaderMap) -> Option<String> {
    headers.get(ETAG)?.to_str().ok().map(str::to_owned)
}

fn length(headers: &HeaderMap) -> Option<u64> {
    headers.get(CONTENT_LENGTH)?.to_str().ok()?.parse().ok()
}

/// `bytes FIRST-LAST/WHOLE` (RFC 9110, 14.4).
fn range(headers: &HeaderMap) -> Option<(u64, u64, u64)> {
    let text = headers.get(CONTENT_RANGE)?.to_str().ok()?;
    let (part, whole) = text.strip_prefix("bytes ")?.split_once('/')?;
    let (first, last) = part.split_once('-')?;
    Some((first.parse().ok()?, last.parse().ok()?, whole.parse().ok()?))
}
