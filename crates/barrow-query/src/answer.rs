//! The answer to a query: its columns, its rows, and what was read for them.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Instant;

use barrow_core::escape::escape_for_display;
use barrow_core::nearest::nearest;
use barrow_core::source::Compression;
use barrow_core::types::Type;
use barrow_run::export::{Exported, Out};
use barrow_run::{Error, Export, Observer, Spec};
use barrow_targets::sqlite::Sqlite;
use rusqlite::types::Value;
use rusqlite::{Connection, Statement};

use crate::aggregates::{Aggregates, shows_sums};
use crate::report::{QueryReport, TableReport, most};
use crate::shared::{Scan, Shared};
use crate::tables::FileTable;

/// What is said where a sum is given as text.
const LONG_SUM: &str = "a sum has more than 15 digits and is given as text, to be exact; to \
    compare or to sort by it, say CAST(sum(...) AS REAL), which rounds";

/// A column of an answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// Its type, where it is a column of a table and nothing that was computed.
    pub ty: Option<Type>,
}

/// The answer to a query.
pub struct Answer {
    sql: String,
    connection: Connection,
    shared: Shared,
    tables: Vec<Arc<FileTable>>,
    notes: Vec<String>,
    clock: Instant,
    columns: Vec<Column>,
}

impl Answer {
    pub(crate) fn new(
        sql: String,
        connection: Connection,
        shared: Shared,
        tables: Vec<Arc<FileTable>>,
        notes: Vec<String>,
        clock: Instant,
    ) -> Result<Answer, Error> {
        let mut answer = Answer {
            sql,
            connection,
            shared,
            tables,
            notes,
            clock,
            columns: Vec::new(),
        };
        let are_shown = shows_sums(&answer.sql);
        let long = answer.shared.long_sums();
        long.are_shown.store(are_shown, Ordering::Relaxed);
        let columns = columns(&answer.prepare()?);
        if let Some(own) = Aggregates::of(&answer.sql, &answer.tables, &answer.shared) {
            let names: Vec<&str> = columns.iter().map(|c| c.name.as_str()).collect();
            let made = own.register(&answer.connection, &names);
            answer.sql = made.map_err(|error| answer.explained(&error))?;
        }
        answer.columns = columns;
        Ok(answer)
    }

    fn prepare(&self) -> Result<Statement<'_>, Error> {
        let statement = self.connection.prepare(&self.sql);
        let statement = statement.map_err(|error| self.explained(&error))?;
        if !statement.readonly() || statement.column_count() == 0 {
            return Err(only_reads("says nothing that could be shown"));
        }
        Ok(statement)
    }

    /// The columns of the answer.
    pub fn columns(&self) -> &[Column] {
        &self.columns
    }

    /// The rows, one after the other, until `give` says that it has had enough.
    ///
    /// # Errors
    /// A file cannot be read, or is not as its spec says; the query fails.
    pub fn rows(&self, give: &mut dyn FnMut(&[Value]) -> bool) -> Result<u64, Error> {
        let mut statement = self.prepare()?;
        let width = statement.column_count();
        let failed = |error: rusqlite::Error| self.explained(&error);
        let mut rows = statement.query([]).map_err(failed)?;
        let (mut count, mut values) = (0, Vec::with_capacity(width));
        while let Some(row) = rows.next().map_err(failed)? {
            values.clear();
            for place in 0..width {
                values.push(row.get::<_, Value>(place).map_err(failed)?);
            }
            count += 1;
            if !give(&values) {
                break;
            }
        }
        Ok(count)
    }

    /// What was read for the rows that were asked for.
    pub fn report(&self, rows: u64) -> QueryReport {
        report(&self.shared, &self.tables, &self.notes, rows, self.clock)
    }

    /// Writes the rows to files: in the format of a spec, or in RFC 4180 and UTF-8. None where
    /// whoever reads standard output has had enough.
    ///
    /// # Errors
    /// As [`Answer::rows`], or a file cannot be written. No file is left then.
    pub fn export(
        self,
        format: Option<Spec>,
        out: Out,
        observer: Option<&mut dyn Observer>,
    ) -> Result<Option<(Exported, QueryReport)>, Error> {
        let Answer {
            sql,
            connection,
            shared,
            tables,
            notes,
            clock,
            ..
        } = self;
        let session = Box::new(Sqlite::over(connection));
        let names: Vec<String> = tables
            .iter()
            .map(|t| escape_for_display(t.name.as_bytes()))
            .collect();
        let mut export = Export::of_session(session, names.join(", "), sql, format, out);
        if let Some(observer) = observer {
            export = export.observe(observer);
        }
        let exported = export
            .run()
            .map_err(|error| known(&shared).unwrap_or(error))?;
        Ok(exported.map(|exported| {
            let report = report(&shared, &tables, &notes, exported.counts.rows, clock);
            (exported, report)
        }))
    }

    /// What people read of SQLite's words.
    fn explained(&self, error: &rusqlite::Error) -> Error {
        if let Some(error) = known(&self.shared) {
            return error;
        }
        let words = match error {
            rusqlite::Error::SqliteFailure(_, Some(words)) => words.clone(),
            rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
            rusqlite::Error::Empty => {
                return Error::request("the query is empty", "say a SELECT");
            }
            rusqlite::Error::MultipleStatement => {
                return Error::request("a query is one statement, and this has several", "say one");
            }
            other => other.to_string(),
        };
        if words.ends_with("may not be modified") {
            return only_reads("changes a table");
        }
        let words = escape_for_display(words.as_bytes());
        let error = Error::request(format!("the query: {words}"), String::new());
        match self.advice(&words) {
            Some(advice) => error.advised(advice),
            None => error.advised("the SQL is that of SQLite"),
        }
    }

    /// The names that there are, where one is not.
    fn advice(&self, words: &str) -> Option<String> {
        if let Some(wanted) = words.strip_prefix("no such table: ") {
            let names: Vec<&str> = self
                .tables
                .iter()
                .map(|table| table.name.as_str())
                .collect();
            return Some(named("table", wanted, names));
        }
        let wanted = words.strip_prefix("no such column: ")?;
        let own = wanted.rsplit('.').next().unwrap_or(wanted);
        let columns = self.tables.iter().flat_map(|table| &table.columns);
        Some(named(
            "column",
            own,
            columns.map(|c| c.name.as_str()).collect(),
        ))
    }
}

/// Says which names there are, the nearest first.
fn named(what: &str, wanted: &str, names: Vec<&str>) -> String {
    let shown: Vec<String> = names
        .iter()
        .map(|n| escape_for_display(n.as_bytes()))
        .collect();
    match nearest(wanted, names.iter().copied()) {
        Some(near) => format!("did you mean {}?", escape_for_display(near.as_bytes())),
        None => format!("the {what}s are {}", shown.join(", ")),
    }
}

/// Why the query could not go on, where that is known better than SQLite says it.
fn known(shared: &Shared) -> Option<Error> {
    let refused = shared.take_refused();
    let refused = refused.map(|what| only_reads(&format!("asks for {what}")));
    shared.take_failure().or(refused)
}

fn only_reads(what: &str) -> Error {
    Error::request(
        format!("a query only reads, and this one {what}"),
        "say a SELECT",
    )
}

fn columns(statement: &Statement<'_>) -> Vec<Column> {
    let columns = statement.columns();
    let column = columns.map(|column| Column {
        name: column.name().to_string(),
        ty: column
            .decl_type()
            .and_then(barrow_targets::sqlite::spec_type),
    });
    column.collect()
}

fn report(
    shared: &Shared,
    tables: &[Arc<FileTable>],
    notes: &[String],
    rows: u64,
    clock: Instant,
) -> QueryReport {
    let scans = most(shared.take_scans());
    let mut notes = notes.to_vec();
    notes.extend(scans.iter().filter_map(|scan| unverified(scan, tables)));
    let table = |scan: Scan| {
        let of = tables.iter().find(|table| table.name == scan.table);
        let limit = of.map(|table| table.files.spec.plan.rejects.tolerance);
        let (rejected, records) = (scan.counts.rejected(), scan.counts.records());
        TableReport {
            is_within: limit.is_none_or(|limit| limit.allows(rejected, records)),
            table: scan.table,
            columns: scan.columns,
            counts: scan.counts,
            is_whole: scan.is_whole,
            kept: scan.kept,
        }
    };
    if shared.long_sums().were_given.load(Ordering::Relaxed) {
        notes.push(LONG_SUM.to_string());
    }
    QueryReport {
        tables: scans.into_iter().map(table).collect(),
        notes,
        rows,
        elapsed: clock.elapsed(),
    }
}

/// What is said of packed files that were not read to their ends, where their checksums are.
fn unverified(scan: &Scan, tables: &[Arc<FileTable>]) -> Option<String> {
    let table = tables.iter().find(|table| table.name == scan.table)?;
    let is_packed = |name: &String| Compression::of_name(name).is_some() || name.contains(".zip/");
    let mut names = table.files.files.iter().map(|file| file.name());
    let packed = names.find(is_packed).filter(|_| !scan.is_whole)?;
    Some(format!(
        "{packed} was not read to its end, so it was not verified"
    ))
}
