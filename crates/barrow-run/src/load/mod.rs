//! Loading: which files are to be loaded, the way into the table, and what is recorded of
//! it.

mod batch_group;
mod begin;
mod changed_files;
mod disposal;
pub(crate) mod file_states;
mod known_files;
pub(crate) mod locks;
mod originals;
mod owed;
mod recover;
mod rejects_table;
pub(crate) mod request;
pub(crate) mod run;
pub(crate) mod run_recorder;
pub(crate) mod select_files;
pub(crate) mod selection;
mod share;
pub(crate) mod sink;
mod state;
mod statements;
mod together;

use std::path::PathBuf;
use std::time::Duration;

use self::request::LoadRequest;
pub use self::request::PATIENCE;
pub use self::together::{LoadTogether, order};
use crate::error::Error;
use crate::observer::{Observer, Watcher};
use crate::report::{Shared, Summary};
use crate::spec_file::Spec;

/// A load that is to be done; see the example at the [crate's root](crate).
pub struct Load<'l> {
    spec: &'l Spec,
    files: Vec<String>,
    rejects: Option<PathBuf>,
    again: bool,
    patience: Duration,
    threads: Option<usize>,
    observer: Option<&'l mut dyn Observer>,
}

impl<'l> Load<'l> {
    /// A load by a spec.
    pub fn new(spec: &'l Spec) -> Load<'l> {
        Load {
            spec,
            files: Vec::new(),
            rejects: None,
            again: false,
            patience: PATIENCE,
            threads: None,
            observer: None,
        }
    }

    /// Loads these files, and not the spec's: paths, globs, `@LIST`, `-`.
    pub fn files(self, files: Vec<String>) -> Load<'l> {
        Load { files, ..self }
    }

    /// The folder that gets a folder of rejects for each run; the spec's unless said.
    pub fn rejects(self, folder: Option<PathBuf>) -> Load<'l> {
        Load {
            rejects: folder,
            ..self
        }
    }

    /// Loads files that were loaded before, too.
    pub fn again(self, again: bool) -> Load<'l> {
        Load { again, ..self }
    }

    /// How long to wait for another session's lock.
    pub fn patience(self, patience: Duration) -> Load<'l> {
        Load { patience, ..self }
    }

    /// How many threads type records; what suits the machine unless said.
    pub fn threads(self, threads: Option<usize>) -> Load<'l> {
        Load { threads, ..self }
    }

    /// Tells an observer what happens on the way.
    pub fn observe(self, observer: &'l mut dyn Observer) -> Load<'l> {
        Load {
            observer: Some(observer),
            ..self
        }
    }

    /// Loads the files that the table does not have yet, all or nothing, or as far as the
    /// spec commits on the way.
    ///
    /// # Errors
    /// Whatever kept the load from being done. Rejects beyond the limit are no error:
    /// [`Summary::is_kept`] says whether the rows are in the table.
    pub fn run(self) -> Result<Summary, Error> {
        let files = self.spec.files(&self.files)?;
        self.with_request(|request| {
            let mut loaded = run::load(request, files)?;
            loaded.dispose(request);
            Ok(loaded.summary)
        })
    }

    /// Shares the files with other loads of the same ones: each takes the next that nobody
    /// has. What came of the files is returned with an error too, for each is committed by
    /// itself.
    pub fn share(self) -> (Shared, Result<(), Error>) {
        let files = match self.spec.files(&self.files) {
            Ok(files) => files,
            Err(error) => return (Shared::default(), Err(error)),
        };
        let shared = self.with_request(|request| Ok(share::share(request, files)));
        shared.unwrap_or_else(|error| (Shared::default(), Err(error)))
    }

    fn with_request<T>(
        self,
        work: impl FnOnce(&LoadRequest<'_>) -> Result<T, Error>,
    ) -> Result<T, Error> {
        let watch = Watcher::new(self.observer);
        work(&LoadRequest {
            again: self.again,
            patience: self.patience,
            threads: self.threads,
            ..LoadRequest::new(self.spec, self.rejects, &watch)?
        })
    }
}
