//! The plan while it is being made: things put on it and taken off, with a forecast at any time.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use super::places::Places;
use super::{Deed, Forecast, Forecaster, PlannedNames, Refusal, Survey, Target, notes};
use crate::kernel::Kind;
use crate::packed_list::PackedList;
use crate::units::Bytes;

/// One thing on the draft.
#[derive(Clone, Debug)]
pub struct Planned {
    /// Where it is.
    pub path: PathBuf,
    /// What is to be done.
    pub deed: Deed,
    /// By hand, or which rule.
    pub reason: String,
    /// The mount point of its volume.
    pub volume: PathBuf,
    /// The depot, if it is archived, lies on that volume too.
    pub depot_on_volume: bool,
    /// Bytes that the catalog says it would free; used until it has been reviewed.
    pub estimate: Bytes,
    /// Entries in it, as the catalog says.
    pub entries: u64,
    /// How far its review is.
    pub review: Review,
    /// For how many seconds it is held, if it is set aside and is to be purged after that.
    pub purge_after: Option<u64>,
    /// The first of what goes together with this or not at all.
    pub together: Option<PathBuf>,
    /// The copy with the same contents that must stay.
    pub stays: Option<Box<Target>>,
    /// What that copy has otherwise (owner, mode, times, attributes), if this is to become another name of it.
    pub differs: Vec<String>,
    /// A directory of which all that is in it is planned too: it goes after that, if it is empty then.
    pub emptied: bool,
}

impl Planned {
    /// What was looked at closely, with one deed and nothing else to be said of it.
    pub fn of_survey(
        path: PathBuf,
        deed: Deed,
        reason: String,
        volume: PathBuf,
        survey: Survey,
    ) -> Self {
        Self {
            path,
            deed,
            reason,
            volume,
            depot_on_volume: false,
            estimate: survey.target.allocated,
            entries: survey.target.entries,
            review: Review::Ready(Box::new(survey)),
            purge_after: None,
            together: None,
            stays: None,
            differs: Vec::new(),
            emptied: false,
        }
    }

    /// It is a directory, or may be one.
    pub(super) fn may_hold_others(&self) -> bool {
        !self.emptied && self.survey().is_none_or(|survey| survey.target.kind == Kind::Directory)
    }

    /// Its close look, if it has been reviewed and not refused.
    fn survey(&self) -> Option<&Survey> {
        match &self.review {
            Review::Ready(survey) => Some(survey),
            _ => None,
        }
    }

    /// To be asked for each in order: see [`notes`].
    pub(super) fn notes(&self, names: &mut PlannedNames) -> Vec<String> {
        let Some(survey) = self.survey() else { return Vec::new() };
        let mut notes = notes(&self.deed, survey, self.depot_on_volume, names);
        if self.deed == Deed::Link && !self.differs.is_empty() {
            notes
                .push(format!("it gets what the file that stays has: {}", self.differs.join("; ")));
        }
        notes
    }

    /// The name that people know it by.
    pub fn place(&self) -> &Path {
        let Review::Ready(survey) = &self.review else { return &self.path };
        match (&survey.held, survey.tool.as_deref()) {
            (Some(held), _) => &held.target.was.0,
            (None, Some(tool)) => tool.place(),
            (None, None) => &self.path,
        }
    }
}

/// How far the close look at a planned thing is.
#[derive(Clone, Debug)]
pub enum Review {
    /// Not done yet.
    Pending,
    /// Done: this is what will be compared.
    Ready(Box<Survey>),
    /// It cannot be planned, and why.
    Refused(String),
}

/// What putting something on the draft came to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Put {
    /// It is on the draft now.
    Added,
    /// It is on the draft, and so many things below it that were planned before go with it.
    TookIn(usize),
    /// It was on the draft and no longer is.
    TakenOff,
    /// It is not added: this, above it, is planned already.
    InsideOf(PathBuf),
}

/// See the [module](self). Of a million planned things most lie packed in memory.
#[derive(Clone, Debug, Default)]
pub struct Draft {
    planned: PackedList<Planned>,
    frees: Vec<Forecast>,
    places: Places,
    /// What the forecast of the next thing stands on.
    so_far: Forecaster,
    sums: Sums,
}

/// What can be said of all that is planned together.
#[derive(Clone, Debug, Default)]
pub struct Sums {
    /// What it frees.
    pub frees: Forecast,
    /// What it frees on each volume.
    pub by_volume: Vec<(PathBuf, Forecast)>,
    /// Bytes on disk of it.
    pub bytes: Bytes,
    /// How many of it cannot be put back once it is done.
    pub for_good: usize,
    /// How many of it are still to be looked at.
    pub pending: usize,
    /// Whether any of it is a deleted file that a process holds.
    pub has_held: bool,
    /// Whether programs of the system are to do any of it.
    pub has_tools: bool,
    /// Of each inode with several names where some of them are planned, and how many there.
    links: HashMap<(u64, u64), Vec<(u32, u32)>>,
    /// The places of what is not ready to be carried out, in order.
    pub(super) not_ready: Vec<usize>,
    /// The places of directories that go once other actions have emptied them, in order.
    pub(super) emptied: Vec<usize>,
}

impl Sums {
    fn frees_on(&mut self, volume: &Path, frees: Forecast) {
        match self.by_volume.iter_mut().find(|(known, _)| known == volume) {
            Some((_, sum)) => sum.add(frees),
            None => self.by_volume.push((volume.to_owned(), frees)),
        }
    }

    fn add(&mut self, at: usize, planned: &Planned, frees: Forecast) {
        self.frees.add(frees);
        self.bytes += planned.estimate;
        if planned.emptied {
            self.emptied.push(at);
        }
        if let Review::Refused(_) = planned.review {
            self.not_ready.push(at);
            return;
        }
        let deed = &planned.deed;
        self.for_good += usize::from(*deed == Deed::Delete || deed.is_release());
        let mut here = frees;
        if let Review::Ready(survey) = &planned.review {
            for other in survey.tool.iter().flat_map(|tool| tool.elsewhere()) {
                let now = other.allocated.min(here.now);
                here.now = here.now.less(now);
                self.frees_on(&other.volume.0, Forecast { now, ..Forecast::default() });
            }
        }
        self.frees_on(&planned.volume, here);
        match &planned.review {
            Review::Ready(survey) => {
                self.has_held |= survey.held.is_some();
                self.has_tools |= survey.tool.is_some();
                for (inode, (_, below, _)) in &survey.linked {
                    self.links.entry(*inode).or_default().push((at as u32, *below));
                }
            }
            Review::Pending => {
                self.pending += 1;
                self.not_ready.push(at);
            }
            Review::Refused(_) => {}
        }
    }
}

impl Draft {
    /// What is planned, in order.
    pub fn planned(&self) -> &PackedList<Planned> {
        &self.planned
    }

    /// What is planned, taken out.
    pub fn into_planned(self) -> PackedList<Planned> {
        self.planned
    }

    /// What each of them frees, in the same order.
    pub fn frees(&self) -> &[Forecast] {
        &self.frees
    }

    /// What can be said of all of them together.
    pub fn sums(&self) -> &Sums {
        &self.sums
    }

    /// How many of them are ready to be carried out.
    pub fn ready(&self) -> usize {
        self.planned.len() - self.sums.not_ready.len()
    }

    /// How many of those that are ready come before a place.
    pub fn ready_before(&self, at: usize) -> usize {
        at - self.sums.not_ready.partition_point(|not_ready| *not_ready < at)
    }

    /// Packs again what was unpacked to be looked at.
    pub fn trim(&mut self) {
        self.planned.trim();
    }

    /// What the forecast of one of them stands on, one sentence each; nothing as long as it has not been reviewed.
    pub fn notes_of(&self, at: usize) -> Vec<String> {
        let Some(planned) = self.planned.get(at) else { return Vec::new() };
        let mut names = PlannedNames::default();
        for inode in planned.survey().iter().flat_map(|survey| survey.linked.keys()) {
            for (place, below) in self.sums.links.get(inode).into_iter().flatten() {
                names.add(*inode, *below, (*place as usize) < at);
            }
        }
        planned.notes(&mut names)
    }

    /// How many names of each inode with several are planned.
    pub(super) fn names(&self) -> PlannedNames {
        let mut names = PlannedNames::default();
        for (inode, places) in &self.sums.links {
            places.iter().for_each(|(_, below)| names.add(*inode, *below, false));
        }
        names
    }

    /// Whether nothing is planned.
    pub fn is_empty(&self) -> bool {
        self.planned.is_empty()
    }

    /// Puts a thing on the draft, or takes it off if it is there with the same deed. Nothing is
    /// ever planned twice: see [`Put`].
    pub fn put(&mut self, new: Planned) -> Put {
        let put = self.place(new);
        self.forecast_if_needed();
        put
    }

    /// Puts many things on the draft, as [`Draft::put`] would one after the other.
    pub fn put_all(&mut self, new: impl IntoIterator<Item = Planned>) {
        for new in new {
            self.place(new);
        }
        self.forecast_if_needed();
    }

    fn place(&mut self, new: Planned) -> Put {
        if let Some(at) = self.places.of(&new.path, &self.planned) {
            self.planned.remove(at);
            self.find_places();
            return Put::TakenOff;
        }
        if let Some(above) = self.places.wide_above(&new.path) {
            return Put::InsideOf(above.to_owned());
        }
        let mut taken_in = 0;
        if new.may_hold_others() && self.places.is_above_some(&new.path) {
            let before = self.planned.len();
            self.planned.retain(|planned| !planned.path.starts_with(&new.path));
            taken_in = before - self.planned.len();
            self.find_places();
        }
        self.places.add(&new, self.planned.len());
        // what comes last changes the forecast of nothing before it
        if self.frees.len() == self.planned.len() {
            let frees = forecast_of(&new, &mut self.so_far);
            self.sums.add(self.planned.len(), &new, frees);
            self.frees.push(frees);
        }
        self.planned.push(new);
        if taken_in == 0 { Put::Added } else { Put::TookIn(taken_in) }
    }

    /// Finds all places anew, after some have gone; the forecast is to be made anew too.
    fn find_places(&mut self) {
        self.places = Places::default();
        for (at, planned) in self.planned.iter().enumerate() {
            self.places.add(&planned, at);
        }
        self.frees.clear();
        (self.so_far, self.sums) = (Forecaster::default(), Sums::default());
    }

    /// Takes a thing off.
    pub fn take_off(&mut self, path: &Path) {
        if let Some(at) = self.places.of(path, &self.planned) {
            self.planned.remove(at);
            self.find_places();
        }
        self.forecast_if_needed();
    }

    /// Empties the draft.
    pub fn clear(&mut self) {
        *self = Self::default();
    }

    /// Changes what is done to a planned thing. `depot_on_volume`: as in [`Planned`].
    pub fn set_deed(&mut self, path: &Path, deed: Deed, depot_on_volume: bool) {
        if let Some(at) = self.places.of(path, &self.planned) {
            let planned = &mut self.planned[at];
            planned.deed = deed;
            planned.depot_on_volume = depot_on_volume;
        }
        self.forecast();
    }

    /// Takes in the outcome of a close look.
    pub fn reviewed(&mut self, path: &Path, outcome: Result<Survey, Refusal>) {
        if let Some(at) = self.places.of(path, &self.planned) {
            self.planned[at].review = match outcome {
                Ok(survey) => Review::Ready(Box::new(survey)),
                Err(refusal) => Review::Refused(refusal.to_string()),
            };
        }
        self.forecast();
    }

    /// Whether this very path is planned.
    pub fn is_planned(&self, path: &Path) -> bool {
        self.places.of(path, &self.planned).is_some()
    }

    /// The planned thing that a path is, or lies in.
    pub fn covering(&self, path: &Path) -> Option<&Planned> {
        let here = self.places.of(path, &self.planned);
        let at = here.or_else(|| {
            let above = self.places.wide_above(path)?;
            self.places.of(above, &self.planned)
        });
        self.planned.get(at?)
    }

    /// What is freed on one volume.
    pub fn relief(&self, volume: &Path) -> Forecast {
        let found = self.sums.by_volume.iter().find(|(known, _)| known == volume);
        found.map_or_else(Forecast::default, |(_, frees)| *frees)
    }

    fn forecast_if_needed(&mut self) {
        if self.frees.len() != self.planned.len() {
            self.forecast();
        }
    }

    fn forecast(&mut self) {
        (self.so_far, self.sums) = (Forecaster::default(), Sums::default());
        self.frees.clear();
        for (at, planned) in self.planned.iter().enumerate() {
            let frees = forecast_of(&planned, &mut self.so_far);
            self.sums.add(at, &planned, frees);
            self.frees.push(frees);
        }
    }
}

/// What a planned thing frees after those that come before it.
fn forecast_of(planned: &Planned, so_far: &mut Forecaster) -> Forecast {
    match (&planned.review, &planned.deed) {
        (Review::Ready(survey), deed) => so_far.next(deed, survey),
        (Review::Refused(_), _) => Forecast::default(),
        (Review::Pending, Deed::SetAside) => Forecast { now: Bytes::ZERO, later: planned.estimate },
        (Review::Pending, _) => Forecast { now: planned.estimate, later: Bytes::ZERO },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::survey;

    fn planned(path: &Path, deed: Deed) -> Planned {
        Planned {
            path: path.to_owned(),
            deed,
            reason: "by hand".into(),
            volume: "/srv".into(),
            depot_on_volume: false,
            estimate: Bytes::new(100),
            entries: 1,
            review: Review::Pending,
            purge_after: None,
            together: None,
            stays: None,
            differs: Vec::new(),
            emptied: false,
        }
    }

    #[test]
    fn nothing_is_planned_twice_and_what_lies_inside_goes_with_its_parent() {
        let mut draft = Draft::default();
        let put = |draft: &mut Draft, path: &str| draft.put(planned(Path::new(path), Deed::Delete));
        assert_eq!(put(&mut draft, "/srv/a/x"), Put::Added);
        assert_eq!(put(&mut draft, "/srv/a/y"), Put::Added);
        assert_eq!(draft.relief(Path::new("/srv")).now, Bytes::new(200));
        assert_eq!(put(&mut draft, "/srv/a"), Put::TookIn(2));
        assert_eq!(put(&mut draft, "/srv/a/x/1"), Put::InsideOf("/srv/a".into()));
        assert_eq!(put(&mut draft, "/srv/ab"), Put::Added);
        assert_eq!(put(&mut draft, "/srv/a"), Put::TakenOff);
        assert_eq!(draft.planned().len(), 1);
        draft.set_deed(Path::new("/srv/ab"), Deed::SetAside, false);
        let frees = draft.relief(Path::new("/srv"));
        assert_eq!((frees.now, frees.later), (Bytes::ZERO, Bytes::new(100)));
    }

    proptest::proptest! {
        /// Whatever is put, taken in, taken off and refused: the sums are those of what is planned then.
        #[test]
        fn sums_are_those_of_what_is_planned(
            steps in proptest::collection::vec(("/srv(/[ab]){1,3}", 0..3u8), 1..24)
        ) {
            let mut draft = Draft::default();
            for (path, step) in &steps {
                let path = Path::new(path);
                match step {
                    0 | 1 => drop(draft.put(planned(path, Deed::Delete))),
                    _ if draft.is_planned(path) && path.ends_with("a") => draft.take_off(path),
                    _ => draft.reviewed(path, Err(Refusal::Gone(path.to_owned()))),
                }
                let pending =
                    draft.planned().iter().filter(|one| matches!(one.review, Review::Pending)).count();
                proptest::prop_assert_eq!(draft.sums().pending, pending);
                proptest::prop_assert_eq!(draft.ready(), 0);
                proptest::prop_assert_eq!(draft.relief(Path::new("/srv")).now, Bytes::new(100 * pending as u64));
            }
        }
    }

    #[test]
    fn bytes_that_two_names_share_are_freed_by_the_last_of_them_and_by_none_if_one_stays() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        std::fs::create_dir(root.join("b")).unwrap();
        std::fs::write(root.join("a"), vec![7u8; 50_000]).unwrap();
        std::fs::hard_link(root.join("a"), root.join("b/again")).unwrap();
        let size = survey(&root.join("a")).unwrap().target.allocated;
        let frees = |paths: &[(&str, Deed)]| {
            let mut draft = Draft::default();
            for (path, deed) in paths {
                let path = root.join(path);
                draft.put(planned(&path, deed.clone()));
                draft.reviewed(&path, survey(&path));
            }
            let sum = draft.relief(Path::new("/srv"));
            (sum.now, sum.later)
        };
        let directory_itself = survey(&root.join("b")).unwrap().single;
        assert_eq!(frees(&[("a", Deed::Delete)]), (Bytes::ZERO, Bytes::ZERO));
        assert_eq!(frees(&[("a", Deed::Delete), ("b/again", Deed::Delete)]), (size, Bytes::ZERO));
        assert_eq!(frees(&[("a", Deed::Delete), ("b/again", Deed::SetAside)]), (Bytes::ZERO, size));
        assert_eq!(
            frees(&[("a", Deed::Delete), ("b", Deed::Delete)]),
            (size + directory_itself, Bytes::ZERO)
        );
    }
}
