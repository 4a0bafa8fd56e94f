//! The files that a load takes, and those that it skips.

use std::path::Path;

use barrow_core::counts::Counted;
use barrow_core::escape::visible_path;
use barrow_core::records::checkpoint::Checkpoint;
use barrow_core::rejects::Written;
use barrow_core::source::{Fingerprint, SourceFile};
use barrow_targets::ledger::Run;

use crate::error::Error;
use crate::report::Skipped;

/// What is to be loaded.
#[derive(Default)]
pub(crate) struct Selection {
    /// The files, in order.
    pub files: Vec<Selected>,
    /// Files that are in the table already.
    pub skipped: Vec<Skipped>,
    /// Runs whose rows are deleted, since all of their files come again with other content.
    pub replaces: Vec<Run>,
    /// The run that goes on.
    pub resumed: Option<Resumed>,
    /// What stands for the tables in the ledger.
    pub table_key: String,
}

/// So many characters of a file's name are in the ledger.
const LONGEST_NAME: usize = 255;

/// How many files in stores are looked at at once.
const ASKED_AT_ONCE: usize = 16;

/// A file to load.
#[derive(Clone)]
pub(crate) struct Selected {
    /// The file.
    pub source: SourceFile,
    /// Its size and sample; none for what can be read only once.
    pub fingerprint: Option<Fingerprint>,
    /// What people should know of it.
    pub note: Option<String>,
}

impl Selected {
    /// A file with its size and sample.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn of(source: SourceFile) -> Result<Selected, Error> {
        let fingerprint = source
            .fingerprint()
            .map_err(|e| Error::failed(format!("{}: {e}", source.name())))?;
        Ok(Selected {
            source,
            fingerprint,
            note: None,
        })
    }

    /// The same for many.
    ///
    /// # Errors
    /// As [`Selected::of`].
    pub fn all(sources: impl IntoIterator<Item = SourceFile>) -> Result<Vec<Selected>, Error> {
        let sources: Vec<SourceFile> = sources.into_iter().collect();
        let is_elsewhere = |source: &SourceFile| source.version().is_some();
        if !sources.iter().any(is_elsewhere) {
            return sources.into_iter().map(Selected::of).collect();
        }
        // What is elsewhere answers late: several are asked at once.
        let mut selected = Vec::with_capacity(sources.len());
        for some in sources.chunks(ASKED_AT_ONCE) {
            let asked: Vec<Result<Selected, Error>> = std::thread::scope(|scope| {
                let asking: Vec<_> = some
                    .iter()
                    .map(|source| scope.spawn(|| Selected::of(source.clone())))
                    .collect();
                let ended = asking.into_iter().map(|asked| {
                    asked
                        .join()
                        .unwrap_or_else(|_| Err(Error::failed("a file could not be looked at")))
                });
                ended.collect()
            });
            for one in asked {
                selected.push(one?);
            }
        }
        Ok(selected)
    }
}

/// A run that was interrupted, and goes on.
pub(crate) struct Resumed {
    /// The run.
    pub run: Run,
    /// What it has counted.
    pub counted: Counted,
    /// How far its rejects are written.
    pub written: Written,
    /// The place of the first file's counts among those.
    pub first: usize,
    /// Where in that file it goes on.
    pub from: u64,
    /// What the file was like up to there.
    pub expected: Option<Checkpoint>,
    /// Whether it is the same by its address, size and version.
    pub is_same: bool,
    /// What people read about it.
    pub words: String,
}

/// What tells the file from others, as the ledger has it; none for what can be read only
/// once.
pub(crate) fn full_path(source: &SourceFile) -> Option<String> {
    let identity = source.identity();
    source.is_repeatable().then(|| visible_path(&identity))
}

/// The file's own name, as the ledger has it.
pub(crate) fn name_of(source: &SourceFile) -> String {
    let name = source.file_name();
    let name: &Path = &name;
    let name = visible_path(name);
    match name.len() > LONGEST_NAME {
        true => name.chars().take(LONGEST_NAME).collect(),
        false => name,
    }
}
