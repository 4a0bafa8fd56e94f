//! Opens a SQLite database.

use std::cell::Cell;
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::time::Duration;

use barrow_core::escape::visible_path;
use rusqlite::{Connection, OpenFlags};

use super::DIALECT;
use super::errors::explained;
use crate::error::Error;
use crate::sqlite::sql;

/// How long to wait for another program's lock.
const PATIENCE: Duration = Duration::from_secs(10);

/// A session with a SQLite database.
pub struct Sqlite {
    pub(super) connection: Rc<Connection>,
    pub(super) path: PathBuf,
    pub(super) is_new: bool,
    pub(super) lock: Option<sql::LoadLock>,
    /// Whether the transaction that is open is that of several loads.
    pub(super) is_together: Cell<bool>,
}

impl Sqlite {
    /// Opens the database file at `path`. Only with `create` is a missing one made.
    ///
    /// # Errors
    /// It is not there, or not a database.
    pub fn open(path: &Path, create: bool) -> Result<Sqlite, Error> {
        let shown = visible_path(path);
        let is_new = !path.exists();
        if is_new && !create {
            return Err(Error::new(format!("there is no database {shown}"))
                .advice("say [target] create = true to have the file and the table made"));
        }
        let folder = path
            .parent()
            .filter(|folder| !folder.as_os_str().is_empty());
        if let Some(folder) = folder.filter(|folder| !folder.is_dir()) {
            let folder = visible_path(folder);
            return Err(
                Error::new(format!("there is no folder {folder} to make {shown} in"))
                    .advice("make the folder first, or correct the path"),
            );
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(path, flags)
            .map_err(|e| explained(&e, &format!("opening {shown}")))?;
        let sqlite = Sqlite {
            connection: Rc::new(connection),
            path: path.to_path_buf(),
            is_new,
            lock: None,
            is_together: Cell::default(),
        };
        sqlite
            .prepare()
            .map_err(|e| explained(&e, &format!("opening {shown}")))?;
        Ok(sqlite)
    }

    /// A session over a connection that somebody opened, for reading.
    pub fn over(connection: Connection) -> Sqlite {
        Sqlite {
            connection: Rc::new(connection),
            path: PathBuf::new(),
            is_new: false,
            lock: None,
            is_together: Cell::default(),
        }
    }

    fn prepare(&self) -> rusqlite::Result<()> {
        self.connection.busy_timeout(PATIENCE)?;
        self.connection.pragma_update(None, "foreign_keys", true)?;
        // 16 MiB; the default of 2 MiB spills to disk under an index.
        self.connection.pragma_update(None, "cache_size", -16_384)?;
        self.connection.set_prepared_statement_cache_capacity(32);
        // Reads the file's header, so that what is no database is told now.
        self.connection
            .query_row("SELECT count(*) FROM sqlite_master", [], |_| Ok(()))
    }

    pub(super) fn run(&self, sql: &str, doing: &str) -> Result<(), Error> {
        self.connection
            .execute_batch(sql)
            .map_err(|e| explained(&e, doing))
    }

    pub(super) fn count(&self, table: &str) -> Result<u64, Error> {
        let sql = format!("SELECT count(*) FROM {}", DIALECT.quoted(table));
        self.connection
            .query_row(&sql, [], |row| row.get::<_, i64>(0))
            .map(|n| n as u64)
            .map_err(|e| explained(&e, "counting the table's rows"))
    }

    /// Rolls back what is open, if anything is.
    pub(super) fn roll_back_open(&self) -> Result<(), Error> {
        self.is_together.set(false);
        match self.connection.is_autocommit() {
            true => Ok(()),
            false => self.run("ROLLBACK", "rolling the load back"),
        }
    }
}

impl Drop for Sqlite {
    fn drop(&mut self) {
        // The lock goes last of all.
        // SQLite rolls back what is open. A file that we made and put nothing
        // into is taken away again.
        if !self.connection.is_autocommit() {
            let _ = self.connection.execute_batch("ROLLBACK");
        }
        let empty = self
            .path
            .metadata()
            .is_ok_and(|m| m.is_file() && m.len() == 0);
        if self.is_new && empty {
            let _ = std::fs::remove_file(&self.path);
        }
    }
}
