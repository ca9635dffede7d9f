//! Asking another program, with an end to patience.

use std::io::Read;
use std::os::unix::process::CommandExt;
use std::process::{Command, Stdio};
use std::sync::mpsc::channel;
use std::time::Duration;

/// What a program said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Output {
    /// It ended well.
    pub success: bool,
    /// The beginning of its standard output.
    pub text: Vec<u8>,
}

/// Runs a program and gives the first `most` bytes of what it said; nothing if it cannot be run, or has not ended
/// in time, or no thread can be begun to listen to it: then it is killed.
pub fn output_within(mut command: Command, patience: Duration, most: u64) -> Option<Output> {
    let mut child = command.stdout(Stdio::piped()).spawn().ok()?;
    let stdout = child.stdout.take()?;
    let (said, heard) = channel();
    let listen = move || {
        let mut text = Vec::new();
        let read = stdout.take(most).read_to_end(&mut text);
        // who asked may have gone
        let _ = said.send(read.map(|_| text));
    };
    // where no thread can be begun, nothing is heard, and at once
    let _ = std::thread::Builder::new().spawn(listen);
    let text = heard.recv_timeout(patience);
    if text.is_err() {
        let _ = child.kill();
    }
    let status = child.wait().ok()?;
    Some(Output { success: status.success(), text: text.ok()?.ok()? })
}

/// Has a program run as another user, in a session of its own: so it cannot type into the terminal of the user that runs
/// this one (`TIOCSTI` in `ioctl_tty(2)`). Only root can do that.
pub fn run_as(command: &mut Command, user: u32, group: u32) {
    command.uid(user).gid(group);
    let own_session = || rustix::process::setsid().map(drop).map_err(std::io::Error::from);
    // SAFETY: the closure makes one system call and touches no memory, which is all that is allowed between
    // `fork(2)` and `execve(2)`
    unsafe { command.pre_exec(own_session) };
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_program_is_listened_to_and_not_waited_for_for_ever() {
        let mut echo = Command::new("echo");
        echo.arg("tide");
        let said = output_within(echo, Duration::from_secs(10), 100).unwrap();
        assert_eq!(said, Output { success: true, text: b"tide\n".to_vec() });
        let mut sleep = Command::new("sleep");
        sleep.arg("600");
        assert_eq!(output_within(sleep, Duration::from_millis(50), 100), None);
        assert_eq!(output_within(Command::new("/nonexistent"), Duration::from_secs(1), 1), None);
    }
}
