//! Two threads that all lists share: one packs pages that are left, one unpacks the page that will be asked for next.
//!
//! Where a thread cannot be begun, and where it has much to do, whoever needs a page packs or unpacks it himself.

use std::sync::mpsc::{SyncSender, sync_channel};
use std::sync::{Arc, LazyLock, OnceLock};

use super::{Form, Packable};

type Job = Box<dyn FnOnce() + Send>;

/// So many pages may wait for each of them.
const MOST_WAITING: usize = 16;

static PACKER: LazyLock<Option<SyncSender<Job>>> = LazyLock::new(|| worker("packer"));
static UNPACKER: LazyLock<Option<SyncSender<Job>>> = LazyLock::new(|| worker("unpacker"));

fn worker(name: &str) -> Option<SyncSender<Job>> {
    let (send, jobs) = sync_channel::<Job>(MOST_WAITING);
    let work = move || jobs.iter().for_each(|job| job());
    std::thread::Builder::new().name(name.to_owned()).spawn(work).ok().map(|_| send)
}

/// The form of a page, packed as soon as the thread has come to it.
pub(super) fn pack_soon<T: Packable>(records: Arc<Vec<T>>) -> Form<T> {
    let form = Arc::new(OnceLock::new());
    let (place, packed) = (Arc::clone(&form), Arc::clone(&records));
    let job = Box::new(move || {
        let of = std::panic::AssertUnwindSafe(|| Form::of(Arc::clone(&packed)));
        // whoever waits for the page must not wait forever
        let form = std::panic::catch_unwind(of).unwrap_or(Form::Plain(packed));
        drop(place.set(form));
    });
    match PACKER.as_ref().map(|packer| packer.try_send(job)) {
        Some(Ok(())) => Form::Soon(form),
        _ => Form::of(records),
    }
}

/// A page that is being unpacked.
pub(super) struct Unpacking<T> {
    /// Its number in the list.
    page: usize,
    records: Arc<OnceLock<Option<Arc<Vec<T>>>>>,
}

impl<T: Packable> Unpacking<T> {
    /// Has a page unpacked, if that is worth it and the thread has time.
    pub(super) fn begin(page: usize, form: &Form<T>, count: usize) -> Option<Self> {
        let form = match form {
            // one that is still to be packed can only be waited for
            Form::Soon(form) => form.get()?,
            form => form,
        };
        let Form::Packed(_) = form else { return None };
        let records = Arc::new(OnceLock::new());
        let (place, form) = (Arc::clone(&records), form.clone());
        let job = Box::new(move || {
            let unpack = std::panic::AssertUnwindSafe(|| form.records(count));
            // whoever waits for the page must not wait forever: he meets the same error himself
            drop(place.set(std::panic::catch_unwind(unpack).ok()));
        });
        UNPACKER.as_ref()?.try_send(job).ok()?;
        Some(Self { page, records })
    }

    /// Its records, if it is this page. Waits for them.
    pub(super) fn records_of(self, page: usize) -> Option<Arc<Vec<T>>> {
        (self.page == page).then(|| self.records.wait().clone()).flatten()
    }
}
