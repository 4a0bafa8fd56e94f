//! What is waiting: every file that a spec means, and what the ledger knows of it. No content
//! is read where that suffices.

mod document;

use crate::error::Error;
use crate::load::file_states;
use crate::load::request::LoadRequest;
use crate::observer::Watcher;
pub use crate::report::{FileStatus, State};
use crate::spec_file::Spec;
use barrow_core::words::{Mode, Word};

/// Asks what is known of a spec's files.
///
/// ```
/// use barrow_run::{Overrides, Spec, Status};
/// # let folder = tempfile::tempdir()?;
/// # let at = |name: &str| folder.path().join(name);
/// # std::fs::write(at("a.csv"), "a\n1\n")?;
/// # std::fs::write(at("a.spec.toml"), "[source]\nfiles = [\"a.csv\"]\n[columns]\na = \"integer\"\n\
/// #   [target]\ndatabase = \"sqlite:a.db\"\ntable = \"a\"\n")?;
/// let spec = Spec::open(&at("a.spec.toml"), &Overrides::default())?;
/// let waiting = Status::new(&spec).run()?;
/// assert_eq!(waiting.files.len(), 1);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub struct Status<'s> {
    spec: &'s Spec,
    files: Vec<String>,
}

/// What is known of a spec's files.
#[derive(Debug)]
pub struct StatusReport {
    /// The spec's name.
    pub spec: String,
    /// The database.
    pub database: String,
    /// The tables.
    pub tables: Vec<String>,
    /// That a load loads all of them again, whatever is known: the mode that says so.
    pub mode: Option<&'static str>,
    /// The files, in the order of a load.
    pub files: Vec<FileStatus>,
}

impl<'s> Status<'s> {
    /// Of a spec's files.
    pub fn new(spec: &'s Spec) -> Status<'s> {
        Status {
            spec,
            files: Vec::new(),
        }
    }

    /// Of these files, and not the spec's.
    pub fn files(self, files: Vec<String>) -> Status<'s> {
        Status { files, ..self }
    }

    /// Asks the ledger, and reads what it does not know.
    ///
    /// # Errors
    /// A file is not there, or the ledger cannot be read.
    pub fn run(self) -> Result<StatusReport, Error> {
        let spec = self.spec;
        let sources = spec.files(&self.files)?;
        let watch = Watcher::new(None);
        let request = LoadRequest::new(spec, None, &watch)?;
        let tables = request.job.tables();
        let empties = matches!(request.job.mode, Mode::Truncate | Mode::Replace);
        Ok(StatusReport {
            spec: spec.name(),
            database: request.url.to_string(),
            tables: tables.iter().map(|table| table.to_string()).collect(),
            mode: empties.then(|| request.job.mode.word()),
            files: file_states::of(&request, sources)?,
        })
    }
}
