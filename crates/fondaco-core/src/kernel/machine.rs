//! Who and where we are.

use std::io;

use rustix::process::{Resource, Rlimit};

/// A text that tells this machine from another: its `machine-id(5)`, or else its node name.
pub fn machine_id() -> String {
    let id = std::fs::read_to_string("/etc/machine-id").unwrap_or_default();
    let id = id.trim();
    if id.is_empty() {
        rustix::system::uname().nodename().to_string_lossy().into_owned()
    } else {
        id.to_owned()
    }
}

/// The user that the kernel takes us for.
pub fn effective_user() -> u32 {
    rustix::process::geteuid().as_raw()
}

/// 128 random bits in hexadecimal (`getrandom(2)`).
///
/// # Errors
///
/// As `getrandom(2)`.
pub fn random_id() -> io::Result<String> {
    let mut bytes = [0u8; 16];
    let got = rustix::rand::getrandom(&mut bytes, rustix::rand::GetRandomFlags::empty())?;
    debug_assert_eq!(got, bytes.len(), "requests of up to 256 bytes are never cut short");
    Ok(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

/// Raises the soft limit of open descriptors to the hard one; returns what it is then.
pub fn raise_descriptor_limit() -> u64 {
    let Rlimit { current, maximum } = rustix::process::getrlimit(Resource::Nofile);
    let wanted = maximum.unwrap_or(1 << 20);
    let raised = Rlimit { current: Some(wanted), maximum };
    match rustix::process::setrlimit(Resource::Nofile, raised) {
        Ok(()) => wanted,
        Err(_) => current.unwrap_or(wanted),
    }
}
