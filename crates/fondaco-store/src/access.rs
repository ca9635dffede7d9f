//! How to come into a store: from the usual environment, the profile files of S3 clients, and `~/.netrc`.
//!
//! Sources: the reference of the AWS SDKs and tools (environment variables; shared `config` and `credentials` files), and
//! `netrc(5)`.

use std::collections::HashMap;
use std::fmt;
use std::io;
use std::path::{Path, PathBuf};

use base64::prelude::{BASE64_STANDARD, Engine};
use rusty_s3::{Credentials, UrlStyle};
use url::Url;
use uzers::os::unix::UserExt;

use crate::secret::{SecretError, read_secret};
use crate::{StoreAddress, StoreError};

/// Where logins are looked for.
#[derive(Clone)]
pub struct Environment {
    variables: HashMap<String, String>,
    home: PathBuf,
}

impl fmt::Debug for Environment {
    // variables may be secrets
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Environment").field("home", &self.home).finish_non_exhaustive()
    }
}

/// How to come into an S3 store.
pub(crate) struct S3Access {
    pub endpoint: Url,
    pub region: String,
    pub style: UrlStyle,
    pub credentials: Credentials,
    /// Certificates that are trusted instead of the machine's.
    pub authorities: Option<PathBuf>,
}

/// Who one is for a server.
pub(crate) struct Login {
    user: String,
    password: String,
}

impl Login {
    /// The value of the header `Authorization` for the scheme `Basic` (RFC 7617).
    pub(crate) fn basic(&self) -> String {
        format!("Basic {}", BASE64_STANDARD.encode(format!("{}:{}", self.user, self.password)))
    }
}

impl Environment {
    /// That of this process. Without `HOME`, as under systemd, the home directory is that of the account.
    pub fn of_process() -> Self {
        let variables: HashMap<String, String> = std::env::vars_os()
            .filter_map(|(name, value)| Some((name.into_string().ok()?, value.into_string().ok()?)))
            .collect();
        let of_account = || {
            let user = uzers::get_user_by_uid(rustix::process::geteuid().as_raw())?;
            Some(user.home_dir().to_owned())
        };
        let home = variables.get("HOME").filter(|home| !home.is_empty()).map(PathBuf::from);
        let home = home.or_else(of_account).unwrap_or_else(|| PathBuf::from("/"));
        Self { variables, home }
    }

    /// One that is given: variables, and the home directory in which files are looked for.
    pub fn of<K: Into<String>, V: Into<String>>(
        variables: impl IntoIterator<Item = (K, V)>,
        home: &Path,
    ) -> Self {
        let pair = |(name, value): (K, V)| (name.into(), value.into());
        Self { variables: variables.into_iter().map(pair).collect(), home: home.to_owned() }
    }

    fn said(&self, name: &str) -> Option<&str> {
        self.variables.get(name).map(String::as_str).filter(|value| !value.is_empty())
    }

    fn file(&self, variable: &str, usual: &str) -> PathBuf {
        self.said(variable).map_or_else(|| self.home.join(usual), PathBuf::from)
    }

    /// How to come into the bucket.
    pub(crate) fn s3(&self, bucket: &str) -> Result<S3Access, StoreError> {
        let wrong = StoreError::Access;
        let profile = self.said("AWS_PROFILE").unwrap_or("default");
        let config_file = self.file("AWS_CONFIG_FILE", ".aws/config");
        let secret_file = self.file("AWS_SHARED_CREDENTIALS_FILE", ".aws/credentials");
        let config = match std::fs::read_to_string(&config_file) {
            Ok(text) => profile_of(&text, profile),
            Err(error) if error.kind() == io::ErrorKind::NotFound => HashMap::new(),
            Err(error) => {
                return Err(wrong(format!("cannot read {}: {error}", config_file.display())));
            }
        };
        let setting = |variables: &[&str], key: &str| {
            let said = variables.iter().find_map(|name| self.said(name));
            said.or_else(|| config.get(key).map(String::as_str)).map(str::to_owned)
        };
        let region = setting(&["AWS_REGION", "AWS_DEFAULT_REGION"], "region")
            .unwrap_or_else(|| "us-east-1".to_owned());
        let own = setting(&["AWS_ENDPOINT_URL_S3", "AWS_ENDPOINT_URL"], "endpoint_url")
            .or_else(|| config.get("s3.endpoint_url").cloned());
        let endpoint = own.clone().unwrap_or_else(|| format!("https://s3.{region}.amazonaws.com"));
        let endpoint: Url = endpoint
            .parse()
            .map_err(|error| wrong(format!("the endpoint of s3://{bucket}: {error}")))?;
        if !matches!(endpoint.scheme(), "http" | "https") || !endpoint.username().is_empty() {
            return Err(wrong(format!(
                "the endpoint of s3://{bucket} must be http:// or https://, without a user"
            )));
        }
        // hosts of one's own have seldom a name for each bucket
        let style = match config.get("s3.addressing_style").map(String::as_str) {
            Some("virtual") => UrlStyle::VirtualHost,
            Some("path") => UrlStyle::Path,
            _ if own.is_some() => UrlStyle::Path,
            _ => UrlStyle::VirtualHost,
        };
        Ok(S3Access {
            endpoint,
            region,
            style,
            credentials: self.s3_credentials(bucket, profile, &config, &secret_file)?,
            authorities: setting(&["AWS_CA_BUNDLE"], "ca_bundle").map(PathBuf::from),
        })
    }

    fn s3_credentials(
        &self,
        bucket: &str,
        profile: &str,
        config: &HashMap<String, String>,
        secret_file: &Path,
    ) -> Result<Credentials, StoreError> {
        let names = ["AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY", "AWS_SESSION_TOKEN"];
        let [key, secret, token] = names.map(|name| self.said(name));
        if let (Some(key), Some(secret)) = (key, secret) {
            return Ok(credentials(key, secret, token));
        }
        if config.contains_key("aws_secret_access_key") {
            let text = "a secret belongs into ~/.aws/credentials (mode 600), not into the config";
            return Err(StoreError::Access(text.to_owned()));
        }
        let place = secret_file.display();
        let text = match read_secret(secret_file) {
            Ok(text) => text,
            Err(SecretError::Call(error)) if error.kind() == io::ErrorKind::NotFound => {
                return Err(StoreError::Access(format!(
                    "there are no keys for s3://{bucket}: set AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or write them \
                     to {place} (mode 600)"
                )));
            }
            Err(error) => return Err(StoreError::Access(format!("{place}: {error}"))),
        };
        let found = profile_of(&text, profile);
        let value = |key: &str| found.get(key).map(String::as_str);
        match (value("aws_access_key_id"), value("aws_secret_access_key")) {
            (Some(key), Some(secret)) => Ok(credentials(key, secret, value("aws_session_token"))),
            _ => Err(StoreError::Access(format!(
                "{place} has no aws_access_key_id and aws_secret_access_key for the profile {profile}"
            ))),
        }
    }

    /// Who one is for a server of WebDAV; nobody if nothing says.
    pub(crate) fn login(&self, url: &Url) -> Result<Option<Login>, StoreError> {
        let names = ["FONDACO_WEBDAV_USER", "FONDACO_WEBDAV_PASSWORD"];
        let [user, password] = names.map(|name| self.said(name));
        let login = match (user, password) {
            (Some(user), Some(password)) => {
                Some(Login { user: user.to_owned(), password: password.to_owned() })
            }
            _ => {
                let file = self.file("NETRC", ".netrc");
                match read_secret(&file) {
                    Ok(text) => login_in_netrc(&text, url.host_str().unwrap_or_default()),
                    Err(SecretError::Call(error)) if error.kind() == io::ErrorKind::NotFound => {
                        None
                    }
                    Err(error) => {
                        return Err(StoreError::Access(format!("{}: {error}", file.display())));
                    }
                }
            }
        };
        let is_here = matches!(url.host_str(), Some("localhost" | "127.0.0.1" | "[::1]"));
        if login.is_some() && url.scheme() != "https" && !is_here {
            let address = StoreAddress::WebDav { url: url.clone() };
            return Err(StoreError::Access(format!(
                "a password is not sent to {address} without TLS: use https://"
            )));
        }
        Ok(login)
    }
}

fn credentials(key: &str, secret: &str, token: Option<&str>) -> Credentials {
    match token {
        Some(token) => Credentials::new_with_token(key, secret, token),
        None => Credentials::new(key, secret),
    }
}

/// The keys and values of a profile. Those of a nested section, as of `s3 =`, are named after it: `s3.addressing_style`.
fn profile_of(text: &str, profile: &str) -> HashMap<String, String> {
    let mut found = HashMap::new();
    let (mut is_ours, mut above) = (false, None::<String>);
    for line in text.lines() {
        let trimmed = line.trim();
        if trimmed.is_empty() || trimmed.starts_with(['#', ';']) {
            continue;
        }
        if let Some(section) = trimmed.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            let name = section.trim();
            is_ours = name.strip_prefix("profile ").unwrap_or(name).trim() == profile;
            above = None;
            continue;
        }
        let Some((key, value)) = trimmed.split_once('=').filter(|_| is_ours) else { continue };
        let (key, value) = (key.trim().to_lowercase(), value.trim().to_owned());
        let is_nested = line.starts_with([' ', '\t']);
        match above.as_ref().filter(|_| is_nested) {
            Some(section) => {
                found.insert(format!("{section}.{key}"), value);
            }
            None => {
                above = value.is_empty().then(|| key.clone());
                found.insert(key, value);
            }
        }
    }
    found
}

/// The login for a host in a text of the form of `netrc(5)`.
fn login_in_netrc(text: &str, host: &str) -> Option<Login> {
    let mut words = text.split_whitespace();
    let (mut fits, mut user, mut password) = (false, None, None);
    while let Some(word) = words.next() {
        match word {
            "machine" | "default" => {
                if fits && user.is_some() && password.is_some() {
                    break;
                }
                (user, password) = (None, None);
                fits = word == "default" || words.next() == Some(host);
            }
            "login" => user = words.next(),
            "password" => password = words.next(),
            "account" => drop(words.next()),
            // macros go on to an empty line, and nothing here needs them
            "macdef" => break,
            _ => {}
        }
    }
    match (fits, user, password) {
        (true, Some(user), Some(password)) => {
            Some(Login { user: user.to_owned(), password: password.to_owned() })
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    const NO_VARIABLES: [(&str, &str); 0] = [];

    fn write(home: &Path, name: &str, text: &str, mode: u32) {
        let path = home.join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, text).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode)).unwrap();
    }

    #[test]
    fn keys_come_from_variables_or_from_a_file_that_nobody_else_reads() {
        let home = tempfile::tempdir().unwrap();
        let home = home.path();
        let keys = "[default]\naws_access_key_id = night\naws_secret_access_key = tide = high\n\
                    [pier]\naws_access_key_id = pier\naws_secret_access_key = p\naws_session_token=t\n";
        write(home, ".aws/credentials", keys, 0o600);
        let config = "[default]\nregion = sea-1\n# a host of our own\nendpoint_url = http://127.0.0.1:9\n\
                      s3 =\n  addressing_style = virtual\n[profile pier]\nregion = sea-2\n";
        write(home, ".aws/config", config, 0o644);
        let found = Environment::of(NO_VARIABLES, home).s3("seamark").unwrap();
        assert_eq!(found.credentials.key(), "night");
        assert_eq!(found.credentials.secret(), "tide = high");
        assert_eq!(
            (found.region.as_str(), found.endpoint.as_str()),
            ("sea-1", "http://127.0.0.1:9/")
        );
        assert!(matches!(found.style, UrlStyle::VirtualHost));
        let pier = Environment::of([("AWS_PROFILE", "pier")], home).s3("seamark").unwrap();
        assert_eq!((pier.credentials.token(), pier.region.as_str()), (Some("t"), "sea-2"));
        assert_eq!(pier.endpoint.as_str(), "https://s3.sea-2.amazonaws.com/");
        let said =
            [("AWS_ACCESS_KEY_ID", "k"), ("AWS_SECRET_ACCESS_KEY", "s"), ("AWS_REGION", "r")];
        let said = Environment::of(said, home).s3("seamark").unwrap();
        assert_eq!((said.credentials.key(), said.region.as_str()), ("k", "r"));

        write(home, ".aws/credentials", keys, 0o640);
        let exposed = Environment::of(NO_VARIABLES, home).s3("seamark").err().unwrap().to_string();
        assert!(exposed.contains("mode 600") && !exposed.contains("tide"), "{exposed}");
        std::fs::remove_file(home.join(".aws/credentials")).unwrap();
        let none = Environment::of(NO_VARIABLES, home).s3("seamark").err().unwrap().to_string();
        assert!(none.contains("AWS_ACCESS_KEY_ID") && none.contains(".aws/credentials"), "{none}");
    }

    #[test]
    fn a_password_is_found_by_its_host_and_sent_only_over_tls() {
        let home = tempfile::tempdir().unwrap();
        let home = home.path();
        let text = "machine other.seamark.example login a password b\n\
                    machine store.seamark.example\n  login night\n  password tide\ndefault login c password d";
        write(home, ".netrc", text, 0o600);
        let of = |url: &str| {
            let found = Environment::of(NO_VARIABLES, home).login(&url.parse().unwrap());
            found.map(|login| login.map(|login| (login.user, login.password)))
        };
        let pair = |user: &str, password: &str| Some((user.to_owned(), password.to_owned()));
        assert_eq!(of("https://store.seamark.example/dav/").unwrap(), pair("night", "tide"));
        assert_eq!(of("https://other.seamark.example/").unwrap(), pair("a", "b"));
        assert_eq!(of("http://127.0.0.1:8080/dav/").unwrap(), pair("c", "d"));
        assert!(of("http://store.seamark.example/dav/").is_err());
        write(home, ".netrc", text, 0o644);
        assert!(of("https://store.seamark.example/dav/").is_err());
        std::fs::remove_file(home.join(".netrc")).unwrap();
        assert_eq!(of("http://store.seamark.example/dav/").unwrap(), None);
    }
}
