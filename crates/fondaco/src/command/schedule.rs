//! `fondaco schedule`: the timer that runs `fondaco tend`.

use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use anyhow::{Context, Result, bail};
use fondaco_core::archive::is_store;
use fondaco_core::kernel;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::state::State;

use super::Outcome;
use crate::cli;
use crate::environment::open_state;
use crate::output::{say, tell, usage};
use crate::timer::{CRON_MARK, Place, UNIT, crontab};

pub(super) fn run(arguments: &cli::Schedule, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let place = Place::find(arguments.units.as_deref(), arguments.cron)?;
    if arguments.remove {
        return remove(&place, arguments.yes);
    }
    let Some(every) = &arguments.every else { return show(&place) };
    let paths = if arguments.paths.is_empty() {
        state.settings.unattended.paths.clone()
    } else {
        arguments.paths.clone()
    };
    if paths.is_empty() {
        usage!("say what is tended: fondaco schedule --every day PATH");
    }
    let program = std::env::current_exe().context("it cannot be told where this program is")?;
    let job = Job { program, state: &state, paths: real(paths)?, every, arguments };
    let files = match &place {
        Place::Systemd { directory, .. } => job.units(directory, place.is_of_user())?,
        Place::Cron => vec![(PathBuf::from("crontab"), job.cron_line()?)],
    };
    for (path, text) in &files {
        say!("{}:\n\n{}", Shown(path), text.trim_end());
        say!("");
    }
    if !confirmed(arguments.yes, "Write this?")? {
        say!("nothing was written");
        return Ok(Outcome::AllDone);
    }
    write(&place, &files)?;
    Ok(Outcome::AllDone)
}

fn real(paths: Vec<PathBuf>) -> Result<Vec<PathBuf>> {
    let real = |path: PathBuf| {
        if is_store(&path) {
            return Ok(path);
        }
        path.canonicalize().with_context(|| format!("cannot open {}", Shown(&path)))
    };
    paths.into_iter().map(real).collect()
}

/// What is to be run.
struct Job<'a> {
    program: PathBuf,
    state: &'a State,
    paths: Vec<PathBuf>,
    every: &'a str,
    arguments: &'a cli::Schedule,
}

impl Job<'_> {
    /// The words of the command.
    fn words(&self) -> Result<Vec<String>> {
        let text = |path: &Path| {
            let text = path.to_str().filter(|text| !text.contains(|c: char| c.is_control()));
            let text = text.map(str::to_owned);
            text.with_context(|| format!("{} cannot stand in a timer: rename it", Shown(path)))
        };
        let mut words = vec![
            text(&self.program)?,
            "--state".to_owned(),
            text(self.state.directory())?,
            "tend".to_owned(),
        ];
        if let Some(rules) = &self.arguments.rules {
            words.extend(["--rules".to_owned(), text(&std::path::absolute(rules)?)?]);
        }
        if let Some(level) = self.arguments.when_above {
            words.extend(["--when-above".to_owned(), level.to_string().replace(' ', "")]);
        }
        if let Some(most) = self.arguments.at_most {
            words.extend(["--at-most".to_owned(), format!("{}s", most.secs())]);
        }
        if let Some(metrics) = &self.arguments.metrics {
            words.extend(["--metrics".to_owned(), text(&std::path::absolute(metrics)?)?]);
        }
        for path in &self.paths {
            words.push(text(path)?);
        }
        Ok(words)
    }

    /// The service and its timer (`systemd.service(5)`, `systemd.exec(5)`, `systemd.timer(5)`).
    fn units(&self, directory: &Path, user: bool) -> Result<Vec<(PathBuf, String)>> {
        let words: Vec<String> = self.words()?.iter().map(|word| systemd_word(word)).collect();
        let mut service = format!(
            "# written by fondaco schedule\n\
             [Unit]\n\
             Description=Fondaco: what the rules say, unattended\n\
             Documentation=man:fondaco(1)\n\
             Wants=network-online.target\n\
             After=network-online.target\n\
             \n\
             [Service]\n\
             Type=oneshot\n\
             ExecStart={}\n\
             # 3: a guard has left something alone; 5: another one is at work\n\
             SuccessExitStatus=3 5\n\
             Nice=19\n\
             IOSchedulingClass=idle\n\
             NoNewPrivileges=yes\n\
             RestrictRealtime=yes\n\
             LockPersonality=yes\n\
             MemoryDenyWriteExecute=yes\n\
             SystemCallArchitectures=native\n\
             UMask=0077\n",
            words.join(" ")
        );
        if !user {
            service += "ProtectHostname=yes\n\
                 ProtectKernelLogs=yes\n\
                 ProtectKernelModules=yes\n\
                 ProtectKernelTunables=yes\n\
                 RestrictNamespaces=yes\n";
            // Stricter protection would mount the tended places once more, so that they were another volume than on
            // screen, and entries could not be renamed out of them.
            if !self.paths.iter().any(|path| SYSTEM.iter().any(|place| overlap(path, place))) {
                service += "ProtectSystem=full\n";
            }
        }
        let timer = format!(
            "# written by fondaco schedule\n\
             [Unit]\n\
             Description=Fondaco: when the rules are carried out\n\
             \n\
             [Timer]\n\
             OnCalendar={}\n\
             RandomizedDelaySec={}\n\
             Persistent={}\n\
             \n\
             [Install]\n\
             WantedBy=timers.target\n",
            self.on_calendar(),
            if self.is_frequent() { "0" } else { "15min" },
            if self.is_frequent() { "no" } else { "yes" },
        );
        Ok(vec![
            (directory.join(format!("{UNIT}.service")), service),
            (directory.join(format!("{UNIT}.timer")), timer),
        ])
    }

    /// A look at the level is cheap, and need not be spread or made up for.
    fn is_frequent(&self) -> bool {
        self.arguments.when_above.is_some() || self.every == "hour"
    }

    fn on_calendar(&self) -> &str {
        match self.every {
            "hour" => "hourly",
            "day" => "*-*-* 03:00:00",
            "week" => "Mon *-*-* 03:00:00",
            other => other,
        }
    }

    /// A line of a crontab (`crontab(5)`).
    fn cron_line(&self) -> Result<String> {
        let when = match self.every {
            "hour" => "7 * * * *",
            "day" => "0 3 * * *",
            "week" => "0 3 * * 1",
            other => usage!(
                "{}: a crontab knows --every hour, day and week here; OnCalendar texts need systemd",
                shown(other)
            ),
        };
        let words: Vec<String> = self.words()?.iter().map(|word| cron_word(word)).collect();
        Ok(format!("{when} {} {CRON_MARK}", words.join(" ")))
    }
}

/// What `ProtectSystem=full` lets nobody write to (`systemd.exec(5)`).
const SYSTEM: [&str; 4] = ["/usr", "/boot", "/efi", "/etc"];

/// Whether one of two places lies in the other.
fn overlap(one: &Path, other: &str) -> bool {
    one.starts_with(other) || Path::new(other).starts_with(one)
}

/// A word as systemd reads it: quoted, with nothing in it that stands for something else (`systemd.syntax(7)`).
fn systemd_word(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-+,:=@".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        return word.to_owned();
    }
    let mut out = String::from("\"");
    for c in word.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            '%' | '$' => out.extend([c, c]),
            _ => out.push(c),
        }
    }
    out.push('"');
    out
}

/// A word as the shell of a crontab reads it; a percent sign would end the line there.
fn cron_word(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-+,:=@".contains(c);
    match !word.is_empty() && word.chars().all(plain) {
        true => word.to_owned(),
        false => format!("'{}'", word.replace('\'', "'\\''").replace('%', "\\%")),
    }
}

/// Asks before something is written; where nobody can be asked, `--yes` must have said so.
fn confirmed(yes: bool, question: &str) -> Result<bool> {
    if yes {
        return Ok(true);
    }
    if !io::stdin().is_terminal() {
        tell!("nobody can be asked here: say --yes to have it done");
        return Ok(false);
    }
    print!("{question} Type yes: ");
    io::stdout().flush()?;
    let mut answer = String::new();
    io::stdin().read_line(&mut answer)?;
    Ok(answer.trim() == "yes")
}

fn write(place: &Place, files: &[(PathBuf, String)]) -> Result<()> {
    match place {
        Place::Systemd { directory, user, is_told } => {
            std::fs::create_dir_all(directory)
                .with_context(|| format!("cannot make {}", Shown(directory)))?;
            for (path, text) in files {
                is_ours(path)?;
                kernel::write_readable(path, text.as_bytes())?;
                say!("written: {}", Shown(path));
            }
            if *is_told {
                systemctl(*user, &["daemon-reload"]);
                systemctl(*user, &["enable", "--now", &format!("{UNIT}.timer")]);
            } else {
                say!("systemd was not told of it: {} is no directory of its own", Shown(directory));
            }
        }
        Place::Cron => {
            let mut lines = other_lines(&crontab()?);
            lines.extend(files.iter().map(|(_, line)| line.clone()));
            set_crontab(&lines)?;
            say!("written to the crontab of this user");
        }
    }
    Ok(())
}

/// Whether a unit is there; one that somebody else has written is neither replaced nor removed.
fn is_ours(path: &Path) -> Result<bool> {
    match std::fs::read_to_string(path) {
        Ok(text) if text.starts_with("# written by fondaco schedule\n") => Ok(true),
        Ok(_) => bail!("{} is not of fondaco schedule, and stays", Shown(path)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
        Err(error) => Err(error).with_context(|| format!("cannot read {}", Shown(path))),
    }
}

/// Has systemd do something, and says what to type if it does not.
fn systemctl(user: bool, words: &[&str]) {
    let mut command = Command::new("systemctl");
    if user {
        command.arg("--user");
    }
    command.args(words).stdin(Stdio::null());
    let said = kernel::output_within(command, Duration::from_secs(60), 4096);
    if !said.is_some_and(|said| said.success) {
        let of = if user { "systemctl --user" } else { "systemctl" };
        tell!("that was not done, do it yourself: {of} {}", words.join(" "));
    }
}

/// All lines of a crontab but ours.
fn other_lines(crontab: &str) -> Vec<String> {
    let others = crontab.lines().filter(|line| !line.ends_with(CRON_MARK));
    others.map(str::to_owned).collect()
}

fn set_crontab(lines: &[String]) -> Result<()> {
    let mut child = Command::new("crontab")
        .arg("-")
        .stdin(Stdio::piped())
        .spawn()
        .context("cannot run crontab")?;
    let mut text = lines.join("\n");
    if !text.is_empty() {
        text.push('\n');
    }
    if let Some(mut stdin) = child.stdin.take() {
        stdin.write_all(text.as_bytes()).context("cannot write to crontab")?;
    }
    match child.wait().context("cannot run crontab")?.success() {
        true => Ok(()),
        false => bail!("crontab has not taken it"),
    }
}

fn show(place: &Place) -> Result<Outcome> {
    let mut found = false;
    match place {
        Place::Systemd { directory, .. } => {
            for ending in ["service", "timer"] {
                let path = directory.join(format!("{UNIT}.{ending}"));
                match std::fs::read_to_string(&path) {
                    Ok(text) => {
                        found = true;
                        say!("{}:\n\n{}", Shown(&path), text.trim_end());
                        say!("");
                    }
                    Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                    Err(error) => {
                        return Err(error).with_context(|| format!("cannot read {}", Shown(&path)));
                    }
                }
            }
        }
        Place::Cron => {
            for line in crontab()?.lines().filter(|line| line.ends_with(CRON_MARK)) {
                found = true;
                say!("{line}");
            }
        }
    }
    if !found {
        say!("nothing is scheduled; for every night: fondaco schedule --every day PATH");
    }
    Ok(Outcome::AllDone)
}

fn remove(place: &Place, yes: bool) -> Result<Outcome> {
    match place {
        Place::Systemd { directory, user, is_told } => {
            let paths =
                ["timer", "service"].map(|ending| directory.join(format!("{UNIT}.{ending}")));
            let mut there = Vec::new();
            for path in &paths {
                if is_ours(path)? {
                    say!("{}", Shown(path));
                    there.push(path);
                }
            }
            if there.is_empty() {
                say!("nothing is scheduled");
                return Ok(Outcome::AllDone);
            }
            if !confirmed(yes, "Remove this?")? {
                say!("nothing was removed");
                return Ok(Outcome::AllDone);
            }
            if *is_told {
                systemctl(*user, &["disable", "--now", &format!("{UNIT}.timer")]);
            }
            for path in there {
                std::fs::remove_file(path)
                    .with_context(|| format!("cannot remove {}", Shown(path)))?;
            }
            if *is_told {
                systemctl(*user, &["daemon-reload"]);
            }
        }
        Place::Cron => {
            let before = crontab()?;
            let others = other_lines(&before);
            if others.len() == before.lines().count() {
                say!("nothing is scheduled");
                return Ok(Outcome::AllDone);
            }
            before.lines().filter(|line| line.ends_with(CRON_MARK)).try_for_each(|line| {
                say!("{line}");
                Ok::<(), anyhow::Error>(())
            })?;
            if !confirmed(yes, "Remove this?")? {
                say!("nothing was removed");
                return Ok(Outcome::AllDone);
            }
            set_crontab(&others)?;
        }
    }
    say!("removed");
    Ok(Outcome::AllDone)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_name_means_anything_but_itself_in_a_unit_or_a_crontab() {
        for (word, systemd, cron) in [
            ("/srv/seamark", "/srv/seamark", "/srv/seamark"),
            ("/srv/two words", "\"/srv/two words\"", "'/srv/two words'"),
            ("/srv/50%", "\"/srv/50%%\"", "'/srv/50\\%'"),
            ("/srv/$HOME;x", "\"/srv/$$HOME;x\"", "'/srv/$HOME;x'"),
            ("/srv/a\"b\\c", "\"/srv/a\\\"b\\\\c\"", "'/srv/a\"b\\c'"),
            ("/srv/it's", "\"/srv/it's\"", "'/srv/it'\\''s'"),
            ("", "\"\"", "''"),
        ] {
            assert_eq!(systemd_word(word), systemd);
            assert_eq!(cron_word(word), cron);
        }
    }
}
