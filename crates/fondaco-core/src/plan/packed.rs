//! A plan of many actions as a file: lines of JSON, compressed. The first line is the plan without its actions, then comes
//! a line for each. It is written and read as a stream.

use std::io::{self, BufRead, BufReader, Read, Write};

use serde::{Deserialize, Serialize};
use zstd::stream::{read::Decoder, write::Encoder};

use super::{Action, Plan, PlanError};
use crate::packed_list::PackedList;
use crate::parallel;

/// A plan of more actions is written packed.
pub const PACKED_FROM: usize = 1000;

/// Higher levels take several times as long, and what they save is less than a byte an action.
const LEVEL: i32 = 3;

/// So many actions are in a frame.
const IN_ONE_FRAME: usize = 4096;

/// What a packed plan begins with (RFC 8878).
const ZSTD: [u8; 4] = [0x28, 0xB5, 0x2F, 0xFD];

/// The first line: the plan without its actions, and how many there are.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Head {
    plan: Plan,
    count: usize,
}

impl Plan {
    /// Writes the plan packed: frames one behind the other, which several threads make.
    ///
    /// # Errors
    ///
    /// Those of the writer.
    pub fn write_packed(&self, mut out: impl Write) -> io::Result<()> {
        self.write_frames(&mut out)
    }

    fn write_frames(&self, out: &mut dyn Write) -> io::Result<()> {
        let head = Head { plan: self.without_actions(), count: self.actions.len() };
        out.write_all(&packed_lines([head])?)?;
        let mut frames = (0..self.actions.len()).step_by(IN_ONE_FRAME);
        loop {
            let some: Vec<usize> = frames.by_ref().take(2 * parallel::threads()).collect();
            if some.is_empty() {
                return out.flush();
            }
            let packed = parallel::each(some, |from| {
                packed_lines(self.actions.range(from..from + IN_ONE_FRAME))
            });
            packed.into_iter().try_for_each(|frame| out.write_all(&frame?))?;
        }
    }

    fn without_actions(&self) -> Self {
        let Self { fondaco, kind, id, machine, created, protect, give_up, actions: _ } = self;
        Self {
            fondaco: *fondaco,
            kind: kind.clone(),
            id: id.clone(),
            machine: machine.clone(),
            created: created.clone(),
            protect: protect.clone(),
            give_up: give_up.clone(),
            actions: PackedList::new(),
        }
    }

    /// Reads a plan in either form: packed, or the JSON document.
    ///
    /// # Errors
    ///
    /// [`PlanError`].
    pub fn read(mut input: impl Read) -> Result<Self, PlanError> {
        Self::read_from(&mut input)
    }

    fn read_from(input: &mut dyn Read) -> Result<Self, PlanError> {
        let mut input = BufReader::with_capacity(1 << 16, input);
        let begun = input.fill_buf().map_err(PlanError::Unreadable)?;
        if !begun.starts_with(&ZSTD) {
            let mut text = String::new();
            input.read_to_string(&mut text).map_err(PlanError::Unreadable)?;
            return Self::parse(&text);
        }
        let decoder = Decoder::with_buffer(input).map_err(PlanError::Unreadable)?;
        let mut lines = Lines::of(decoder);
        let first = lines.next_line().map_err(PlanError::Unreadable)?.unwrap_or_default();
        let says: PlanHead = serde_json::from_slice(first)?;
        says.plan.check()?;
        let Head { mut plan, count } = serde_json::from_slice(first)?;
        while let Some(line) = lines.next_line().map_err(PlanError::Unreadable)? {
            plan.actions.push(serde_json::from_slice::<Action>(line)?);
        }
        if plan.actions.len() != count {
            let found = plan.actions.len();
            return Err(PlanError::Damaged(format!("{found} of {count} actions are in it")));
        }
        plan.checked()
    }
}

/// The first line, as far as it says what the document is.
#[derive(Deserialize)]
struct PlanHead {
    plan: super::document::Head,
}

/// What every plan says of itself, of whatever version.
#[derive(Deserialize)]
struct SaysItself {
    fondaco: u32,
    kind: String,
}

/// Whether a file is a plan, in either form and of whatever version and machine.
///
/// # Errors
///
/// Those of the reader.
pub fn is_plan(input: impl Read) -> io::Result<bool> {
    #[derive(Deserialize)]
    struct First {
        plan: SaysItself,
    }
    let mut input = BufReader::with_capacity(1 << 16, input);
    let is_packed = input.fill_buf()?.starts_with(&ZSTD);
    let says = if is_packed {
        let mut lines = Lines::of(Decoder::with_buffer(input)?);
        // damaged, it is none
        let Ok(Some(line)) = lines.next_line() else { return Ok(false) };
        serde_json::from_slice::<First>(line).map(|first| first.plan)
    } else {
        serde_json::from_reader(input)
    };
    match says {
        Ok(says) => Ok(says.fondaco > 0 && says.kind == "plan"),
        Err(error) if error.is_io() => Err(error.into()),
        Err(_) => Ok(false),
    }
}

/// A frame with documents as lines of JSON.
fn packed_lines<T: Serialize>(documents: impl IntoIterator<Item = T>) -> io::Result<Vec<u8>> {
    let mut lines = Vec::new();
    for document in documents {
        serde_json::to_writer(&mut lines, &document)?;
        lines.push(b'\n');
    }
    let mut frame = Encoder::new(Vec::new(), LEVEL)?;
    frame.include_checksum(true)?;
    frame.write_all(&lines)?;
    frame.finish()
}

/// The lines of a text, one in memory at a time.
struct Lines<R> {
    from: BufReader<R>,
    line: Vec<u8>,
}

impl<R: Read> Lines<R> {
    fn of(text: R) -> Self {
        Self { from: BufReader::with_capacity(1 << 16, text), line: Vec::new() }
    }

    /// The next line, with the sign that ends it; nothing at the end.
    ///
    /// # Errors
    ///
    /// Those of the reader; `InvalidData` for a line without an end, and for one that is too long to be an action.
    fn next_line(&mut self) -> io::Result<Option<&[u8]>> {
        self.line.clear();
        (&mut self.from).take(LONGEST_LINE).read_until(b'\n', &mut self.line)?;
        match self.line.last() {
            None => Ok(None),
            Some(b'\n') => Ok(Some(&self.line)),
            Some(_) => Err(io::Error::new(io::ErrorKind::InvalidData, "a line has no end")),
        }
    }
}

/// Bytes of a line at most: paths are at most 4096 bytes long, escaped some times that, and protected places stand
/// together in the first line.
const LONGEST_LINE: u64 = 16 << 20;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::{Deed, Draft, Planned, Review, survey};
    use crate::units::{Bytes, Time};

    fn plan(count: usize) -> Plan {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap().join("telemetry/buoy-07");
        std::fs::create_dir_all(&root).unwrap();
        let mut draft = Draft::default();
        let one = |number: usize| {
            let path = root.join(format!("telemetry.log.{number}"));
            std::fs::write(&path, vec![1; number % 5000]).unwrap();
            let survey = survey(&path).unwrap();
            Planned {
                path,
                deed: Deed::Delete,
                reason: "rule: old logs".to_owned(),
                volume: "/srv/seamark".into(),
                depot_on_volume: false,
                estimate: Bytes::ZERO,
                entries: 1,
                review: Review::Ready(Box::new(survey)),
                purge_after: None,
                together: None,
                stays: None,
                differs: Vec::new(),
                emptied: false,
            }
        };
        draft.put_all((0..count).map(one));
        draft.to_plan(Vec::new(), Time::at(2_000_000_000)).unwrap()
    }

    #[test]
    fn a_packed_plan_is_the_same_plan_in_a_few_bytes_an_action_or_is_refused() {
        let plan = plan(3000);
        let mut packed = Vec::new();
        plan.write_packed(&mut packed).unwrap();
        assert!(packed.len() < 150 * plan.actions.len(), "{} bytes", packed.len());
        assert_eq!(Plan::read(packed.as_slice()).unwrap(), plan);
        assert!(is_plan(packed.as_slice()).unwrap());
        let text = serde_json::to_vec(&plan).unwrap();
        assert_eq!(Plan::read(text.as_slice()).unwrap(), plan);
        assert!(is_plan(text.as_slice()).unwrap());
        for other in [&b"{\"fondaco\":1,\"kind\":\"scan\"}"[..], b"", &ZSTD, b"kind = \"plan\""] {
            assert!(!is_plan(other).unwrap());
        }
        // cut off anywhere it is none; altered it is none, or the bit meant nothing
        let mut refused = 0;
        for part in 1..20 {
            let cut = &packed[..packed.len() * part / 20];
            assert!(Plan::read(cut).is_err(), "{part} of 20 parts");
            let mut altered = packed.clone();
            altered[packed.len() * part / 20] ^= 1;
            match Plan::read(altered.as_slice()) {
                Err(_) => refused += 1,
                Ok(read) => assert_eq!(read, plan, "altered at {part} of 20"),
            }
        }
        assert!(refused > 15, "{refused} of 19 alterations were refused");
        let mut fewer = plan.clone();
        fewer.actions.remove(7);
        let mut packed = Vec::new();
        fewer.write_packed(&mut packed).unwrap();
        assert!(Plan::read(packed.as_slice()).unwrap_err().to_string().contains("action 9"));
    }
}
