//! SQL with values beside it, and the lock that keeps other loads away.

use std::fs::File;
use std::path::{Path, PathBuf};

use barrow_core::escape::visible_path;
use rusqlite::types::ValueRef;
use rusqlite::{Connection, ToSql};

use crate::error::Error;
use crate::sql::Value;
use crate::sqlite::errors::explained;

impl ToSql for Value {
    fn to_sql(&self) -> rusqlite::Result<rusqlite::types::ToSqlOutput<'_>> {
        Ok(match self {
            Value::Null => rusqlite::types::Null.into(),
            Value::Number(number) => (*number).into(),
            Value::Text(text) => text.as_str().into(),
            Value::Bytes(bytes) => bytes.as_slice().into(),
        })
    }
}

/// The rows of a query.
pub fn query(
    connection: &Connection,
    sql: &str,
    values: &[Value],
    doing: &str,
) -> Result<Vec<Vec<Value>>, Error> {
    let run = || -> rusqlite::Result<Vec<Vec<Value>>> {
        let mut statement = connection.prepare(sql)?;
        let width = statement.column_count();
        let rows = statement.query_map(rusqlite::params_from_iter(values), |row| {
            let mut values = Vec::with_capacity(width);
            for at in 0..width {
                values.push(value(row.get_ref(at)?));
            }
            Ok(values)
        })?;
        rows.collect()
    };
    run().map_err(|e| explained(&e, doing))
}

fn value(found: ValueRef<'_>) -> Value {
    match found {
        ValueRef::Null => Value::Null,
        ValueRef::Integer(number) => Value::Number(number),
        ValueRef::Real(number) => Value::Text(number.to_string()),
        ValueRef::Text(text) => Value::Text(String::from_utf8_lossy(text).into_owned()),
        ValueRef::Blob(bytes) => Value::Bytes(bytes.to_vec()),
    }
}

/// Runs a statement, and returns how many rows it changed.
pub fn execute(
    connection: &Connection,
    sql: &str,
    values: &[Value],
    doing: &str,
) -> Result<u64, Error> {
    connection
        .execute(sql, rusqlite::params_from_iter(values))
        .map(|n| n as u64)
        .map_err(|e| explained(&e, doing))
}

/// A lock file beside the database, held by one load at a time. SQLite releases its own lock at
/// each commit, before a load that commits as it goes is done.
pub struct LoadLock {
    file: File,
    path: PathBuf,
}

impl LoadLock {
    /// Takes the lock; none where another load has it and `wait` is false.
    ///
    /// # Errors
    /// The file cannot be made or locked.
    pub fn take(database: &Path, wait: bool) -> Result<Option<LoadLock>, Error> {
        let mut name = database.as_os_str().to_owned();
        name.push("-barrow");
        let path = PathBuf::from(name);
        let failed = |e: std::io::Error| {
            Error::new(format!("{}: {e}", visible_path(&path)))
                .advice("a load keeps other loads away with this file; the folder must be writable")
        };
        loop {
            let open = File::options()
                .create(true)
                .truncate(false)
                .write(true)
                .open(&path);
            let file = open.map_err(failed)?;
            match wait {
                true => file.lock().map_err(failed)?,
                false => match file.try_lock() {
                    Ok(()) => {}
                    Err(std::fs::TryLockError::WouldBlock) => return Ok(None),
                    Err(std::fs::TryLockError::Error(e)) => return Err(failed(e)),
                },
            }
            // The one before us may have taken the file away while we waited.
            if is_same(&file, &path) {
                return Ok(Some(LoadLock { file, path }));
            }
        }
    }
}

#[cfg(unix)]
fn is_same(file: &File, path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    match (file.metadata(), path.metadata()) {
        (Ok(a), Ok(b)) => (a.dev(), a.ino()) == (b.dev(), b.ino()),
        _ => false,
    }
}

#[cfg(not(unix))]
fn is_same(_: &File, path: &Path) -> bool {
    path.exists()
}

impl Drop for LoadLock {
    fn drop(&mut self) {
        // Taken away while it is ours: whoever waits sees that, and makes another.
        let _ = std::fs::remove_file(&self.path);
        let _ = self.file.unlock();
    }
}
