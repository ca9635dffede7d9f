//! Requests: how long they are waited for, how often they are tried, and whose certificates are believed.

use std::io::Read;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use http::{Request, Response};
use ureq::tls::{Certificate, PemItem, RootCerts, TlsConfig, parse_pem};
use ureq::{Agent, AsSendBody, Body};
use url::Url;

use crate::StoreError;

/// A server that says nothing for so long is given up.
const SILENCE: Duration = Duration::from_secs(60);
const CONNECT: Duration = Duration::from_secs(15);
/// No answer but an object is longer.
const LONGEST_ANSWER: u64 = 16 << 20;
/// So much of what a refusal says is told.
const LONGEST_REASON: usize = 300;

/// How often something is tried, and how long is waited before the second time; each later wait is twice as long.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Patience {
    /// How often at most.
    pub tries: u32,
    /// How long before the second try.
    pub first_wait: Duration,
}

impl Default for Patience {
    /// Six times within eight seconds, beside the time that the tries themselves take.
    fn default() -> Self {
        Self { tries: 6, first_wait: Duration::from_millis(250) }
    }
}

impl Patience {
    /// Twice, with hardly a wait.
    pub fn short() -> Self {
        Self { tries: 2, first_wait: Duration::from_millis(100) }
    }

    /// Does something, again after a while if it failed in a way that may pass.
    ///
    /// # Errors
    ///
    /// The last error.
    pub fn again<T>(
        self,
        mut act: impl FnMut(u32) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let mut tried = 0;
        loop {
            let error = match act(tried) {
                Ok(done) => return Ok(done),
                Err(error) => error,
            };
            tried += 1;
            if !error.is_passing() || tried >= self.tries {
                return Err(error);
            }
            tracing::debug!(tried, "a store is asked again: {error}");
            std::thread::sleep(self.wait(tried));
        }
    }

    /// How long is waited after so many tries.
    pub(crate) fn wait(self, tried: u32) -> Duration {
        self.first_wait * 2u32.saturating_pow(tried.saturating_sub(1).min(8))
    }
}

/// Sends requests to one host, over connections that are kept.
#[derive(Clone, Debug)]
pub struct Client {
    agent: Agent,
    host: String,
}

impl Client {
    /// A client for the host of an address. Certificates are those that the machine trusts (also `SSL_CERT_FILE`), or those
    /// of a file. No redirect is followed.
    ///
    /// # Errors
    ///
    /// [`StoreError::Access`] if no certificates can be read.
    pub fn new(url: &Url, authorities: Option<&Path>) -> Result<Self, StoreError> {
        Self::made(url, authorities, None)
    }

    /// As [`Client::new`]; whatever is asked, the end of the answer is waited for only so long.
    ///
    /// # Errors
    ///
    /// As [`Client::new`].
    pub fn with_end(url: &Url, longest: Duration) -> Result<Self, StoreError> {
        Self::made(url, None, Some(longest))
    }

    fn made(
        url: &Url,
        authorities: Option<&Path>,
        longest: Option<Duration>,
    ) -> Result<Self, StoreError> {
        let mut config = Agent::config_builder()
            .http_status_as_error(false)
            .allow_non_standard_methods(true)
            .max_redirects(0)
            .max_redirects_will_error(false)
            .user_agent("fondaco")
            .timeout_resolve(Some(CONNECT))
            .timeout_connect(Some(CONNECT))
            .timeout_per_read(Some(SILENCE))
            .timeout_per_write(Some(SILENCE))
            .timeout_global(longest);
        if url.scheme() == "https" {
            let provider = Arc::new(rustls::crypto::ring::default_provider());
            let roots = RootCerts::new_with_certs(&trusted(authorities)?);
            config = config.tls_config(
                TlsConfig::builder()
                    .unversioned_rustls_crypto_provider(provider)
                    .root_certs(roots)
                    .build(),
            );
        }
        let host = url.host_str().unwrap_or_default();
        let host = url.port().map_or(host.to_owned(), |port| format!("{host}:{port}"));
        Ok(Self { agent: config.build().new_agent(), host })
    }

    /// The host, and the port if it is not the usual one.
    pub fn host(&self) -> &str {
        &self.host
    }

    /// Sends a request. Any status is an answer.
    ///
    /// # Errors
    ///
    /// [`StoreError::Connection`].
    pub fn send(&self, request: Request<impl AsSendBody>) -> Result<Response<Body>, StoreError> {
        self.agent.run(request).map_err(|error| match &error {
            // a certificate that is not believed is not believed a moment later either
            ureq::Error::Io(inside) if is_of_tls(inside) => {
                StoreError::Access(format!("{}: {inside}", self.host))
            }
            ureq::Error::Rustls(inside) => StoreError::Access(format!("{}: {inside}", self.host)),
            other => self.cut(&without_address(other)),
        })
    }

    /// The connection failed.
    pub(crate) fn cut(&self, reason: &str) -> StoreError {
        StoreError::Connection { host: self.host.clone(), reason: reason.to_owned() }
    }

    /// The answer makes no sense.
    pub(crate) fn senseless(&self, reason: impl Into<String>) -> StoreError {
        StoreError::Answer { host: self.host.clone(), reason: reason.into() }
    }

    /// The answer is a refusal. What it says is read, as far as it is short.
    pub(crate) fn refusal(&self, answer: Response<Body>) -> StoreError {
        let status = answer.status().as_u16();
        let mut text = Vec::new();
        // a refusal without words is one too
        let _ = answer.into_body().into_reader().take(4096).read_to_end(&mut text);
        let text = String::from_utf8_lossy(&text);
        let reason = match (element(&text, "Code"), element(&text, "Message")) {
            (Some(code), Some(message)) => format!("{code}: {message}"),
            (Some(code), None) => code.to_owned(),
            // a page for people says nothing more than its status
            _ => usual_reason(status).to_owned(),
        };
        let reason: String = reason
            .chars()
            .map(|c| if c.is_control() { ' ' } else { c })
            .take(LONGEST_REASON)
            .collect();
        StoreError::Refused { host: self.host.clone(), status, reason }
    }

    /// Takes the answer to a removal: that there is nothing of that name is as good as that it was removed.
    pub(crate) fn removed(&self, answer: Response<Body>) -> Result<(), StoreError> {
        match answer.status().as_u16() {
            200 | 204 | 404 | 410 => Ok(()),
            _ => Err(self.refusal(answer)),
        }
    }

    /// All of an answer that is no object.
    ///
    /// # Errors
    ///
    /// [`StoreError::Connection`] if it is cut, [`StoreError::Answer`] if it is too long or no text.
    pub fn text(&self, answer: Response<Body>) -> Result<String, StoreError> {
        let mut text = Vec::new();
        let mut reader = answer.into_body().into_reader().take(LONGEST_ANSWER + 1);
        reader.read_to_end(&mut text).map_err(|error| self.cut(&error.to_string()))?;
        if text.len() as u64 > LONGEST_ANSWER {
            return Err(self.senseless("it has no end"));
        }
        String::from_utf8(text).map_err(|_| self.senseless("it is no UTF-8"))
    }
}

/// What a status mostly comes from, if the answer itself does not say.
fn usual_reason(status: u16) -> &'static str {
    match status {
        301 | 302 | 307 | 308 => "it is elsewhere; see whether endpoint and region are right",
        401 | 403 => "the login is not accepted, may not do this, or the clock is wrong",
        405 => "the server does not do this here",
        412 => "something has that name",
        413 => "it is too large for the server",
        429 | 503 => "it is too busy",
        507 => "it is full",
        _ => "",
    }
}

fn is_of_tls(error: &std::io::Error) -> bool {
    error.get_ref().is_some_and(<dyn std::error::Error + Send + Sync>::is::<rustls::Error>)
}

/// What is in an element of a short text of XML.
fn element<'a>(text: &'a str, name: &str) -> Option<&'a str> {
    let (_, rest) = text.split_once(&format!("<{name}>"))?;
    rest.split_once(&format!("</{name}>")).map(|(inside, _)| inside)
}

/// What went wrong, without the address, which may be signed.
fn without_address(error: &ureq::Error) -> String {
    match error {
        ureq::Error::BadUri(_) => "its address cannot be asked for".to_owned(),
        ureq::Error::Io(error) => error.to_string(),
        ureq::Error::HostNotFound => "the host is not known".to_owned(),
        ureq::Error::ConnectionFailed => "no connection".to_owned(),
        ureq::Error::Timeout(_) => "it does not answer in time".to_owned(),
        other => other.to_string(),
    }
}

fn trusted(authorities: Option<&Path>) -> Result<Vec<Certificate<'static>>, StoreError> {
    if let Some(file) = authorities {
        let cannot = |error: &dyn std::fmt::Display| {
            StoreError::Access(format!(
                "cannot read the certificates in {}: {error}",
                file.display()
            ))
        };
        let pem = std::fs::read(file).map_err(|error| cannot(&error))?;
        let certificates = parse_pem(&pem).filter_map(|item| match item {
            Ok(PemItem::Certificate(certificate)) => Some(certificate),
            _ => None,
        });
        return Ok(certificates.collect());
    }
    let found = rustls_native_certs::load_native_certs();
    if let (true, Some(error)) = (found.certs.is_empty(), found.errors.first()) {
        return Err(StoreError::Access(format!("the machine trusts no certificates: {error}")));
    }
    Ok(found.certs.iter().map(|der| Certificate::from_der(der.as_ref()).to_owned()).collect())
}
