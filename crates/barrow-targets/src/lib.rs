//! The databases that rows go into, behind one trait.

pub mod about;
pub mod asking;
pub mod ddl;
pub mod dialect;
pub mod error;
pub mod fit;
pub mod foresight;
pub mod isolate;
pub mod ledger;
pub mod lines;
pub mod mariadb;
pub mod merge;
pub mod order;
pub mod outflow;
pub mod postgres;
pub mod scaled;
pub mod secret;
mod sending;
pub mod server;
pub mod sqlite;
pub mod table;
pub mod tls;
pub mod unique;
pub mod url;

use barrow_core::flow::Batch;
use barrow_core::reason::Code;
use barrow_core::types::Type;
use barrow_core::visible::visible;
use barrow_core::words::Mode;

pub use about::{About, Rights};
pub use asking::Value;
pub use dialect::Dialect;
pub use error::{Error, ErrorKind};
pub use foresight::Foresight;
pub use merge::Merged;
pub use outflow::{Decoder, RawRows};
pub use table::{Table, TableColumn};
pub use url::Url;

/// What is to be loaded, and where.
#[derive(Debug, Clone)]
pub struct Job {
    /// The kinds of rows, each with its table.
    pub parts: Vec<Part>,
    /// What becomes of the rows that the table has.
    pub mode: Mode,
    /// Whether a missing table is made.
    pub create: bool,
    /// What sets the tables beside others apart from those of any other load.
    pub tag: String,
}

/// A kind of rows, and its table. Several kinds may go to one table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// Which of a batch's parts it is.
    pub number: usize,
    /// The table's name.
    pub table: String,
    /// The columns of the rows, in their order.
    pub columns: Vec<Column>,
    /// The columns that tell one row from another.
    pub key: Vec<String>,
}

impl Job {
    /// The tables, each once, in the order of the parts.
    pub fn tables(&self) -> Vec<&str> {
        let mut tables: Vec<&str> = Vec::new();
        for part in &self.parts {
            if !tables.contains(&part.table.as_str()) {
                tables.push(&part.table);
            }
        }
        tables
    }

    /// The job for a database in whose names capitals and small letters are the same:
    /// tables that differ in case alone are one.
    pub fn folded(mut self) -> Job {
        let mut seen: Vec<String> = Vec::new();
        for part in &mut self.parts {
            match seen
                .iter()
                .find(|name| name.eq_ignore_ascii_case(&part.table))
            {
                Some(name) => part.table.clone_from(name),
                None => seen.push(part.table.clone()),
            }
        }
        self
    }

    /// What sets a load's tables beside others apart: new each time.
    pub fn new_tag() -> String {
        format!("{:08x}", fastrand::u32(..))
    }

    /// The name of the table that is loaded beside one, to take its place.
    pub fn beside(&self, table: &str) -> String {
        sending::beside(table, &format!("_barrow_{}", self.tag))
    }

    /// Whether a table that is there is made anew all the same.
    fn makes_anew(&self) -> bool {
        self.mode == Mode::Replace
    }

    /// The parts that go to a table.
    pub fn parts_of(&self, table: &str) -> impl Iterator<Item = &Part> {
        let is_of = move |part: &&Part| part.table == table;
        self.parts.iter().filter(is_of)
    }

    /// CREATE TABLE for a table that is made for all of its parts.
    ///
    /// # Errors
    /// Two parts give a column two types.
    pub fn create_table(&self, table: &str, dialect: Dialect) -> Result<String, Error> {
        self.create_table_as(table, table, dialect)
    }

    /// The same for a table that is made under another name at first.
    ///
    /// # Errors
    /// Two parts give a column two types.
    pub fn create_table_as(
        &self,
        table: &str,
        name: &str,
        dialect: Dialect,
    ) -> Result<String, Error> {
        let columns = self.columns_of(table)?;
        // Kinds that share a table each have keys of their own, if any.
        let mut parts = self.parts_of(table);
        let key = match (parts.next(), parts.next()) {
            (Some(part), None) => part.key.as_slice(),
            _ => &[],
        };
        Ok(ddl::create_table(dialect, name, &columns, key))
    }

    /// The columns of a table that is made for all of its parts. A column may be
    /// null unless every part requires it.
    ///
    /// # Errors
    /// Two parts give a column two types.
    pub fn columns_of(&self, table: &str) -> Result<Vec<Column>, Error> {
        let mut columns: Vec<Column> = Vec::new();
        let parts: Vec<&Part> = self.parts_of(table).collect();
        for column in parts.iter().flat_map(|part| &part.columns) {
            let same = |c: &&Column| c.name.eq_ignore_ascii_case(&column.name);
            match columns.iter().find(same) {
                None => {
                    let has = |part: &&&Part| part.columns.iter().any(|c| same(&c) && c.required);
                    columns.push(Column {
                        required: parts.iter().filter(has).count() == parts.len(),
                        ..column.clone()
                    });
                }
                Some(other) if other.ty == column.ty => {}
                Some(other) => {
                    return Err(Error::spec(format!(
                        "two record types go to the table {}, and its column {} is {} in one and {} \
                         in the other",
                        visible(table.as_bytes()),
                        visible(column.name.as_bytes()),
                        other.ty,
                        column.ty
                    ))
                    .advice("give the column one type, or the record types two tables"));
                }
            }
        }
        Ok(columns)
    }
}

/// A column of the rows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Column {
    /// The table's column.
    pub name: String,
    /// Its type in the spec.
    pub ty: Type,
    /// Whether the spec forbids null.
    pub required: bool,
    /// All values that the spec allows, in the standard notation; empty for any.
    pub one_of: Vec<String>,
}

/// A row that the table would not take.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// Which of the batch's parts the row is of.
    pub part: usize,
    /// The row in that part.
    pub row: u32,
    /// [`Code::DuplicateKey`] or [`Code::Refused`].
    pub code: Code,
    /// The column it is about, where the database says so.
    pub column: Option<String>,
    /// The database's own words, the same for all rows that it refuses for one reason.
    pub words: String,
    /// What it says of this row alone.
    pub detail: Option<String>,
}

/// Puts a batch's rows into a target's own form. The workers do it, so that the
/// thread that talks to the database only sends.
pub type Encoder = Box<dyn Fn(&mut Batch) + Send + Sync>;

/// Batches that are to be taken together, as they come.
pub trait Coming {
    /// Waits for another one; false where all are there.
    fn wait(&mut self) -> bool;

    /// Whether another one is not there after a while: what it comes from is slow.
    fn is_late(&mut self) -> bool {
        false
    }

    /// Those that came, in their order.
    fn come(&self) -> &[Batch];

    /// The next one; none where all are there.
    fn next(&mut self) -> Option<&Batch> {
        match self.wait() {
            true => self.come().last(),
            false => None,
        }
    }

    /// Waits for the rest, and returns all of them.
    fn all(&mut self) -> &[Batch] {
        self.first(usize::MAX)
    }

    /// Waits until so many are there, or all, and returns those that came.
    fn first(&mut self, most: usize) -> &[Batch] {
        while self.come().len() < most && self.wait() {}
        self.come()
    }
}

/// A table that takes another's place.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Swap {
    /// The table.
    pub table: String,
    /// The one that is loaded beside it.
    pub beside: String,
    /// What the old one is called until it is dropped.
    pub old: String,
}

/// How rows are best brought to a server.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Portions {
    /// How many bytes of a file a batch holds.
    pub block_size: usize,
    /// How many batches are taken together, which the server is sent as one.
    pub together: usize,
}

/// A database while a load runs. Dropping it undoes what is not committed.
pub trait Target {
    /// The table as it is; `None` where there is none.
    ///
    /// # Errors
    /// The database cannot be asked, or what has the name is not a table.
    fn describe(&mut self, table: &str) -> Result<Option<Table>, Error>;

    /// What the database says of itself, and what we may do with `tables`.
    ///
    /// # Errors
    /// The database cannot be asked.
    fn about(&mut self, tables: &[&str]) -> Result<About, Error>;

    /// The kind of SQL that the database speaks.
    fn dialect(&self) -> Dialect;

    /// The table's name with its database and schema, so that one table has one name
    /// however it is written. A table that is not there yet is named where it would be
    /// made.
    ///
    /// # Errors
    /// The database cannot be asked.
    fn full_name(&mut self, table: &str) -> Result<String, Error>;

    /// Where a table of the ledger is, by the name that it has: a database has one ledger,
    /// whichever schema the session looks into first.
    ///
    /// # Errors
    /// The database cannot be asked.
    fn ledger_table(&mut self, table: &str) -> Result<String, Error> {
        Ok(table.to_string())
    }

    /// The rows of a query, whose values stand in it as `?`.
    ///
    /// # Errors
    /// The database will not have it. `doing` says what it was for.
    fn ask(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<Vec<Vec<Value>>, Error>;

    /// Runs a statement, whose values stand in it as `?`, and returns how many rows it
    /// changed.
    ///
    /// # Errors
    /// The database will not have it. `doing` says what it was for.
    fn tell(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<u64, Error>;

    /// Takes a lock that no other load can have at the same time, and that is let go
    /// when this target is dropped or its program dies. False where another load has it
    /// and `wait` is false.
    ///
    /// # Errors
    /// The database cannot lock.
    fn claim(&mut self, key: i64, wait: bool) -> Result<bool, Error>;

    /// How long a lock of another session is waited for, from here on.
    ///
    /// # Errors
    /// The database will not have it.
    fn be_patient(&mut self, patience: std::time::Duration) -> Result<(), Error>;

    /// Asks a query whose rows are to leave, in a transaction that only reads, and says
    /// how they are typed. `columns` are those that are wanted, by name, with their types.
    ///
    /// # Errors
    /// The query is wrong, writes, or lacks a column.
    fn ask_out(&mut self, query: &str, columns: &[(String, Type)]) -> Result<Decoder, Error>;

    /// Gives the rows of the query that was asked last, as many at a time as fill a
    /// batch, until `give` says that it wants no more.
    ///
    /// # Errors
    /// The database fails.
    fn give_out(&mut self, give: &mut dyn FnMut(&mut RawRows) -> bool) -> Result<(), Error>;

    /// The columns of a query or a table, with the spec's types where they have one.
    ///
    /// # Errors
    /// The query is wrong.
    fn columns_out(&mut self, query: &str) -> Result<Vec<(String, Type)>, Error>;

    /// Whether a kind of rows could be loaded into a table, as far as is known before.
    ///
    /// # Errors
    /// Everything that would keep them out.
    fn fits(&mut self, mode: Mode, part: &Part, table: &Table) -> Result<(), Error>;

    /// What finds the rows that the tables would refuse, as they are or as they would be
    /// made.
    ///
    /// # Errors
    /// The database cannot be asked, or would not make a table.
    fn foresight(&mut self, job: &Job) -> Result<Foresight, Error>;

    /// Keeps what was done in the transaction so far, such as lines of the ledger, whatever
    /// becomes of the rows that come next.
    ///
    /// # Errors
    /// The database will not have it.
    fn keep_so_far(&mut self) -> Result<(), Error> {
        Ok(())
    }

    /// The tables that take others' places once the load is committed, where the server
    /// commits that by itself.
    fn swaps(&self) -> Vec<Swap> {
        Vec::new()
    }

    /// Puts them into their places, all or none, after [`Target::finish`].
    ///
    /// # Errors
    /// The server could not; the old tables are in their places.
    fn swap(&mut self) -> Result<(), Error> {
        Ok(())
    }

    /// Begins the transaction, and makes or empties the tables as the job says.
    /// Returns how many rows each of [`Job::tables`] had.
    ///
    /// # Errors
    /// A table does not fit the job, or the database will not have it.
    fn begin(&mut self, job: &Job) -> Result<Vec<u64>, Error>;

    /// How rows are best brought, for a server; none where it does not matter.
    fn portions(&self) -> Option<Portions> {
        None
    }

    /// What puts rows into this target's form, once the load has begun.
    fn encoder(&self) -> Encoder;

    /// Loads the good rows of batches, which went through the encoder, and says which of
    /// each batch the table refused. All that came are taken, and those that it did not
    /// wait for are offered again.
    ///
    /// # Errors
    /// Whatever is not the fault of a row.
    fn take(&mut self, coming: &mut dyn Coming) -> Result<Vec<Vec<Refusal>>, Error>;

    /// What became of the rows so far, where they are merged.
    fn merged(&self) -> Option<Merged> {
        None
    }

    /// Marks the place to which [`Target::take_back_file`] goes back.
    ///
    /// # Errors
    /// The database will not have it.
    fn begin_file(&mut self) -> Result<(), Error>;

    /// Takes back everything since [`Target::begin_file`].
    ///
    /// # Errors
    /// The database could not; the load is to be undone.
    fn take_back_file(&mut self) -> Result<(), Error>;

    /// Commits, and begins the next transaction.
    ///
    /// # Errors
    /// The database could not commit; nothing since the last commit is kept.
    fn commit(&mut self) -> Result<(), Error>;

    /// Commits for the last time. Returns how many rows each table has now.
    ///
    /// # Errors
    /// The database could not commit; nothing since the last commit is kept.
    fn finish(&mut self) -> Result<Vec<u64>, Error>;

    /// Undoes everything since the last commit. Returns how many rows each table
    /// has now.
    ///
    /// # Errors
    /// The database cannot be asked.
    fn undo(&mut self) -> Result<Vec<u64>, Error>;
}

/// Opens the database at `url`. `create` says that a new one may be made, for
/// those that are files.
///
/// # Errors
/// It is not there, or not a database.
pub fn open(url: &Url, create: bool) -> Result<Box<dyn Target>, Error> {
    match url {
        Url::Sqlite(path) => Ok(Box::new(sqlite::Sqlite::open(path, create)?)),
        Url::Postgres(server) => Ok(Box::new(postgres::Postgres::open(server)?)),
        Url::MariaDb(server) => Ok(Box::new(mariadb::MariaDb::open(server)?)),
    }
}

/// Whether there is a database at `url`, as far as can be told without asking it.
pub fn is_there(url: &Url) -> bool {
    match url {
        Url::Sqlite(path) => path.exists(),
        Url::Postgres(_) | Url::MariaDb(_) => true,
    }
}

/// What finds the rows that the tables of a database that is still to be made would refuse.
///
/// # Errors
/// None that is known.
pub fn foresight_of_new(url: &Url, job: &Job) -> Result<Foresight, Error> {
    match url {
        Url::Sqlite(_) => sqlite::foresight(job, |_| Ok(None)),
        Url::Postgres(_) | Url::MariaDb(_) => Ok(Foresight::default()),
    }
}

/// Runs SQL that we wrote ourselves, such as the demo's own table.
///
/// # Errors
/// The database will not have it.
pub fn run_script(url: &Url, sql: &str) -> Result<(), Error> {
    match url {
        Url::Sqlite(path) => sqlite::Sqlite::open(path, true)?.script(sql),
        Url::Postgres(server) => postgres::Postgres::open(server)?.script(sql),
        Url::MariaDb(server) => mariadb::MariaDb::open(server)?.script(sql),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(number: usize, table: &str, columns: &[(&str, Type, bool)]) -> Part {
        let column = |(name, ty, required): &(&str, Type, bool)| Column {
            name: (*name).into(),
            ty: *ty,
            required: *required,
            one_of: Vec::new(),
        };
        Part {
            number,
            table: table.into(),
            columns: columns.iter().map(column).collect(),
            key: Vec::new(),
        }
    }

    #[test]
    fn a_table_for_two_kinds_has_the_columns_of_both() {
        let mut job = Job {
            parts: vec![
                part(
                    0,
                    "sales",
                    &[("id", Type::BigInt, true), ("price", Type::Integer, true)],
                ),
                part(
                    1,
                    "Sales",
                    &[("ID", Type::BigInt, true), ("back", Type::Text, true)],
                ),
                part(2, "stalls", &[("id", Type::Text, false)]),
            ],
            mode: Mode::Append,
            create: true,
            tag: Job::new_tag(),
        };
        assert_eq!(job.tables(), ["sales", "Sales", "stalls"]);
        job = job.folded();
        assert_eq!(job.tables(), ["sales", "stalls"]);
        let columns = job.columns_of("sales").unwrap();
        let found: Vec<_> = columns
            .iter()
            .map(|c| (c.name.as_str(), c.required))
            .collect();
        assert_eq!(found, [("id", true), ("price", false), ("back", false)]);
        job.parts[1].columns[0].ty = Type::Text;
        assert!(job.columns_of("sales").is_err());
    }
}
