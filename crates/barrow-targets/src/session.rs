//! What every database does: a session, from which come loads and rows.
//!
//! A [`Session`] answers questions and runs SQL. [`Loads::begin`] makes of it a [`Load`],
//! which has the session to itself until it is committed or rolled back, and then hands it
//! back: so rows cannot come before a load has begun, or after it has ended.
//! [`Session::open_query`] makes of it [`Rows`] on their way out.

use std::time::Duration;

use barrow_core::export::RowBatch;
use barrow_core::types::Type;
use barrow_core::words::Mode;

use crate::cascade::Loss;
use crate::dialect::Dialect;
use crate::encoded::{EncodedBatch, Encoder};
use crate::error::Error;
use crate::foresight::Foresight;
use crate::job::{Job, Refusal};
use crate::merge::Merged;
use crate::query::Query;
use crate::query_rows::RawRows;
use crate::record_table::RecordTable;
use crate::server_info::ServerInfo;
use crate::sql::Value;
use crate::table::Table;

/// How loads begin in a session, and end together. Servers have it in common.
pub trait Loads {
    /// Whether a kind of rows could be loaded into a table, as far as is known before.
    ///
    /// # Errors
    /// Everything that would keep them out, in one error.
    fn fits(&mut self, mode: Mode, part: &RecordTable, table: &Table) -> Result<(), Error>;

    /// What finds the rows that the tables would refuse, as they are or as they would be
    /// made.
    ///
    /// # Errors
    /// The database cannot be asked, or would not make a table.
    fn foresight(&mut self, job: &Job) -> Result<Foresight, Error>;

    /// Begins a load: opens the transaction, and makes or empties the tables as the job
    /// says.
    ///
    /// # Errors
    /// A table does not fit the job, is locked, or the database refuses a statement.
    /// Nothing is left of it, and the session is handed back.
    fn begin<'s>(&'s mut self, job: &Job) -> Result<Box<dyn Load<'s> + 's>, NotBegun<'s>>;

    /// Opens a transaction that several loads share. Those that begin from here on commit
    /// nothing by themselves, and where one is rolled back, all are. On a server that commits a
    /// table which is made at once, the tables that these jobs lack are made first.
    ///
    /// # Errors
    /// A table cannot be made, or another session has a lock.
    fn open_together(&mut self, jobs: &[&Job]) -> Result<(), Error>;

    /// Commits the loads since [`Loads::open_together`].
    ///
    /// # Errors
    /// The database refuses the commit; nothing of them is in the tables.
    fn commit_together(&mut self) -> Result<(), Error>;

    /// Rolls back what is open, if anything is.
    ///
    /// # Errors
    /// The connection is gone.
    fn roll_back(&mut self) -> Result<(), Error>;
}

/// A session with a database. Dropping it rolls back what is not committed.
pub trait Session: Loads {
    /// The kind of SQL that the database speaks.
    fn dialect(&self) -> Dialect;

    /// The table as it is; `None` where there is none.
    ///
    /// # Errors
    /// The database cannot be asked, or what has the name is not a table.
    fn describe(&mut self, table: &str) -> Result<Option<Table>, Error>;

    /// What the database says of itself, and what we may do with `tables`.
    ///
    /// # Errors
    /// The database cannot be asked.
    fn server_info(&mut self, tables: &[&str]) -> Result<ServerInfo, Error>;

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
    /// The database refuses the query. `doing` says what it was for.
    fn query(&mut self, sql: &str, values: &[Value], doing: &str)
    -> Result<Vec<Vec<Value>>, Error>;

    /// Runs a statement, whose values stand in it as `?`, and returns how many rows it
    /// changed.
    ///
    /// # Errors
    /// The database refuses the statement. `doing` says what it was for.
    fn execute(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<u64, Error>;

    /// Runs statements that we wrote ourselves, each ended by a semicolon and a line end.
    ///
    /// # Errors
    /// The database refuses one.
    fn script(&mut self, sql: &str) -> Result<(), Error>;

    /// Takes a lock that no other load can have at the same time. It is released when this
    /// session is dropped or its program dies. False where another load has it and `wait`
    /// is false.
    ///
    /// # Errors
    /// The database cannot lock.
    fn lock(&mut self, key: i64, wait: bool) -> Result<bool, Error>;

    /// How long a lock of another session is waited for, from here on.
    ///
    /// # Errors
    /// The database refuses the setting.
    fn set_patience(&mut self, patience: Duration) -> Result<(), Error>;

    /// Puts the tables that were loaded beside others into their places, all or none, once
    /// their load is committed.
    ///
    /// # Errors
    /// The server could not; the old tables are in their places.
    fn put_in_place(&mut self, swaps: &[Swap]) -> Result<(), Error> {
        let _ = swaps;
        Ok(())
    }

    /// The columns of a query, with the spec's types where they have one.
    ///
    /// # Errors
    /// The query is wrong.
    fn query_columns(&mut self, query: &Query) -> Result<Vec<(String, Type)>, Error>;

    /// Opens a query whose rows are to leave, in a transaction that only reads. `columns`
    /// are those that are wanted, by name, with their types.
    ///
    /// # Errors
    /// The query is wrong, writes, or lacks a column.
    fn open_query<'s>(
        &'s mut self,
        query: &Query,
        columns: &[(String, Type)],
    ) -> Result<OpenQuery<'s>, Error>;
}

/// A session whose load did not begin.
pub struct NotBegun<'s> {
    /// The session, in which nothing is open.
    pub session: &'s mut dyn Session,
    /// Why.
    pub error: Error,
}

/// A load: its transaction is open, and its tables are ready.
pub trait Load<'s> {
    /// The session, to run SQL within the load's transaction.
    fn session(&mut self) -> &mut dyn Session;

    /// How many rows each of [`Job::tables`] had before the load.
    fn rows_before(&self) -> &[u64];

    /// What other tables lost when the tables were emptied.
    fn lost(&self) -> &[Loss] {
        &[]
    }

    /// How rows are best brought, for a server; none where it does not matter.
    fn batching(&self) -> Option<Batching> {
        None
    }

    /// What puts rows into the database's form; to be asked for once.
    fn encoder(&mut self) -> Encoder;

    /// Has the tables' rows counted again in the end: others than this load's own have changed
    /// them in its transaction.
    fn recount(&mut self) {}

    /// Makes what was done in the transaction so far, such as rows of the ledger, stay when rows
    /// that come next are rolled back.
    ///
    /// # Errors
    /// The database refuses the statement.
    fn keep_so_far(&mut self) -> Result<(), Error> {
        Ok(())
    }

    /// Puts tables that were loaded beside others into their places, where that is part of the
    /// transaction: what runs in it from here on finds the new ones.
    ///
    /// # Errors
    /// The database could not; the load is to be rolled back.
    fn settle(&mut self) -> Result<(), Error> {
        Ok(())
    }

    /// Loads the good rows of batches, which went through the encoder, and says which of
    /// each batch the table refused. All that came are taken, and those that it did not
    /// wait for are offered again.
    ///
    /// # Errors
    /// Whatever is not the fault of a row: the connection, the disk, a lock. The load is
    /// to be rolled back.
    fn send(&mut self, batches: &mut dyn BatchSource) -> Result<Vec<Vec<Refusal>>, Error>;

    /// What became of the rows so far, where they are merged.
    fn merged(&self) -> Option<Merged> {
        None
    }

    /// Marks the place to which [`Load::roll_back_file`] goes back.
    ///
    /// # Errors
    /// The database refuses the statement.
    fn begin_file(&mut self) -> Result<(), Error>;

    /// Rolls back everything since [`Load::begin_file`].
    ///
    /// # Errors
    /// The database could not; the load is to be rolled back.
    fn roll_back_file(&mut self) -> Result<(), Error>;

    /// Commits, and begins the next transaction.
    ///
    /// # Errors
    /// The database could not commit; nothing since the last commit is in the table.
    fn commit(&mut self) -> Result<(), Error>;

    /// The tables that are to take others' places after the last commit, where the server
    /// commits that by itself.
    fn swaps(&self) -> Vec<Swap> {
        Vec::new()
    }

    /// Commits for the last time. How many rows each table has now comes with the session.
    ///
    /// # Errors
    /// The database could not commit; nothing since the last commit is in the table.
    fn finish(self: Box<Self>) -> Ended<'s>;

    /// Rolls back everything since the last commit. How many rows each table has now comes
    /// with the session.
    ///
    /// # Errors
    /// The database cannot be asked.
    fn roll_back(self: Box<Self>) -> Ended<'s>;
}

/// A load that has ended: the session, and how many rows each of [`Job::tables`] has now,
/// or why that failed.
pub type Ended<'s> = (&'s mut dyn Session, Result<Vec<u64>, Error>);

/// Batches that are to be sent together, as they come.
pub trait BatchSource {
    /// Waits for another one; false where all are there.
    fn wait(&mut self) -> bool;

    /// Whether another one is not there after a while: what it comes from is slow.
    fn is_late(&mut self) -> bool {
        false
    }

    /// Those that came, in their order.
    fn ready(&self) -> &[EncodedBatch];

    /// The next one; none where all are there.
    fn next(&mut self) -> Option<&EncodedBatch> {
        match self.wait() {
            true => self.ready().last(),
            false => None,
        }
    }

    /// Waits for the rest, and returns all of them.
    fn all(&mut self) -> &[EncodedBatch] {
        self.first(usize::MAX)
    }

    /// Waits until so many are there, or all, and returns those that came.
    fn first(&mut self, most: usize) -> &[EncodedBatch] {
        while self.ready().len() < most && self.wait() {}
        self.ready()
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
pub struct Batching {
    /// How many bytes of a file a batch holds.
    pub block_size: usize,
    /// How many batches are sent together.
    pub batches: usize,
}

/// A query that is open.
pub struct OpenQuery<'s> {
    /// What types the rows; the workers do it.
    pub decoder: Decoder,
    /// The rows.
    pub rows: Box<dyn Rows + 's>,
}

/// Types rows as a database gives them.
pub type Decoder = Box<dyn Fn(&RawRows, &mut RowBatch) + Send + Sync>;

/// Rows on their way out.
pub trait Rows {
    /// Gives the rows, as many at a time as fill a batch, until `give` says that it wants
    /// no more. Where all were given, the session is ready for the next load or query; where
    /// they were not, it is to be closed, for its server goes on sending.
    ///
    /// # Errors
    /// The database fails.
    fn fetch(self: Box<Self>, give: &mut dyn FnMut(&mut RawRows) -> bool) -> Result<(), Error>;
}
