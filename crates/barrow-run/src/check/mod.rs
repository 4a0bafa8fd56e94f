//! Checking: what a load would do, without loading.

pub mod column_comparison;
mod compared;
mod document;
mod inspect;
mod sink;

use std::path::PathBuf;

use barrow_core::pipeline;
use barrow_core::pipeline::Encoded;
use barrow_core::plan::Plan;
use barrow_core::records::block::BLOCK;
use barrow_core::records::prologue;
use barrow_core::records::splitter::Splitter;
use barrow_core::source::SourceFile;
use barrow_core::words::Mode;
use barrow_targets::{ServerInfo, Url, ledger};

use self::column_comparison::Side;
use self::compared::Compared;
use self::sink::CheckSink;
use crate::check::inspect::Looked;
use crate::error::Error;
use crate::load::sink::would_empty;
use crate::observer::{Observer, Watcher};
use crate::report::Summary;
use crate::run_id::run_id;
use crate::spec_file::{Spec, pipeline_options};

/// A check that is to be done.
pub struct Check<'c> {
    spec: &'c Spec,
    files: Vec<String>,
    rejects: Option<PathBuf>,
    again: bool,
    threads: Option<usize>,
    observer: Option<&'c mut dyn Observer>,
}

/// What a check found.
#[derive(Default)]
pub struct CheckReport {
    /// For each other file that the spec has keys from, its name and the keys.
    pub settings: Vec<(String, Vec<String>)>,
    /// For each record type, its name and its columns: header, spec and table side by side.
    pub columns: Vec<(String, Vec<Side>)>,
    /// What a load would say; none where no record was read.
    pub summary: Option<Summary>,
    /// Why a load would stop, if it is not for a record.
    pub stops: Option<Error>,
}

/// What a database answers.
pub struct Connection {
    /// The database.
    pub url: Url,
    /// What it says of itself; none for a file that a load would make.
    pub server_info: Option<ServerInfo>,
    /// What a load would lack, each with what to do about it.
    pub missing: Vec<String>,
}

impl<'c> Check<'c> {
    /// A check by a spec.
    pub fn new(spec: &'c Spec) -> Check<'c> {
        Check {
            spec,
            files: Vec::new(),
            rejects: None,
            again: false,
            threads: None,
            observer: None,
        }
    }

    /// Checks these files, and not the spec's: paths, globs, `@LIST`, `-`.
    pub fn files(self, files: Vec<String>) -> Check<'c> {
        Check { files, ..self }
    }

    /// Keeps what a load would reject, in a folder of its own within this one.
    pub fn rejects(self, rejects: Option<PathBuf>) -> Check<'c> {
        Check { rejects, ..self }
    }

    /// Checks files that were loaded before, too.
    pub fn again(self, again: bool) -> Check<'c> {
        Check { again, ..self }
    }

    /// How many threads type records; what suits the machine unless said.
    pub fn threads(self, threads: Option<usize>) -> Check<'c> {
        Check { threads, ..self }
    }

    /// Tells an observer what happens on the way.
    pub fn observe(self, observer: &'c mut dyn Observer) -> Check<'c> {
        Check {
            observer: Some(observer),
            ..self
        }
    }

    /// Asks the database what it is and what may be done there, and reads no file.
    ///
    /// # Errors
    /// The database is not there, or refuses the connection.
    pub fn connect(self) -> Result<Connection, Error> {
        let spec = self.spec;
        let url = spec.url()?;
        let job = spec.job_in(&url)?;
        if !url.is_there() && job.create {
            return Ok(Connection {
                url,
                server_info: None,
                missing: Vec::new(),
            });
        }
        let mut session = url.open(false)?;
        let mut server_info = session.server_info(&job.tables())?;
        if spec.plan.target.ledger {
            server_info.ledger = session.server_info(&[ledger::RUNS, ledger::FILES])?.tables;
        }
        let missing = barrow_targets::server_info::missing(&server_info, &job, url.dialect());
        Ok(Connection {
            url,
            server_info: Some(server_info),
            missing,
        })
    }

    /// Compares spec, header and table, reads every record, and loads nothing.
    ///
    /// # Errors
    /// A file or the database cannot be read.
    pub fn run(self) -> Result<CheckReport, Error> {
        let (has_files, has_rejects) = (!self.files.is_empty(), self.rejects.is_some());
        let settings = self.spec.settings(has_files, has_rejects);
        Ok(CheckReport {
            settings,
            ..self.held()?
        })
    }

    /// The same, but for where the spec's keys are from.
    fn held(self) -> Result<CheckReport, Error> {
        let watch = Watcher::new(self.observer);
        let files = self.spec.files(&self.files)?;
        let mut target = Compared::new(self.spec, files, self.again, &watch)?;
        if target.selection.files.is_empty() {
            return Ok(nothing_new(self.spec, target));
        }
        let selected = target.selection.files.iter();
        let files: Vec<SourceFile> = selected.map(|file| file.source.clone()).collect();
        let header = header_of(&self.spec.plan, &files);
        let new_columns = new_columns(&self.spec.plan, &files);
        target.unfit = target.unfit.take().or(new_columns);
        // Everything else that is wrong with the files is reported as well.
        let plan = self.spec.plan_past_new_columns()?;
        let before = target.columns(&self.spec.plan, header.as_deref(), &[]);
        let lacks_header = |(_, sides): &(String, Vec<Side>)| sides.iter().any(Side::lacks_header);
        if before.iter().any(lacks_header) {
            return Ok(CheckReport {
                columns: before,
                stops: Some(Error::request(
                    "the header does not have every column of the spec, so no record was read",
                    "correct the names in the spec (from = \"…\" names the header's), or the file's \
                     header",
                )),
                ..CheckReport::default()
            });
        }
        let spec = self.spec;
        let run = run_id();
        let rejects = self.rejects.as_deref();
        let mut sink = CheckSink::new(spec, &target, &files, rejects, &run, &watch);
        let keys = sink.unique.clone();
        let encode = |batch: &mut Encoded<Looked>| {
            inspect::look(&plan, &keys, &target.foresight, batch);
        };
        let mut options = pipeline_options(self.threads, &run);
        if let Some(resumed) = &target.selection.resumed {
            options.from = resumed.from;
            options.expected.clone_from(&resumed.expected);
            options.is_same = resumed.is_same;
            options.checkpoints = true;
        }
        let flowed = pipeline::run(&plan, files.clone(), options, &encode, &mut sink);
        sink.end();
        flowed?;
        let (seen, summary) = sink.finish(spec, &target, run)?;
        let empties = matches!(spec.plan.target.mode, Mode::Truncate | Mode::Replace)
            && !spec.plan.target.may_empty
            && summary.is_kept()
            && summary.loaded() == 0;
        let columns = target.columns(&spec.plan, header.as_deref(), &seen);
        Ok(CheckReport {
            columns,
            summary: Some(summary),
            stops: target.unfit.or_else(|| empties.then(would_empty)),
            ..CheckReport::default()
        })
    }
}

/// The header of the first file. Where it cannot be read, reading all of it says so as a
/// load would.
fn header_of(plan: &Plan, files: &[SourceFile]) -> Option<Vec<String>> {
    let file = files.first().filter(|file| file.is_repeatable())?;
    let splitter = Splitter::new(plan, Vec::new(), BLOCK);
    splitter.header_names(file).ok().flatten()
}

/// Why a load would stop at a header that has more than the spec names.
fn new_columns(plan: &Plan, files: &[SourceFile]) -> Option<Error> {
    let splitter = Splitter::new(plan, Vec::new(), BLOCK);
    let paths = files.iter().filter(|file| file.is_repeatable());
    let mut stops = paths.filter_map(|file| {
        let header = splitter.header_names(file).ok().flatten()?;
        prologue::new_columns(plan, &file.name(), &header)
    });
    stops.next().map(Error::from)
}

/// Every file is in the table already: a load would do nothing.
fn nothing_new(spec: &Spec, target: Compared) -> CheckReport {
    let url = target.url.as_ref().map(ToString::to_string);
    CheckReport {
        summary: Some(Summary {
            spec: spec.name(),
            into: url.unwrap_or_default(),
            skipped: target.selection.skipped,
            nothing_new: true,
            rehearsal: true,
            tolerance: spec.plan.rejects.tolerance,
            ..Summary::default()
        }),
        stops: target.unfit,
        ..CheckReport::default()
    }
}
