//! A load as it was asked for, with everything that it goes by.

use std::path::PathBuf;
use std::time::Duration;

use barrow_targets::{Job, Session, Url};

use crate::error::Error;
use crate::observer::Watch;
use crate::rejects_place::RejectsPlace;
use crate::spec_file::Spec;

/// How long to wait for another session's lock, unless it is said.
pub const PATIENCE: Duration = Duration::from_secs(15);

/// A load as it was asked for.
pub(crate) struct LoadRequest<'r> {
    /// By this spec.
    pub spec: &'r Spec,
    /// Into this database.
    pub url: Url,
    /// Into these tables.
    pub job: Job,
    /// The place that holds a folder of rejects for each run.
    pub rejects: RejectsPlace,
    /// Whether files are loaded that were loaded already.
    pub again: bool,
    /// How long to wait for another session's lock.
    pub patience: Duration,
    /// How many threads type records; what suits the machine, unless it is said.
    pub threads: Option<usize>,
    /// Who is told how it goes.
    pub watch: &'r dyn Watch,
    /// Whether other specs are loaded in the same transaction, which decide with it.
    pub is_together: bool,
    /// Tables that were missing, and are made already.
    pub made_first: Vec<String>,
    /// Runs of the same transaction that came before this one.
    pub beside: Vec<String>,
}

impl<'r> LoadRequest<'r> {
    /// A load by a spec, as it is where nothing more is asked for.
    ///
    /// # Errors
    /// The spec names no database, or no table.
    pub fn new(
        spec: &'r Spec,
        rejects: Option<PathBuf>,
        watch: &'r dyn Watch,
    ) -> Result<LoadRequest<'r>, Error> {
        let url = spec.url()?;
        Ok(LoadRequest {
            job: spec.job_in(&url)?,
            url,
            rejects: spec.rejects_place(rejects)?,
            again: false,
            patience: PATIENCE,
            threads: None,
            watch,
            spec,
            is_together: false,
            made_first: Vec::new(),
            beside: Vec::new(),
        })
    }

    /// The same once more.
    pub fn again(&self) -> LoadRequest<'r> {
        LoadRequest {
            url: self.url.clone(),
            job: self.job.clone(),
            rejects: self.rejects.clone(),
            made_first: self.made_first.clone(),
            beside: self.beside.clone(),
            ..*self
        }
    }

    /// Opens the database.
    ///
    /// # Errors
    /// It is not there, or refuses the connection.
    pub fn open(&self) -> Result<Box<dyn Session>, Error> {
        let mut session = self.url.open(self.job.create)?;
        session.set_patience(self.patience)?;
        Ok(session)
    }
}
