//! Sends what an unattended run came to, by a mail server or the machine's own `sendmail`.

use std::io::{Read, Write};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use anyhow::{Context, Result, anyhow, bail};
use fondaco_chart::Letter;
use fondaco_core::kernel::node_name;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::state::{MailEncryption, MailSettings};
use fondaco_store::read_secret;
use lettre::message::{Mailbox, MultiPart};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Tls, TlsParameters};
use lettre::{Message, SmtpTransport, Transport};
use rustix::process::{Pid, Signal};

/// A server that does not answer is waited for so long.
const PATIENCE: Duration = Duration::from_secs(30);
/// A program that takes mail may look for its receivers meanwhile.
const PROGRAM_PATIENCE: Duration = Duration::from_secs(120);

/// A way that mail goes.
pub enum Post {
    /// To a server.
    Server(Box<SmtpTransport>),
    /// To a program on this machine.
    Program(PathBuf),
}

impl Post {
    /// What the settings say. Connects to nothing yet.
    ///
    /// # Errors
    ///
    /// What is wrong with them.
    pub fn new(settings: &MailSettings) -> Result<Self> {
        let Some(server) = &settings.server else {
            let program = settings.sendmail.clone();
            return Ok(Self::Program(program.unwrap_or_else(|| "/usr/sbin/sendmail".into())));
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
                give_to(program, &message, PROGRAM_PATIENCE)?;
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
    let text = read_secret(file).map_err(|error| anyhow!("{}: {error}", Shown(file)))?;
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

/// Gives a mail to a program that takes it as `sendmail` does: the receivers as arguments, the text from standard input. One
/// that does not end is ended.
fn give_to(program: &Path, message: &Message, patience: Duration) -> Result<()> {
    let envelope = message.envelope();
    let mut command = Command::new(program);
    command.arg("-i");
    if let Some(from) = envelope.from() {
        command.arg("-f").arg(from);
    }
    command.arg("--").args(envelope.to().iter().map(ToString::to_string));
    command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped()).process_group(0);
    let name = Shown(program);
    let mut child = command.spawn().with_context(|| format!("{name} cannot be run"))?;
    let (input, errors) = (child.stdin.take(), child.stderr.take());
    let text = message.formatted();
    // one that does not read would hold up whoever writes, and one that says much whoever waits
    std::thread::spawn(move || input.map(|mut input| input.write_all(&text)));
    let (tell, told) = mpsc::channel();
    std::thread::spawn(move || {
        let mut said = Vec::new();
        let read = errors.map(|errors| errors.take(2000).read_to_end(&mut said));
        let _ = tell.send(read.map(|_| said));
    });
    let begun = Instant::now();
    let status = loop {
        if let Some(status) = child.try_wait()? {
            break status;
        }
        if begun.elapsed() > patience {
            let group = Pid::from_child(&child);
            let _ = rustix::process::kill_process_group(group, Signal::KILL);
            child.wait()?;
            bail!("{name} did not end within {} s", patience.as_secs());
        }
        std::thread::sleep(Duration::from_millis(20));
    };
    if status.success() {
        return Ok(());
    }
    let said = told.recv_timeout(Duration::from_secs(1)).ok().flatten().unwrap_or_default();
    let said = String::from_utf8_lossy(&said).into_owned();
    bail!("{name} has not taken it ({status}): {}", shown(said.trim()))
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use fondaco_chart::{Line, Section};
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

    #[test]
    fn a_program_gets_the_whole_mail_and_one_that_hangs_or_fails_holds_nothing_up() {
        let place = tempfile::tempdir().unwrap();
        let program = |name: &str, text: &str| {
            let file = place.path().join(name);
            std::fs::write(&file, format!("#!/bin/sh\n{text}\n")).unwrap();
            std::fs::set_permissions(&file, PermissionsExt::from_mode(0o755)).unwrap();
            file
        };
        let taken = place.path().join("taken");
        let takes = format!("{{ echo \"$@\"; cat; }} > {}", taken.display());
        // more than a pipe holds
        let line = |n| Line { text: format!("{n}: {}", "x".repeat(60)), ..Line::default() };
        let lines = (0..5000).map(line).collect();
        let sections = vec![Section { title: "tides".to_owned(), lines }];
        let letter = Letter { sections, ..Letter::default() };
        let mail = message(&letter, &settings()).unwrap();
        let patience = Duration::from_secs(5);
        give_to(&program("takes", &takes), &mail, patience).unwrap();
        let text = std::fs::read_to_string(&taken).unwrap();
        assert!(
            text.starts_with("-i -f fondaco@pier.seamark.example -- night@seamark.example day@")
        );
        assert!(text.contains("Auto-Submitted") && text.len() > 300_000, "{}", text.len());
        let failed = give_to(&program("fails", "echo no such tide >&2; exit 75"), &mail, patience);
        assert!(failed.unwrap_err().to_string().contains("no such tide"));
        let begun = Instant::now();
        let hangs = program("hangs", "sleep 60 & sleep 60");
        let hung = give_to(&hangs, &mail, Duration::from_millis(200)).unwrap_err();
        assert!(hung.to_string().contains("did not end"), "{hung}");
        assert!(begun.elapsed() < Duration::from_secs(20));
        assert!(give_to(&place.path().join("none"), &mail, patience).is_err());
    }
}
