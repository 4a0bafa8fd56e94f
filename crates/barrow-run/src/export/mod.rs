//! Exporting: a table or a query, written out as flat files.

pub mod default_spec;
mod document;
pub mod files;
mod job;
mod may_write;
mod out;
pub mod output;
mod pipe;
mod remote;

use std::path::Path;
use std::time::{Duration, Instant};

use barrow_core::types::Type;
use barrow_targets::{OpenQuery, Session, Url};

use self::files::{Destination, Made};
use self::job::{ExportJob, From};
pub use self::out::Out;
use self::output::{Counts, Output, writer};
use self::remote::Remote;
use crate::error::{Error, ErrorKind};
use crate::load::run_recorder;
use crate::observer::{Observer, Watch, Watcher};
use crate::report::Summary;
use crate::spec_file::Spec;

/// What rows are asked for.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// A query, in place of a table.
    pub query: Option<String>,
    /// The condition for a row of the table, as SQL.
    pub condition: Option<String>,
    /// What the rows are sorted by, as SQL.
    pub order: Option<String>,
}

/// An export that is to be done.
pub struct Export<'e> {
    by: By<'e>,
    wanted: Wanted,
    out: Out,
    threads: Option<usize>,
    observer: Option<&'e mut dyn Observer>,
}

/// By which format.
enum By<'e> {
    /// A spec's.
    Spec(Box<Spec>),
    /// RFC 4180 in UTF-8: from this database, and this table if it is not a query. The spec
    /// that reads it back goes to the file.
    Default {
        database: Url,
        table: Option<&'e str>,
        spec_out: Option<&'e Path>,
    },
    /// Of a session that is open already, whose tables have these names: a query, in the
    /// format of a spec, or in RFC 4180 and UTF-8.
    Session {
        session: Box<dyn Session>,
        from: String,
        format: Option<Box<Spec>>,
    },
}

/// What came of an export.
pub struct Exported {
    /// What it was written from, in words.
    pub from: String,
    /// By which spec.
    pub spec: String,
    /// The files.
    pub made: Vec<Made>,
    /// What was counted.
    pub counts: Counts,
    /// How long it took.
    pub elapsed: Duration,
    /// Whether standard output has the rows.
    pub to_stdout: bool,
    /// Whether too many rows were unfit, and nothing is written.
    pub beyond: Option<String>,
    /// What came of reading, where it is files that were read.
    pub reading: Option<Summary>,
}

impl Exported {
    /// Whether something was not as it was in the table or the files: not written, changed
    /// or noted.
    pub fn has_news(&self) -> bool {
        self.counts.unfit > 0
            || self.counts.replaced > 0
            || self.counts.repairs.all() > 0
            || self.reading.as_ref().is_some_and(Summary::has_news)
    }
}

impl<'e> Export<'e> {
    /// An export in the format of a spec.
    pub fn by_spec(spec: Spec, wanted: Wanted, out: Out) -> Export<'e> {
        Export::new(By::Spec(Box::new(spec)), wanted, out)
    }

    /// An export in RFC 4180 and UTF-8, with a header.
    pub fn without_spec(
        database: Url,
        table: Option<&'e str>,
        spec_out: Option<&'e Path>,
        wanted: Wanted,
        out: Out,
    ) -> Export<'e> {
        let by = By::Default {
            database,
            table,
            spec_out,
        };
        Export::new(by, wanted, out)
    }

    /// An export of a query to a session that is open already. `from` says what it reads.
    pub fn of_session(
        session: Box<dyn Session>,
        from: String,
        sql: String,
        format: Option<Spec>,
        out: Out,
    ) -> Export<'e> {
        let by = By::Session {
            session,
            from,
            format: format.map(Box::new),
        };
        let wanted = Wanted {
            query: Some(sql),
            ..Wanted::default()
        };
        Export::new(by, wanted, out)
    }

    fn new(by: By<'e>, wanted: Wanted, out: Out) -> Export<'e> {
        Export {
            by,
            wanted,
            out,
            threads: None,
            observer: None,
        }
    }

    /// How many threads write values; as many as the machine has unless said.
    pub fn threads(self, threads: Option<usize>) -> Export<'e> {
        Export { threads, ..self }
    }

    /// Tells an observer what happens on the way.
    pub fn observe(self, observer: &'e mut dyn Observer) -> Export<'e> {
        Export {
            observer: Some(observer),
            ..self
        }
    }

    /// Writes the rows. None where whoever reads standard output has had enough.
    ///
    /// # Errors
    /// A row cannot be written, and the spec does not say to skip it; the database fails; a
    /// file cannot be written. No file is left then.
    pub fn run(self) -> Result<Option<Exported>, Error> {
        let clock = Instant::now();
        let started = run_recorder::now();
        let watch = Watcher::new(self.observer);
        let out = &self.out;
        let remote = match &self.by {
            By::Spec(spec) => out.remote(Some(spec))?,
            By::Session { format, .. } => out.remote(format.as_deref())?,
            By::Default { .. } => Remote::default(),
        };
        let mut opened = None;
        let job = match self.by {
            By::Spec(spec) => ExportJob::by_spec(*spec, &self.wanted)?,
            By::Session {
                mut session,
                from,
                format,
            } => {
                let job = ExportJob::of_session(session.as_mut(), from, format, &self.wanted)?;
                opened = Some(session);
                job
            }
            By::Default {
                database,
                table,
                spec_out,
            } => ExportJob::without_spec(database, table, spec_out, &self.wanted, out)?,
        };
        let (writer, lines) = writer(&job.plan, out.parting.by.as_deref())?;
        let mut session = match (opened, &job.from) {
            (Some(session), _) => session,
            (None, From::Database(url)) => url.open_existing()?,
            (None, From::Files(_)) => return Err(Error::failed("there is nothing to read from")),
        };
        let columns: Vec<(String, Type)> =
            writer.columns().map(|c| (c.name.clone(), c.ty)).collect();
        let files = out.files(&job.plan, &remote)?;
        let output = Output::new(&job.plan, &writer, &lines, out.parting.clone(), files);
        let threads = self.threads.unwrap_or_else(usual_threads);
        let OpenQuery { decoder, rows } = session.open_query(&job.query, &columns)?;
        watch.begin(None);
        let taken = pipe::run(rows, &decoder, &writer, threads, output, &watch);
        watch.end();
        drop(session);
        let output = match taken {
            Err(error) if error.kind() == ErrorKind::OutputClosed => return Ok(None),
            taken => taken?,
        };
        let (made, counts, beyond) = job.ended(output)?;
        if beyond.is_none() {
            out.write_list(&made, &remote)?;
            if let Err(error) = job.register(&made, counts.unfit, &started) {
                // The files are written.
                let text = format!(
                    "this export could not be written to the ledger: {}",
                    error.message()
                );
                watch.warning(&text);
            }
        }
        let files = made
            .iter()
            .map(|made| made.name())
            .collect::<Vec<_>>()
            .join(", ");
        tracing::info!(files, "rows were written");
        Ok(Some(Exported {
            from: job.what(),
            spec: job.spec,
            made,
            counts,
            elapsed: clock.elapsed(),
            to_stdout: out.destination == Destination::Stdout,
            beyond,
            reading: None,
        }))
    }
}

fn usual_threads() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}
