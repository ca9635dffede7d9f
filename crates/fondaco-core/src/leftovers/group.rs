//! The groups of leftovers: what each is, what speaks for and against removing it, and its usual way out.

use crate::units::Age;

/// How sure it is that nothing is lost with a group.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sure {
    /// Programs make it again when they need it.
    ByItself,
    /// A command makes it again.
    ByCommand,
    /// No program can tell whether somebody wants it.
    OnlyYou,
}

impl Sure {
    /// How people read it.
    pub fn words(self) -> &'static str {
        match self {
            Self::ByItself => "made again by itself",
            Self::ByCommand => "made again by a command",
            Self::OnlyYou => "only you can know",
        }
    }
}

/// What is done with a group if nothing else is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Usual {
    /// Moved into the holding area, to be put back if it is missed.
    SetAside,
    /// Removed for good: what makes itself again, or holds nothing.
    Delete,
    /// The package manager removes it.
    Packages,
    /// The journal's own program cuts it down.
    Vacuum,
    /// A process lets go of it; chosen one by one.
    Release,
    /// Nothing: it is only told.
    Tell,
}

/// One group. See the [module](self).
#[derive(Debug, PartialEq, Eq)]
pub struct Group {
    /// The word for it in commands, rules and documents.
    pub key: &'static str,
    /// Its name on screen.
    pub title: &'static str,
    /// What it is, in a sentence.
    pub what: &'static str,
    /// What speaks for removing it.
    pub speaks_for: &'static str,
    /// What speaks against it.
    pub against: &'static str,
    /// How sure it is that nothing is lost.
    pub sure: Sure,
    /// What is done with it if nothing else is asked for.
    pub usual: Usual,
    /// Whatever was written less than so many days ago is none of it.
    pub least_days: u64,
}

impl Group {
    /// What was written in so short a time is none of it.
    pub fn least_age(&self) -> Age {
        Age::days(self.least_days)
    }

    /// Whether a rule can take it.
    pub fn can_be_rule(&self) -> bool {
        matches!(self.usual, Usual::SetAside | Usual::Delete) || self.goes_through_program()
    }

    /// Whether another program of the system removes it: the package manager, or that of the journal.
    pub fn goes_through_program(&self) -> bool {
        matches!(self.usual, Usual::Packages | Usual::Vacuum)
    }

    /// Whether something of it can be planned.
    pub fn can_go(&self) -> bool {
        self.usual != Usual::Tell
    }
}

/// Lists the groups: a name in the code, and the columns of [`Group`].
macro_rules! groups {
    ($($Name:ident $key:literal $title:literal $sure:ident $usual:ident $days:literal,
        $what:literal, $for:literal, $against:literal;)*) => {
        /// The number of a group in [`GROUPS`].
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        #[allow(missing_docs)] // each is its own word
        pub enum GroupName { $($Name),* }

        impl GroupName {
            /// In the order in which they are told.
            pub const ALL: &'static [Self] = &[$(Self::$Name),*];
        }

        /// All groups, in the order in which they are told.
        pub static GROUPS: &[Group] = &[$(Group {
            key: $key,
            title: $title,
            what: $what,
            speaks_for: $for,
            against: $against,
            sure: Sure::$sure,
            usual: Usual::$usual,
            least_days: $days,
        }),*];
    };
}

impl GroupName {
    /// What is known of it.
    pub fn group(self) -> &'static Group {
        &GROUPS[self as usize]
    }

    /// The group of a word.
    pub fn of_key(key: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|name| name.group().key == key)
    }
}

groups! {
    Held "held" "held by deleted files" OnlyYou Release 0,
        "Files that were deleted while a process has them open.",
        "the space comes back when the process ends or closes them",
        "the process may still need what it wrote";
    Bins "bins" "bins that still hold space" OnlyYou SetAside 7,
        "What users have thrown away on their desktops: it lies in a bin on the same volume.",
        "its owner has thrown it away",
        "its owner may want it back";
    Caches "caches" "caches" ByItself Delete 1,
        "Directories that programs tag or are known to use as caches.",
        "programs fill them again when they need to",
        "filling them again takes time and perhaps the network";
    Builds "builds" "build directories" ByCommand Delete 30,
        "What a build has made beside its sources, not written for 30 days.",
        "the build makes it again from its sources",
        "building takes time, and may need tools or libraries that are gone";
    AptInstalled "apt-installed" "downloads of installed packages" ByCommand Delete 0,
        "Package files in apt's archive of just the version that is installed.",
        "the package is installed; apt-get downloads it again",
        "without a network the package cannot be installed again";
    AptOlder "apt-older" "downloads of older versions" ByCommand Delete 0,
        "Package files in apt's archive of another version than the installed one.",
        "a newer version is installed",
        "it is the way back if the newer one fails and the archive has dropped this one";
    AptOthers "apt-others" "downloads of packages not installed" ByCommand Delete 0,
        "Package files in apt's archive of which no version is installed.",
        "nothing on this machine uses it",
        "somebody may have downloaded it to install it later or elsewhere";
    PackageCaches "package-caches" "caches of package managers" ByCommand Delete 1,
        "What package managers of systems and languages have downloaded.",
        "it is downloaded again when it is needed",
        "without a network it cannot be had again";
    SourceArchives "source-archives" "source archives" ByCommand Delete 30,
        "Archives of sources and binary packages of a distribution that builds from sources, but the newest of each.",
        "there is a newer one of it",
        "it is needed to build the older version again";
    Packages "packages" "packages that nothing needs" ByCommand Packages 0,
        "Packages that were installed because others needed them, which is no longer so.",
        "no installed package needs them",
        "what you built or started yourself may use them";
    UnreadPackages "unread-packages" "packages that nobody reads" ByCommand Packages 180,
        "Large packages, chosen by hand, of which no file has been read for half a year.",
        "none of their files was read",
        "how well readings are kept depends on how the volume is mounted";
    Kernels "kernels" "superseded kernels" ByCommand Packages 7,
        "Kernels that are neither running, nor among the newest, nor named by the boot loader's own entries.",
        "newer ones are installed",
        "it may be the one that still starts if a newer one fails";
    Journals "journals" "system journals" OnlyYou Vacuum 30,
        "Closed files of the system journal that are older than 30 days.",
        "what they tell is old",
        "they are the record of what happened";
    RotatedLogs "rotated-logs" "rotated logs" OnlyYou SetAside 30,
        "Rotated logs beyond the seven newest of each family.",
        "newer ones are kept",
        "you may have to keep logs for some time";
    Dumps "dumps" "old dumps" OnlyYou SetAside 30,
        "Dumps of databases and sites beyond the three newest of each family.",
        "newer ones are there",
        "it may be the last one from before a mistake";
    Generations "generations" "families with many generations" OnlyYou SetAside 30,
        "Files of one family in one directory, more than ten, beyond the three newest; 1 MiB at least.",
        "newer ones are there",
        "each may hold what no other holds: a rule with `keep` is made for them";
    CrashDumps "crash-dumps" "crash dumps" OnlyYou SetAside 1,
        "What was in the memory of programs when they crashed.",
        "of no use but to find out why the program crashed",
        "somebody may still want to find that out";
    Containers "containers" "container and machine remains" OnlyYou Tell 0,
        "Storage of container engines, snapshots and images of virtual machines.",
        "their own tools can remove what is no longer used",
        "by hand it is never removed: the engine would not know";
    PartialDownloads "partial-downloads" "partial downloads" OnlyYou SetAside 7,
        "Downloads that were begun and have not been written for a week.",
        "half a file is of no use",
        "the download may be continued";
    Temporaries "temporaries" "temporary files" OnlyYou SetAside 10,
        "Files that are temporary by their place or name, not written for ten days.",
        "programs should have removed them",
        "a name alone does not prove that nobody needs it";
    EditorRemains "editor-remains" "remains of editors and locks" OnlyYou SetAside 7,
        "Backups, swap files and locks of programs whose process is gone.",
        "who made them has ended",
        "a swap file may hold what was never saved";
    EmptyFiles "empty-files" "empty files" OnlyYou SetAside 30,
        "Files of no length, not written for 30 days.",
        "there is nothing in them",
        "that they exist may mean something to a program; they free next to nothing";
    EmptyDirectories "empty-directories" "empty directories" OnlyYou SetAside 30,
        "Directories in which there are only empty directories.",
        "there is nothing in them",
        "a program may expect them, or something be mounted there; they free next to nothing";
    BrokenLinks "broken-links" "broken links" OnlyYou SetAside 0,
        "Symbolic links that lead to nothing.",
        "they lead to nothing",
        "what they lead to may come back";
    LinkCircles "link-circles" "links in circles" OnlyYou SetAside 0,
        "Symbolic links that lead back to themselves.",
        "they can never lead to anything",
        "they free next to nothing";
    Unowned "unowned" "owners that no account has" OnlyYou SetAside 30,
        "What belongs to a user or group number that no account has.",
        "the account is gone",
        "a new account with that number would get it; it may be all that is left of somebody's work";
    LockedAccounts "locked-accounts" "files of locked accounts" OnlyYou Tell 0,
        "What belongs to an account that is locked or has expired.",
        "the account cannot be used",
        "locked accounts run services, and people come back";
    Mail "mail" "spam and trash of mail" OnlyYou SetAside 30,
        "Mail folders named as spam or trash.",
        "it was thrown away, or sorted out",
        "it is somebody's mail";
    Shadowed "shadowed" "commands that others hide" OnlyYou Tell 0,
        "Commands whose name another directory earlier in the path has too.",
        "they are never the ones that run",
        "scripts may name them by their whole path";
    Libraries "libraries" "several versions of a library" OnlyYou Tell 0,
        "Libraries outside packages of which a newer version lies beside them.",
        "a newer version is there",
        "programs may be linked to just this version";
    FragileNames "fragile-names" "names that will not survive" OnlyYou Tell 0,
        "Names that other systems do not take, or that hide what they are.",
        "they break copies, archives and scripts",
        "nothing is wrong with what is in them: rename them";
    Oddities "oddities" "what is odd" OnlyYou Tell 0,
        "Set-id programs outside packages, files with holes, and files written in the future.",
        "worth a look",
        "nothing says that it may go";
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_group_has_a_word_of_its_own_and_is_found_by_it() {
        assert_eq!(GROUPS.len(), GroupName::ALL.len());
        for name in GroupName::ALL {
            assert_eq!(GroupName::of_key(name.group().key), Some(*name));
            let sentences = [name.group().what, name.group().speaks_for, name.group().against];
            assert!(sentences.iter().all(|text| text.len() > 10), "{name:?}");
        }
        assert_eq!(GroupName::of_key("others"), None);
    }

    #[test]
    fn the_document_explains_every_group() {
        let file = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/leftovers.md");
        let text = std::fs::read_to_string(file).unwrap();
        for group in GROUPS {
            let row = format!("| `{}` | {} |", group.key, group.what);
            assert!(text.contains(&row), "{row}");
        }
    }
}
