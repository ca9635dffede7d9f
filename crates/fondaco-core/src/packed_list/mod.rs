//! A list of very many records, of which most lie compressed in memory.
//!
//! Records are kept in pages of some hundred. A page is unpacked when one of its records is asked for, and packed again
//! when others have been asked for since, on a thread of its own. So a million actions take some fifty megabytes and not a
//! thousand. Whoever goes through a list finds the next page unpacked by another thread.

use std::borrow::Borrow;
use std::collections::VecDeque;
use std::fmt;
use std::iter::{Enumerate, Peekable};
use std::marker::PhantomData;
use std::ops::{Deref, Index, IndexMut, Range};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use serde::de::{SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use self::workers::{Unpacking, pack_soon};

mod transcribing;
mod workers;

/// A record that can be kept in a compact form of this program's own. That of actions stands in the journal too: see
/// [`CompactAction`](crate::plan::CompactAction) before it is changed.
pub trait Packable: Clone + Send + Sync + 'static {
    /// What can be said of records together: see [`PackedList::sum`].
    type Sum: Sum<Self>;

    /// Appends the compact form. `false` if there is none of this record: its page then stays as it is.
    fn pack(&self, out: &mut Vec<u8>) -> bool;

    /// Takes one record from the front; `None` if it is damaged.
    fn unpack(bytes: &mut &[u8]) -> Option<Self>;
}

/// What can be said of records together, of which each page keeps what is said of its own.
pub trait Sum<T>: Default + Clone + Send + Sync + 'static {
    /// Counts one more record.
    fn add(&mut self, record: &T);

    /// Counts what others have counted.
    fn join(&mut self, others: &Self);
}

/// For records of which nothing is to be said together.
impl<T> Sum<T> for () {
    fn add(&mut self, _: &T) {}

    fn join(&mut self, (): &Self) {}
}

/// So many records are packed together.
const PAGE: usize = 512;

/// So many pages are left unpacked: more than a run works on at a time.
const MOST_OPEN: usize = 16;

/// What lies in memory for a short time only is compressed little.
const LEVEL: i32 = 1;

/// See the [module](self).
///
/// Reading one record by its place leaves its page unpacked until the list is next changed or [trimmed](Self::trim);
/// [`PackedList::iter`] leaves nothing unpacked.
pub struct PackedList<T: Packable> {
    pages: Vec<Page<T>>,
    len: usize,
    open: Mutex<OpenPages<T>>,
}

/// What is unpacked of a list.
struct OpenPages<T> {
    /// The pages, the longest open of them first. Some may be named twice.
    pages: VecDeque<usize>,
    /// The page behind the one that was opened last, if that was the next of the one before it.
    ahead: Option<Unpacking<T>>,
}

impl<T> OpenPages<T> {
    fn of(pages: VecDeque<usize>) -> Mutex<Self> {
        Mutex::new(Self { pages, ahead: None })
    }
}

#[derive(Clone)]
struct Page<T: Packable> {
    /// The place of its first record.
    start: usize,
    count: usize,
    /// Of its records; none while it is open to changes.
    sum: Option<T::Sum>,
    /// None while a record has been changed, or if a record has no compact form.
    packed: Option<Form<T>>,
    open: OnceLock<Arc<Vec<T>>>,
}

/// The records of a page that is closed.
#[derive(Clone)]
enum Form<T> {
    Packed(Arc<[u8]>),
    /// Packed as soon as the packer has come to it.
    Soon(Arc<OnceLock<Form<T>>>),
    /// A record has no compact form.
    Plain(Arc<Vec<T>>),
}

impl<T: Packable> Form<T> {
    fn of(records: Arc<Vec<T>>) -> Self {
        match Self::plain_of(&records) {
            Some(plain) => Self::compressed(&plain),
            None => Self::Plain(records),
        }
    }

    /// The compact form of records, if all have one.
    fn plain_of(records: &[T]) -> Option<Vec<u8>> {
        let mut plain = Vec::new();
        records.iter().all(|record| record.pack(&mut plain)).then_some(plain)
    }

    fn compressed(plain: &[u8]) -> Self {
        let packed = zstd::bulk::compress(plain, LEVEL).expect("memory can be compressed");
        Self::Packed(packed.into())
    }

    /// The compact form of its records, if all have one.
    fn plain(&self) -> Option<Vec<u8>> {
        match self {
            Self::Soon(form) => form.wait().plain(),
            Self::Plain(_) => None,
            Self::Packed(packed) => {
                Some(zstd::stream::decode_all(&**packed).expect("a page is as it was packed"))
            }
        }
    }

    fn records(&self, count: usize) -> Arc<Vec<T>> {
        match self {
            Self::Soon(form) => form.wait().records(count),
            Self::Plain(records) => Arc::clone(records),
            Self::Packed(_) => {
                let plain = self.plain().unwrap_or_default();
                let mut rest = plain.as_slice();
                let unpack = |_| T::unpack(&mut rest).expect("a record is as it was packed");
                Arc::new((0..count).map(unpack).collect())
            }
        }
    }
}

impl<T: Packable> Page<T> {
    fn records(&self) -> &Arc<Vec<T>> {
        self.open.get_or_init(|| self.unpacked())
    }

    /// Its records, and nothing is left unpacked that was not.
    fn peek(&self) -> Arc<Vec<T>> {
        self.open.get().cloned().unwrap_or_else(|| self.unpacked())
    }

    fn unpacked(&self) -> Arc<Vec<T>> {
        self.packed.as_ref().map_or_else(Arc::default, |form| form.records(self.count))
    }

    /// Its records, to be changed.
    fn changed(&mut self) -> &mut Vec<T> {
        self.records();
        (self.packed, self.sum) = (None, None);
        Arc::make_mut(self.open.get_mut().expect("it has been opened"))
    }

    /// Has it unpacked, unless it is open; `number` is its own in the list.
    fn unpack_ahead(&self, number: usize) -> Option<Unpacking<T>> {
        let packed = self.packed.as_ref().filter(|_| self.open.get().is_none())?;
        Unpacking::begin(number, packed, self.count)
    }

    fn close(&mut self) {
        if let Some(records) = self.open.take()
            && self.packed.is_none()
        {
            self.sum = Some(sum_of(&records));
            self.packed = Some(pack_soon(records));
        }
    }
}

fn sum_of<T: Packable>(records: &[T]) -> T::Sum {
    let mut sum = T::Sum::default();
    records.iter().for_each(|record| sum.add(record));
    sum
}

impl<T: Packable> PackedList<T> {
    /// An empty list.
    pub fn new() -> Self {
        Self { pages: Vec::new(), len: 0, open: OpenPages::of(VecDeque::new()) }
    }

    /// How many records it has.
    pub fn len(&self) -> usize {
        self.len
    }

    /// Whether it has none.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Adds a record at its end.
    pub fn push(&mut self, record: T) {
        let is_full = self.pages.last().is_none_or(|page| page.count >= PAGE);
        if is_full {
            self.trim();
            let open = OnceLock::from(Arc::new(Vec::with_capacity(PAGE)));
            self.pages.push(Page { start: self.len, count: 0, sum: None, packed: None, open });
            self.note_open(self.pages.len() - 1);
        }
        let at = self.pages.len() - 1;
        self.make_open(at);
        self.pages[at].changed().push(record);
        self.pages[at].count += 1;
        self.len += 1;
    }

    /// The record at a place.
    pub fn get(&self, at: usize) -> Option<&T> {
        let page = self.page_of(at)?;
        self.make_open(page);
        let page = &self.pages[page];
        page.records().get(at - page.start)
    }

    /// The last record.
    pub fn last(&self) -> Option<&T> {
        self.get(self.len.checked_sub(1)?)
    }

    /// The record at a place, to be changed.
    pub fn get_mut(&mut self, at: usize) -> Option<&mut T> {
        let page = self.page_of(at)?;
        self.trim();
        self.make_open(page);
        let page = &mut self.pages[page];
        let at = at - page.start;
        page.changed().get_mut(at)
    }

    /// Takes the record at a place out of the list.
    pub fn remove(&mut self, at: usize) -> Option<T> {
        let page = self.page_of(at)?;
        self.make_open(page);
        for later in &mut self.pages[page + 1..] {
            later.start -= 1;
        }
        self.len -= 1;
        let page = &mut self.pages[page];
        page.count -= 1;
        let at = at - page.start;
        Some(page.changed().remove(at))
    }

    /// Keeps only the records of which `keep` says so.
    pub fn retain(&mut self, mut keep: impl FnMut(&T) -> bool) {
        let kept = self.iter().filter(|record| keep(record)).map(|record| record.clone()).collect();
        *self = kept;
    }

    /// All records in order. Only one page of them is unpacked at a time.
    pub fn iter(&self) -> Iter<'_, T> {
        self.range(0..self.len)
    }

    /// The records at these places, in order.
    pub fn range(&self, places: Range<usize>) -> Iter<'_, T> {
        let places = places.start.min(self.len)..places.end.min(self.len);
        Iter { list: self, places, page: None, ahead: None }
    }

    /// What can be said of all records together. Closed pages know it, so that none is unpacked.
    pub fn sum(&self) -> T::Sum {
        let mut sum = T::Sum::default();
        for page in &self.pages {
            match &page.sum {
                Some(known) => sum.join(known),
                None => sum.join(&sum_of(&page.peek())),
            }
        }
        sum
    }

    /// Packs pages again that were unpacked, but for the last of them.
    pub fn trim(&mut self) {
        let open = self.open.get_mut().unwrap_or_else(PoisonError::into_inner);
        while open.pages.len() > MOST_OPEN {
            let Some(page) = open.pages.pop_front() else { break };
            self.pages[page].close();
        }
    }

    fn page_of(&self, at: usize) -> Option<usize> {
        let has_it = |page: &Page<T>| (page.start..page.start + page.count).contains(&at);
        // where no record was taken out before it, all pages but the last are full
        match self.pages.get(at / PAGE).is_some_and(has_it) {
            true => Some(at / PAGE),
            false => {
                (at < self.len).then(|| self.pages.partition_point(|page| page.start <= at) - 1)
            }
        }
    }

    fn make_open(&self, page: usize) {
        if self.pages[page].open.get().is_some() {
            return;
        }
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(records) = open.ahead.take().and_then(|ahead| ahead.records_of(page)) {
            // another thread may have opened it meanwhile
            drop(self.pages[page].open.set(records));
        }
        self.pages[page].records();
        if open.pages.back().is_some_and(|last| last + 1 == page) {
            open.ahead = self.unpack_ahead(page + 1);
        }
        open.pages.push_back(page);
    }

    /// Has a page unpacked that will be asked for next.
    fn unpack_ahead(&self, page: usize) -> Option<Unpacking<T>> {
        self.pages.get(page)?.unpack_ahead(page)
    }

    fn note_open(&self, page: usize) {
        self.open.lock().unwrap_or_else(PoisonError::into_inner).pages.push_back(page);
    }
}

impl<T: Packable> Default for PackedList<T> {
    fn default() -> Self {
        Self::new()
    }
}

impl<T: Packable> Clone for PackedList<T> {
    fn clone(&self) -> Self {
        let open = self.open.lock().unwrap_or_else(PoisonError::into_inner).pages.clone();
        Self { pages: self.pages.clone(), len: self.len, open: OpenPages::of(open) }
    }
}

impl<T: Packable> Index<usize> for PackedList<T> {
    type Output = T;

    fn index(&self, at: usize) -> &T {
        self.get(at).expect("a place within the list")
    }
}

impl<T: Packable> IndexMut<usize> for PackedList<T> {
    fn index_mut(&mut self, at: usize) -> &mut T {
        self.get_mut(at).expect("a place within the list")
    }
}

impl<T: Packable> Extend<T> for PackedList<T> {
    fn extend<I: IntoIterator<Item = T>>(&mut self, records: I) {
        records.into_iter().for_each(|record| self.push(record));
    }
}

impl<T: Packable> FromIterator<T> for PackedList<T> {
    fn from_iter<I: IntoIterator<Item = T>>(records: I) -> Self {
        let mut list = Self::new();
        list.extend(records);
        list
    }
}

impl<T: Packable> From<Vec<T>> for PackedList<T> {
    fn from(records: Vec<T>) -> Self {
        records.into_iter().collect()
    }
}

impl<'a, T: Packable> IntoIterator for &'a PackedList<T> {
    type Item = Record<T>;
    type IntoIter = Iter<'a, T>;

    fn into_iter(self) -> Iter<'a, T> {
        self.iter()
    }
}

impl<T: Packable> IntoIterator for PackedList<T> {
    type Item = T;
    type IntoIter = IntoIter<T>;

    fn into_iter(self) -> IntoIter<T> {
        let pages = self.pages.into_iter().enumerate();
        IntoIter { pages: pages.peekable(), page: Vec::new().into_iter(), ahead: None }
    }
}

/// The records of a [`PackedList`] itself, one after the other.
pub struct IntoIter<T: Packable> {
    pages: Peekable<Enumerate<std::vec::IntoIter<Page<T>>>>,
    /// What is left of the page at hand.
    page: std::vec::IntoIter<T>,
    /// The page behind it.
    ahead: Option<Unpacking<T>>,
}

impl<T: Packable> Iterator for IntoIter<T> {
    type Item = T;

    fn next(&mut self) -> Option<T> {
        loop {
            if let Some(record) = self.page.next() {
                return Some(record);
            }
            let (number, mut page) = self.pages.next()?;
            let ahead = self.ahead.take().and_then(|ahead| ahead.records_of(number));
            self.ahead = self.pages.peek().and_then(|(number, next)| next.unpack_ahead(*number));
            let records = ahead.or_else(|| page.open.take()).unwrap_or_else(|| page.unpacked());
            self.page = Arc::unwrap_or_clone(records).into_iter();
        }
    }
}

impl<T: Packable + fmt::Debug> fmt::Debug for PackedList<T> {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_list().entries(self).finish()
    }
}

impl<T: Packable + PartialEq> PartialEq for PackedList<T> {
    fn eq(&self, other: &Self) -> bool {
        self.len == other.len && self.iter().zip(other).all(|(one, other)| *one == *other)
    }
}

impl<T: Packable + Eq> Eq for PackedList<T> {}

impl<T: Packable + Serialize> Serialize for PackedList<T> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_seq(self)
    }
}

impl<'de, T: Packable + Deserialize<'de>> Deserialize<'de> for PackedList<T> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Records<T>(PhantomData<T>);
        impl<'de, T: Packable + Deserialize<'de>> Visitor<'de> for Records<T> {
            type Value = PackedList<T>;

            fn expecting(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
                out.write_str("a list")
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut from: A) -> Result<Self::Value, A::Error> {
                let mut list = PackedList::new();
                while let Some(record) = from.next_element()? {
                    list.push(record);
                }
                Ok(list)
            }
        }
        from.deserialize_seq(Records(PhantomData))
    }
}

/// The records of a [`PackedList`], one after the other.
pub struct Iter<'a, T: Packable> {
    list: &'a PackedList<T>,
    places: Range<usize>,
    /// The page at hand, where it begins, and its records.
    page: Option<(usize, Arc<Vec<T>>)>,
    /// The page behind it, if its records are asked for too.
    ahead: Option<Unpacking<T>>,
}

impl<T: Packable> Iter<'_, T> {
    fn record(&mut self, at: usize) -> Option<Record<T>> {
        let is_here = |(start, page): &&(usize, Arc<Vec<T>>)| at.wrapping_sub(*start) < page.len();
        let (start, page) = match self.page.as_ref().filter(is_here) {
            Some((start, page)) => (*start, Arc::clone(page)),
            None => {
                let number = self.list.page_of(at)?;
                let page = &self.list.pages[number];
                let ahead = self.ahead.take().and_then(|ahead| ahead.records_of(number));
                if self.places.contains(&(page.start + page.count)) {
                    self.ahead = self.list.unpack_ahead(number + 1);
                }
                // what is unpacked already is not unpacked twice
                let (start, page) = (page.start, ahead.unwrap_or_else(|| page.peek()));
                self.page = Some((start, Arc::clone(&page)));
                (start, page)
            }
        };
        Some(Record { page, at: at - start })
    }
}

impl<T: Packable> Iterator for Iter<'_, T> {
    type Item = Record<T>;

    fn next(&mut self) -> Option<Record<T>> {
        let at = self.places.next()?;
        self.record(at)
    }

    fn nth(&mut self, count: usize) -> Option<Record<T>> {
        let at = self.places.nth(count)?;
        self.record(at)
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        self.places.size_hint()
    }
}

impl<T: Packable> DoubleEndedIterator for Iter<'_, T> {
    fn next_back(&mut self) -> Option<Record<T>> {
        let at = self.places.next_back()?;
        self.record(at)
    }
}

impl<T: Packable> ExactSizeIterator for Iter<'_, T> {}

/// One record of a [`PackedList`], which stays unpacked with its page as long as this is kept.
pub struct Record<T> {
    page: Arc<Vec<T>>,
    at: usize,
}

impl<T> Deref for Record<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.page[self.at]
    }
}

impl<T> Borrow<T> for Record<T> {
    fn borrow(&self) -> &T {
        self
    }
}

impl<T: Serialize> Serialize for Record<T> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        (**self).serialize(to)
    }
}

impl<T: fmt::Debug> fmt::Debug for Record<T> {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        (**self).fmt(out)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[derive(Clone, Debug, Default, PartialEq)]
    pub struct Xor(u64);

    impl Sum<u64> for Xor {
        fn add(&mut self, number: &u64) {
            self.0 ^= number.rotate_left(7);
        }

        fn join(&mut self, others: &Self) {
            self.0 ^= others.0;
        }
    }

    /// Numbers that end in 13 have no compact form.
    impl Packable for u64 {
        type Sum = Xor;

        fn pack(&self, out: &mut Vec<u8>) -> bool {
            out.extend_from_slice(&self.to_le_bytes());
            self % 1000 != 13
        }

        fn unpack(bytes: &mut &[u8]) -> Option<Self> {
            let (number, rest) = bytes.split_first_chunk()?;
            *bytes = rest;
            Some(Self::from_le_bytes(*number))
        }
    }

    #[derive(Clone, Debug)]
    enum Act {
        Push(u64),
        Set(usize, u64),
        Remove(usize),
        Retain(u64),
        Read(usize),
        Clone,
    }

    fn act() -> impl Strategy<Value = Act> {
        let at = 0usize..40_000;
        prop_oneof![
            any::<u64>().prop_map(Act::Push),
            (at.clone(), any::<u64>()).prop_map(|(at, to)| Act::Set(at, to)),
            at.clone().prop_map(Act::Remove),
            (2u64..50).prop_map(Act::Retain),
            at.prop_map(Act::Read),
            Just(Act::Clone),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]

        #[test]
        fn it_holds_what_a_plain_list_would(first in 0u64..30_000, acts in prop::collection::vec(act(), 1..60)) {
            let mut plain: Vec<u64> = (0..first).map(|number| number * 7).collect();
            let mut packed: PackedList<u64> = plain.iter().copied().collect();
            for act in acts {
                match act {
                    Act::Push(number) => {
                        plain.push(number);
                        packed.push(number);
                    }
                    Act::Set(at, number) if at < plain.len() => {
                        plain[at] = number;
                        packed[at] = number;
                    }
                    Act::Remove(at) if at < plain.len() => {
                        prop_assert_eq!(packed.remove(at), Some(plain.remove(at)));
                    }
                    Act::Retain(of) => {
                        plain.retain(|number| number % of != 0);
                        packed.retain(|number| number % of != 0);
                    }
                    Act::Clone => packed = packed.clone(),
                    Act::Read(at) | Act::Set(at, _) | Act::Remove(at) => {
                        prop_assert_eq!(packed.get(at), plain.get(at));
                    }
                }
                packed.trim();
                prop_assert_eq!(packed.sum(), sum_of(&plain));
                let open = packed.pages.iter().filter(|page| page.open.get().is_some());
                let without_form = plain.iter().filter(|number| **number % 1000 == 13).count();
                prop_assert!(open.count() <= MOST_OPEN + without_form);
            }
            prop_assert_eq!(packed.len(), plain.len());
            let all: Vec<u64> = packed.iter().map(|number| *number).collect();
            prop_assert_eq!(&all, &plain);
            prop_assert_eq!(&packed.clone().into_iter().collect::<Vec<_>>(), &plain);
            let back: Vec<u64> = packed.iter().rev().map(|number| *number).collect();
            prop_assert!(back.iter().eq(plain.iter().rev()));
            let part: Vec<u64> = packed.range(700..1400).map(|number| *number).collect();
            prop_assert_eq!(&part[..], plain.get(700..1400.min(plain.len())).unwrap_or_default());
        }
    }
}
