//! A question that is to be asked of files.

use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use barrow_core::escape::escape_for_display;
use barrow_core::types::Type;
use barrow_run::{Draft, Error, Spec};
use rusqlite::vtab::Module;
use rusqlite::{Connection, OpenFlags};

use crate::answer::Answer;
use crate::attached;
use crate::exact;
use crate::files::{FilesTable, Given};
use crate::guard;
use crate::rejects::{self, RejectsTable};
use crate::shared::Shared;
use crate::tables::{FileTable, Files};

/// KiB of a sort or a grouping that may stay in memory; beyond, it goes to disk.
const CACHE: i64 = 65_536;

/// The table of a file that has no spec.
const DRAFTED: &str = "file";

/// The table of what would be rejected.
const REJECTS_TABLE: &str = "rejects";

const FILES: Module<'static, FilesTable> = Module::read_only_module();
const REJECTS: Module<'static, RejectsTable> = Module::read_only_module();

/// A question that is to be asked of files: SQL that reads.
pub struct Query {
    sql: String,
    tables: Vec<Arc<FileTable>>,
    files: Vec<Arc<Files>>,
    notes: Vec<String>,
    with: Option<String>,
    threads: Option<usize>,
}

impl Query {
    /// A question in SQL.
    pub fn new(sql: impl Into<String>) -> Query {
        Query {
            sql: sql.into(),
            tables: Vec::new(),
            files: Vec::new(),
            notes: Vec::new(),
            with: None,
            threads: None,
        }
    }

    /// How many threads read values; as many as the machine has unless said. To be said before
    /// the files.
    pub fn threads(self, threads: Option<usize>) -> Query {
        Query { threads, ..self }
    }

    /// Asks the tables of a spec too, by the name that is given, or by their own; of these files,
    /// or of the spec's where none is given.
    ///
    /// # Errors
    /// A file is not there; a table has the name of another.
    pub fn spec(
        mut self,
        spec: Spec,
        files: &[String],
        name: Option<&str>,
    ) -> Result<Query, Error> {
        let files = Arc::new(Files::new(spec, files, self.threads)?);
        for table in FileTable::of(&files, name)? {
            let is_same = |other: &FileTable| other.is_called(&table.name);
            if let Some(other) = self.tables.iter().find(|other| is_same(other)) {
                return Err(Error::request(
                    format!(
                        "{} and {} are both the table {}",
                        other.files.spec.name(),
                        files.spec.name(),
                        escape_for_display(table.name.as_bytes())
                    ),
                    "give each a name of its own: --as NAME after its spec",
                ));
            }
            self.tables.push(Arc::new(table));
        }
        self.files.push(files);
        Ok(self)
    }

    /// Asks files that have no spec too: one is drafted for the moment. The table is `file`
    /// unless another name is given.
    ///
    /// # Errors
    /// A file is not there, or is not a table.
    pub fn drafted(mut self, files: &[String], name: Option<&str>) -> Result<Query, Error> {
        let drafted = Draft::new(files.to_vec()).threads(self.threads).run()?;
        let spec = Spec::of_text(
            Path::new("the draft of this query"),
            &drafted.text,
            Path::new(""),
        )?;
        let named = name.unwrap_or(DRAFTED);
        self.notes.push(format!(
            "{}: no spec was given, so one was drafted for this query; the table is {}",
            files.join(", "),
            escape_for_display(named.as_bytes())
        ));
        self.spec(spec, &[], Some(named))
    }

    /// Lets the query have the tables of a database too, as `loaded.NAME`.
    pub fn with(self, url: Option<String>) -> Query {
        Query { with: url, ..self }
    }

    /// Prepares the answer. Nothing is read before it is asked for rows.
    ///
    /// # Errors
    /// The SQL is wrong, or does anything but read; the database is not there.
    pub fn open(self) -> Result<Answer, Error> {
        let clock = Instant::now();
        let shared = Shared::default();
        let connection = self.connect(&shared).map_err(|error| match error {
            Wrong::Sql(error) => Error::failed(format!("preparing the query: {error}")),
            Wrong::Other(error) => error,
        })?;
        let is_moment = |name: &str| {
            let mut columns = self.tables.iter().flat_map(|table| &table.columns);
            columns.any(|c| c.ty == Type::TimestampTz && c.name.eq_ignore_ascii_case(name))
        };
        let mut columns = self.tables.iter().flat_map(|table| &table.columns);
        let sql = match columns.any(|c| c.ty == Type::TimestampTz) {
            true => barrow_targets::sqlite::in_utc(&self.sql, is_moment)?,
            false => self.sql.clone(),
        };
        let mut notes = self.notes;
        if self
            .tables
            .iter()
            .any(|table| table.is_called(REJECTS_TABLE))
        {
            notes.push(format!(
                "a table of a spec is called {REJECTS_TABLE}, so the rejects are no table: --as \
                 gives the spec's another name"
            ));
        }
        Answer::new(sql, connection, shared, self.tables, notes, clock)
    }

    fn connect(&self, shared: &Shared) -> Result<Connection, Wrong> {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_MEMORY
            | OpenFlags::SQLITE_OPEN_URI
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let mut connection = Connection::open_in_memory_with_flags(flags)?;
        connection.pragma_update(None, "temp_store", "FILE")?;
        connection.pragma_update(None, "cache_size", -CACHE)?;
        exact::register(&connection, &shared.long_sums())?;
        for (number, table) in self.tables.iter().enumerate() {
            let given = Given {
                table: table.clone(),
                shared: shared.clone(),
            };
            let module = format!("files{number}");
            connection.create_module(module.as_str(), &FILES, Some(given))?;
            make(&connection, &table.name, &module)?;
        }
        if !self
            .tables
            .iter()
            .any(|table| table.is_called(REJECTS_TABLE))
        {
            let given = rejects::Given {
                files: Arc::new(self.files.clone()),
                shared: shared.clone(),
            };
            connection.create_module(REJECTS_TABLE, &REJECTS, Some(given))?;
            make(&connection, REJECTS_TABLE, REJECTS_TABLE)?;
        }
        if let Some(with) = &self.with {
            attached::attach(&connection, with).map_err(Wrong::Other)?;
        }
        let own = shared.clone();
        connection.authorizer(Some(move |context: rusqlite::hooks::AuthContext<'_>| {
            guard::decide(&own, &context)
        }))?;
        Ok(connection)
    }
}

fn make(connection: &Connection, table: &str, module: &str) -> rusqlite::Result<()> {
    let table = table.replace('"', "\"\"");
    connection.execute_batch(&format!("CREATE VIRTUAL TABLE \"{table}\" USING {module}"))
}

/// Why a query could not be prepared.
enum Wrong {
    Sql(rusqlite::Error),
    Other(Error),
}

impl From<rusqlite::Error> for Wrong {
    fn from(error: rusqlite::Error) -> Wrong {
        Wrong::Sql(error)
    }
}
