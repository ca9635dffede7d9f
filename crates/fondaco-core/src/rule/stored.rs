//! The text of a rule file, read to be edited and saved so that nothing is lost.

use std::ffi::OsString;
use std::io::{self, Write};
use std::os::unix::fs::{MetadataExt, fchown};
use std::path::{Path, PathBuf};

use super::{RuleError, RuleSet};
use crate::kernel::{self, Aside, CallError, Op};
use crate::lens::Accounts;
use crate::shown::Shown;

/// See the [module](self).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RuleText {
    /// Where it stands.
    pub file: PathBuf,
    /// What it was when it was read; nothing if there was no file.
    pub read: Option<String>,
}

/// Why a rule file is not saved; the one that was there is as before.
#[derive(Debug, thiserror::Error)]
pub enum SaveError {
    /// It makes no sense.
    #[error(transparent)]
    Rule(#[from] RuleError),
    /// Somebody else has written it since it was read.
    #[error("{} has been changed by somebody else since it was read", Shown(.0))]
    Changed(PathBuf),
    /// A call of the kernel failed.
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
}

impl RuleText {
    /// Reads the text of a rule file, whatever it says. A symbolic link is followed, and stays one when it is saved.
    ///
    /// # Errors
    ///
    /// [`CallError`], also for a file that is no UTF-8.
    pub fn read(file: &Path) -> Result<Self, CallError> {
        let file = match file.canonicalize() {
            Ok(real) => real,
            Err(error) if error.kind() == io::ErrorKind::NotFound => file.to_owned(),
            Err(error) => return Err(CallError::on(Op::Read, file)(error)),
        };
        let read = now_in(&file)?;
        Ok(Self { file, read })
    }

    /// The path that the version before is kept under.
    pub fn before(&self) -> PathBuf {
        let mut name = self.file.file_name().map_or_else(OsString::new, OsString::from);
        name.push(".before");
        self.file.with_file_name(name)
    }

    /// Saves a text in its place in one step, if it makes sense and nobody else has written the file meanwhile. What was
    /// there before is kept beside it.
    ///
    /// # Errors
    ///
    /// [`SaveError`].
    pub fn save(&mut self, text: &str, accounts: &dyn Accounts) -> Result<(), SaveError> {
        RuleSet::parse(&self.file, text, accounts)?;
        if now_in(&self.file)? != self.read {
            return Err(SaveError::Changed(self.file.clone()));
        }
        let mut aside = Aside::create(&self.file)?;
        aside.file.write_all(text.as_bytes()).map_err(CallError::on(Op::Write, &self.file))?;
        if let Some(before) = &self.read {
            self.give_rights_of_old(&aside)?;
            kernel::write_whole(&self.before(), before.as_bytes())?;
        }
        aside.replace(&self.file)?;
        self.read = Some(text.to_owned());
        Ok(())
    }

    /// Who may read the file stays as it is: a service that reads it would find no rules otherwise.
    fn give_rights_of_old(&self, new: &Aside) -> Result<(), CallError> {
        let old = std::fs::metadata(&self.file).map_err(CallError::on(Op::Examine, &self.file))?;
        let ours = new.file.metadata().map_err(CallError::on(Op::Examine, new.path()))?;
        if (old.uid(), old.gid()) != (ours.uid(), ours.gid()) {
            fchown(&new.file, Some(old.uid()), Some(old.gid()))
                .map_err(CallError::on(Op::SetOwner, &self.file))?;
        }
        new.file.set_permissions(old.permissions()).map_err(CallError::on(Op::SetMode, &self.file))
    }
}

/// What a file holds now; nothing if it is not there.
fn now_in(file: &Path) -> Result<Option<String>, CallError> {
    match std::fs::read_to_string(file) {
        Ok(text) => Ok(Some(text)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(CallError::on(Op::Read, file)(error)),
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;
    use crate::lens::tests::Few;

    const GOOD: &str = "[[rule]]\ntitle = \"x\"\naction = \"delete\"\nolder = \"1 y\"\n";

    #[test]
    fn saving_keeps_the_version_before_and_writes_over_nothing_of_others() {
        let directory = tempfile::tempdir().unwrap();
        let real = directory.path().join("real.toml");
        let link = directory.path().join("rules.toml");
        std::fs::write(&real, "# nothing yet\n").unwrap();
        std::fs::set_permissions(&real, PermissionsExt::from_mode(0o640)).unwrap();
        std::os::unix::fs::symlink(&real, &link).unwrap();
        let mut text = RuleText::read(&link).unwrap();
        assert!(matches!(text.save("[[rule]]\n", &Few), Err(SaveError::Rule(_))));
        text.save(GOOD, &Few).unwrap();
        assert!(link.is_symlink(), "the link stays one");
        assert_eq!(std::fs::read_to_string(&real).unwrap(), GOOD);
        assert_eq!(std::fs::metadata(&real).unwrap().permissions().mode() & 0o7777, 0o640);
        if kernel::effective_user() == 0 {
            std::os::unix::fs::chown(&real, Some(2464), Some(2465)).unwrap();
            text.save(&format!("# again\n{GOOD}"), &Few).unwrap();
            let meta = std::fs::metadata(&real).unwrap();
            assert_eq!((meta.uid(), meta.gid()), (2464, 2465), "whose it is stays");
            text.save(GOOD, &Few).unwrap();
            std::fs::write(text.before(), "# nothing yet\n").unwrap();
        }
        assert_eq!(std::fs::read_to_string(text.before()).unwrap(), "# nothing yet\n");
        std::fs::write(&real, "# somebody else\n").unwrap();
        assert!(matches!(text.save(GOOD, &Few), Err(SaveError::Changed(_))));
        assert_eq!(std::fs::read_to_string(&real).unwrap(), "# somebody else\n");
        // a file that is not there yet
        let mut new = RuleText::read(&directory.path().join("new.toml")).unwrap();
        assert_eq!(new.read, None);
        new.save(GOOD, &Few).unwrap();
        assert!(new.file.is_file() && !new.before().exists());
        std::fs::write(&real, b"\xff").unwrap();
        assert!(RuleText::read(&link).is_err(), "no text");
    }
}
