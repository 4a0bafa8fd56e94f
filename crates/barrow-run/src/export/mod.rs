//! Exporting: a table or a query, written out as flat files.

pub mod default_spec;
mod document;
pub mod files;
mod may_write;
pub mod output;
mod pipe;
mod remote;

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use barrow_core::escape::{escape_for_display, visible_path};
use barrow_core::plan::Plan;
use barrow_core::source::Compression;
use barrow_core::source::content::hash_of;
use barrow_core::spec::read_plan;
use barrow_core::types::Type;
use barrow_core::words::WhenUnfit;
use barrow_targets::ledger::{self, Counts as LedgerCounts, File, Outcome, Run};
use barrow_targets::{OpenQuery, Query, Select, Session, Url};

use self::files::{Destination, Files, Made};
use self::may_write::may_write;
use self::output::{Counts, Output, Parting, writer};
use self::remote::Remote;
use crate::atomic_file;
use crate::error::{Error, ErrorKind};
use crate::load::run_recorder;
use crate::observer::{Observer, Watch, Watcher};
use crate::report::Summary;
use crate::run_id::run_id;
use crate::spec_file::{Spec, environment};

/// Where records are written to.
#[derive(Debug, Clone)]
pub struct Out {
    /// The files.
    pub destination: Destination,
    /// Whether a file that is there is written over.
    pub overwrites: bool,
    /// How the records are parted into files.
    pub parting: Parting,
    /// The file that gets the files' names, as `@LIST` reads them.
    pub list: Option<PathBuf>,
}

impl Out {
    /// The files that are to be written by a plan.
    pub(crate) fn files(&self, plan: &Plan, remote: &Remote) -> Result<Files, Error> {
        if let Some(list) = &self.list {
            remote.may_write(list, self.overwrites)?;
        }
        let packing = match (plan.source.packing, &self.destination) {
            (Compression::Auto, Destination::Path(path)) => packing_of(path),
            (Compression::Auto, Destination::Stdout) => Compression::None,
            (said, _) => said,
        };
        let parted = self.parting.is_parted();
        let destination = self.destination.clone();
        Files::new(
            destination,
            packing,
            parted,
            self.overwrites,
            remote.clone(),
        )
    }

    /// The stores that it needs, with the settings of a spec.
    pub(crate) fn remote(&self, spec: Option<&Spec>) -> Result<Remote, Error> {
        let path = match &self.destination {
            Destination::Path(path) => Some(path),
            Destination::Stdout => None,
        };
        let needs = path
            .into_iter()
            .chain(&self.list)
            .any(|path| Remote::has(path));
        match spec.filter(|_| needs) {
            Some(spec) => Ok(Remote::new(spec.stores()?)),
            None => Ok(Remote::default()),
        }
    }

    /// Writes the names of the files, as `@LIST` reads them: from the list's own folder.
    pub(crate) fn write_list(&self, made: &[Made], remote: &Remote) -> Result<(), Error> {
        let Some(list) = &self.list else {
            return Ok(());
        };
        let folder = list.parent().unwrap_or(Path::new(""));
        let folder = std::path::absolute(folder).unwrap_or_default();
        let mut text = String::new();
        for path in made.iter().filter_map(|made| made.path.as_ref()) {
            let path = full(path);
            let near = path.strip_prefix(&folder).unwrap_or(&path);
            text += &near.to_string_lossy();
            text.push('\n');
        }
        if Remote::has(list) {
            remote.may_write(list, self.overwrites)?;
            let written = remote.write(list, text.as_bytes());
            return written.map_err(|e| Error::file(list, &e));
        }
        write_out(list, &text, self.overwrites)
    }
}

/// A file's path from the root; an address as it is.
fn full(path: &Path) -> PathBuf {
    match Remote::has(path) {
        true => path.to_path_buf(),
        false => std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf()),
    }
}

/// A spec that goes by the content when it reads goes by the name when it writes.
fn packing_of(path: &Path) -> Compression {
    let ending = path.extension().and_then(|e| e.to_str()).unwrap_or("");
    match ending.to_ascii_lowercase().as_str() {
        "gz" => Compression::Gzip,
        "zst" => Compression::Zstd,
        "bz2" => Compression::Bzip2,
        "xz" => Compression::Xz,
        _ => Compression::None,
    }
}

/// Writes a file that is made at once; one that was made meanwhile is not written over.
fn write_out(path: &Path, text: &str, overwrites: bool) -> Result<(), Error> {
    may_write(path, overwrites)?;
    let written = atomic_file::write(path, text.as_bytes(), overwrites);
    written.map_err(|e| Error::file(path, &e))
}

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
        database: &'e str,
        table: Option<&'e str>,
        spec_out: Option<&'e Path>,
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
        database: &'e str,
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
            By::Default { .. } => Remote::default(),
        };
        let job = match self.by {
            By::Spec(spec) => ExportJob::by_spec(*spec, &self.wanted)?,
            By::Default {
                database,
                table,
                spec_out,
            } => ExportJob::without_spec(database, table, spec_out, &self.wanted, out)?,
        };
        let (writer, lines) = writer(&job.plan, out.parting.by.as_deref())?;
        let mut session = job.url.open(false)?;
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
                    "the ledger could not be told of this export: {}",
                    error.message()
                );
                watch.warning(&text);
            }
        }
        Ok(Some(Exported {
            from: format!("{}, {}", job.url, job.what()),
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

/// What is written, and by what.
struct ExportJob {
    plan: Plan,
    /// The spec's name, and the hash of its text.
    spec: String,
    spec_hash: String,
    url: Url,
    query: Query,
}

/// The files, what was counted, and why nothing is written, if that is so.
type ExportEnd = (Vec<Made>, Counts, Option<String>);

impl ExportJob {
    fn by_spec(spec: Spec, wanted: &Wanted) -> Result<ExportJob, Error> {
        let url = spec.url()?;
        let kind = spec.plan.record_types.first();
        let given = spec.overrides.table.clone();
        let own = kind.and_then(|kind| kind.table.clone());
        let table = given.or(own).or(spec.plan.target.table.clone());
        let columns: Vec<String> = kind.map_or(Vec::new(), |kind| {
            let written = kind.loaded().filter(|c| c.value.is_none());
            written.map(|c| c.name.clone()).collect()
        });
        Ok(ExportJob {
            query: query(wanted, table, columns)?,
            spec: spec.name(),
            spec_hash: hash_of(spec.text.as_bytes()),
            plan: spec.plan,
            url,
        })
    }

    /// An export that has no spec makes one: of the table's columns, or the query's.
    fn without_spec(
        database: &str,
        table: Option<&str>,
        spec_out: Option<&Path>,
        wanted: &Wanted,
        out: &Out,
    ) -> Result<ExportJob, Error> {
        let url = Url::parse(database, Path::new(""), environment)?;
        let columns = columns(&url, table, wanted)?;
        let file = match &out.destination {
            Destination::Path(path) => path.file_name().and_then(|name| name.to_str()),
            Destination::Stdout => None,
        };
        let text = default_spec::spec(&columns, file, Some(&url.to_string()), table);
        let name = Path::new("the spec of this export");
        let plan = read_plan(&text).map_err(|problems| Error::spec(name, &text, problems))?;
        if let Some(path) = spec_out {
            write_out(path, &text, out.overwrites)?;
        }
        let names = columns.into_iter().map(|(name, _)| name).collect();
        Ok(ExportJob {
            query: query(wanted, table.map(str::to_string), names)?,
            spec: "RFC 4180, UTF-8".into(),
            spec_hash: hash_of(text.as_bytes()),
            plan,
            url,
        })
    }

    /// What is written, in words.
    fn what(&self) -> String {
        match &self.query {
            Query::Table(select) => {
                format!("table {}", escape_for_display(select.table.as_bytes()))
            }
            Query::Sql(_) => "a query".into(),
        }
    }

    /// Gives the files their names, if there are no more unfit rows than may be.
    fn ended(&self, output: Output<'_>) -> Result<ExportEnd, Error> {
        let most = self.plan.rejects.tolerance;
        let all = output.counts.rows + output.counts.unfit;
        let is_within =
            most.allows(output.counts.unfit, all) || self.plan.export.when_unfit == WhenUnfit::Stop;
        match is_within {
            true => {
                let (made, counts) = output.finish()?;
                Ok((made, counts, None))
            }
            false => {
                let words = format!("more than the limit of {most}, so nothing is written");
                Ok((Vec::new(), output.counts, Some(words)))
            }
        }
    }

    /// Notes the export in the ledger, where there is one.
    fn register(&self, made: &[Made], unfit: u64, started: &str) -> Result<(), Error> {
        let mut session = self.url.open(false)?;
        note(self, session.as_mut(), made, unfit, started)
    }
}

/// What is asked for: the query, or the table's columns.
fn query(wanted: &Wanted, table: Option<String>, columns: Vec<String>) -> Result<Query, Error> {
    if let Some(query) = &wanted.query {
        return Ok(Query::Sql(query.clone()));
    }
    let Some(table) = table else {
        return Err(Error::request(
            "there is no table to write out",
            "say --table NAME, --query SQL, or [target] table in the spec",
        ));
    };
    Ok(Query::Table(Select {
        table,
        columns,
        condition: wanted.condition.clone(),
        order: wanted.order.clone(),
    }))
}

fn columns(url: &Url, table: Option<&str>, wanted: &Wanted) -> Result<Vec<(String, Type)>, Error> {
    let mut session = url.open(false)?;
    if let Some(query) = &wanted.query {
        return Ok(session.query_columns(&Query::Sql(query.clone()))?);
    }
    let table = table.unwrap_or_default();
    let found = session.describe(table)?.ok_or_else(|| {
        Error::request(
            format!("there is no table {}", escape_for_display(table.as_bytes())),
            "is its name right, and the database?",
        )
    })?;
    let columns = found.columns.into_iter();
    Ok(columns
        .map(|c| (c.name, c.ty.unwrap_or(Type::Text)))
        .collect())
}

fn note(
    job: &ExportJob,
    session: &mut dyn Session,
    made: &[Made],
    unfit: u64,
    started: &str,
) -> Result<(), Error> {
    if !ledger::is_there(session)? {
        return Ok(());
    }
    let (table_key, what) = match &job.query {
        Query::Table(select) => {
            let key = ledger::export_key(session, &select.table)?;
            (key, escape_for_display(select.table.as_bytes()))
        }
        Query::Sql(_) => (hash_of(b"export\na query"), "a query".to_string()),
    };
    let id = run_id();
    let counts = |rows: u64, unfit: u64| LedgerCounts {
        records: rows + unfit,
        loaded: rows,
        rejected: unfit,
        ..LedgerCounts::default()
    };
    let run = Run {
        run: id.clone(),
        spec: job.spec.clone(),
        spec_hash: job.spec_hash.clone(),
        table: what,
        table_key: table_key.clone(),
        mode: "export".into(),
        started_at: started.to_string(),
        ended_at: run_recorder::now(),
        outcome: Outcome::Exported,
        files: made.len() as u64,
        counts: counts(made.iter().map(|m| m.rows).sum(), unfit),
        ..run_recorder::by_whom()
    };
    ledger::write_run(session, &run, true)?;
    for (at, file) in made.iter().enumerate() {
        let path = file.path.as_ref();
        let name = path.and_then(|path| path.file_name());
        let entry = File {
            run: id.clone(),
            number: at as u64 + 1,
            path: path.map_or("-".into(), |path| visible_path(&full(path))),
            name: name.map_or("-".into(), |name| {
                escape_for_display(name.as_encoded_bytes())
            }),
            table: run.table.clone(),
            table_key: table_key.clone(),
            bytes: file.content.bytes,
            content: Some(file.content.hash.clone()),
            outcome: Outcome::Exported,
            counts: counts(file.rows, 0),
            ..File::default()
        };
        ledger::write_file(session, &entry, true)?;
    }
    Ok(())
}
