//! The state directory: what Fondaco keeps between runs, and the settings among it.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::kernel::{self, CallError, LevelFor, Op};
use crate::shown::{DocPath, Shown, safe_json_pretty};
use crate::units::{Bytes, Level};

/// Why the state directory cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum StateError {
    /// The kernel refused.
    #[error(transparent)]
    Call(#[from] CallError),
    /// It belongs to somebody else, or others may write to it.
    #[error("{} must belong to this user, or root, and be writable by nobody else", Shown(.0))]
    NotOurs(PathBuf),
    /// The settings file makes no sense.
    #[error("{} is not a settings file: {reason}", Shown(path))]
    Settings {
        /// The file of settings.
        path: PathBuf,
        /// Line, column and what was expected.
        reason: String,
    },
    /// The list of depots and holding areas makes no sense.
    #[error("{} is damaged: {source}", Shown(path))]
    Places {
        /// The file of settings.
        path: PathBuf,
        /// What is wrong with it.
        source: serde_json::Error,
    },
}

/// A volume of fixed capacity that exists only as a directory; the demo's.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SimulatedVolume {
    /// Mount point that the volume is made up for.
    pub path: PathBuf,
    /// What it can hold.
    pub capacity: Bytes,
}

/// What the user has set, in `settings.toml`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Settings {
    /// The waterline of volumes that have none of their own, in thousandths.
    pub waterline: Level,
    /// Waterlines by mount point, in thousandths.
    pub waterlines: BTreeMap<String, Level>,
    /// Whose free space levels are reckoned with: `users`, or `root`, who may write into the reserve.
    pub level_for: LevelFor,
    /// Where archives go, if nothing else is said.
    pub depot: Option<PathBuf>,
    /// Which copy of equal files stays: patterns and words in the order in which they decide.
    pub keep: Vec<String>,
    /// Volumes that exist only as directories.
    pub simulated: Vec<SimulatedVolume>,
    /// How many scans that were not saved for good are kept at most; 0 saves none by itself. They are thinned as they grow old.
    pub scans_kept: usize,
    /// How many bytes they may take.
    pub scans_budget: Bytes,
    /// For how many days one of each day is kept.
    pub scans_daily: u32,
    /// For how many weeks one of each week is kept; of what is older, one of each month.
    pub scans_weekly: u32,
    /// What unattended runs do if nothing else is said.
    pub unattended: Unattended,
    /// Which kernels are never left over.
    pub kernels: KernelsKept,
    /// Names of accounts that the system does not know, by number.
    pub accounts: BTreeMap<String, String>,
    /// Where classes of size end, smallest first, as in `1 MiB`; the usual ones if there is none.
    pub size_classes: Vec<String>,
    /// Where classes of age end, newest first, as in `90 d`; the usual ones if there is none.
    pub age_classes: Vec<String>,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            waterline: Level::from_permille(800),
            waterlines: BTreeMap::new(),
            level_for: LevelFor::Users,
            depot: None,
            keep: Vec::new(),
            simulated: Vec::new(),
            scans_kept: 200,
            scans_budget: Bytes::new(10 << 30),
            scans_daily: 30,
            scans_weekly: 26,
            unattended: Unattended::default(),
            kernels: KernelsKept::default(),
            accounts: BTreeMap::new(),
            size_classes: Vec::new(),
            age_classes: Vec::new(),
        }
    }
}

/// What unattended runs do if nothing else is said.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Unattended {
    /// What they scan and try the rules on.
    pub paths: Vec<PathBuf>,
    /// Where they write metrics.
    pub metrics: Option<PathBuf>,
    /// How many bytes of archives they read back and compare each day; none if it is not given.
    pub verify: Option<Bytes>,
    /// Whom they tell what they came to, and how.
    pub mail: Option<MailSettings>,
}

/// Mail of unattended runs. What is needed to log in stands elsewhere.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MailSettings {
    /// Addresses that it goes to.
    pub to: Vec<String>,
    /// Address that it comes from; `fondaco` at this machine if there is none.
    #[serde(default)]
    pub from: Option<String>,
    /// Server and port, as in `mail.seamark.example:587`; the machine's own `sendmail` if there is none.
    #[serde(default)]
    pub server: Option<String>,
    /// How the way to the server is protected; by the port if nothing is said: `tls` for 465, else `starttls`.
    #[serde(default)]
    pub encryption: Option<MailEncryption>,
    /// File of mode 0600 with the user in its first line and the password in its second.
    #[serde(default)]
    pub login_file: Option<PathBuf>,
    /// The program that takes mail, if there is no server.
    #[serde(default)]
    pub sendmail: Option<PathBuf>,
    /// After which runs.
    #[serde(default)]
    pub when: MailWhen,
}

/// How the way to a mail server is protected.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum MailEncryption {
    /// TLS from the first byte.
    Tls,
    /// TLS once the server was asked for it; nothing is sent if it refuses.
    Starttls,
    /// Not at all: for a server on this machine. Nothing that logs in is sent that way.
    None,
}

/// After which runs mail is sent.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum MailWhen {
    /// After every run, whatever it came to.
    Always,
    /// If something was refused or failed, or a volume is still above its waterline.
    #[default]
    Trouble,
}

/// Which kernels stay, besides the running one and what the boot loader's own entries name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct KernelsKept {
    /// So many of the newest; never less than one.
    pub newest: usize,
    /// These releases, as `uname -r` says them.
    pub keep: Vec<String>,
}

impl Default for KernelsKept {
    fn default() -> Self {
        Self { newest: 2, keep: Vec::new() }
    }
}

/// Places that hold what runs have archived or set aside. They are protected for as long as they are known.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Places {
    /// Directories that archives went to.
    pub depots: BTreeSet<DocPath>,
    /// Directories in which runs have kept what they took away.
    pub holding_areas: BTreeSet<DocPath>,
}

/// An open state directory.
#[derive(Clone, Debug)]
pub struct State {
    directory: PathBuf,
    /// The settings as they stand; [`State::save`] keeps a change.
    pub settings: Settings,
}

impl State {
    /// Opens the directory, making it (mode 0700) if it is missing, and reads the settings.
    ///
    /// # Errors
    ///
    /// [`StateError`].
    pub fn open(directory: &Path) -> Result<Self, StateError> {
        std::fs::DirBuilder::new()
            .recursive(true)
            .mode(0o700)
            .create(directory)
            .map_err(CallError::on(Op::Create, directory))?;
        let directory = directory.canonicalize().map_err(CallError::on(Op::Open, directory))?;
        let meta = std::fs::metadata(&directory).map_err(CallError::on(Op::Examine, &directory))?;
        if meta.uid() != kernel::effective_user() || meta.mode() & 0o022 != 0 {
            return Err(StateError::NotOurs(directory));
        }
        let exposed = kernel::exposed_at(&directory);
        if let Some(at) = exposed.map_err(CallError::on(Op::Examine, &directory))? {
            return Err(StateError::NotOurs(at));
        }
        let path = directory.join("settings.toml");
        let settings = match std::fs::read_to_string(&path) {
            Ok(text) => toml::from_str(&text).map_err(|error| StateError::Settings {
                path,
                reason: error.to_string().trim_end().to_owned(),
            })?,
            Err(error) if error.kind() == io::ErrorKind::NotFound => Settings::default(),
            Err(error) => return Err(CallError::on(Op::Read, path)(error).into()),
        };
        Ok(Self { directory, settings })
    }

    /// Where it is.
    pub fn directory(&self) -> &Path {
        &self.directory
    }

    /// The directory of the logs.
    pub fn log_directory(&self) -> PathBuf {
        self.directory.join("log")
    }

    /// The journal's file.
    pub fn journal_file(&self) -> PathBuf {
        self.directory.join("journal.db")
    }

    /// The rules that are always held against what is looked at, if there are any.
    pub fn rules_file(&self) -> PathBuf {
        self.directory.join("rules.toml")
    }

    /// What the user says is made again, beside what is known.
    pub fn regenerable_file(&self) -> PathBuf {
        self.directory.join("regenerable.toml")
    }

    /// What the user says is left over, beside what is known.
    pub fn leftovers_file(&self) -> PathBuf {
        self.directory.join("leftovers.toml")
    }

    /// The file of levels over time.
    pub fn history_file(&self) -> PathBuf {
        self.directory.join("history.db")
    }

    /// Where it is kept what was read of files when equal ones were sought.
    pub fn hashes_file(&self) -> PathBuf {
        self.directory.join("hashes.db")
    }

    /// The file that the one run at a time locks.
    pub fn lock_file(&self) -> PathBuf {
        self.directory.join("run.lock")
    }

    /// The file that the one unattended run at a time locks.
    pub fn unattended_lock_file(&self) -> PathBuf {
        self.directory.join("unattended.lock")
    }

    /// Where the records of unattended runs are kept.
    pub fn reports_directory(&self) -> PathBuf {
        self.directory.join("reports")
    }

    /// Where scans are saved.
    pub fn scans_directory(&self) -> PathBuf {
        self.directory.join("scans")
    }

    /// The depot that archives go to if nothing else is said.
    pub fn depot(&self) -> PathBuf {
        self.settings.depot.clone().unwrap_or_else(|| self.directory.join("depot"))
    }

    /// The waterline of the volume mounted there.
    pub fn waterline(&self, mount_point: &Path) -> Level {
        let own = self.settings.waterlines.get(&crate::shown::shown(mount_point));
        own.copied().unwrap_or(self.settings.waterline)
    }

    /// Sets a volume's waterline and keeps it.
    ///
    /// # Errors
    ///
    /// [`StateError`] if it cannot be written; then it holds for this run only.
    pub fn set_waterline(&mut self, mount_point: &Path, level: Level) -> Result<(), StateError> {
        self.settings.waterlines.insert(crate::shown::shown(mount_point), level);
        self.save()
    }

    /// The depots and holding areas that runs have used so far.
    ///
    /// # Errors
    ///
    /// [`StateError`] if they cannot be read; there are none if there is no file of them.
    pub fn places(&self) -> Result<Places, StateError> {
        let path = self.directory.join("places.json");
        match std::fs::read(&path) {
            Ok(text) => {
                serde_json::from_slice(&text).map_err(|source| StateError::Places { path, source })
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Places::default()),
            Err(error) => Err(CallError::on(Op::Read, path)(error).into()),
        }
    }

    /// Remembers places that a run is going to use, before it does.
    ///
    /// # Errors
    ///
    /// [`StateError`]; then the places known before still are.
    pub fn remember(&self, depots: &[PathBuf], areas: &[PathBuf]) -> Result<(), StateError> {
        let before = self.places()?;
        let mut places = before.clone();
        places.depots.extend(depots.iter().cloned().map(DocPath));
        places.holding_areas.extend(areas.iter().cloned().map(DocPath));
        if places == before {
            return Ok(());
        }
        let path = self.directory.join("places.json");
        let text = safe_json_pretty(&places).map_err(CallError::on(Op::Write, &path))?;
        Ok(kernel::write_whole(&path, &text)?)
    }

    /// Keeps the settings.
    ///
    /// # Errors
    ///
    /// [`StateError`]; the old file is then untouched.
    pub fn save(&self) -> Result<(), StateError> {
        let path = self.directory.join("settings.toml");
        let text = toml::to_string(&self.settings).map_err(|error| StateError::Settings {
            path: path.clone(),
            reason: error.to_string(),
        })?;
        Ok(kernel::write_whole(&path, text.as_bytes())?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_waterline_is_remembered_and_a_wrong_settings_file_is_told_with_its_place() {
        let directory = tempfile::tempdir().unwrap();
        let mut state = State::open(directory.path()).unwrap();
        assert_eq!(state.waterline(Path::new("/srv")), Level::from_permille(800));
        state.set_waterline(Path::new("/srv"), Level::from_permille(705)).unwrap();
        let again = State::open(directory.path()).unwrap();
        assert_eq!(again.waterline(Path::new("/srv")), Level::from_permille(705));

        std::fs::write(directory.path().join("settings.toml"), "waterline = 800\ntide = 1\n")
            .unwrap();
        let message = State::open(directory.path()).unwrap_err().to_string();
        assert!(message.contains("line 2") && message.contains("tide"), "{message}");
    }

    #[test]
    fn a_directory_that_others_may_write_to_is_not_used() {
        use std::os::unix::fs::PermissionsExt;
        let directory = tempfile::tempdir().unwrap();
        std::fs::set_permissions(directory.path(), PermissionsExt::from_mode(0o777)).unwrap();
        assert!(matches!(State::open(directory.path()), Err(StateError::NotOurs(_))));
    }
}
