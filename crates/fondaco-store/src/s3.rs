//! Stores that speak the protocol of Amazon S3.
//!
//! Source: Amazon Simple Storage Service API Reference, 2006-03-01. Addresses are signed for a quarter of an hour.

use std::io::Read;
use std::sync::Arc;
use std::time::Duration;

use http::header::{ETAG, IF_NONE_MATCH, RANGE};
use http::{Request, Response, StatusCode};
use jiff::Timestamp;
use rusty_s3::actions::{CompleteMultipartUploadResponse, CreateMultipartUpload, ListObjectsV2};
use rusty_s3::{Bucket, Credentials, Method, S3Action};
use ureq::{AsSendBody, Body};
use url::Url;

use crate::access::Environment;
use crate::address::is_plain;
use crate::http::{Client, Patience};
use crate::read::{Reading, Source, Stored, compare, facts, range_header};
use crate::{Below, Facts, Listed, Store, StoreError, Upload};

mod parts;

/// An address that is signed is good for so long.
const SIGNED_FOR: Duration = Duration::from_secs(900);

/// More pages without anything one after the other no list has.
const MOST_EMPTY: u32 = 1000;

/// A bucket, or the part of it below a prefix.
pub(crate) struct S3 {
    bucket: Bucket,
    credentials: Credentials,
    prefix: String,
    client: Client,
    patience: Patience,
}

impl std::fmt::Debug for S3 {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("S3").field("bucket", &self.bucket.name()).finish_non_exhaustive()
    }
}

impl S3 {
    pub(crate) fn new(
        bucket: &str,
        prefix: &str,
        environment: &Environment,
        patience: Patience,
    ) -> Result<Self, StoreError> {
        let access = environment.s3(bucket)?;
        let client = Client::new(&access.endpoint, access.authorities.as_deref())?;
        let bucket = Bucket::new(access.endpoint, access.style, bucket.to_owned(), access.region)
            .map_err(|error| StoreError::Access(format!("s3://{bucket}: {error}")))?;
        let prefix = if prefix.is_empty() { String::new() } else { format!("{prefix}/") };
        Ok(Self { bucket, credentials: access.credentials, prefix, client, patience })
    }

    /// The key of an object.
    fn key(&self, name: &str) -> Result<String, StoreError> {
        match name.split('/').all(is_plain) {
            true => Ok(format!("{}{name}", self.prefix)),
            false => Err(StoreError::Access(
                "a name has no empty parts, and none that is . or ..".to_owned(),
            )),
        }
    }

    fn send<'a, A: S3Action<'a>>(
        &self,
        action: &A,
        headers: &[(http::HeaderName, &str)],
        body: impl AsSendBody,
    ) -> Result<Response<Body>, StoreError> {
        self.send_to(A::METHOD, &action.sign(SIGNED_FOR), headers, body)
    }

    fn send_to(
        &self,
        method: Method,
        url: &Url,
        headers: &[(http::HeaderName, &str)],
        body: impl AsSendBody,
    ) -> Result<Response<Body>, StoreError> {
        let method = match method {
            Method::Head => http::Method::HEAD,
            Method::Get => http::Method::GET,
            Method::Post => http::Method::POST,
            Method::Put => http::Method::PUT,
            Method::Delete => http::Method::DELETE,
        };
        let mut request = Request::builder().method(method).uri(url.as_str());
        for (name, value) in headers {
            request = request.header(name, *value);
        }
        let request = request.body(body);
        self.client.send(request.map_err(|_| self.client.senseless("its address is none"))?)
    }

    /// Writes an object whole, once or again until the store has it.
    fn put(&self, name: &str, contents: &[u8]) -> Result<(), StoreError> {
        let key = self.key(name)?;
        let mut is_conditional = true;
        self.patience.again(|tried| {
            let only_new = [(IF_NONE_MATCH, "*")];
            let headers = if is_conditional { &only_new[..] } else { &[] };
            let action = self.bucket.put_object(Some(&self.credentials), &key);
            let answer = self.send(&action, headers, contents)?;
            match answer.status() {
                StatusCode::OK | StatusCode::CREATED | StatusCode::NO_CONTENT => Ok(()),
                // the answer to an earlier try may have been lost on the way
                StatusCode::PRECONDITION_FAILED
                    if tried > 0 && compare(self, name, contents)? == Stored::Whole =>
                {
                    Ok(())
                }
                StatusCode::PRECONDITION_FAILED => Err(StoreError::Taken),
                StatusCode::NOT_IMPLEMENTED if is_conditional => {
                    // an older store, which was asked right before whether the name is free
                    is_conditional = false;
                    Err(self.client.refusal(answer))
                }
                _ => Err(self.client.refusal(answer)),
            }
        })
    }

    /// The object beside a new one, which says what its upload is called as long as it goes on. Not every store, and not
    /// every login, lists uploads: by this one can be withdrawn whose program was killed.
    fn note(name: &str) -> String {
        match name.rsplit_once('/') {
            Some((above, name)) => format!("{above}/.{name}.part"),
            None => format!(".{name}.part"),
        }
    }

    fn abort(&self, key: &str, upload: &str) -> Result<(), StoreError> {
        self.patience.again(|_| {
            let action = self.bucket.abort_multipart_upload(Some(&self.credentials), key, upload);
            self.client.removed(self.send(&action, &[], ())?)
        })
    }

    fn begin_parts(&self, key: &str) -> Result<String, StoreError> {
        self.patience.again(|_| {
            let action = self.bucket.create_multipart_upload(Some(&self.credentials), key);
            let answer = self.send(&action, &[], ())?;
            if answer.status() != StatusCode::OK {
                return Err(self.client.refusal(answer));
            }
            let text = self.client.text(answer)?;
            let begun = CreateMultipartUpload::parse_response(&text)
                .map_err(|error| self.client.senseless(error.to_string()))?;
            Ok(begun.upload_id().to_owned())
        })
    }

    /// Sends one part; gives what the store calls it.
    fn put_part(
        &self,
        key: &str,
        upload: &str,
        number: u16,
        contents: &[u8],
    ) -> Result<String, StoreError> {
        self.patience.again(|_| {
            let action = self.bucket.upload_part(Some(&self.credentials), key, number, upload);
            let answer = self.send(&action, &[], contents)?;
            if answer.status() != StatusCode::OK {
                return Err(self.client.refusal(answer));
            }
            let tag = answer.headers().get(ETAG).and_then(|tag| tag.to_str().ok());
            tag.map(str::to_owned).ok_or_else(|| self.client.senseless("it names no part"))
        })
    }

    /// Makes the object out of its parts. It is there whole from then on, and not before.
    fn complete(
        &self,
        name: &str,
        upload: &str,
        tags: &[String],
        length: u64,
    ) -> Result<(), StoreError> {
        let key = self.key(name)?;
        let mut is_conditional = true;
        self.patience.again(|tried| {
            let only_new = [(IF_NONE_MATCH, "*")];
            let headers = if is_conditional { &only_new[..] } else { &[] };
            let action = self.bucket.complete_multipart_upload(
                Some(&self.credentials),
                &key,
                upload,
                tags.iter().map(String::as_str),
            );
            let url = action.sign(SIGNED_FOR);
            let body = action.body();
            let answer = self.send_to(Method::Post, &url, headers, body)?;
            match answer.status() {
                StatusCode::OK => {
                    // an error may still follow after the store has begun to answer
                    let text = self.client.text(answer)?;
                    let parsed = CompleteMultipartUploadResponse::parse(&text);
                    parsed.map(drop).map_err(|error| self.client.senseless(error.to_string()))
                }
                // the answer to an earlier try may have been lost on the way; what the object holds is compared later
                StatusCode::NOT_FOUND | StatusCode::PRECONDITION_FAILED
                    if tried > 0
                        && self.facts(name)?.is_some_and(|facts| facts.length == length) =>
                {
                    Ok(())
                }
                StatusCode::PRECONDITION_FAILED => Err(StoreError::Taken),
                StatusCode::NOT_IMPLEMENTED if is_conditional => {
                    is_conditional = false;
                    Err(self.client.refusal(answer))
                }
                _ => Err(self.client.refusal(answer)),
            }
        })
    }
}

impl Source for S3 {
    fn ask(&self, name: &str, from: u64, to: Option<u64>) -> Result<Response<Body>, StoreError> {
        let key = self.key(name)?;
        let action = self.bucket.get_object(Some(&self.credentials), &key);
        match range_header(from, to) {
            Some(range) => self.send(&action, &[(RANGE, &range)], ()),
            None => self.send(&action, &[], ()),
        }
    }

    fn client(&self) -> &Client {
        &self.client
    }

    fn patience(&self) -> Patience {
        self.patience
    }
}

impl Store for S3 {
    fn identity(&self) -> String {
        format!("{}{}", self.bucket.base_url(), self.prefix)
    }

    fn renames(&self) -> bool {
        false
    }

    fn facts(&self, name: &str) -> Result<Option<Facts>, StoreError> {
        let key = self.key(name)?;
        self.patience.again(|_| {
            let action = self.bucket.head_object(Some(&self.credentials), &key);
            facts(self.send(&action, &[], ())?, &self.client)
        })
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
        // stores that know no conditions would replace it
        if self.facts(name)?.is_some() {
            return Err(StoreError::Taken);
        }
        self.put(name, contents)
    }

    fn begin(self: Arc<Self>, name: &str) -> Result<Box<dyn Upload>, StoreError> {
        if self.facts(name)?.is_some() {
            return Err(StoreError::Taken);
        }
        Ok(Box::new(parts::InParts::new(self, name)?))
    }

    fn rename_new(&self, _from: &str, _to: &str) -> Result<(), StoreError> {
        Err(StoreError::Access("objects of a bucket have no other names".to_owned()))
    }

    fn withdraw(&self, name: &str) -> Result<(), StoreError> {
        let (key, note) = (self.key(name)?, Self::note(name));
        let upload = self.patience.again(|_| {
            let answer = self.ask(&note, 0, None)?;
            match answer.status() {
                StatusCode::OK => self.client.text(answer).map(Some),
                StatusCode::NOT_FOUND => Ok(None),
                _ => Err(self.client.refusal(answer)),
            }
        })?;
        let Some(upload) = upload else { return Ok(()) };
        // one that has become an object is no upload any more, and some stores are at odds with whoever names it
        if self.facts(name)?.is_none() {
            self.abort(&key, &upload)?;
        }
        self.remove(&note)
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        let key = self.key(name)?;
        self.patience.again(|_| {
            let action = self.bucket.delete_object(Some(&self.credentials), &key);
            self.client.removed(self.send(&action, &[], ())?)
        })
    }

    fn level(
        &self,
        directory: &str,
        visit: &mut dyn FnMut(Below) -> bool,
    ) -> Result<(), StoreError> {
        let prefix = match directory.is_empty() {
            true => self.prefix.clone(),
            false => format!("{}{directory}/", self.prefix),
        };
        self.pages(&prefix, true, visit)
    }

    fn list(&self, visit: &mut dyn FnMut(Listed) -> bool) -> Result<(), StoreError> {
        self.pages(&self.prefix, false, &mut |below| match below {
            Below::Object(listed) => visit(listed),
            Below::Directory(_) => true,
        })
    }
}

impl S3 {
    /// Lists what begins with a prefix, page by page; with what lies deeper, or that by its directories.
    fn pages(
        &self,
        prefix: &str,
        is_level: bool,
        visit: &mut dyn FnMut(Below) -> bool,
    ) -> Result<(), StoreError> {
        let (mut token, mut empty) = (None::<String>, 0);
        loop {
            let page = self.patience.again(|_| {
                let mut action = ListObjectsV2::new(&self.bucket, Some(&self.credentials));
                action.with_prefix(prefix);
                if is_level {
                    action.with_delimiter("/");
                }
                if let Some(token) = &token {
                    action.with_continuation_token(token.as_str());
                }
                let answer = self.send(&action, &[], ())?;
                if answer.status() != StatusCode::OK {
                    return Err(self.client.refusal(answer));
                }
                let text = self.client.text(answer)?;
                ListObjectsV2::parse_response(&text)
                    .map_err(|error| self.client.senseless(error.to_string()))
            })?;
            empty = match page.contents.is_empty() && page.common_prefixes.is_empty() {
                true => empty + 1,
                false => 0,
            };
            let others = || self.client.senseless("it names objects that were not asked for");
            for below in page.common_prefixes {
                let name = below.prefix.strip_prefix(prefix).ok_or_else(others)?;
                if !visit(Below::Directory(name.trim_end_matches('/').to_owned())) {
                    return Ok(());
                }
            }
            for object in page.contents {
                let name = object.key.strip_prefix(prefix).ok_or_else(others)?;
                let written = object.last_modified.and_then(|text| text.parse::<Timestamp>().ok());
                let listed = Listed {
                    name: name.to_owned(),
                    length: object.size.unwrap_or(0),
                    written: written.map(Timestamp::as_second),
                };
                if !visit(Below::Object(listed)) {
                    return Ok(());
                }
            }
            match page.next_continuation_token {
                None => return Ok(()),
                Some(next) if token.as_deref() == Some(next.as_str()) || empty > MOST_EMPTY => {
                    return Err(self.client.senseless("the list has no end"));
                }
                next => token = next,
            }
        }
    }
}
