//! Actions and planned things in the compact form (`compact_form.rs`). What few actions have is JSON in it.

use std::borrow::Cow;
use std::ops::Range;

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use super::forecast::note_of_deed;
use super::{
    Action, Choice, Deed, Forecast, Overview, Planned, Proposal, Review, Shared, SharedExtent,
    Survey, Target,
};
use crate::analysis::is_kernel_part;
use crate::compact_form::{
    ByteString, Moment, append, moment, path_bytes, path_in, path_of_bytes, take, time_of,
};
use crate::kernel::{Holder, Kind};
use crate::packed_list::Packable;
use crate::shown::DocPath;
use crate::units::Bytes;

/// The record of a [`Target`]. The journal has it in its lists of actions: see [`CompactAction`].
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct CompactTarget<'a> {
    #[serde(borrow)]
    path: ByteString<'a>,
    device: u64,
    inode: u64,
    kind: Kind,
    size: u64,
    mtime: Moment,
    ctime: Moment,
    links: u32,
    entries: u64,
    allocated: u64,
    digest: Option<&'a str>,
}

impl<'a> CompactTarget<'a> {
    pub(crate) fn of(target: &'a Target) -> Self {
        Self {
            path: path_bytes(&target.path.0),
            device: target.device,
            inode: target.inode,
            kind: target.kind,
            size: target.size,
            mtime: moment(target.mtime),
            ctime: moment(target.ctime),
            links: target.links,
            entries: target.entries,
            allocated: target.allocated.get(),
            digest: target.digest.as_deref(),
        }
    }

    pub(crate) fn target(&self) -> Target {
        Target {
            path: DocPath(path_of_bytes(self.path)),
            device: self.device,
            inode: self.inode,
            kind: self.kind,
            size: self.size,
            mtime: time_of(self.mtime),
            ctime: time_of(self.ctime),
            links: self.links,
            entries: self.entries,
            allocated: Bytes::new(self.allocated),
            digest: self.digest.map(str::to_owned),
        }
    }
}

/// What a [`Deed`] is and where it leads. New ones come last, since the journal has them by their place.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum CompactDeed<'a> {
    Delete,
    SetAside,
    #[serde(borrow)]
    Archive(ByteString<'a>),
    Move(#[serde(borrow)] ByteString<'a>, bool),
    Link,
    Share,
    /// Any other deed, written as JSON.
    Other(Cow<'a, str>),
}

impl<'a> CompactDeed<'a> {
    pub(crate) fn of(deed: &'a Deed) -> Option<Self> {
        Some(match deed {
            Deed::Delete => Self::Delete,
            Deed::SetAside => Self::SetAside,
            Deed::Archive { depot } => Self::Archive(path_bytes(depot)),
            Deed::Move { to, same_volume } => Self::Move(path_bytes(to), *same_volume),
            Deed::Link => Self::Link,
            Deed::Share => Self::Share,
            other => Self::Other(serde_json::to_string(other).ok()?.into()),
        })
    }

    pub(crate) fn deed(&self) -> Option<Deed> {
        Some(match self {
            Self::Delete => Deed::Delete,
            Self::SetAside => Deed::SetAside,
            Self::Archive(depot) => Deed::Archive { depot: path_of_bytes(*depot) },
            Self::Move(to, same_volume) => {
                Deed::Move { to: path_of_bytes(*to), same_volume: *same_volume }
            }
            Self::Link => Deed::Link,
            Self::Share => Deed::Share,
            Self::Other(json) => serde_json::from_str(json).ok()?,
        })
    }
}

/// All that an [`Action`] says. The journal keeps its actions so: whoever changes this, or what it consists of, gives lists of
/// actions another first byte (`carry_out/journal/packed.rs`) and goes on reading this one.
#[derive(Serialize, Deserialize)]
pub(crate) struct CompactAction<'a> {
    number: u32,
    #[serde(borrow)]
    deed: CompactDeed<'a>,
    reason: &'a str,
    target: CompactTarget<'a>,
    #[serde(borrow)]
    volume: ByteString<'a>,
    frees: (u64, u64),
    shared: u64,
    notes: Vec<&'a str>,
    together: Option<u32>,
    purge_after: Option<u64>,
    stays: Option<CompactTarget<'a>>,
    emptied: bool,
    held: Option<Cow<'a, str>>,
    tool: Option<Cow<'a, str>>,
    own: Option<Cow<'a, str>>,
}

fn json<'a>(value: Option<&impl Serialize>) -> serde_json::Result<Option<Cow<'a, str>>> {
    value.map(|value| Ok(serde_json::to_string(value)?.into())).transpose()
}

fn of_json<T: DeserializeOwned>(json: Option<&str>) -> serde_json::Result<Option<T>> {
    json.map(serde_json::from_str).transpose()
}

impl<'a> CompactAction<'a> {
    pub(crate) fn of(action: &'a Action) -> Option<Self> {
        Some(Self {
            number: action.number,
            deed: CompactDeed::of(&action.deed)?,
            reason: &action.reason,
            target: CompactTarget::of(&action.target),
            volume: path_bytes(&action.volume.0),
            frees: (action.frees.now.get(), action.frees.later.get()),
            shared: action.shared.get(),
            notes: action.notes.iter().map(String::as_str).collect(),
            together: action.together,
            purge_after: action.purge_after,
            stays: action.stays.as_deref().map(CompactTarget::of),
            emptied: action.emptied,
            held: json(action.held.as_ref()).ok()?,
            tool: json(action.tool.as_ref()).ok()?,
            own: json(action.own.as_ref()).ok()?,
        })
    }

    pub(crate) fn action(&self) -> Option<Action> {
        let (now, later) = self.frees;
        Some(Action {
            number: self.number,
            deed: self.deed.deed()?,
            reason: self.reason.to_owned(),
            target: self.target.target(),
            volume: DocPath(path_of_bytes(self.volume)),
            frees: Forecast { now: Bytes::new(now), later: Bytes::new(later) },
            shared: Bytes::new(self.shared),
            notes: self.notes.iter().map(|note| (*note).to_owned()).collect(),
            held: of_json(self.held.as_deref()).ok()?,
            tool: of_json(self.tool.as_deref()).ok()?,
            together: self.together,
            purge_after: self.purge_after,
            stays: self.stays.as_ref().map(|target| Box::new(target.target())),
            own: of_json(self.own.as_deref()).ok()?,
            emptied: self.emptied,
        })
    }
}

/// Device and inode.
type Inode = (u64, u64);

/// A [`Survey`] of what lies in a file system.
#[derive(Serialize, Deserialize)]
struct CompactSurvey<'a> {
    #[serde(borrow)]
    target: CompactTarget<'a>,
    single: u64,
    linked: Vec<(Inode, (u32, u32, u64))>,
    #[serde(borrow)]
    socket: Option<ByteString<'a>>,
    shared: u64,
    extents: Vec<((u64, u64), u64, Option<u64>)>,
    #[serde(borrow)]
    in_use: Option<(ByteString<'a>, u32, &'a str)>,
    changed: Moment,
}

impl<'a> CompactSurvey<'a> {
    /// None of a deleted file, or of what a program of the system removes: there are few of those.
    fn of(survey: &'a Survey) -> Option<Self> {
        let extents = &survey.shared.extents;
        let is_plain = survey.held.is_none() && survey.tool.is_none();
        is_plain.then(|| Self {
            target: CompactTarget::of(&survey.target),
            single: survey.single.get(),
            linked: survey
                .linked
                .iter()
                .map(|(inode, (links, below, bytes))| (*inode, (*links, *below, bytes.get())))
                .collect(),
            socket: survey.socket.as_deref().map(path_bytes),
            shared: survey.shared.counted,
            extents: extents.iter().map(|one| (one.place, one.bytes, one.references)).collect(),
            in_use: survey.in_use.as_ref().map(|(path, holder)| {
                let Holder { pid, command } = holder;
                (path_bytes(path), *pid, command.as_str())
            }),
            changed: moment(survey.changed),
        })
    }

    fn survey(&self) -> Survey {
        let linked = self
            .linked
            .iter()
            .map(|(inode, (links, below, bytes))| (*inode, (*links, *below, Bytes::new(*bytes))));
        let extents = self.extents.iter().map(|(place, bytes, references)| SharedExtent {
            place: *place,
            bytes: *bytes,
            references: *references,
        });
        Survey {
            single: Bytes::new(self.single),
            linked: linked.collect(),
            socket: self.socket.map(path_of_bytes),
            shared: Shared { counted: self.shared, extents: extents.collect() },
            in_use: self.in_use.map(|(open, pid, command)| {
                (path_of_bytes(open), Holder { pid, command: command.to_owned() })
            }),
            ..Survey::of_target(self.target.target(), time_of(self.changed))
        }
    }
}

// it is taken apart as soon as it has been read
#[allow(clippy::large_enum_variant)]
#[derive(Serialize, Deserialize)]
enum CompactReview<'a> {
    Pending,
    #[serde(borrow)]
    Ready(CompactSurvey<'a>),
    Refused(&'a str),
}

/// All that a draft knows of a [`Planned`] thing. It never leaves the process.
#[derive(Serialize, Deserialize)]
struct CompactPlanned<'a> {
    #[serde(borrow)]
    path: ByteString<'a>,
    #[serde(borrow)]
    deed: CompactDeed<'a>,
    reason: &'a str,
    #[serde(borrow)]
    volume: ByteString<'a>,
    depot_on_volume: bool,
    estimate: u64,
    entries: u64,
    #[serde(borrow)]
    review: CompactReview<'a>,
    purge_after: Option<u64>,
    #[serde(borrow)]
    together: Option<ByteString<'a>>,
    stays: Option<CompactTarget<'a>>,
    differs: Vec<&'a str>,
    emptied: bool,
}

impl Packable for Planned {
    type Sum = ();

    fn pack(&self, out: &mut Vec<u8>) -> bool {
        let review = match &self.review {
            Review::Pending => Some(CompactReview::Pending),
            Review::Ready(survey) => CompactSurvey::of(survey).map(CompactReview::Ready),
            Review::Refused(reason) => Some(CompactReview::Refused(reason)),
        };
        let (Some(review), Some(deed)) = (review, CompactDeed::of(&self.deed)) else {
            return false;
        };
        let planned = CompactPlanned {
            path: path_bytes(&self.path),
            deed,
            reason: &self.reason,
            volume: path_bytes(&self.volume),
            depot_on_volume: self.depot_on_volume,
            estimate: self.estimate.get(),
            entries: self.entries,
            review,
            purge_after: self.purge_after,
            together: self.together.as_deref().map(path_bytes),
            stays: self.stays.as_deref().map(CompactTarget::of),
            differs: self.differs.iter().map(String::as_str).collect(),
            emptied: self.emptied,
        };
        append(&planned, out)
    }

    fn unpack(from: &mut &[u8]) -> Option<Self> {
        let planned: CompactPlanned<'_> = take(from)?;
        Some(Self {
            path: path_of_bytes(planned.path),
            deed: planned.deed.deed()?,
            reason: planned.reason.to_owned(),
            volume: path_of_bytes(planned.volume),
            depot_on_volume: planned.depot_on_volume,
            estimate: Bytes::new(planned.estimate),
            entries: planned.entries,
            review: match &planned.review {
                CompactReview::Pending => Review::Pending,
                CompactReview::Ready(survey) => Review::Ready(Box::new(survey.survey())),
                CompactReview::Refused(reason) => Review::Refused((*reason).to_owned()),
            },
            purge_after: planned.purge_after,
            together: planned.together.map(path_of_bytes),
            stays: planned.stays.as_ref().map(|target| Box::new(target.target())),
            differs: planned.differs.iter().map(|one| (*one).to_owned()).collect(),
            emptied: planned.emptied,
        })
    }
}

impl<'a> CompactPlanned<'a> {
    /// Its close look, unless more is to be known for the notes of its action than it tells: what else is planned, what is
    /// open, what is shared.
    fn plain_survey(&self) -> Option<&CompactSurvey<'a>> {
        let CompactReview::Ready(survey) = &self.review else { return None };
        let is_plain = survey.linked.is_empty()
            && survey.extents.is_empty()
            && survey.in_use.is_none()
            && self.together.is_none()
            && self.differs.is_empty()
            && !self.emptied
            && !is_kernel_part(path_in(self.path));
        is_plain.then_some(survey)
    }

    /// The action that it becomes, with what there is to note of it.
    fn action(
        self,
        number: u32,
        frees: Forecast,
        note: Option<&'a str>,
    ) -> Option<CompactAction<'a>> {
        let CompactReview::Ready(survey) = self.review else { return None };
        let is_held = matches!(self.deed, CompactDeed::SetAside);
        Some(CompactAction {
            number,
            deed: self.deed,
            reason: self.reason,
            target: survey.target,
            volume: self.volume,
            frees: (frees.now.get(), frees.later.get()),
            shared: 0,
            notes: note.into_iter().collect(),
            together: None,
            purge_after: self.purge_after.filter(|_| is_held),
            stays: self.stays,
            emptied: false,
            held: None,
            tool: None,
            own: None,
        })
    }
}

/// The compact form of the actions that planned things become, the first of them at `places.start` and its action one number
/// higher. Nothing if one of them has to be looked at by itself.
pub(super) fn transcribe(
    places: Range<usize>,
    mut planned: &[u8],
    frees: &[Forecast],
    out: &mut Vec<u8>,
) -> Option<Overview> {
    let mut overview = Overview::default();
    for at in places {
        let one: CompactPlanned<'_> = take(&mut planned)?;
        let (frees, deed) = (*frees.get(at)?, one.deed.deed()?);
        let size = Bytes::new(one.plain_survey()?.target.allocated);
        let note = note_of_deed(&deed, size, one.depot_on_volume);
        overview.add_deed(&deed, frees, path_in(one.volume));
        overview.has_copies |= one.stays.is_some();
        let action = one.action(at as u32 + 1, frees, note.as_deref())?;
        append(&action, out).then_some(())?;
    }
    Some(overview)
}

impl Packable for Proposal {
    type Sum = ();

    fn pack(&self, out: &mut Vec<u8>) -> bool {
        let Choice::Scanned { entry, by_reading } = &self.choice else { return false };
        CompactDeed::of(&self.deed).is_some_and(|deed| {
            append(&(entry, by_reading, deed, &self.reason, self.purge_after), out)
        })
    }

    fn unpack(bytes: &mut &[u8]) -> Option<Self> {
        let (entry, by_reading, deed, reason, purge_after): (_, _, CompactDeed<'_>, _, _) =
            take(bytes)?;
        let choice = Choice::Scanned { entry, by_reading };
        Some(Self { choice, deed: deed.deed()?, reason, purge_after })
    }
}

impl Packable for Action {
    type Sum = Overview;

    fn pack(&self, out: &mut Vec<u8>) -> bool {
        CompactAction::of(self).is_some_and(|action| append(&action, out))
    }

    fn unpack(bytes: &mut &[u8]) -> Option<Self> {
        take::<CompactAction<'_>>(bytes)?.action()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The journals of users have lists in this form.
    #[test]
    fn the_form_that_journals_have_is_still_read_and_written() {
        let document = r#"{"number":7,"do":"archive","depot":"/d","reason":"by hand","target":{"path":"/t/a",
            "device":300,"inode":9,"kind":"file","size":5,"mtime":"1.2","ctime":"-3.4","links":1,"entries":1,
            "allocated":4096},"volume":"/t","frees":{"now":4096,"later":0},"notes":["n"],"together":2}"#;
        let action: Action = serde_json::from_str(document).unwrap();
        let mut packed = Vec::new();
        assert!(action.pack(&mut packed));
        let hex: String = packed.iter().map(|byte| format!("{byte:02x}")).collect();
        let expected = "0702022f640762792068616e64042f742f61ac02090005020205040101802000022f74802000000101\
                        6e0102000000000000";
        assert_eq!(hex, expected);
        assert_eq!(Action::unpack(&mut packed.as_slice()), Some(action));
    }
}
