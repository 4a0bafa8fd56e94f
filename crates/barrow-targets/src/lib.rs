//! The databases that rows go into, behind one trait.

pub mod ddl;
pub mod error;
pub mod fit;
pub mod sqlite;
pub mod table;
pub mod url;

use barrow_core::flow::Batch;
use barrow_core::rejects::Code;
use barrow_core::spec::Type;
use barrow_core::spec::plan::Mode;

pub use error::Error;
pub use table::{Table, TableColumn};
pub use url::Url;

/// What is to be loaded, and where.
#[derive(Debug, Clone)]
pub struct Job {
    /// The table's name.
    pub table: String,
    /// The columns of the rows, in their order.
    pub columns: Vec<Column>,
    /// What becomes of the rows that the table has.
    pub mode: Mode,
    /// Whether a missing table is made.
    pub create: bool,
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
}

/// A row that the table would not take.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// The row in the batch.
    pub row: u32,
    /// [`Code::DuplicateKey`] or [`Code::Refused`].
    pub code: Code,
    /// The column it is about, where the database says so.
    pub column: Option<String>,
    /// The database's own words.
    pub words: String,
}

/// Puts a batch's rows into a target's own form. The workers do it, so that the
/// thread that talks to the database only sends.
pub type Encoder = Box<dyn Fn(&mut Batch) + Send + Sync>;

/// A database while a load runs. Dropping it undoes what is not committed.
pub trait Target {
    /// The table as it is; `None` where there is none.
    ///
    /// # Errors
    /// The database cannot be asked, or what has the name is not a table.
    fn describe(&mut self, table: &str) -> Result<Option<Table>, Error>;

    /// Begins the transaction, and makes or empties the table as the job says.
    /// Returns how many rows the table had.
    ///
    /// # Errors
    /// The table does not fit the job, or the database will not have it.
    fn begin(&mut self, job: &Job) -> Result<u64, Error>;

    /// What puts rows into this target's form, once the load has begun.
    fn encoder(&self) -> Encoder;

    /// Loads a batch's good rows, which went through the encoder, and says which the table refused.
    ///
    /// # Errors
    /// Whatever is not the fault of a row.
    fn take(&mut self, batch: &Batch) -> Result<Vec<Refusal>, Error>;

    /// Commits, and begins the next transaction.
    ///
    /// # Errors
    /// The database could not commit; nothing since the last commit is kept.
    fn commit(&mut self) -> Result<(), Error>;

    /// Commits for the last time. Returns how many rows the table has now.
    ///
    /// # Errors
    /// The database could not commit; nothing since the last commit is kept.
    fn finish(&mut self) -> Result<u64, Error>;

    /// Undoes everything since the last commit. Returns how many rows the
    /// table has now.
    ///
    /// # Errors
    /// The database cannot be asked.
    fn undo(&mut self) -> Result<u64, Error>;
}

/// Opens the database at `url`. `create` says that a new one may be made, for
/// those that are files.
///
/// # Errors
/// It is not there, or not a database.
pub fn open(url: &Url, create: bool) -> Result<Box<dyn Target>, Error> {
    match url {
        Url::Sqlite(path) => Ok(Box::new(sqlite::Sqlite::open(path, create)?)),
    }
}

/// Runs SQL that we wrote ourselves, such as the demo's own table.
///
/// # Errors
/// The database will not have it.
pub fn run_script(url: &Url, sql: &str) -> Result<(), Error> {
    match url {
        Url::Sqlite(path) => sqlite::Sqlite::open(path, true)?.script(sql),
    }
}
