//! A prepared statement that reads text and bytes where they are.
//!
//! `rusqlite` binds a copy of each text, in memory that SQLite asks for and frees again. Bound
//! without a copy, a load of the bench's file takes 0.90 of the instructions, and 0.86 of the
//! time.

#![expect(
    unsafe_code,
    reason = "rusqlite binds copies only, and does not give a statement's handle; the gain is above"
)]

use std::ffi::{CStr, c_int};
use std::marker::PhantomData;
use std::ptr::{NonNull, null_mut};
use std::rc::Rc;

use rusqlite::types::ValueRef;
use rusqlite::{Connection, Error, ffi};

/// A prepared statement.
///
/// What makes its calls of SQLite sound:
///
/// - The connection is open as long as this is there, and only this thread uses it: an [`Rc`]
///   does not go to another one.
/// - `statement` is finalized when this is dropped, and never before.
/// - Text and bytes are bound as static: SQLite reads them while the statement runs, and at no
///   other time. To bind over them, to reset and to finalize a statement does not read them
///   ("Binding Values To Prepared Statements"). Only [`Bound::run`] runs it.
pub struct Prepared {
    connection: Rc<Connection>,
    statement: NonNull<ffi::sqlite3_stmt>,
    /// How many values it takes.
    parameters: usize,
}

/// A statement to which all its values are bound, for one run. It cannot outlive them.
pub struct Bound<'p, 'v> {
    prepared: &'p mut Prepared,
    values: PhantomData<&'v [u8]>,
}

impl Prepared {
    /// Prepares a statement, which is to be run many times.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn new(connection: &Rc<Connection>, sql: &str) -> rusqlite::Result<Prepared> {
        let length = c_int::try_from(sql.len())
            .map_err(|_| Error::SqliteFailure(ffi::Error::new(ffi::SQLITE_TOOBIG), None))?;
        let mut statement = null_mut();
        // SAFETY: the connection is open, and not used elsewhere meanwhile. SQLite reads
        // `length` bytes of the text, and copies them.
        let code = unsafe {
            ffi::sqlite3_prepare_v3(
                connection.handle(),
                sql.as_ptr().cast(),
                length,
                ffi::SQLITE_PREPARE_PERSISTENT,
                &raw mut statement,
                null_mut(),
            )
        };
        let Some(statement) = NonNull::new(statement) else {
            return Err(failure(connection, code));
        };
        // SAFETY: the statement was prepared just now.
        let parameters = unsafe { ffi::sqlite3_bind_parameter_count(statement.as_ptr()) };
        Ok(Prepared {
            connection: connection.clone(),
            statement,
            parameters: parameters as usize,
        })
    }

    /// Binds the values, one for each parameter in their order.
    ///
    /// # Errors
    /// What `values` has in place of a value, or what `failed` makes of SQLite's error: a value
    /// is too long, or there are more or fewer than parameters.
    #[inline]
    pub fn bind<'p, 'v, E>(
        &'p mut self,
        values: impl Iterator<Item = Result<ValueRef<'v>, E>>,
        failed: impl Fn(&Error) -> E,
    ) -> Result<Bound<'p, 'v>, E> {
        let mut count = 0;
        for value in values {
            count += 1;
            let code = self.bind_one(count, value?);
            if code != ffi::SQLITE_OK {
                return Err(failed(&failure(&self.connection, code)));
            }
        }
        if count != self.parameters {
            return Err(failed(&Error::InvalidParameterCount(
                count,
                self.parameters,
            )));
        }
        Ok(Bound {
            prepared: self,
            values: PhantomData,
        })
    }

    /// Binds a value to a parameter, counted from 1. Returns SQLite's code.
    #[inline]
    fn bind_one(&mut self, place: usize, value: ValueRef<'_>) -> c_int {
        let (statement, place) = (self.statement.as_ptr(), place as c_int);
        // SAFETY: the statement is there, and not running, since `Bound::run` resets it. To a
        // place that is none SQLite answers with an error. What is bound here may be gone when
        // the statement runs only if `bind` fails later, and then there is no `Bound`; the next
        // one needs a value for every parameter, and lives no longer than these do.
        unsafe {
            match value {
                ValueRef::Null => ffi::sqlite3_bind_null(statement, place),
                ValueRef::Integer(n) => ffi::sqlite3_bind_int64(statement, place, n),
                ValueRef::Real(n) => ffi::sqlite3_bind_double(statement, place, n),
                ValueRef::Text(text) => ffi::sqlite3_bind_text64(
                    statement,
                    place,
                    text.as_ptr().cast(),
                    text.len() as u64,
                    ffi::SQLITE_STATIC(),
                    ffi::SQLITE_UTF8 as u8,
                ),
                ValueRef::Blob(bytes) => ffi::sqlite3_bind_blob64(
                    statement,
                    place,
                    bytes.as_ptr().cast(),
                    bytes.len() as u64,
                    ffi::SQLITE_STATIC(),
                ),
            }
        }
    }
}

impl Bound<'_, '_> {
    /// Runs the statement to its end. Returns how many rows it changed.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn run(self) -> rusqlite::Result<usize> {
        let Prepared {
            connection,
            statement,
            ..
        } = self.prepared;
        let mut code = ffi::SQLITE_ROW;
        while code == ffi::SQLITE_ROW {
            // SAFETY: the statement is there, and what is bound to it lives as long as `self`.
            code = unsafe { ffi::sqlite3_step(statement.as_ptr()) };
        }
        let result = match code {
            ffi::SQLITE_DONE => Ok(connection.changes() as usize),
            code => Err(failure(connection, code)),
        };
        // SAFETY: the statement is there. What the reset returns is the run's own code again.
        unsafe { ffi::sqlite3_reset(statement.as_ptr()) };
        result
    }
}

impl Drop for Prepared {
    fn drop(&mut self) {
        // SAFETY: nothing has the statement any more, and its connection is still open.
        unsafe { ffi::sqlite3_finalize(self.statement.as_ptr()) };
    }
}

/// The error of the call just made, which returned `code`, in SQLite's words.
#[cold]
fn failure(connection: &Rc<Connection>, code: c_int) -> Error {
    // SAFETY: the connection is open, and nothing else calls SQLite with it until the words are
    // copied. They end with a zero byte.
    let words = unsafe { CStr::from_ptr(ffi::sqlite3_errmsg(connection.handle())) };
    let words = words.to_string_lossy().into_owned();
    Error::SqliteFailure(ffi::Error::new(code), Some(words))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table(sql: &str) -> Rc<Connection> {
        let connection = Connection::open_in_memory().unwrap();
        connection.execute_batch(sql).unwrap();
        Rc::new(connection)
    }

    fn bind<'p, 'v>(
        prepared: &'p mut Prepared,
        values: &[ValueRef<'v>],
    ) -> Result<Bound<'p, 'v>, String> {
        prepared.bind(values.iter().map(|value| Ok(*value)), Error::to_string)
    }

    fn rows(connection: &Connection) -> Vec<String> {
        let sql = "SELECT quote(a) || ' ' || quote(b) FROM t ORDER BY rowid";
        let mut statement = connection.prepare(sql).unwrap();
        let rows = statement.query_map([], |row| row.get(0)).unwrap();
        rows.map(Result::unwrap).collect()
    }

    #[test]
    fn every_kind_of_value_is_stored_after_its_text_is_gone() {
        let connection = table("CREATE TABLE t (a, b)");
        let mut insert = Prepared::new(&connection, "INSERT INTO t VALUES (?, ?)").unwrap();
        let all = [
            (ValueRef::Null, ValueRef::Integer(i64::MIN)),
            (ValueRef::Real(0.5), ValueRef::Text(b"")),
            (ValueRef::Blob(b""), ValueRef::Blob(&[0, 255])),
        ];
        for (a, b) in all {
            assert_eq!(bind(&mut insert, &[a, b]).unwrap().run().unwrap(), 1);
        }
        for text in ["Ada's".to_string(), "x".repeat(9)] {
            let value = ValueRef::Text(text.as_bytes());
            bind(&mut insert, &[value, ValueRef::Null])
                .unwrap()
                .run()
                .unwrap();
        }
        let wanted = [
            "NULL -9223372036854775808",
            "0.5 ''",
            "X'' X'00FF'",
            "'Ada''s' NULL",
            "'xxxxxxxxx' NULL",
        ];
        assert_eq!(rows(&connection), wanted);
    }

    #[test]
    fn it_runs_only_with_a_value_for_each_parameter() {
        let connection = table("CREATE TABLE t (a, b)");
        let mut insert = Prepared::new(&connection, "INSERT INTO t VALUES (?, ?)").unwrap();
        let one = ValueRef::Integer(1);
        for (values, words) in [
            (vec![one], "Got 1, needed 2"),
            (vec![one; 3], "column index out of range"),
        ] {
            let error = bind(&mut insert, &values).err().unwrap();
            assert!(error.contains(words), "{error}");
        }
        let stopped = insert.bind([Ok(one), Err("lossy")].into_iter(), |_| "other");
        assert_eq!(stopped.err(), Some("lossy"));
        assert!(rows(&connection).is_empty());
    }

    #[test]
    fn a_refused_row_says_why_and_the_next_one_goes_in() {
        let connection = table("CREATE TABLE t (a UNIQUE, b)");
        let mut insert = Prepared::new(&connection, "INSERT INTO t VALUES (?, ?)").unwrap();
        let mut put = |n| {
            let values = [ValueRef::Integer(n), ValueRef::Text(b"x")];
            bind(&mut insert, &values).unwrap().run()
        };
        put(1).unwrap();
        let error = put(1).unwrap_err();
        assert_eq!(error.to_string(), "UNIQUE constraint failed: t.a");
        let code = error.sqlite_error().unwrap().extended_code;
        assert_eq!(code, ffi::SQLITE_CONSTRAINT_UNIQUE);
        put(2).unwrap();
        assert_eq!(rows(&connection), ["1 'x'", "2 'x'"]);
    }

    #[test]
    fn a_table_that_changes_is_prepared_for_again() {
        let connection = table("CREATE TABLE t (a, b)");
        let mut insert = Prepared::new(&connection, "INSERT INTO t (a, b) VALUES (?, ?)").unwrap();
        let sql = "ALTER TABLE t ADD c DEFAULT 5; DELETE FROM t";
        connection.execute_batch(sql).unwrap();
        let values = [ValueRef::Text(b"y"), ValueRef::Null];
        bind(&mut insert, &values).unwrap().run().unwrap();
        assert_eq!(rows(&connection), ["'y' NULL"]);
    }

    #[test]
    fn what_is_no_statement_is_an_error() {
        let connection = table("CREATE TABLE t (a, b)");
        for sql in ["INSERT INTO none VALUES (1)", "", "-- nothing"] {
            assert!(Prepared::new(&connection, sql).is_err(), "{sql}");
        }
    }

    #[test]
    fn the_connection_stays_open_until_its_statements_are_gone() {
        let connection = table("CREATE TABLE t (a, b)");
        let mut insert = Prepared::new(&connection, "INSERT INTO t VALUES (?, ?)").unwrap();
        drop(connection);
        let values = [ValueRef::Null; 2];
        assert_eq!(bind(&mut insert, &values).unwrap().run().unwrap(), 1);
    }
}
