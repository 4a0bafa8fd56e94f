//! Who is told how a run goes.

use std::sync::{Mutex, PoisonError};

use barrow_core::counts::FileCounts;
use barrow_core::source::SourceFile;

/// Told what happens on the way. Every method does nothing unless it is written.
///
/// ```
/// use barrow_run::Observer;
///
/// #[derive(Default)]
/// struct Count(u64);
///
/// impl Observer for Count {
///     fn progress(&mut self, _bytes: u64, records: u64) {
///         self.0 = records;
///     }
/// }
/// ```
pub trait Observer: Send {
    /// Reading begins. `bytes` is how many there are as stored, where that is known.
    fn begin(&mut self, bytes: Option<u64>) {
        let _ = bytes;
    }

    /// More bytes as stored are done (`bytes`), and so many records in all.
    fn progress(&mut self, bytes: u64, records: u64) {
        let _ = (bytes, records);
    }

    /// A file is done.
    fn file_done(&mut self, file: &FileCounts) {
        let _ = file;
    }

    /// Reading has ended.
    fn end(&mut self) {}

    /// Something is waited for, which may take as long as it likes.
    fn waiting(&mut self, what: &str) {
        let _ = what;
    }

    /// Something went wrong that does not change the result.
    fn warning(&mut self, text: &str) {
        let _ = text;
    }
}

/// What the parts of a run tell an observer. It hides for how long the observer is lent,
/// which a mutable borrow would carry into every part.
pub(crate) trait Watch: Sync {
    /// Reading of so many bytes begins.
    fn begin(&self, bytes: Option<u64>);
    fn progress(&self, bytes: u64, records: u64);
    fn file_done(&self, file: &FileCounts);
    fn end(&self);
    fn waiting(&self, what: &str);
    fn warning(&self, text: &str);
}

/// How many bytes files have as stored, where that is known of all of them.
pub(crate) fn size_of(files: &[SourceFile]) -> Option<u64> {
    let sizes = files.iter().map(|file| file.size());
    sizes.sum()
}

/// An observer, if there is one, that several parts of a run, and several threads, tell what
/// happens.
pub(crate) struct Watcher<'o>(Mutex<Option<&'o mut dyn Observer>>);

impl<'o> Watcher<'o> {
    pub fn new(observer: Option<&'o mut dyn Observer>) -> Watcher<'o> {
        Watcher(Mutex::new(observer))
    }

    fn tell(&self, what: impl FnOnce(&mut dyn Observer)) {
        let mut observer = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(observer) = observer.as_deref_mut() {
            what(observer);
        }
    }
}

impl Watch for Watcher<'_> {
    fn begin(&self, bytes: Option<u64>) {
        self.tell(|o| o.begin(bytes));
    }

    fn progress(&self, bytes: u64, records: u64) {
        self.tell(|o| o.progress(bytes, records));
    }

    fn file_done(&self, file: &FileCounts) {
        tracing::info!(
            file = file.name,
            records = file.all_records(),
            rejected = file.rejected,
            "a file was read"
        );
        self.tell(|o| o.file_done(file));
    }

    fn end(&self) {
        self.tell(|o| o.end());
    }

    fn waiting(&self, what: &str) {
        tracing::info!("{what}");
        self.tell(|o| o.waiting(what));
    }

    fn warning(&self, text: &str) {
        tracing::warn!("{text}");
        self.tell(|o| o.warning(text));
    }
}
