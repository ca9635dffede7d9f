//! Making a list out of another in their compact forms, without unpacking records.

use std::collections::VecDeque;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

use super::{Form, OpenPages, Packable, PackedList, Page, sum_of};
use crate::parallel;

impl<T: Packable> PackedList<T> {
    /// A list of as many other records, each made of the one at its place.
    ///
    /// `transcribe` makes their compact form out of that of a whole page, on several threads. It gets the places of the
    /// records, their compact form and where the other one goes, and gives what is said of the new records together. Where
    /// it gives nothing the page is unpacked, and `otherwise` makes one record after the other, in order. There is no list
    /// if that gives nothing either.
    pub(crate) fn transcribed<U: Packable>(
        &self,
        transcribe: impl Fn(Range<usize>, &[u8], &mut Vec<u8>) -> Option<U::Sum> + Sync,
        mut otherwise: impl FnMut(usize, T) -> Option<U>,
    ) -> Option<PackedList<U>> {
        let made = parallel::each(&self.pages, |page| page.transcribed(&transcribe));
        let mut one_by_one = |page: &Page<T>| {
            let records = Arc::unwrap_or_clone(page.peek());
            let made = (page.start..).zip(records).map(|(at, record)| otherwise(at, record));
            Some(Page::closed(page.start, made.collect::<Option<Vec<U>>>()?))
        };
        let pages = made.into_iter().zip(&self.pages);
        let pages = pages.map(|(made, page)| made.or_else(|| one_by_one(page)));
        let open = OpenPages::of(VecDeque::new());
        Some(PackedList { pages: pages.collect::<Option<_>>()?, len: self.len, open })
    }
}

impl<T: Packable> Page<T> {
    fn transcribed<U: Packable>(
        &self,
        transcribe: &impl Fn(Range<usize>, &[u8], &mut Vec<u8>) -> Option<U::Sum>,
    ) -> Option<Page<U>> {
        let plain = match (&self.packed, self.open.get()) {
            (Some(form), _) => form.plain()?,
            (None, Some(records)) => Form::plain_of(records)?,
            (None, None) => return None,
        };
        let mut made = Vec::with_capacity(plain.len());
        let sum = transcribe(self.start..self.start + self.count, &plain, &mut made)?;
        let packed = Some(Form::compressed(&made));
        let Self { start, count, .. } = *self;
        Some(Page { start, count, sum: Some(sum), packed, open: OnceLock::new() })
    }

    fn closed(start: usize, records: Vec<T>) -> Self {
        let (count, sum) = (records.len(), Some(sum_of(&records)));
        let packed = Some(Form::of(Arc::new(records)));
        Self { start, count, sum, packed, open: OnceLock::new() }
    }
}
