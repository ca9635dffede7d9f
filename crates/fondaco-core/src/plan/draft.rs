//! The plan while it is being made: things put on it and taken off, with a forecast at any time.

use std::cmp::Reverse;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::ops::Bound;
use std::path::{Path, PathBuf};

use super::{
    Action, Deed, Forecast, Plan, PlanError, PlannedNames, Refusal, Survey, Target, forecast, notes,
};
use crate::analysis::is_kernel_part;
use crate::kernel::Kind;
use crate::shown::DocPath;
use crate::units::{Bytes, Time};

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
    fn may_hold_others(&self) -> bool {
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
    fn notes(&self, names: &mut PlannedNames) -> Vec<String> {
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

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct Draft {
    planned: Vec<Planned>,
    frees: Vec<Forecast>,
    /// The planned paths in order, so that what lies above or below one is found at once.
    paths: BTreeSet<PathBuf>,
    /// Those of them that may hold others: all but what is known to be no directory.
    wide: HashSet<PathBuf>,
}

impl Draft {
    /// What is planned, in order.
    pub fn planned(&self) -> &[Planned] {
        &self.planned
    }

    /// What each of them frees, in the same order.
    pub fn frees(&self) -> &[Forecast] {
        &self.frees
    }

    /// What the forecast of one of them stands on, one sentence each; nothing as long as it has not been reviewed.
    pub fn notes_of(&self, at: usize) -> Vec<String> {
        let mut names = PlannedNames::of(self.planned.iter().filter_map(Planned::survey));
        let before = self.planned.iter().take(at).filter_map(Planned::survey);
        before.for_each(|survey| names.pass(survey));
        self.planned.get(at).map_or_else(Vec::new, |planned| planned.notes(&mut names))
    }

    /// Whether nothing is planned.
    pub fn is_empty(&self) -> bool {
        self.planned.is_empty()
    }

    /// Puts a thing on the draft, or takes it off if it is there with the same deed. Nothing is
    /// ever planned twice: see [`Put`].
    pub fn put(&mut self, new: Planned) -> Put {
        let put = self.place(new);
        self.forecast();
        put
    }

    /// Puts many things on the draft, as [`Draft::put`] would one after the other.
    pub fn put_all(&mut self, new: Vec<Planned>) -> Vec<Put> {
        let puts = new.into_iter().map(|new| self.place(new)).collect();
        self.forecast();
        puts
    }

    fn place(&mut self, new: Planned) -> Put {
        if self.paths.remove(&new.path) {
            self.wide.remove(&new.path);
            self.planned.retain(|planned| planned.path != new.path);
            return Put::TakenOff;
        }
        let mut above = new.path.ancestors().filter(|_| !self.wide.is_empty());
        if let Some(above) = above.find(|above| self.wide.contains(*above)) {
            return Put::InsideOf(above.to_owned());
        }
        if !new.may_hold_others() {
            self.paths.insert(new.path.clone());
            self.planned.push(new);
            return Put::Added;
        }
        // paths are ordered part by part: what lies below one comes right behind it
        let from = (Bound::Excluded(&new.path), Bound::Unbounded);
        let below =
            self.paths.range::<PathBuf, _>(from).take_while(|path| path.starts_with(&new.path));
        let taken_in: Vec<PathBuf> = below.cloned().collect();
        if !taken_in.is_empty() {
            self.paths.retain(|path| !path.starts_with(&new.path));
            self.planned.retain(|planned| !planned.path.starts_with(&new.path));
        }
        self.wide.retain(|path| !path.starts_with(&new.path));
        self.wide.insert(new.path.clone());
        self.paths.insert(new.path.clone());
        self.planned.push(new);
        if taken_in.is_empty() { Put::Added } else { Put::TookIn(taken_in.len()) }
    }

    /// Takes a thing off.
    pub fn take_off(&mut self, path: &Path) {
        self.paths.remove(path);
        self.wide.remove(path);
        self.planned.retain(|planned| planned.path != path);
        self.forecast();
    }

    /// Empties the draft.
    pub fn clear(&mut self) {
        *self = Self::default();
    }

    /// Changes what is done to a planned thing. `depot_on_volume`: as in [`Planned`].
    pub fn set_deed(&mut self, path: &Path, deed: Deed, depot_on_volume: bool) {
        if let Some(planned) = self.planned.iter_mut().find(|planned| planned.path == path) {
            planned.deed = deed;
            planned.depot_on_volume = depot_on_volume;
        }
        self.forecast();
    }

    /// Takes in the outcome of a close look.
    pub fn reviewed(&mut self, path: &Path, outcome: Result<Survey, Refusal>) {
        if let Some(planned) = self.planned.iter_mut().find(|planned| planned.path == path) {
            planned.review = match outcome {
                Ok(survey) => Review::Ready(Box::new(survey)),
                Err(refusal) => Review::Refused(refusal.to_string()),
            };
        }
        self.forecast();
    }

    /// Whether this very path is planned.
    pub fn is_planned(&self, path: &Path) -> bool {
        self.paths.contains(path)
    }

    /// The planned thing that a path is, or lies in.
    pub fn covering(&self, path: &Path) -> Option<&Planned> {
        self.planned.iter().find(|planned| match planned.emptied {
            // it takes nothing with it
            true => path == planned.path,
            false => path.starts_with(&planned.path),
        })
    }

    /// What is freed on one volume.
    pub fn relief(&self, volume: &Path) -> Forecast {
        let mut sum = Forecast::default();
        for (planned, frees) in self.planned.iter().zip(&self.frees) {
            if planned.volume == volume {
                sum.now += frees.now;
                sum.later += frees.later;
            }
        }
        sum
    }

    /// The draft as a plan: what has been reviewed and not refused.
    ///
    /// # Errors
    ///
    /// [`PlanError::NoId`].
    pub fn to_plan(&self, protect: Vec<DocPath>, now: Time) -> Result<Plan, PlanError> {
        let mut names = PlannedNames::of(self.planned.iter().filter_map(Planned::survey));
        let mut in_order: Vec<_> = self.planned.iter().zip(&self.frees).collect();
        // what is emptied comes after what empties it, the deepest first
        in_order.sort_by_key(|(planned, _)| {
            planned.emptied.then(|| Reverse(planned.path.components().count()))
        });
        let mut first_of: HashMap<&Path, u32> = HashMap::new();
        let mut number = 0;
        let actions = in_order.into_iter().filter_map(|(planned, frees)| {
            let survey = planned.survey()?;
            number += 1;
            let together = planned.together.as_deref();
            Some(Action {
                number,
                deed: planned.deed.clone(),
                reason: planned.reason.clone(),
                target: survey.target.clone(),
                volume: DocPath(planned.volume.clone()),
                frees: *frees,
                shared: match survey.shared.extents.is_empty() {
                    true => Bytes::ZERO,
                    false => Bytes::new(survey.shared.counted),
                },
                notes: planned.notes(&mut names),
                held: survey.held.as_ref().map(|held| held.target.clone()),
                tool: survey.tool.clone(),
                together: together.map(|with| *first_of.entry(with).or_insert(number)),
                purge_after: planned.purge_after.filter(|_| planned.deed == Deed::SetAside),
                stays: planned.stays.clone(),
                own: None,
                emptied: planned.emptied,
            })
        });
        let mut plan = Plan::new(actions, protect, now)?;
        let kernels =
            self.planned.iter().map(|planned| &planned.path).filter(|path| is_kernel_part(path));
        plan.give_up = kernels.cloned().map(DocPath).collect();
        Ok(plan)
    }

    fn forecast(&mut self) {
        let ready = self.planned.iter().filter_map(|planned| match &planned.review {
            Review::Ready(survey) => Some((&planned.deed, &**survey)),
            _ => None,
        });
        let mut exact = forecast(ready).into_iter();
        self.frees = self
            .planned
            .iter()
            .map(|planned| match (&planned.review, &planned.deed) {
                (Review::Ready(_), _) => exact.next().unwrap_or_default(),
                (Review::Refused(_), _) => Forecast::default(),
                (Review::Pending, Deed::SetAside) => {
                    Forecast { now: Bytes::ZERO, later: planned.estimate }
                }
                (Review::Pending, _) => Forecast { now: planned.estimate, later: Bytes::ZERO },
            })
            .collect();
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
