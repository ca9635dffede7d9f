//! Evidence about the selected entry, gathered on a thread of its own.

use std::path::Path;
use std::sync::mpsc::{Receiver, Sender};

use fondaco_core::analysis::{Packages, Protection, Regenerables, Sources, gather};
use fondaco_core::kernel::{self, OpenFiles, stat_path};
use fondaco_core::rule::{RuleFileError, RuleSet};
use fondaco_core::state::{Settings, State};
use fondaco_core::units::Time;

use super::input::Event;
use super::job::send;
use super::message::{Job, Message};
use super::model::read;

/// Something that was read from a file, until the file is another one.
struct FromFile<T> {
    /// What told the file from others then; nothing if there was none.
    seen: Option<kernel::Stat>,
    value: T,
}

impl<T> FromFile<T> {
    /// Reads it again if the file has changed, appeared or gone since.
    fn refresh(&mut self, file: &Path, read: impl FnOnce() -> T) {
        let now = stat_path(file).ok();
        let key = |stat: &kernel::Stat| (stat.ino, stat.size, stat.ctime);
        if self.seen.as_ref().map(key) != now.as_ref().map(key) {
            (self.seen, self.value) = (now, read());
        }
    }
}

/// What evidence is gathered from, as it was read last.
struct AtHand {
    /// Collected anew when it is some seconds old: processes and mounts come and go.
    open: OpenFiles,
    protection: Protection,
    settings: Settings,
    rules: FromFile<Result<Option<RuleSet>, RuleFileError>>,
    regenerables: FromFile<Regenerables>,
    /// The databases of packages, once somebody has waited for them.
    packages: Option<Packages>,
}

impl AtHand {
    fn new(state: &State) -> Self {
        Self {
            open: OpenFiles::collect(Time::now()),
            protection: Protection::of_system(state),
            settings: state.settings.clone(),
            rules: FromFile { seen: None, value: Ok(None) },
            regenerables: FromFile { seen: None, value: Regenerables::with(None).0 },
            packages: None,
        }
    }

    fn refresh(&mut self, state: &State) {
        let now = Time::now();
        let is_old = now.sec - self.open.taken.sec >= 5;
        if is_old {
            self.open = OpenFiles::collect(now);
        }
        if is_old || self.settings != state.settings {
            self.protection = Protection::of_system(state);
            self.settings = state.settings.clone();
        }
        let rules = state.rules_file();
        self.rules.refresh(&rules, || RuleSet::read(&rules, state));
        let own = state.regenerable_file();
        self.regenerables
            .refresh(&own, || Regenerables::with(std::fs::read_to_string(&own).ok().as_deref()).0);
    }
}

/// Answers the newest request only: while one is worked on, the selection may move many times. What is known
/// at once is told at once; then others are asked, unless the selection has moved on.
pub(super) fn answer_for_evidence(requests: &Receiver<Job>, messages: &Sender<Event>) {
    let mut at_hand: Option<AtHand> = None;
    let mut next = None;
    while let Some(mut request) = next.take().or_else(|| requests.recv().ok()) {
        while let Ok(newer) = requests.try_recv() {
            request = newer;
        }
        let Job::Evidence { number, id, catalog, state, now } = request else { continue };
        let at_hand = at_hand.get_or_insert_with(|| AtHand::new(&state));
        at_hand.refresh(&state);
        let mut evidence = {
            let catalog = read(&catalog);
            let sources = Sources {
                state: &state,
                protection: &at_hand.protection,
                open: &at_hand.open,
                regenerables: &at_hand.regenerables.value,
                rules: at_hand.rules.value.as_ref().map(Option::as_ref),
                now,
            };
            gather(&catalog, id, &sources)
        };
        send(messages, Message::Evidence { number, id, evidence: Box::new(evidence.clone()) });
        next = requests.try_recv().ok();
        if next.is_none() {
            let packages = &mut at_hand.packages;
            let packages = packages.get_or_insert_with(|| Packages::of_system(Path::new("/")));
            evidence.complete(packages);
            send(messages, Message::Evidence { number, id, evidence: Box::new(evidence) });
        }
    }
}
