//! Runs that nobody watches: what they do, what they tell, and what a timer is given to run.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use common::{FONDACO, Ran, picture};
use serde_json::Value;

/// A directory of logs, and a state directory with a rule for them.
struct Pier {
    _directory: tempfile::TempDir,
    root: PathBuf,
    state: PathBuf,
}

const RULE: &str = "[[rule]]\ntitle = \"old logs\"\naction = \"set-aside\"\npurge_after = \"1 s\"\n\
                    name = \"*.log\"\nolder = \"90 d\"\nkeep = 12\n";

impl Pier {
    fn new() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let at = directory.path().canonicalize().unwrap();
        let (root, state) = (at.join("seamark"), at.join("state"));
        let made = Command::new("install").args(["-d", "-m", "700"]).arg(&state).status().unwrap();
        assert!(made.success());
        std::fs::create_dir_all(root.join("logs")).unwrap();
        let pier = Self { _directory: directory, root, state };
        pier.rules(RULE);
        (1..=30).for_each(|day| pier.log(&format!("tide-2041-01-{day:02}.log")));
        pier
    }

    fn rules(&self, text: &str) {
        std::fs::write(self.state.join("rules.toml"), text).unwrap();
    }

    /// A log that was last written a year ago.
    fn log(&self, name: &str) {
        let path = self.root.join("logs").join(name);
        std::fs::write(&path, name.repeat(2000)).unwrap();
        let old = std::time::SystemTime::now() - Duration::from_secs(365 * 86_400);
        std::fs::File::options().write(true).open(path).unwrap().set_modified(old).unwrap();
    }

    fn logs(&self) -> usize {
        std::fs::read_dir(self.root.join("logs")).unwrap().count()
    }

    fn fondaco(&self, arguments: &[&str]) -> Ran {
        let mut command = Command::new(FONDACO);
        command.args(arguments).env("FONDACO_STATE", &self.state).current_dir("/");
        Ran(command.output().unwrap())
    }

    fn tend(&self, more: &[&str]) -> Ran {
        let mut arguments = vec!["tend", self.root.to_str().unwrap()];
        arguments.extend(more);
        self.fondaco(&arguments)
    }

    /// The steps of a run, and what was told of them.
    fn steps(ran: &Ran) -> Vec<(String, String, String)> {
        let text = |line: &Value, key: &str| line[key].as_str().unwrap().to_owned();
        let out = ran.out();
        let lines = out.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
        lines
            .inspect(|line| {
                assert_eq!((&line["fondaco"], &line["kind"]), (&1.into(), &"step".into()));
            })
            .map(|line| (text(&line, "step"), text(&line, "grade"), text(&line, "words")))
            .collect()
    }

    fn report(&self, which: &str) -> String {
        self.fondaco(&["report", "--run", which]).ok().out()
    }
}

#[test]
fn what_is_due_by_rule_is_set_aside_held_purged_and_reported_and_nothing_to_do_is_quiet() {
    let pier = Pier::new();
    let metrics = pier.state.join("fondaco.prom");
    let first = pier.tend(&["--metrics", metrics.to_str().unwrap(), "--json"]);
    assert_eq!(first.code(), 0, "{}{}", first.out(), first.err());
    let steps: Vec<String> = Pier::steps(&first).into_iter().map(|(step, ..)| step).collect();
    assert_eq!(
        steps,
        ["levels", "scan", "scan", "try", "plan", "rehearse", "carry-out", "report", "send"]
    );
    assert_eq!(pier.logs(), 12);
    let text = std::fs::read_to_string(&metrics).unwrap();
    assert!(text.contains("\nfondaco_refused_actions 0\n") && text.ends_with("# EOF\n"), "{text}");
    let report = pier.report("last");
    for line in
        ["old logs: set aside 18 entries", "18 actions done", "to put it back: fondaco put-back 1"]
    {
        assert!(report.contains(line), "{line}: {report}");
    }

    // held for a second: purged by the next run, which sets nothing else aside
    std::thread::sleep(Duration::from_millis(1100));
    let second = pier.tend(&[]).ok();
    assert!(second.out().contains("purged: 18 held actions"), "{}", second.out());
    let third = pier.tend(&[]).ok();
    assert_eq!((third.out(), third.err()), (String::new(), String::new()), "quiet");
    assert_eq!(pier.logs(), 12);

    // one is in use: it stays and is told; the others go
    (1..=3).for_each(|day| pier.log(&format!("tide-2041-02-{day:02}.log")));
    let in_use = std::fs::File::open(pier.root.join("logs/tide-2041-01-19.log")).unwrap();
    let fourth = pier.tend(&[]).ok();
    drop(in_use);
    assert!(fourth.out().contains("left out: 1 entry, in use"), "{}", fourth.out());
    assert_eq!(pier.logs(), 13);

    let html = pier.state.join("report.html");
    pier.fondaco(&["report", "--run", "1", "-o", html.to_str().unwrap()]).ok();
    assert!(std::fs::read_to_string(&html).unwrap().contains("18 actions done"));
    assert_eq!(pier.fondaco(&["report", "--run", "77"]).code(), 1);
    assert_eq!(pier.fondaco(&["report", "--run", "tide"]).code(), 2);
    let log = pier.fondaco(&["log", "--lines", "200"]).ok().out();
    assert!(log.lines().any(|line| line.contains("step=\"carry-out\"")), "{log}");
    assert_eq!(pier.fondaco(&["log", "--trouble"]).ok().out(), "", "nothing was refused");
}

#[test]
fn what_cannot_be_done_is_in_the_report_and_the_exit_code_and_nothing_is_touched() {
    let pier = Pier::new();
    let before = picture(&pier.root);
    let protect = format!("protect = [\"{}\"]\n", pier.root.join("lgos").display());
    let small = RULE.replace("keep = 12", "keep = 12\nat_most = { entries = 3 }");
    let cases: [(&str, &[&str], i32, &str); 6] = [
        // a mistake in the file
        (&RULE.replace("older", "oldr"), &[], 1, "did you mean `older`?"),
        // a protected place that does not exist, perhaps misspelt
        (
            &format!("{protect}{RULE}"),
            &[],
            1,
            "nothing is done by rules that name what is not there",
        ),
        ("", &[], 1, "there is no rule in"),
        (&small, &[], 3, "it would take 18 entries, and may take 3"),
        (RULE, &["--at-most", "0 s"], 3, "its time was up"),
        (RULE, &["--rehearse"], 0, "nothing more was asked for"),
    ];
    for (number, (rules, more, code, words)) in cases.iter().enumerate() {
        pier.rules(rules);
        let ran = pier.tend(&[more, &["--json"][..]].concat());
        assert_eq!(ran.code(), *code, "{words}: {}{}", ran.out(), ran.err());
        assert!(ran.out().contains(words), "{words}: {}", ran.out());
        assert_eq!(picture(&pier.root), before, "{words}");
        let report = pier.report(&(number + 1).to_string());
        assert!(report.contains(words), "{words}: {report}");
    }
    assert!(pier.fondaco(&["log", "--trouble"]).ok().out().contains("may take 3"));
    // nothing to tend, and a level that is not reached
    assert_eq!(pier.fondaco(&["tend"]).code(), 2);
    pier.rules(RULE);
    pier.tend(&["--when-above", "100%"]).ok();
    assert_eq!(picture(&pier.root), before);
}

#[test]
fn one_is_at_work_at_a_time_and_one_that_was_killed_is_carried_on_by_the_next() {
    let pier = Pier::new();
    // a FIFO that nobody writes to holds up whoever reads the rules
    let rules = pier.state.join("night.toml");
    rustix::fs::mknodat(
        rustix::fs::CWD,
        &rules,
        rustix::fs::FileType::Fifo,
        rustix::fs::Mode::RUSR | rustix::fs::Mode::WUSR,
        0,
    )
    .unwrap();
    let mut first = Command::new(FONDACO)
        .args(["tend", pier.root.to_str().unwrap(), "--rules", rules.to_str().unwrap()])
        .env("FONDACO_STATE", &pier.state)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let begun = Instant::now();
    while !pier.state.join("reports/1.json").exists() {
        assert!(begun.elapsed() < Duration::from_secs(20), "it has not begun");
        assert!(first.try_wait().unwrap().is_none(), "it has ended");
        std::thread::sleep(Duration::from_millis(10));
    }
    let second = pier.tend(&[]);
    assert_eq!(second.code(), 5, "{}", second.err());
    assert!(second.err().contains(&format!("pid {}", first.id())), "{}", second.err());
    assert_eq!(pier.logs(), 30);
    first.kill().unwrap();
    first.wait().unwrap();
    let third = pier.tend(&["--json"]).ok();
    assert!(third.out().contains("unattended run 1, begun"), "{}", third.out());
    assert_eq!(pier.logs(), 12);
}

#[test]
fn kills_at_any_time_lose_nothing_and_the_next_run_ends_what_was_begun() {
    let pier = Pier::new();
    let whole = picture(&pier.root);
    for round in 0..12u64 {
        let mut run = Command::new(FONDACO)
            .args(["tend", pier.root.to_str().unwrap()])
            .env("FONDACO_STATE", &pier.state)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(8 + 9 * round));
        // it may have come to its end, which must be as good
        let _ = run.kill();
        run.wait().unwrap();
        // nothing is purged before it has been held for a second, so all of it can be had back
        let runs = pier.fondaco(&["journal", "--json"]).ok().json();
        for run in runs["runs"].as_array().unwrap() {
            let back = pier.fondaco(&["put-back", &run["run"].to_string()]);
            assert!([0, 3].contains(&back.code()), "{}{}", back.out(), back.err());
        }
        let now = picture(&pier.root);
        let lost: Vec<&PathBuf> = whole.keys().filter(|path| !now.contains_key(*path)).collect();
        assert!(lost.is_empty(), "round {round}: {lost:?}");
    }
    pier.tend(&[]).ok();
    assert_eq!(pier.logs(), 12);
}

#[test]
fn units_are_shown_before_they_are_written_hold_before_systemd_and_go_again() {
    let pier = Pier::new();
    let units = pier.state.join("units");
    let (units, root) = (units.to_str().unwrap(), pier.root.to_str().unwrap());
    let words = ["schedule", "--units", units, "--every", "day", "--at-most", "2h", root];
    let asked = pier.fondaco(&words).ok();
    assert!(asked.out().contains("ExecStart=") && asked.out().contains("nothing was written"));
    assert!(!Path::new(units).exists());
    pier.fondaco(&[&words[..], &["--yes"]].concat()).ok();
    let timer = format!("{units}/fondaco-tend.timer");
    let service = format!("{units}/fondaco-tend.service");
    let verified = Command::new("systemd-analyze").args(["verify", &timer, &service]).output();
    match verified {
        Ok(verified) => {
            let trouble = String::from_utf8_lossy(&verified.stderr);
            let ours: Vec<&str> = trouble.lines().filter(|line| line.contains("fondaco")).collect();
            // no manual page is installed here
            let is_manual =
                |line: &&str| line.contains("man fondaco") || line.contains("man:fondaco");
            assert!(ours.iter().all(is_manual), "{trouble}");
        }
        Err(error) => eprintln!("SKIPPED: systemd-analyze verify: {error}"),
    }
    assert!(
        pier.fondaco(&["schedule", "--units", units]).ok().out().contains("OnCalendar=*-*-* 03")
    );
    // what the service runs does what it should
    let text = std::fs::read_to_string(&service).unwrap();
    let line = text.lines().find_map(|line| line.strip_prefix("ExecStart=")).unwrap();
    let ran = Command::new("sh").args(["-c", line]).output().unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    assert_eq!(pier.logs(), 12);
    // a unit that somebody else has written stays
    std::fs::write(&timer, "[Timer]\nOnCalendar=daily\n").unwrap();
    assert_eq!(pier.fondaco(&["schedule", "--units", units, "--remove", "--yes"]).code(), 1);
    assert!(Path::new(&service).exists());
    std::fs::remove_file(&timer).unwrap();
    pier.fondaco(&["schedule", "--units", units, "--remove", "--yes"]).ok();
    assert!(!Path::new(&service).exists());
}

/// A mail server on this machine that writes what it takes as a line of JSON.
const MAIL_SERVER: &str = r#"
import asyncio, json, sys
from aiosmtpd.controller import Controller
class Keep:
    async def handle_DATA(self, server, session, envelope):
        print(json.dumps({"to": envelope.rcpt_tos, "text": envelope.content.decode("utf-8", "replace")}), flush=True)
        return "250 taken"
controller = Controller(Keep(), hostname="127.0.0.1", port=int(sys.argv[1]))
controller.start()
print("ready", flush=True)
sys.stdin.read()
controller.stop()
"#;

#[test]
fn mail_goes_to_all_when_something_is_to_be_read_and_waits_while_the_server_is_away() {
    use std::io::{BufRead, BufReader};
    let pier = Pier::new();
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let settings = |when: &str| {
        let text = format!(
            "[unattended]\npaths = [\"{}\"]\n[unattended.mail]\nto = [\"night@seamark.example\", \
             \"day@seamark.example\"]\nfrom = \"fondaco@seamark.example\"\nserver = \"127.0.0.1:{port}\"\n\
             encryption = \"none\"\nwhen = \"{when}\"\n",
            pier.root.display()
        );
        std::fs::write(pier.state.join("settings.toml"), text).unwrap();
    };
    // nobody is there to take it: the run is as good without
    settings("always");
    let first = pier.fondaco(&["tend", "--json"]).ok();
    assert!(first.out().contains("no mail was sent, it goes with that of the next run"));
    let modules = Path::new(env!("CARGO_TARGET_TMPDIR")).parent().unwrap().join("readers");
    let server = Command::new("python3")
        .args(["-c", MAIL_SERVER, &port.to_string()])
        .env("PYTHONPATH", modules)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn();
    let Ok(mut server) = server else { return eprintln!("SKIPPED: mail needs python3") };
    let mut taken = BufReader::new(server.stdout.take().unwrap()).lines();
    if !matches!(taken.next(), Some(Ok(line)) if line == "ready") {
        return eprintln!("SKIPPED: mail needs aiosmtpd, which scripts/test installs from PyPI");
    }
    let mut mail = || serde_json::from_str::<Value>(&taken.next().unwrap().unwrap()).unwrap();
    // what waited comes first, then that of this run, with a rule whose name would forge a header and drive a terminal
    pier.rules(&RULE.replace("old logs", "old\\r\\nBcc: reef@seamark.example\\u001b[2J<b>"));
    (1..=3).for_each(|day| pier.log(&format!("tide-2041-02-{day:02}.log")));
    let second = pier.fondaco(&["tend", "--json"]).ok();
    assert!(second.out().contains("mail went to night@seamark.example, day@seamark.example"));
    let (waited, own) = (mail(), mail());
    assert_eq!(waited["to"].as_array().unwrap().len(), 2);
    assert!(waited["text"].as_str().unwrap().contains("18 actions done"));
    let text = own["text"].as_str().unwrap();
    assert!(text.contains("Subject: Fondaco: ") && text.contains("text/html"), "{text}");
    assert!(
        !text.contains('\u{1b}') && !text.lines().any(|line| line.starts_with("Bcc")),
        "{text}"
    );
    // only when something is to be read: not after this one, and after one with a mistake in its rules
    settings("trouble");
    pier.fondaco(&["tend"]).ok();
    pier.rules("[[rule]]\n");
    assert_eq!(pier.fondaco(&["tend"]).code(), 1);
    assert!(mail()["text"].as_str().unwrap().contains("something failed"));
    drop(server.stdin.take());
    server.wait().unwrap();
}

#[test]
fn archives_are_listed_proved_again_and_restored_elsewhere_without_the_journal() {
    let pier = Pier::new();
    pier.rules(&RULE.replace("set-aside", "archive").replace("purge_after = \"1 s\"\n", ""));
    let settings =
        format!("[unattended]\npaths = [\"{}\"]\nverify = 1000000\n", pier.root.display());
    std::fs::write(pier.state.join("settings.toml"), settings).unwrap();
    let before = picture(&pier.root.join("logs"));
    let ran = pier.fondaco(&["tend", "--json"]).ok();
    assert!(ran.out().contains("1 archive, "), "{}", ran.out());
    assert_eq!(pier.logs(), 12);
    let depots = pier.fondaco(&["depots", "--json"]).ok().json();
    let archive = &depots["depots"][0]["archives"][0];
    assert_eq!((&archive["targets"], &archive["entries"]), (&18.into(), &18.into()));
    let archive = archive["path"].as_str().unwrap();
    assert!(
        pier.fondaco(&["depots", "check"]).ok().out().contains("written, read back and removed")
    );
    pier.fondaco(&["depots", "verify"]).ok();

    // on another machine, as it were: another state directory
    let (elsewhere, back) = (pier.state.join("other"), pier.state.join("back"));
    std::fs::create_dir(&back).unwrap();
    let other = |arguments: &[&str]| {
        let mut command = Command::new(FONDACO);
        command.args(arguments).env("FONDACO_STATE", &elsewhere).current_dir("/");
        Ran(command.output().unwrap())
    };
    let one = pier.root.join("logs/tide-2041-01-07.log");
    let (to, one) = (back.to_str().unwrap(), one.to_str().unwrap());
    assert!(other(&["depots", "show", archive]).ok().out().contains(one));
    other(&["depots", "restore", archive, "--to", to, one]).ok();
    // what has the name stays, the others are restored
    let again = other(&["depots", "restore", archive, "--to", to]);
    assert_eq!(again.code(), 3, "{}", again.err());
    assert!(again.out().contains("17 restored, 1 refused"), "{}", again.out());
    let restored = picture(&back);
    let names: Vec<_> =
        std::fs::read_dir(&back).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(names.len(), 18, "{names:?}");
    let of = |picture: &std::collections::BTreeMap<PathBuf, common::Seen>, below: &Path| {
        picture.iter().find(|(path, _)| path.ends_with(below)).map(|(_, seen)| seen.clone())
    };
    for name in names {
        assert_eq!(of(&restored, Path::new(&name)), of(&before, Path::new(&name)), "{name:?}");
    }
    assert_eq!(other(&["depots", "restore", archive, "--to", to, "/srv/none"]).code(), 2);

    // a flipped byte is found, and nothing damaged is restored
    let mut bytes = std::fs::read(archive).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    std::fs::write(archive, bytes).unwrap();
    assert_eq!(pier.fondaco(&["depots", "verify", archive]).code(), 1);
    std::fs::remove_dir_all(&back).unwrap();
    std::fs::create_dir(&back).unwrap();
    // a bit that nothing depends on, as in the padding of a header, harms nothing
    let damaged = other(&["depots", "restore", archive, "--to", to]);
    assert!([0, 3].contains(&damaged.code()), "{}", damaged.err());
    let restored = picture(&back);
    for entry in std::fs::read_dir(&back).unwrap() {
        let name = entry.unwrap().file_name();
        assert!(!name.to_string_lossy().starts_with('.'), "{name:?} is left");
        assert_eq!(of(&restored, Path::new(&name)), of(&before, Path::new(&name)), "{name:?}");
    }
    pier.log("tide-2041-03-01.log");
    let ran = pier.fondaco(&["tend", "--json"]);
    assert_eq!(ran.code(), 1, "{}", ran.out());
    assert!(ran.out().contains("\"step\":\"verify\""), "{}", ran.out());
}
