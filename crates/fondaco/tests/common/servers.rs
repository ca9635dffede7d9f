//! Real servers for the tests, and a way to them that can be disturbed.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// A server on this machine; it ends with this value.
pub struct Server {
    child: Child,
    pub port: u16,
    /// What it keeps.
    pub root: PathBuf,
    _directory: tempfile::TempDir,
}

impl Drop for Server {
    fn drop(&mut self) {
        // with all that it has begun
        let group = rustix::process::Pid::from_child(&self.child);
        let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
        let _ = self.child.wait();
    }
}

/// Where Debian keeps the modules of its web server.
const APACHE: &str = "/usr/lib/apache2/modules";

fn load(module: &str) -> String {
    format!("LoadModule {module}_module {APACHE}/mod_{module}.so\n")
}

/// The key that the S3 server takes.
pub const S3_LOGIN: (&str, &str) = ("night", "tide-and-current");

impl Server {
    /// An S3 server with a bucket `seamark`, if `scripts/test` has installed one.
    pub fn s3() -> Option<Self> {
        let target = PathBuf::from(env!("CARGO_BIN_EXE_fondaco"));
        let program = target.parent()?.parent()?.join("servers/bin/s3s-fs");
        if !program.exists() {
            eprintln!("SKIPPED: stores need {}, which scripts/test installs", program.display());
            return None;
        }
        let (directory, root) = place();
        std::fs::create_dir(root.join("seamark")).unwrap();
        let port = free_port();
        let child = Command::new(program)
            .args(["--access-key", S3_LOGIN.0, "--secret-key", S3_LOGIN.1])
            .args(["--host", "127.0.0.1", "--port", &port.to_string()])
            .arg(&root)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .unwrap();
        Some(Self { child, port, root, _directory: directory }.answering())
    }

    /// A WebDAV server that lets anybody write below `/dav/`, if there is one.
    pub fn webdav() -> Option<Self> {
        Self::webdav_with("", |_| {})
    }

    /// The same, which speaks TLS with a certificate for `localhost` that an authority of its own has signed, and asks for
    /// a login below `/dav/`. The authority's certificate is `authority.pem` beside what it keeps.
    pub fn webdav_over_tls((user, password): (&str, &str)) -> Option<Self> {
        let modules = ["ssl", "authn_core", "authn_file", "authz_user", "auth_basic"];
        let config = modules.map(load).concat()
            + "SSLEngine on\nSSLCertificateFile server.pem\nSSLCertificateKeyFile server.key\n\
               <Location /dav>\nAuthType Basic\nAuthName pier\nAuthUserFile logins\nRequire valid-user\n</Location>\n";
        Self::webdav_with(&config, |root| {
            let openssl = |arguments: &str| {
                let words = arguments.split(' ');
                let ran = Command::new("openssl").args(words).current_dir(root).output().unwrap();
                assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
                String::from_utf8(ran.stdout).unwrap()
            };
            std::fs::write(root.join("names"), "subjectAltName=DNS:localhost").unwrap();
            openssl(
                "req -x509 -newkey rsa:2048 -nodes -days 9 -subj /CN=authority -keyout authority.key -out authority.pem",
            );
            openssl(
                "req -newkey rsa:2048 -nodes -subj /CN=localhost -keyout server.key -out request.pem",
            );
            openssl(
                "x509 -req -in request.pem -CA authority.pem -CAkey authority.key -CAcreateserial -days 9 \
                 -extfile names -out server.pem",
            );
            let hash = openssl(&format!("passwd -apr1 {password}"));
            std::fs::write(root.join("logins"), format!("{user}:{hash}")).unwrap();
        })
    }

    fn webdav_with(more: &str, prepare: impl FnOnce(&Path)) -> Option<Self> {
        if !Path::new(APACHE).join("mod_dav_fs.so").exists() {
            eprintln!("SKIPPED: WebDAV needs apache2, which scripts/test installs");
            return None;
        }
        let (directory, root) = place();
        std::fs::create_dir_all(root.join("www/dav")).unwrap();
        let port = free_port();
        let modules = ["mpm_event", "authz_core", "dav", "dav_fs"].map(load).concat();
        let at = root.display();
        // begun by root it takes another user's rights
        let user = if super::is_root() { "User www-data\nGroup www-data\n" } else { "" };
        let config = format!(
            "ServerRoot {at}\n{modules}{user}ServerName localhost\nListen 127.0.0.1:{port}\nPidFile {at}/pid\n\
             ErrorLog {at}/errors\nDocumentRoot {at}/www\nDavLockDB {at}/locks/db\n\
             <Directory {at}/www>\nRequire all granted\n</Directory>\n<Location /dav>\nDav On\n</Location>\n{more}"
        );
        std::fs::create_dir(root.join("locks")).unwrap();
        std::fs::write(root.join("config"), config).unwrap();
        prepare(&root);
        if super::is_root() {
            let open = Command::new("chown").args(["-R", "www-data"]).arg(&root).status().unwrap();
            assert!(open.success());
            let mut above = Command::new("chmod");
            above.arg("755").arg(&root).arg(root.parent().unwrap());
            assert!(above.status().unwrap().success());
        }
        let child = Command::new("/usr/sbin/apache2")
            .arg("-f")
            .arg(root.join("config"))
            .arg("-DFOREGROUND")
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .unwrap();
        Some(Self { child, port, root, _directory: directory }.answering())
    }

    fn answering(mut self) -> Self {
        let begun = Instant::now();
        while TcpStream::connect(("127.0.0.1", self.port)).is_err() {
            assert!(
                self.child.try_wait().unwrap().is_none(),
                "a server ended: {}",
                self.root.display()
            );
            assert!(begun.elapsed() < Duration::from_secs(20), "a server does not answer");
            std::thread::sleep(Duration::from_millis(20));
        }
        self
    }
}

fn place() -> (tempfile::TempDir, PathBuf) {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap().join("server");
    std::fs::create_dir(&root).unwrap();
    (directory, root)
}

fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// What happens to one of the connections to a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// Nothing: it goes through as it is.
    None,
    /// It is cut after so many bytes to the server.
    CutGoing(u64),
    /// It is cut after so many bytes from the server.
    CutComing(u64),
    /// It is answered with this status, and the server never hears of it.
    Answered(u16),
    /// The bit of a byte from the server is another one.
    Flipped(u64),
    /// The bit of a byte to the server is another one.
    FlippedGoing(u64),
    /// Bytes stand still for a while.
    Late,
}

/// A port whose connections go to a server, each with the next fault.
pub struct Proxy {
    pub port: u16,
    faults: Arc<AtomicU64>,
    requests: Arc<AtomicU64>,
    is_calm: Arc<AtomicBool>,
    _listening: Listening,
}

/// A thread that takes connections, one after the other; it ends with this value.
struct Listening {
    port: u16,
    ended: Arc<AtomicBool>,
}

impl Drop for Listening {
    fn drop(&mut self) {
        self.ended.store(true, Ordering::Relaxed);
        let _ = TcpStream::connect(("127.0.0.1", self.port));
    }
}

impl Listening {
    fn begin(mut take: impl FnMut(u64, TcpStream) + Send + 'static) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let ended = Arc::new(AtomicBool::new(false));
        let end = Arc::clone(&ended);
        std::thread::spawn(move || {
            for (number, client) in (0..).zip(listener.incoming()) {
                match (end.load(Ordering::Relaxed), client) {
                    (true, _) => return,
                    (false, Ok(client)) => take(number, client),
                    (false, Err(_)) => {}
                }
            }
        });
        Self { port, ended }
    }
}

impl Proxy {
    /// Each connection is disturbed as `next` says for its number. Only one request goes over each.
    pub fn to(server: u16, next: impl Fn(u64) -> Fault + Send + 'static) -> Self {
        let [faults, requests] = [(); 2].map(|()| Arc::new(AtomicU64::new(0)));
        let is_calm = Arc::new(AtomicBool::new(false));
        let calm = Arc::clone(&is_calm);
        let (disturbed, all) = (Arc::clone(&faults), Arc::clone(&requests));
        let listening = Listening::begin(move |number, client| {
            let fault = match calm.load(Ordering::Relaxed) {
                true => Fault::None,
                false => next(number),
            };
            all.fetch_add(1, Ordering::Relaxed);
            if fault != Fault::None {
                disturbed.fetch_add(1, Ordering::Relaxed);
            }
            std::thread::spawn(move || drop(pass(&client, server, fault)));
        });
        Self { port: listening.port, faults, requests, is_calm, _listening: listening }
    }

    /// Disturbs nothing any more.
    pub fn calm(&self) {
        self.is_calm.store(true, Ordering::Relaxed);
    }

    /// How many connections there were.
    pub fn requests(&self) -> u64 {
        self.requests.load(Ordering::Relaxed)
    }

    /// How many connections were disturbed.
    pub fn faults(&self) -> u64 {
        self.faults.load(Ordering::Relaxed)
    }
}

fn pass(client: &TcpStream, server: u16, fault: Fault) -> std::io::Result<()> {
    if let Fault::Answered(status) = fault {
        let mut head = [0; 1024];
        let _ = { client }.read(&mut head)?;
        let answer = format!(
            "HTTP/1.1 {status} Disturbed\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
        );
        { client }.write_all(answer.as_bytes())?;
        // what is still on its way would otherwise reset the connection before the answer was read
        client.shutdown(Shutdown::Write)?;
        client.set_read_timeout(Some(Duration::from_secs(2)))?;
        let _ = std::io::copy(&mut { client }, &mut std::io::sink());
        return Ok(());
    }
    let server = TcpStream::connect(("127.0.0.1", server))?;
    let (going_from, going_to) = (client.try_clone()?, server.try_clone()?);
    let going = std::thread::spawn(move || {
        let (cut, flipped) = match fault {
            Fault::CutGoing(at) => (Some(at), None),
            Fault::FlippedGoing(at) => (None, Some(at)),
            _ => (None, None),
        };
        copy(&going_from, &going_to, cut, flipped, (true, false))
    });
    let (cut, flipped) = match fault {
        Fault::CutComing(at) => (Some(at), None),
        Fault::Flipped(at) => (None, Some(at)),
        _ => (None, None),
    };
    let _ = copy(&server, client, cut, flipped, (false, fault == Fault::Late));
    let _ = going.join();
    Ok(())
}

/// Copies bytes until one side ends; then both ends are shut.
fn copy(
    mut from: &TcpStream,
    mut to: &TcpStream,
    cut: Option<u64>,
    flipped: Option<u64>,
    (is_going, is_late): (bool, bool),
) -> std::io::Result<()> {
    let mut buffer = vec![0; 64 << 10];
    let mut at = 0;
    let done = loop {
        let mut got = match from.read(&mut buffer) {
            Ok(0) => break Ok(()),
            Ok(got) => got as u64,
            Err(error) => break Err(error),
        };
        if at == 0
            && let Some(end) = buffer[..got as usize].windows(2).position(|two| two == b"\r\n")
            && is_going
        {
            // so that each request has a connection, and a fault, of its own
            to.write_all(&buffer[..end])?;
            to.write_all(b"\r\nConnection: close")?;
            buffer.copy_within(end..got as usize, 0);
            got -= end as u64;
        }
        if is_late {
            std::thread::sleep(Duration::from_millis(150));
        }
        if let Some(place) = flipped.filter(|place| (at..at + got).contains(place)) {
            buffer[(place - at) as usize] ^= 4;
        }
        let most = cut.map_or(got, |cut| got.min(cut.saturating_sub(at)));
        if let Err(error) = to.write_all(&buffer[..most as usize]) {
            break Err(error);
        }
        at += got;
        if most < got {
            break Ok(());
        }
    };
    if is_going && cut.is_none() {
        // a client that was killed: what the server has been asked to do it may do to its end
        return done;
    }
    let _ = from.shutdown(Shutdown::Both);
    let _ = to.shutdown(Shutdown::Both);
    done
}

/// A server whose answers a test writes: whole ones, with head. It keeps what it was asked, as `METHOD PATH`.
pub struct Scripted {
    pub port: u16,
    asked: Arc<Mutex<Vec<String>>>,
    _listening: Listening,
}

impl Scripted {
    pub fn answering(mut answer: impl FnMut(&str, &mut TcpStream) + Send + 'static) -> Self {
        let asked = Arc::new(Mutex::new(Vec::new()));
        let kept = Arc::clone(&asked);
        let listening = Listening::begin(move |_, mut client| {
            let mut head = String::new();
            for line in BufReader::new(&client).lines().map_while(Result::ok) {
                if line.is_empty() {
                    break;
                }
                head += &line;
                head += "\n";
            }
            let request = head.split(" HTTP/").next().unwrap_or("").to_owned();
            kept.lock().unwrap().push(request.clone());
            answer(&request, &mut client);
        });
        Self { port: listening.port, asked, _listening: listening }
    }

    pub fn asked(&self) -> Vec<String> {
        self.asked.lock().unwrap().clone()
    }
}

/// An answer with a body.
pub fn answer(client: &mut TcpStream, status: &str, body: &str) {
    let length = body.len();
    let head =
        format!("HTTP/1.1 {status}\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n");
    let _ = client.write_all(head.as_bytes()).and_then(|()| client.write_all(body.as_bytes()));
}
