//! Collections of a WebDAV server.
//!
//! Source: RFC 4918.

use std::io::{self, Read, Write};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, OnceLock};
use std::thread::JoinHandle;

use http::header::{AUTHORIZATION, IF_NONE_MATCH, RANGE};
use http::{HeaderName, Method, Request, Response, StatusCode};
use ureq::{AsSendBody, Body, SendBody};
use url::Url;

use crate::access::Environment;
use crate::address::is_plain;
use crate::http::{Client, Patience};
use crate::read::{Reading, Source, Stored, compare, facts, range_header};
use crate::{Below, Facts, Listed, Store, StoreError, Upload};

mod list;

/// An object up to this length is kept until all of it is there, and sent again if a connection is cut.
const KEPT: usize = 8 << 20;
/// Pieces of a longer one, and how many of them wait to be sent.
const PIECE: usize = 1 << 20;
const PIECES: usize = 8;

/// A collection of a WebDAV server, and how one comes in.
pub(crate) struct WebDav {
    url: Url,
    authorization: Option<String>,
    client: Client,
    patience: Patience,
    /// That the collection is there has been seen.
    is_there: OnceLock<()>,
}

impl std::fmt::Debug for WebDav {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("WebDav").field("url", &self.url.as_str()).finish_non_exhaustive()
    }
}

impl WebDav {
    pub(crate) fn new(
        url: &Url,
        environment: &Environment,
        patience: Patience,
    ) -> Result<Self, StoreError> {
        Ok(Self {
            url: url.clone(),
            authorization: environment.login(url)?.map(|login| login.basic()),
            client: Client::new(url, None)?,
            patience,
            is_there: OnceLock::new(),
        })
    }

    fn object(&self, name: &str) -> Result<Url, StoreError> {
        let mut url = self.url.clone();
        let parts: Vec<&str> = name.split('/').collect();
        if !parts.iter().all(|part| is_plain(part)) {
            let text = "a name has no empty parts, and none that is . or ..";
            return Err(StoreError::Access(text.to_owned()));
        }
        if let Ok(mut path) = url.path_segments_mut() {
            path.pop_if_empty().extend(parts);
        }
        Ok(url)
    }

    fn send(
        &self,
        method: &str,
        url: &Url,
        headers: &[(HeaderName, &str)],
        body: impl AsSendBody,
    ) -> Result<Response<Body>, StoreError> {
        let senseless = || self.client.senseless("its address is none");
        let method = Method::from_bytes(method.as_bytes()).map_err(|_| senseless())?;
        let mut request = Request::builder().method(method).uri(url.as_str());
        if let Some(authorization) = &self.authorization {
            request = request.header(AUTHORIZATION, authorization);
        }
        for (name, value) in headers {
            request = request.header(name, *value);
        }
        self.client.send(request.body(body).map_err(|_| senseless())?)
    }

    /// Sees that the collection is there, and makes it and what lies above it if it is not.
    fn ensure(&self) -> Result<(), StoreError> {
        if self.is_there.get().is_some() {
            return Ok(());
        }
        self.patience.again(|_| {
            let answer = self.propfind(&self.url, "0")?;
            match answer.status() {
                StatusCode::MULTI_STATUS => Ok(()),
                StatusCode::NOT_FOUND => self.make(&self.url),
                _ => Err(self.client.refusal(answer)),
            }
        })?;
        let _ = self.is_there.set(());
        Ok(())
    }

    fn make(&self, collection: &Url) -> Result<(), StoreError> {
        let answer = self.send("MKCOL", collection, &[], ())?;
        match answer.status() {
            StatusCode::CREATED | StatusCode::METHOD_NOT_ALLOWED => Ok(()),
            StatusCode::CONFLICT => {
                let mut above = collection.clone();
                if let Ok(mut path) = above.path_segments_mut() {
                    path.pop_if_empty().pop().push("");
                }
                if above.path().len() >= collection.path().len() || above.path() == "/" {
                    return Err(self.client.refusal(answer));
                }
                self.make(&above)?;
                let answer = self.send("MKCOL", collection, &[], ())?;
                match answer.status() {
                    StatusCode::CREATED | StatusCode::METHOD_NOT_ALLOWED => Ok(()),
                    _ => Err(self.client.refusal(answer)),
                }
            }
            _ => Err(self.client.refusal(answer)),
        }
    }

    fn propfind(&self, url: &Url, depth: &str) -> Result<Response<Body>, StoreError> {
        let headers = [
            (HeaderName::from_static("depth"), depth),
            (http::header::CONTENT_TYPE, "application/xml; charset=utf-8"),
        ];
        self.send("PROPFIND", url, &headers, list::WANTED)
    }

    /// Writes an object whole, once or again until the server has it.
    fn put(&self, name: &str, contents: &[u8]) -> Result<(), StoreError> {
        self.ensure()?;
        let url = self.object(name)?;
        self.patience.again(|tried| {
            let answer = self.send("PUT", &url, &[(IF_NONE_MATCH, "*")], contents)?;
            match answer.status() {
                StatusCode::OK | StatusCode::CREATED | StatusCode::NO_CONTENT => Ok(()),
                // an earlier try may have come, whole or in part
                StatusCode::PRECONDITION_FAILED if tried > 0 => {
                    match compare(self, name, contents)? {
                        Stored::Whole => Ok(()),
                        Stored::Beginning => {
                            self.remove(name)?;
                            Err(self.client.cut("it had only a part of the object"))
                        }
                        Stored::Other => Err(StoreError::Taken),
                    }
                }
                StatusCode::PRECONDITION_FAILED => Err(StoreError::Taken),
                _ => Err(self.client.refusal(answer)),
            }
        })
    }
}

impl Source for WebDav {
    fn ask(&self, name: &str, from: u64, to: Option<u64>) -> Result<Response<Body>, StoreError> {
        let url = self.object(name)?;
        match range_header(from, to) {
            Some(range) => self.send("GET", &url, &[(RANGE, &range)], ()),
            None => self.send("GET", &url, &[], ()),
        }
    }

    fn client(&self) -> &Client {
        &self.client
    }

    fn patience(&self) -> Patience {
        self.patience
    }
}

impl Store for WebDav {
    fn identity(&self) -> String {
        self.url.to_string()
    }

    fn renames(&self) -> bool {
        true
    }

    fn facts(&self, name: &str) -> Result<Option<Facts>, StoreError> {
        let url = self.object(name)?;
        self.patience.again(|_| facts(self.send("HEAD", &url, &[], ())?, &self.client))
    }

    fn open(
        self: Arc<Self>,
        name: &str,
        from: u64,
        length: Option<u64>,
    ) -> Result<Box<dyn Read + Send>, StoreError> {
        Ok(Box::new(Reading::open(self, name, from, length)?))
    }

    fn put_new(&self, name: &str, contents: &[u8]) -> Result<(), StoreError> {
        if self.facts(name)?.is_some() {
            return Err(StoreError::Taken);
        }
        self.put(name, contents)
    }

    fn begin(self: Arc<Self>, name: &str) -> Result<Box<dyn Upload>, StoreError> {
        self.ensure()?;
        if self.facts(name)?.is_some() {
            return Err(StoreError::Taken);
        }
        let name = name.to_owned();
        Ok(Box::new(Stream { store: self, name, first: Vec::new(), piece: Vec::new(), sent: None }))
    }

    fn rename_new(&self, from: &str, to: &str) -> Result<(), StoreError> {
        let (source, destination) = (self.object(from)?, self.object(to)?);
        self.patience.again(|tried| {
            let headers = [
                (HeaderName::from_static("destination"), destination.as_str()),
                (HeaderName::from_static("overwrite"), "F"),
            ];
            let answer = self.send("MOVE", &source, &headers, ())?;
            match answer.status() {
                StatusCode::CREATED | StatusCode::NO_CONTENT => Ok(()),
                // the answer to an earlier try may have been lost on the way
                StatusCode::NOT_FOUND | StatusCode::PRECONDITION_FAILED
                    if tried > 0 && self.facts(from)?.is_none() && self.facts(to)?.is_some() =>
                {
                    Ok(())
                }
                StatusCode::PRECONDITION_FAILED => Err(StoreError::Taken),
                _ => Err(self.client.refusal(answer)),
            }
        })
    }

    fn withdraw(&self, name: &str) -> Result<(), StoreError> {
        self.remove(name)
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        let url = self.object(name)?;
        self.patience.again(|_| self.client.removed(self.send("DELETE", &url, &[], ())?))
    }

    fn level(
        &self,
        directory: &str,
        visit: &mut dyn FnMut(Below) -> bool,
    ) -> Result<(), StoreError> {
        let mut url = self.url.clone();
        if !directory.is_empty() {
            url = self.object(directory)?;
            let path = format!("{}/", url.path());
            url.set_path(&path);
        }
        let found = self.patience.again(|_| {
            let answer = self.propfind(&url, "1")?;
            match answer.status() {
                StatusCode::MULTI_STATUS => {
                    list::members(answer.into_body().into_reader(), &url, &self.client)
                }
                StatusCode::NOT_FOUND => Err(StoreError::Absent),
                _ => Err(self.client.refusal(answer)),
            }
        })?;
        for below in found {
            if !visit(below) {
                break;
            }
        }
        Ok(())
    }

    fn list(&self, visit: &mut dyn FnMut(Listed) -> bool) -> Result<(), StoreError> {
        self.level("", &mut |below| match below {
            Below::Object(listed) => visit(listed),
            Below::Directory(_) => true,
        })
    }
}

/// An object that is being sent. A server takes it only in one piece: what was sent of a long one cannot be sent again.
#[derive(Debug)]
struct Stream {
    store: Arc<WebDav>,
    name: String,
    /// The beginning, as long as nothing has been sent.
    first: Vec<u8>,
    /// What comes next, once something has been.
    piece: Vec<u8>,
    sent: Option<Sent>,
}

#[derive(Debug)]
struct Sent {
    pieces: SyncSender<Option<Vec<u8>>>,
    thread: JoinHandle<Result<(), StoreError>>,
}

impl Stream {
    fn start(&mut self) -> io::Result<()> {
        let (send, receive) = sync_channel(PIECES);
        let (store, url) = (Arc::clone(&self.store), self.store.object(&self.name)?);
        let thread = std::thread::Builder::new().name("upload".to_owned()).spawn(move || {
            let mut pieces = Pieces { receive, piece: Vec::new(), at: 0, is_whole: false };
            let body = SendBody::from_reader(&mut pieces);
            let answer = store.send("PUT", &url, &[(IF_NONE_MATCH, "*")], body)?;
            match answer.status() {
                StatusCode::OK | StatusCode::CREATED | StatusCode::NO_CONTENT => Ok(()),
                StatusCode::PRECONDITION_FAILED => Err(StoreError::Taken),
                _ => Err(store.client.refusal(answer)),
            }
        })?;
        let first = std::mem::take(&mut self.first);
        self.sent = Some(Sent { pieces: send, thread });
        first.chunks(PIECE).try_for_each(|piece| self.pass(Some(piece.to_vec())))
    }

    /// Hands a piece to the thread that sends; `None` says that nothing comes any more.
    fn pass(&mut self, piece: Option<Vec<u8>>) -> io::Result<()> {
        let Some(sent) = &self.sent else { return Ok(()) };
        if sent.pieces.send(piece).is_ok() {
            return Ok(());
        }
        // it has ended before its time, and says why
        self.ended().map_err(io::Error::from)?;
        Err(io::Error::other("the server did not take all of it"))
    }

    fn ended(&mut self) -> Result<(), StoreError> {
        match self.sent.take() {
            None => Ok(()),
            Some(Sent { pieces, thread }) => {
                drop(pieces);
                let lost = || Err(self.store.client.cut("the thread that sends has ended"));
                thread.join().unwrap_or_else(|_| lost())
            }
        }
    }
}

impl Write for Stream {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.sent.is_none() {
            if self.first.len() + bytes.len() <= KEPT {
                self.first.extend_from_slice(bytes);
                return Ok(bytes.len());
            }
            self.start()?;
        }
        let taken = bytes.len().min(PIECE - self.piece.len());
        self.piece.extend_from_slice(&bytes[..taken]);
        if self.piece.len() == PIECE {
            let piece = std::mem::take(&mut self.piece);
            self.pass(Some(piece))?;
        }
        Ok(taken)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Upload for Stream {
    fn can_take_back(&self) -> bool {
        false
    }

    fn keep_from(&mut self) {}

    fn take_back(&mut self) -> io::Result<()> {
        Err(io::Error::other("what a server has been sent cannot be taken back"))
    }

    fn finish(&mut self) -> Result<(), StoreError> {
        if self.sent.is_none() {
            return self.store.put(&self.name, &self.first);
        }
        let piece = std::mem::take(&mut self.piece);
        let passed = self.pass(Some(piece)).and_then(|()| self.pass(None));
        match (self.ended(), passed) {
            (Err(error), _) => Err(error),
            (Ok(()), Err(error)) => Err(self.store.client.cut(&error.to_string())),
            (Ok(()), Ok(())) => Ok(()),
        }
    }

    fn read_back(&mut self) -> Result<Box<dyn Read + Send>, StoreError> {
        Arc::clone(&self.store).open(&self.name, 0, None)
    }
}

impl Drop for Stream {
    fn drop(&mut self) {
        // the thread sees that not all has come, and breaks the request off
        let _ = self.ended();
    }
}

/// What is to be sent, piece by piece. An end without a last word is an error, so that no part passes for the whole.
struct Pieces {
    receive: Receiver<Option<Vec<u8>>>,
    piece: Vec<u8>,
    at: usize,
    is_whole: bool,
}

impl Read for Pieces {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.piece.len() {
            if self.is_whole {
                return Ok(0);
            }
            match self.receive.recv() {
                Ok(Some(piece)) => (self.piece, self.at) = (piece, 0),
                Ok(None) => self.is_whole = true,
                Err(_) => return Err(io::Error::other("it was given up")),
            }
        }
        let got = buffer.len().min(self.piece.len() - self.at);
        buffer[..got].copy_from_slice(&self.piece[self.at..self.at + got]);
        self.at += got;
        Ok(got)
    }
}
