//! Writing runs and their files.

use barrow_core::source::content::hash_of;

use super::{Counts, FILES, File, Outcome, RUNS, Run, tables};
use crate::asking::Value;
use crate::error::{Error, ErrorKind};
use crate::session::Session;

/// Writes a run: anew, or what has changed of it.
///
/// # Errors
/// The database will not have it.
pub fn write_run(target: &mut dyn Session, run: &Run, is_new: bool) -> Result<(), Error> {
    let mut values = vec![
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
    values.extend(counted(&run.counts));
    write(target, RUNS, values, 1, is_new)
}

/// Writes a file of a run: anew, or what has changed of it.
///
/// # Errors
/// The database will not have it: another load has put the same content into the same
/// table, for one.
pub fn write_file(target: &mut dyn Session, file: &File, is_new: bool) -> Result<(), Error> {
    let is_once = file.once && file.outcome == Outcome::Kept;
    let once = file.content.as_ref().filter(|_| is_once);
    let once = once.map(|content| once_key(&file.table_key, content));
    let mut values = vec![
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
    ];
    values.extend(counted(&file.counts));
    let written = write(target, FILES, values, 2, is_new);
    written.map_err(|error| match error.kind == ErrorKind::Duplicate {
        true => error.advice(format!(
            "another load put the content of {} into the table in the same moment; run this \
             again, and it is passed over",
            file.name
        )),
        false => error,
    })
}

/// What runs and files count, by the columns' names.
fn counted(counts: &Counts) -> [(&'static str, Value); 6] {
    [
        ("total_read", Value::count(counts.read)),
        ("loaded", Value::count(counts.loaded)),
        ("rejected", Value::count(counts.rejected)),
        ("skipped", Value::count(counts.left_out)),
        ("repaired", Value::count(counts.repaired)),
        ("rolled_back", Value::count(counts.not_kept)),
    ]
}

pub(super) fn once_key(table_key: &str, content: &str) -> String {
    hash_of(format!("{table_key}\n{content}").as_bytes())
}

/// Inserts a row, or changes the one whose first `keys` values are the same.
fn write(
    target: &mut dyn Session,
    table: &str,
    values: Vec<(&str, Value)>,
    keys: usize,
    is_new: bool,
) -> Result<(), Error> {
    let table = super::named(target, table)?;
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
    target
        .execute(&sql, &values, "writing the ledger")
        .map(drop)
}

/// Notes that the rows of all runs but this one are no longer in the table. Returns how many
/// files that was.
///
/// # Errors
/// The database will not have it.
pub fn emptied(target: &mut dyn Session, table_key: &str, but: &str) -> Result<u64, Error> {
    let files = super::named(target, FILES)?;
    let sql = format!(
        "UPDATE {files} SET outcome = 'emptied', once_key = NULL \
         WHERE table_key = ? AND run <> ? AND outcome IN ('committed', 'in progress')"
    );
    let values = [Value::from(table_key), Value::from(but)];
    target.execute(&sql, &values, "writing the ledger")
}
