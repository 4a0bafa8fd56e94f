//! The ledger: what was loaded, when, from what and with what result. Two tables beside
//! those that are loaded, written in the same transaction as the rows.
//!
//! Their columns are described in docs/ledger.md, for people who ask them with SQL.

mod tables;

use std::collections::HashMap;

use barrow_core::source::content::hash_of;
use serde::{Deserialize, Serialize};

use crate::asking::{Value, marks};
use crate::dialect::Dialect;
use crate::error::Error;
use crate::{Job, Target};

/// The table of runs.
pub const RUNS: &str = "barrow_runs";

/// The table of the runs' files.
pub const FILES: &str = "barrow_files";

/// An id has so many characters.
const ID: usize = 8;

/// So many values are asked for at once.
const AT_ONCE: usize = 200;

/// What became of a run, or of a file of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Outcome {
    /// Part of it is committed, and the rest is under way or was interrupted.
    Going,
    /// Its rows are in the table.
    #[default]
    Kept,
    /// It was beyond the tolerance or its totals differ, and was taken back.
    Undone,
    /// It could not be done.
    Failed,
    /// Its rows were in the table, which was emptied since.
    Emptied,
    /// It was written from the table.
    Exported,
}

impl Outcome {
    const ALL: [Outcome; 6] = [
        Outcome::Going,
        Outcome::Kept,
        Outcome::Undone,
        Outcome::Failed,
        Outcome::Emptied,
        Outcome::Exported,
    ];

    /// The word in the tables.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Going => "going",
            Outcome::Kept => "kept",
            Outcome::Undone => "undone",
            Outcome::Failed => "failed",
            Outcome::Emptied => "emptied",
            Outcome::Exported => "exported",
        }
    }

    fn of(word: &str) -> Outcome {
        let found = Outcome::ALL.into_iter().find(|o| o.word() == word);
        found.unwrap_or(Outcome::Failed)
    }
}

/// The counts of a run or a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Counts {
    /// Everything that was read: records, and lines that are none.
    pub read: u64,
    /// Records that became rows.
    pub loaded: u64,
    /// Records that did not.
    pub rejected: u64,
    /// Lines that are no records.
    pub left_out: u64,
    /// Changes that the spec asked for.
    pub repaired: u64,
    /// Good records that were taken back.
    pub not_kept: u64,
}

/// A run.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Run {
    /// Its id.
    pub run: String,
    /// The spec's path as given.
    pub spec: String,
    /// The hash of the spec's text.
    pub spec_hash: String,
    /// The tables, as the spec names them.
    pub table: String,
    /// What stands for these tables, however they are written.
    pub table_key: String,
    /// append, truncate, replace or merge.
    pub mode: String,
    /// Who ran it.
    pub who: String,
    /// On which machine.
    pub host: String,
    /// When it began, in UTC: `2031-04-03 08:05:09.123`.
    pub started_at: String,
    /// When it was last written, in UTC.
    pub ended_at: String,
    /// What became of it.
    pub outcome: Outcome,
    /// Why, where it failed.
    pub message: Option<String>,
    /// How many files it has.
    pub files: u64,
    /// Its counts.
    pub counts: Counts,
    /// Of its rejects, those that were loaded since.
    pub mended: u64,
    /// Of its rejects, those whose records were deleted.
    pub given_up: u64,
    /// Of its rejects, those that are still to be corrected.
    pub still_open: u64,
    /// Where its rejects are.
    pub rejects_folder: Option<String>,
    /// Its reasons in groups, as JSON.
    pub reasons: Option<String>,
    /// The run whose rejects it loaded.
    pub mend_of: Option<String>,
    /// What is needed to go on, as JSON, while it is going.
    pub state: Option<String>,
    /// The version of the program.
    pub version: String,
}

/// A file of a run.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct File {
    /// The run.
    pub run: String,
    /// Its place in the run, from 1.
    pub number: u64,
    /// Its path, as it was given.
    pub path: String,
    /// Its name without folders.
    pub name: String,
    /// The tables, as [`Run::table`].
    pub table: String,
    /// As [`Run::table_key`].
    pub table_key: String,
    /// Its size in bytes, as stored.
    pub bytes: u64,
    /// The hash of some of its bytes; none for standard input.
    pub sample: Option<String>,
    /// The hash of all of its bytes, once it was read to its end.
    pub content: Option<String>,
    /// What became of it.
    pub outcome: Outcome,
    /// The place in the file, unpacked, up to which its records are committed.
    pub committed_to: u64,
    /// Its counts.
    pub counts: Counts,
    /// Whether the same content may be loaded only once.
    pub once: bool,
}

/// What stands for the tables of a job, however they are written.
///
/// # Errors
/// The database cannot be asked.
pub fn table_key(target: &mut dyn Target, job: &Job) -> Result<String, Error> {
    let mut names = Vec::new();
    for table in job.tables() {
        names.push(target.full_name(table)?);
    }
    Ok(hash_of(names.join("\n").as_bytes()))
}

/// Whether the database has a ledger.
///
/// # Errors
/// The database cannot be asked.
pub fn is_there(target: &mut dyn Target) -> Result<bool, Error> {
    Ok(target.describe(RUNS)?.is_some() && target.describe(FILES)?.is_some())
}

/// Makes the ledger's tables, those that are missing.
///
/// # Errors
/// The database will not have them.
pub fn make(target: &mut dyn Target) -> Result<(), Error> {
    for statement in tables::statements(target.dialect()) {
        let made = target.tell(&statement, &[], "making the ledger");
        if let Err(error) = made {
            // Another load may have made it in the same moment.
            if !is_there(target).unwrap_or(false) {
                return Err(without(error));
            }
        }
    }
    Ok(())
}

fn without(error: Error) -> Error {
    let advice = "let the user create tables once, or do without a ledger: [target] ledger = false \
                  (then nothing knows which files were loaded)";
    Error {
        advice: Some(advice.into()),
        ..error
    }
}

/// Whether the ledger may be written, found out before the load and not at its end.
///
/// # Errors
/// It may not.
pub fn may_be_written(target: &mut dyn Target) -> Result<(), Error> {
    for (table, column) in [(RUNS, "run"), (FILES, "run")] {
        let statements = [
            format!("INSERT INTO {table} SELECT * FROM {table} WHERE 1 = 0"),
            format!("UPDATE {table} SET {column} = {column} WHERE 1 = 0"),
        ];
        for sql in statements {
            let tried = target.tell(&sql, &[], "writing the ledger");
            tried.map_err(|error| {
                error.advice(format!(
                    "ask its owner for the right: GRANT SELECT, INSERT, UPDATE ON {RUNS}, {FILES} TO \
                     the user; or do without: [target] ledger = false"
                ))
            })?;
        }
    }
    Ok(())
}

/// Writes a run: anew, or what has changed of it.
///
/// # Errors
/// The database will not have it.
pub fn write_run(target: &mut dyn Target, run: &Run, is_new: bool) -> Result<(), Error> {
    let c = &run.counts;
    let values = vec![
        ("run", Value::from(run.run.as_str())),
        ("spec", Value::from(run.spec.as_str())),
        ("spec_hash", Value::from(run.spec_hash.as_str())),
        ("table_name", Value::from(run.table.as_str())),
        ("table_key", Value::from(run.table_key.as_str())),
        ("load_mode", Value::from(run.mode.as_str())),
        ("who", Value::from(run.who.as_str())),
        ("host", Value::from(run.host.as_str())),
        ("started_at", Value::from(run.started_at.as_str())),
        ("ended_at", Value::from(run.ended_at.as_str())),
        ("outcome", Value::from(run.outcome.word())),
        ("message", Value::maybe(run.message.as_deref())),
        ("files", Value::count(run.files)),
        ("total_read", Value::count(c.read)),
        ("loaded", Value::count(c.loaded)),
        ("rejected", Value::count(c.rejected)),
        ("left_out", Value::count(c.left_out)),
        ("repaired", Value::count(c.repaired)),
        ("not_kept", Value::count(c.not_kept)),
        ("mended", Value::count(run.mended)),
        ("given_up", Value::count(run.given_up)),
        ("still_open", Value::count(run.still_open)),
        (
            "rejects_folder",
            Value::maybe(run.rejects_folder.as_deref()),
        ),
        ("reasons", Value::maybe(run.reasons.as_deref())),
        ("mend_of", Value::maybe(run.mend_of.as_deref())),
        ("state", Value::maybe(run.state.as_deref())),
        ("version", Value::from(run.version.as_str())),
    ];
    write(target, RUNS, values, 1, is_new)
}

/// Writes a file of a run: anew, or what has changed of it.
///
/// # Errors
/// The database will not have it: another load has put the same content into the same
/// table, for one.
pub fn write_file(target: &mut dyn Target, file: &File, is_new: bool) -> Result<(), Error> {
    let c = &file.counts;
    let is_once = file.once && file.outcome == Outcome::Kept;
    let once = file.content.as_ref().filter(|_| is_once);
    let once = once.map(|content| once_key(&file.table_key, content));
    let values = vec![
        ("run", Value::from(file.run.as_str())),
        ("number", Value::count(file.number)),
        ("path", Value::from(file.path.as_str())),
        ("file_name", Value::from(file.name.as_str())),
        ("table_name", Value::from(file.table.as_str())),
        ("table_key", Value::from(file.table_key.as_str())),
        ("stored_bytes", Value::count(file.bytes)),
        ("sample", Value::maybe(file.sample.as_deref())),
        ("content", Value::maybe(file.content.as_deref())),
        ("once_key", Value::maybe(once)),
        ("outcome", Value::from(file.outcome.word())),
        ("committed_to", Value::count(file.committed_to)),
        ("total_read", Value::count(c.read)),
        ("loaded", Value::count(c.loaded)),
        ("rejected", Value::count(c.rejected)),
        ("left_out", Value::count(c.left_out)),
        ("repaired", Value::count(c.repaired)),
        ("not_kept", Value::count(c.not_kept)),
    ];
    let written = write(target, FILES, values, 2, is_new);
    written.map_err(|error| match error.message.contains("once_key") {
        true => error.advice(format!(
            "another load put the content of {} into the table in the same moment; run this \
             again, and it is passed over",
            file.name
        )),
        false => error,
    })
}

fn once_key(table_key: &str, content: &str) -> String {
    hash_of(format!("{table_key}\n{content}").as_bytes())
}

/// Inserts a row, or changes the one whose first `keys` values are the same.
fn write(
    target: &mut dyn Target,
    table: &str,
    values: Vec<(&str, Value)>,
    keys: usize,
    is_new: bool,
) -> Result<(), Error> {
    let dialect = target.dialect();
    let mark = |column: &str| tables::mark(dialect, column);
    let (sql, values): (String, Vec<Value>) = if is_new {
        let columns: Vec<&str> = values.iter().map(|(column, _)| *column).collect();
        let marks: Vec<&str> = columns.iter().map(|column| mark(column)).collect();
        let (columns, marks) = (columns.join(", "), marks.join(", "));
        (
            format!("INSERT INTO {table} ({columns}) VALUES ({marks})"),
            values.into_iter().map(|(_, value)| value).collect(),
        )
    } else {
        let set = |(column, _): &(&str, Value)| format!("{column} = {}", mark(column));
        let sets: Vec<String> = values[keys..].iter().map(set).collect();
        let are: Vec<String> = values[..keys].iter().map(set).collect();
        let (changed, kept) = (&values[keys..], &values[..keys]);
        (
            format!(
                "UPDATE {table} SET {} WHERE {}",
                sets.join(", "),
                are.join(" AND ")
            ),
            changed.iter().chain(kept).map(|(_, v)| v.clone()).collect(),
        )
    };
    target.tell(&sql, &values, "writing the ledger").map(drop)
}

/// Notes that the rows of all runs but this one are no longer in the table.
///
/// # Errors
/// The database will not have it.
pub fn emptied(target: &mut dyn Target, table_key: &str, but: &str) -> Result<(), Error> {
    let sql = format!(
        "UPDATE {FILES} SET outcome = 'emptied', once_key = NULL \
         WHERE table_key = ? AND run <> ? AND outcome IN ('kept', 'going')"
    );
    let values = [Value::from(table_key), Value::from(but)];
    target.tell(&sql, &values, "writing the ledger").map(drop)
}

/// The files that were loaded into a table and have one of these samples or names.
///
/// # Errors
/// The database cannot be asked.
pub fn known_files(
    target: &mut dyn Target,
    table_key: &str,
    samples: &[String],
    names: &[String],
) -> Result<Vec<File>, Error> {
    let mut found: HashMap<(String, u64), File> = HashMap::new();
    for (column, wanted) in [("sample", samples), ("file_name", names)] {
        for some in wanted.chunks(AT_ONCE) {
            let condition = format!(
                "table_key = ? AND outcome IN ('kept', 'going') AND {column} IN ({})",
                marks(some.len())
            );
            let mut values = vec![Value::from(table_key)];
            values.extend(some.iter().map(|one| Value::from(one.as_str())));
            for file in files_where(target, &condition, &values)? {
                found.insert((file.run.clone(), file.number), file);
            }
        }
    }
    Ok(found.into_values().collect())
}

/// The files of a run, in their order.
///
/// # Errors
/// The database cannot be asked.
pub fn files_of(target: &mut dyn Target, run: &str) -> Result<Vec<File>, Error> {
    files_where(target, "run = ?", &[Value::from(run)])
}

const FILE_COLUMNS: &str = "run, number, path, file_name, table_name, table_key, stored_bytes, \
                            sample, content, outcome, committed_to, total_read, loaded, rejected, \
                            left_out, repaired, not_kept, once_key";

fn files_where(
    target: &mut dyn Target,
    condition: &str,
    values: &[Value],
) -> Result<Vec<File>, Error> {
    let sql = format!("SELECT {FILE_COLUMNS} FROM {FILES} WHERE {condition} ORDER BY run, number");
    let rows = target.ask(&sql, values, "reading the ledger")?;
    Ok(rows.iter().map(|row| file(row)).collect())
}

fn text(value: &Value) -> String {
    value.as_text().unwrap_or_default().to_string()
}

fn maybe(value: &Value) -> Option<String> {
    value.as_text().map(str::to_string)
}

fn counts(values: &[Value]) -> Counts {
    let count = |at: usize| values[at].as_count();
    Counts {
        read: count(0),
        loaded: count(1),
        rejected: count(2),
        left_out: count(3),
        repaired: count(4),
        not_kept: count(5),
    }
}

fn file(row: &[Value]) -> File {
    File {
        run: text(&row[0]),
        number: row[1].as_count(),
        path: text(&row[2]),
        name: text(&row[3]),
        table: text(&row[4]),
        table_key: text(&row[5]),
        bytes: row[6].as_count(),
        sample: maybe(&row[7]),
        content: maybe(&row[8]),
        outcome: Outcome::of(&text(&row[9])),
        committed_to: row[10].as_count(),
        counts: counts(&row[11..17]),
        once: row[17] != Value::Null,
    }
}

/// Which runs to list.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// Runs whose id begins so.
    pub run: Option<String>,
    /// Runs into this table, as the spec named it.
    pub table: Option<String>,
    /// Runs that began at this moment or later: `2031-04-03 08:05:09`.
    pub since: Option<String>,
    /// Only runs whose rows are not in the table.
    pub failed: bool,
    /// At most so many.
    pub limit: Option<u64>,
}

/// The runs that mended the rejects of a run, the oldest first.
///
/// # Errors
/// The database cannot be asked.
pub fn mends_of(target: &mut dyn Target, of: &str) -> Result<Vec<Run>, Error> {
    let columns = RUN_COLUMNS.map(|column| tables::shown(target.dialect(), column));
    let sql = format!(
        "SELECT {} FROM {RUNS} WHERE mend_of = ? ORDER BY started_at, run",
        columns.join(", ")
    );
    let rows = target.ask(&sql, &[Value::from(of)], "reading the ledger")?;
    Ok(rows.iter().map(|row| run(row)).collect())
}

/// Runs, the newest first.
///
/// # Errors
/// The database cannot be asked.
pub fn runs(target: &mut dyn Target, wanted: &Wanted) -> Result<Vec<Run>, Error> {
    let dialect = target.dialect();
    let mut conditions = vec!["1 = 1".to_string()];
    let mut values = Vec::new();
    if let Some(run) = &wanted.run {
        // A whole id is found by the table's key.
        conditions.push(match run.chars().count() {
            ID.. => "run = ?".to_string(),
            some => format!("SUBSTR(run, 1, {some}) = ?"),
        });
        values.push(Value::from(run.as_str()));
    }
    if let Some(table) = &wanted.table {
        conditions.push("table_name = ?".into());
        values.push(Value::from(table.as_str()));
    }
    if let Some(since) = &wanted.since {
        conditions.push(format!(
            "started_at >= {}",
            tables::mark(dialect, "started_at")
        ));
        values.push(Value::from(since.as_str()));
    }
    if wanted.failed {
        conditions.push("outcome NOT IN ('kept', 'exported')".into());
    }
    let columns = RUN_COLUMNS.map(|column| tables::shown(dialect, column));
    let limit = wanted
        .limit
        .map_or(String::new(), |n| format!(" LIMIT {n}"));
    let sql = format!(
        "SELECT {} FROM {RUNS} WHERE {} ORDER BY started_at DESC, run{limit}",
        columns.join(", "),
        conditions.join(" AND ")
    );
    let rows = target.ask(&sql, &values, "reading the ledger")?;
    Ok(rows.iter().map(|row| run(row)).collect())
}

const RUN_COLUMNS: [&str; 27] = [
    "run",
    "spec",
    "spec_hash",
    "table_name",
    "table_key",
    "load_mode",
    "who",
    "host",
    "started_at",
    "ended_at",
    "outcome",
    "message",
    "files",
    "total_read",
    "loaded",
    "rejected",
    "left_out",
    "repaired",
    "not_kept",
    "mended",
    "given_up",
    "still_open",
    "rejects_folder",
    "reasons",
    "mend_of",
    "state",
    "version",
];

fn run(row: &[Value]) -> Run {
    Run {
        run: text(&row[0]),
        spec: text(&row[1]),
        spec_hash: text(&row[2]),
        table: text(&row[3]),
        table_key: text(&row[4]),
        mode: text(&row[5]),
        who: text(&row[6]),
        host: text(&row[7]),
        started_at: text(&row[8]),
        ended_at: text(&row[9]),
        outcome: Outcome::of(&text(&row[10])),
        message: maybe(&row[11]),
        files: row[12].as_count(),
        counts: counts(&row[13..19]),
        mended: row[19].as_count(),
        given_up: row[20].as_count(),
        still_open: row[21].as_count(),
        rejects_folder: maybe(&row[22]),
        reasons: maybe(&row[23]),
        mend_of: maybe(&row[24]),
        state: maybe(&row[25]),
        version: text(&row[26]),
    }
}

/// The table that a run's rejects are written to as well.
///
/// # Errors
/// The database will not have it.
pub fn make_rejects(target: &mut dyn Target, table: &str) -> Result<(), Error> {
    let sql = tables::rejects(target.dialect(), table);
    match target.tell(&sql, &[], "making the table of rejects") {
        Ok(_) => Ok(()),
        Err(_) if target.describe(table)?.is_some() => Ok(()),
        Err(error) => Err(error),
    }
}

/// A reason of a reject, as a row of that table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RejectRow {
    /// The run.
    pub run: String,
    /// The file as people named it.
    pub file: String,
    /// The record's number in its file, 1-based.
    pub record: u64,
    /// Its first line, 1-based.
    pub line: u64,
    /// Where in the file, in bytes, 0-based.
    pub offset: u64,
    /// The column, where it is about one.
    pub column: Option<String>,
    /// The code's word.
    pub code: String,
    /// The value.
    pub value: Option<String>,
    /// What is wrong.
    pub says: String,
    /// What was expected.
    pub expected: String,
    /// The record's bytes as they came.
    pub raw: Vec<u8>,
}

/// Rows that are inserted with one statement: their values are as many as any of the
/// databases takes.
pub const REJECTS_AT_ONCE: usize = 200;

/// Writes reasons to that table.
///
/// # Errors
/// The database will not have them.
pub fn write_rejects(
    target: &mut dyn Target,
    table: &str,
    rows: &[RejectRow],
) -> Result<(), Error> {
    let dialect = target.dialect();
    for some in rows.chunks(REJECTS_AT_ONCE) {
        let one = format!("({})", marks(tables::REJECT_COLUMNS.len()));
        let sql = format!(
            "INSERT INTO {} ({}) VALUES {}",
            dialect.table(table),
            tables::REJECT_COLUMNS.map(|c| dialect.quoted(c)).join(", "),
            vec![one.as_str(); some.len()].join(", ")
        );
        let values: Vec<Value> = some
            .iter()
            .flat_map(|row| reject_values(dialect, row))
            .collect();
        target.tell(&sql, &values, "writing the table of rejects")?;
    }
    Ok(())
}

fn reject_values(dialect: Dialect, row: &RejectRow) -> [Value; 11] {
    // PostgreSQL's text has no room for NUL; the raw record has it.
    let clean = |text: &str| match dialect {
        Dialect::Postgres => text.replace('\0', "\u{2400}"),
        _ => text.to_string(),
    };
    [
        Value::from(row.run.as_str()),
        Value::from(clean(&row.file)),
        Value::count(row.record),
        Value::count(row.line),
        Value::count(row.offset),
        Value::maybe(row.column.as_deref().map(clean)),
        Value::from(row.code.as_str()),
        Value::maybe(row.value.as_deref().map(clean)),
        Value::from(clean(&row.says)),
        Value::from(clean(&row.expected)),
        Value::Bytes(row.raw.clone()),
    ]
}

/// Takes a run's rejects out of that table.
///
/// # Errors
/// The database will not have it.
pub fn forget_rejects(target: &mut dyn Target, table: &str, run: &str) -> Result<(), Error> {
    let dialect = target.dialect();
    let sql = format!("DELETE FROM {} WHERE run = ?", dialect.table(table));
    target
        .tell(&sql, &[Value::from(run)], "writing the table of rejects")
        .map(drop)
}
