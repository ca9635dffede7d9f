//! Sends what an unattended run came to, by a mail server or the machine's own `sendmail`.

use std::fs::File;
use std::io::Read;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::time::Duration;

use anyhow::{Context, Result, bail};
use fondaco_chart::Letter;
use fondaco_core::kernel::{effective_user, node_name};
use fondaco_core::shown::{Shown, shown};
use fondaco_core::state::{MailEncryption, MailSettings};
use lettre::message::{Mailbox, MultiPart};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Tls, TlsParameters};
use lettre::{Message, SendmailTransport, SmtpTransport, Transport};

/// A server that does not answer is waited for so long.
const PATIENCE: Duration = Duration::from_secs(30);

/// A way that mail goes.
pub enum Post {
    /// To a server.
    Server(Box<SmtpTransport>),
    /// To a program on this machine.
    Program(SendmailTransport),
}

impl Post {
    /// What the settings say. Connects to nothing yet.
    ///
    /// # Errors
    ///
    /// What is wrong with them.
    pub fn new(settings: &MailSettings) -> Result<Self> {
        let Some(server) = &settings.server else {
            let transport = match &settings.sendmail {
                Some(program) => SendmailTransport::new_with_command(program.as_os_str()),
                None => SendmailTransport::new_with_command("/usr/sbin/sendmail"),
            };
            return Ok(Self::Program(transport));
        };
        let (host, port) = match server.rsplit_once(':') {
            Some((host, port)) => {
                (host, port.parse().with_context(|| format!("{}: no port", shown(server)))?)
            }
            None => (server.as_str(), 587),
        };
        let usual = if port == 465 { MailEncryption::Tls } else { MailEncryption::Starttls };
        let encryption = settings.encryption.unwrap_or(usual);
        let parameters = || {
            TlsParameters::new(host.to_owned())
                .with_context(|| format!("TLS to {} cannot be set up", shown(host)))
        };
        let tls = match encryption {
            MailEncryption::Tls => Tls::Wrapper(parameters()?),
            MailEncryption::Starttls => Tls::Required(parameters()?),
            MailEncryption::None => Tls::None,
        };
        let mut builder =
            SmtpTransport::builder_dangerous(host).port(port).tls(tls).timeout(Some(PATIENCE));
        if let Some(login) = login(settings)? {
            if encryption == MailEncryption::None {
                bail!("a login is not sent to {} without TLS", shown(host));
            }
            builder = builder.credentials(login);
        }
        Ok(Self::Server(Box::new(builder.build())))
    }

    /// Sends a letter to all that the settings name.
    ///
    /// # Errors
    ///
    /// An address that is none, or why it was not taken.
    pub fn send(&self, letter: &Letter, settings: &MailSettings) -> Result<()> {
        let message = message(letter, settings)?;
        match self {
            Self::Server(server) => {
                server.send(&message).context("the mail server has not taken it")?;
            }
            Self::Program(program) => {
                program.send(&message).context("sendmail has not taken it")?;
            }
        }
        Ok(())
    }
}

fn message(letter: &Letter, settings: &MailSettings) -> Result<Message> {
    let address = |text: &str| -> Result<Mailbox> {
        text.parse().with_context(|| format!("{}: no mail address", shown(text)))
    };
    let from = match &settings.from {
        Some(from) => address(from)?,
        None => address(&format!("Fondaco <fondaco@{}>", node_name()))?,
    };
    if settings.to.is_empty() {
        bail!("the settings say nobody whom mail goes to");
    }
    // a header is one line
    let subject: String = letter.title.chars().filter(|c| !c.is_control()).take(200).collect();
    let mut builder = Message::builder().from(from).subject(format!("Fondaco: {subject}"));
    for to in &settings.to {
        builder = builder.to(address(to)?);
    }
    // nobody answers it (RFC 3834)
    let builder = builder.header(AutoSubmitted);
    let body = MultiPart::alternative_plain_html(letter.to_text(), letter.to_html()?);
    builder.multipart(body).context("the mail cannot be written")
}

/// `Auto-Submitted: auto-generated`, so that no answering machine answers.
#[derive(Clone, Debug)]
struct AutoSubmitted;

impl lettre::message::header::Header for AutoSubmitted {
    fn name() -> lettre::message::header::HeaderName {
        lettre::message::header::HeaderName::new_from_ascii_str("Auto-Submitted")
    }

    fn parse(_: &str) -> Result<Self, Box<dyn std::error::Error + Send + Sync>> {
        Ok(Self)
    }

    fn display(&self) -> lettre::message::header::HeaderValue {
        lettre::message::header::HeaderValue::new(Self::name(), "auto-generated".to_owned())
    }
}

/// User and password: from `FONDACO_MAIL_USER` and `FONDACO_MAIL_PASSWORD`, or from a file that nobody else may read.
fn login(settings: &MailSettings) -> Result<Option<Credentials>> {
    let said = |name| std::env::var(name).ok().filter(|text| !text.is_empty());
    if let (Some(user), Some(password)) = (said("FONDACO_MAIL_USER"), said("FONDACO_MAIL_PASSWORD"))
    {
        return Ok(Some(Credentials::new(user, password)));
    }
    let Some(file) = &settings.login_file else { return Ok(None) };
    let text = read_secret(file)?;
    let mut lines = text.lines();
    match (lines.next(), lines.next()) {
        (Some(user), Some(password)) if !user.is_empty() => {
            Ok(Some(Credentials::new(user.to_owned(), password.to_owned())))
        }
        _ => bail!(
            "{} must hold the user in its first line and the password in its second",
            Shown(file)
        ),
    }
}

/// Reads a file that only this user, or root, may read. Nothing of what it holds is ever told.
fn read_secret(file: &Path) -> Result<String> {
    let cannot = || format!("cannot read {}", Shown(file));
    let open = File::open(file).with_context(cannot)?;
    let meta = open.metadata().with_context(cannot)?;
    if ![0, effective_user()].contains(&meta.uid()) || meta.mode() & 0o077 != 0 || !meta.is_file() {
        bail!("{} must be a file of this user with mode 600", Shown(file));
    }
    let mut text = String::new();
    open.take(4096).read_to_string(&mut text).with_context(cannot)?;
    Ok(text)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use fondaco_core::state::MailWhen;

    use super::*;

    fn settings() -> MailSettings {
        MailSettings {
            to: vec!["Night <night@seamark.example>".to_owned(), "day@seamark.example".to_owned()],
            from: Some("fondaco@pier.seamark.example".to_owned()),
            server: None,
            encryption: None,
            login_file: None,
            sendmail: None,
            when: MailWhen::Always,
        }
    }

    #[test]
    fn no_name_adds_a_header_and_every_receiver_is_in_it() {
        let title = "pier: all done\r\nBcc: reef@seamark.example\nX: \u{1b}[2J".to_owned();
        let letter = Letter { title, ..Letter::default() };
        let text = message(&letter, &settings()).unwrap().formatted();
        let text = String::from_utf8(text).unwrap();
        let (headers, _) = text.split_once("\r\n\r\n").unwrap();
        assert!(!headers.lines().any(|line| line.starts_with("Bcc") || line.starts_with("X:")));
        assert!(
            headers.contains("night@seamark.example") && headers.contains("day@seamark.example")
        );
        assert!(!headers.contains('\u{1b}') && headers.contains("Auto-Submitted: auto-generated"));
        let wrong = MailSettings { to: vec!["no address".to_owned()], ..settings() };
        assert!(message(&letter, &wrong).unwrap_err().to_string().contains("no mail address"));
    }

    #[test]
    fn a_login_is_read_only_from_a_file_that_nobody_else_may_read_and_never_sent_in_the_open() {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(&file, "gauge\nlow water\n").unwrap();
        let open = MailSettings { login_file: Some(file.path().to_owned()), ..settings() };
        std::fs::set_permissions(&file, PermissionsExt::from_mode(0o644)).unwrap();
        assert!(login(&open).unwrap_err().to_string().contains("mode 600"));
        std::fs::set_permissions(&file, PermissionsExt::from_mode(0o600)).unwrap();
        let wanted = Credentials::new("gauge".to_owned(), "low water".to_owned());
        assert_eq!(login(&open).unwrap(), Some(wanted));
        let server = Some("localhost:25".to_owned());
        let plain = MailSettings { server, encryption: Some(MailEncryption::None), ..open };
        let refused = Post::new(&plain).err().unwrap().to_string();
        assert!(refused.contains("without TLS") && !refused.contains("low water"), "{refused}");
    }
}
