//! Runs of the program in which a system call is the last, or fails.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use super::{FONDACO, is_root};

/// For root, `strace` in a world where it and what it runs are the only processes: a run looks at every open file of
/// every process, which would be most of its calls.
pub fn strace() -> Command {
    if !is_root() {
        return Command::new("strace");
    }
    let mut alone = Command::new("unshare");
    alone.args(["--pid", "--fork", "--mount-proc", "strace"]);
    alone
}

/// Runs a command with a state directory, in which a call does something else once; says whether it came to that, and how
/// the command ended. The calls are listed beside the state directory.
pub fn disturbed(
    state: &Path,
    command: &[&str],
    (call, instead): (&str, &str),
    when: usize,
) -> (bool, Option<i32>) {
    let log = state.with_file_name("calls");
    // stops at the calls asked for only, which is much faster; strace 6.1 delivers no signals then
    let filter: &[&str] = if instead.starts_with("signal") { &[] } else { &["--seccomp-bpf"] };
    let mut strace = if instead.starts_with("signal") { Command::new("strace") } else { strace() };
    strace
        .args(["-f", "-qq", "-o", log.to_str().unwrap()])
        .args(filter)
        .args(["-e", &format!("trace={call}")])
        .args(["-e", &format!("inject={call}:{instead}:when={when}")])
        .args([FONDACO, "--state"])
        .arg(state)
        .args(command)
        .stdout(Stdio::null());
    // without a trace nothing was begun: there was no memory for it, or no process
    let mut said = Vec::new();
    let ran = (0..10).find_map(|wait| {
        std::thread::sleep(Duration::from_millis(20 * wait));
        let output = strace.output().unwrap();
        said.clone_from(&output.stderr);
        log.exists().then_some(output)
    });
    let Some(ran) = ran else {
        panic!("strace cannot be begun: {}", String::from_utf8_lossy(&said));
    };
    let status = ran.status;
    let calls = std::fs::read(&log).unwrap();
    let injected = String::from_utf8_lossy(&calls).contains("(INJECTED)");
    (injected || status.code().is_none(), status.code())
}

/// Which calls of a kind are disturbed: each of them (or one in `step`) with `KILLS=all`; otherwise one in four of those,
/// for each kind beginning with another one.
pub fn to_disturb(kind: usize, step: usize) -> impl Iterator<Item = usize> {
    let all = std::env::var("KILLS").is_ok_and(|said| said == "all");
    let (first, step) = if all { (1, step) } else { (1 + kind % 4 * step, 4 * step) };
    (first..200).step_by(step)
}
