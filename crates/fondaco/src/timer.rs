//! The timer that runs `fondaco tend`: where it is kept, and when it runs next.

use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use anyhow::{Context, Result, bail};
use fondaco_core::kernel;
use fondaco_core::shown::shown;

/// The name of the units.
pub const UNIT: &str = "fondaco-tend";

/// The line of a crontab that is ours ends with this.
pub const CRON_MARK: &str = "# fondaco schedule";

/// Where timers are kept here.
pub enum Place {
    /// systemd, of the system or of this user. It is told of changes unless the directory is another than its own.
    Systemd {
        /// Where its units lie.
        directory: PathBuf,
        /// It is of this user, and not of the system.
        user: bool,
        /// It is told of changes.
        is_told: bool,
    },
    /// This user's crontab.
    Cron,
}

impl Place {
    /// Where a timer is kept, or would be written: in `units` if that is said, else with systemd, or in the crontab.
    ///
    /// # Errors
    ///
    /// If there is neither systemd nor a crontab, or it cannot be told.
    pub fn find(units: Option<&Path>, in_crontab: bool) -> Result<Self> {
        let user = kernel::effective_user() != 0;
        if let Some(directory) = units {
            return Ok(Self::Systemd { directory: directory.to_owned(), user, is_told: false });
        }
        // sd_booted(3)
        let is_systemd = Path::new("/run/systemd/system").is_dir();
        if is_systemd && !in_crontab {
            let directory = match user {
                false => PathBuf::from("/etc/systemd/system"),
                true => {
                    let config = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from);
                    let home =
                        std::env::var_os("HOME").map(|home| Path::new(&home).join(".config"));
                    let config = config.filter(|path| path.is_absolute()).or(home);
                    config.context("neither XDG_CONFIG_HOME nor HOME is set")?.join("systemd/user")
                }
            };
            return Ok(Self::Systemd { directory, user, is_told: true });
        }
        let crontab = Command::new("crontab").arg("-l").output();
        match crontab {
            Ok(_) => Ok(Self::Cron),
            Err(error) if error.kind() == io::ErrorKind::NotFound => bail!(
                "there is neither systemd nor a crontab here: have `fondaco tend PATH` run by what there is"
            ),
            Err(error) => Err(error).context("cannot run crontab"),
        }
    }

    /// Whether it is of this user's systemd.
    pub fn is_of_user(&self) -> bool {
        matches!(self, Self::Systemd { user: true, .. })
    }
}

/// The crontab of this user; nothing if there is none.
///
/// # Errors
///
/// In the words of `crontab(1)`.
pub fn crontab() -> Result<String> {
    let said = Command::new("crontab").arg("-l").output().context("cannot run crontab")?;
    let trouble = String::from_utf8_lossy(&said.stderr);
    match said.status.success() {
        true => String::from_utf8(said.stdout).context("the crontab is no text"),
        // different crons say in different words that there is none
        false if ["no crontab", "No such file"].iter().any(|none| trouble.contains(none)) => {
            Ok(String::new())
        }
        false => bail!("crontab -l: {}", shown(trouble.trim())),
    }
}

/// When rules are carried out next, in words; nothing if no timer is known of.
pub fn next_run() -> Option<String> {
    match Place::find(None, false).ok()? {
        Place::Systemd { directory, user, .. } => next_of_systemd(&directory, user),
        Place::Cron => {
            let text = crontab().ok()?;
            let line = text.lines().find(|line| line.ends_with(CRON_MARK))?;
            Some(format!("{}, by the crontab", words_of_cron(line)))
        }
    }
}

/// When the timer elapses next (`systemd.timer(5)`), as systemd says it, or else as its unit does.
fn next_of_systemd(directory: &Path, user: bool) -> Option<String> {
    let timer = format!("{UNIT}.timer");
    let text = std::fs::read_to_string(directory.join(&timer)).ok()?;
    let mut command = Command::new("systemctl");
    if user {
        command.arg("--user");
    }
    command.args(["show", "--property=NextElapseUSecRealtime", "--value", &timer]);
    command.stdin(Stdio::null()).env("LC_ALL", "C");
    let said = kernel::output_within(command, Duration::from_secs(5), 4096);
    let said = said.filter(|said| said.success);
    let next = said.map(|said| String::from_utf8_lossy(&said.text).trim().to_owned());
    match next.filter(|next| next.contains(':')) {
        Some(next) => Some(format!("{}, by {timer}", shown(next))),
        None => {
            let when = text.lines().find_map(|line| line.strip_prefix("OnCalendar="))?;
            Some(format!("{timer} says {}; it is not running", shown(when)))
        }
    }
}

/// When a line of a crontab runs (`crontab(5)`), of those that this program writes.
fn words_of_cron(line: &str) -> String {
    let fields: Vec<&str> = line.split_whitespace().take(5).collect();
    match fields[..] {
        [minute, "*", "*", "*", "*"] => format!("every hour at minute {}", shown(minute)),
        ["0", "3", "*", "*", "*"] => "every day at 03:00".to_owned(),
        ["0", "3", "*", "*", "1"] => "every Monday at 03:00".to_owned(),
        _ => format!("at {}", shown(fields.join(" "))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_of_a_crontab_is_told_in_words() {
        for (line, words) in [
            ("7 * * * * /usr/bin/fondaco tend /srv # fondaco schedule", "every hour at minute 7"),
            ("0 3 * * * /usr/bin/fondaco tend /srv # fondaco schedule", "every day at 03:00"),
            ("0 3 * * 1 /usr/bin/fondaco tend /srv # fondaco schedule", "every Monday at 03:00"),
            ("30 2 1 * * /usr/bin/fondaco tend /srv # fondaco schedule", "at 30 2 1 * *"),
        ] {
            assert_eq!(words_of_cron(line), words);
        }
    }
}
