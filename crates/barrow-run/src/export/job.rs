//! What an export is, once its spec, its query and its source are known.

use std::path::Path;

use barrow_core::escape::{escape_for_display, visible_path};
use barrow_core::plan::Plan;
use barrow_core::source::content::hash_of;
use barrow_core::spec::{SpecTexts, read_plan};
use barrow_core::types::Type;
use barrow_core::words::WhenUnfit;
use barrow_targets::ledger::{self, Counts as LedgerCounts, File, Outcome, Run};
use barrow_targets::{Query, Select, Session, Url};

use super::files::{Destination, Made};
use super::out::{Out, full, write_out};
use super::output::{Counts, Output};
use super::{Wanted, default_spec};
use crate::error::Error;
use crate::load::run_recorder;
use crate::run_id::run_id;
use crate::spec_file::Spec;

/// What is written, and by what.
pub(super) struct ExportJob {
    pub plan: Plan,
    /// The spec's name, and the hash of its text.
    pub spec: String,
    spec_hash: String,
    pub from: From,
    /// What is asked for.
    pub query: Query,
}

/// What rows are read from.
pub(super) enum From {
    /// A database, whose ledger is told.
    Database(Url),
    /// Files, by the names of their tables.
    Files(String),
}

/// The files, what was counted, and why nothing is written, if that is so.
pub(super) type ExportEnd = (Vec<Made>, Counts, Option<String>);

impl ExportJob {
    pub fn by_spec(spec: Spec, wanted: &Wanted) -> Result<ExportJob, Error> {
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
            spec_hash: hash_of(spec.origin.texts.all().as_bytes()),
            plan: spec.plan,
            from: From::Database(url),
        })
    }

    /// A query to a session that is open, in the format of a spec or in the usual one.
    pub fn of_session(
        session: &mut dyn Session,
        from: String,
        format: Option<Box<Spec>>,
        wanted: &Wanted,
    ) -> Result<ExportJob, Error> {
        let query = query(wanted, None, Vec::new())?;
        let (spec, text, plan) = match format {
            Some(format) => {
                let text = format.origin.texts.all().to_string();
                (format.name(), text, format.plan)
            }
            None => {
                let columns = session.query_columns(&query)?;
                let text = default_spec::spec(&columns, None, None, None);
                let plan = default_plan(&text)?;
                (USUAL.to_string(), text, plan)
            }
        };
        Ok(ExportJob {
            plan,
            spec,
            spec_hash: hash_of(text.as_bytes()),
            from: From::Files(from),
            query,
        })
    }

    /// An export that has no spec makes one: of the table's columns, or the query's.
    pub fn without_spec(
        url: Url,
        table: Option<&str>,
        spec_out: Option<&Path>,
        wanted: &Wanted,
        out: &Out,
    ) -> Result<ExportJob, Error> {
        let columns = columns(&url, table, wanted)?;
        let file = match &out.destination {
            Destination::Path(path) => path.file_name().and_then(|name| name.to_str()),
            Destination::Stdout => None,
        };
        let text = default_spec::spec(&columns, file, Some(&url.for_a_spec()), table);
        let plan = default_plan(&text)?;
        if let Some(path) = spec_out {
            write_out(path, &text, out.overwrites)?;
        }
        let names = columns.into_iter().map(|(name, _)| name).collect();
        Ok(ExportJob {
            query: query(wanted, table.map(str::to_string), names)?,
            spec: USUAL.into(),
            spec_hash: hash_of(text.as_bytes()),
            plan,
            from: From::Database(url),
        })
    }

    /// What is written, in words.
    pub fn what(&self) -> String {
        match (&self.from, &self.query) {
            (From::Files(names), _) => format!("a query to the files of {names}"),
            (From::Database(url), Query::Table(select)) => {
                format!(
                    "{url}, table {}",
                    escape_for_display(select.table.as_bytes())
                )
            }
            (From::Database(url), Query::Sql(_)) => format!("{url}, a query"),
        }
    }

    /// Gives the files their names, if there are no more unfit rows than may be.
    pub fn ended(&self, output: Output<'_>) -> Result<ExportEnd, Error> {
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
    pub fn register(&self, made: &[Made], unfit: u64, started: &str) -> Result<(), Error> {
        let From::Database(url) = &self.from else {
            return Ok(());
        };
        let mut session = url.open_existing()?;
        note(self, session.as_mut(), made, unfit, started)
    }
}

/// The format of an export that has no spec, in words.
const USUAL: &str = "RFC 4180, UTF-8";

/// The plan of a spec that was made for an export.
fn default_plan(text: &str) -> Result<Plan, Error> {
    let name = Path::new("the spec of this export");
    read_plan(text).map_err(|problems| Error::spec(&SpecTexts::new(name, text), problems))
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
    let mut session = url.open_existing()?;
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
