//! What a load needs of a server.

use super::super::loaded_table::LoadedTable;
use super::super::send::{Sender, Sending};
use crate::dialect::Dialect;
use crate::encoded::{EncodedBatch, Encoder};
use crate::error::Error;
use crate::job::Job;
use crate::merge::Statements;
use crate::record_table::{Column, RecordTable};
use crate::session::{BatchSource, Session};
use crate::table::Table;
use barrow_core::words::Mode;

/// A table of a server, with its columns' types as the server has them.
pub trait ServerTable {
    /// The table.
    fn table(&self) -> &Table;

    /// Whether values of the column can be sent to the table's of the same name.
    fn takes(&self, column: &Column) -> bool;

    /// What to do about a column that cannot be, where the table declares it so.
    fn advice(&self, declared: &str) -> &'static str;

    /// Columns whose type has no notion of equality, but for its text.
    fn by_text(&self) -> Vec<String> {
        Vec::new()
    }

    /// Whatever else keeps rows out of it.
    ///
    /// # Errors
    /// The table cannot be loaded in this mode.
    fn can_be_loaded(&self, mode: Mode, part: &RecordTable) -> Result<(), Error>;
}

/// A session with a server, as far as one differs from another.
pub trait ServerSession: Session + Sending<Self::Kind> + Sized {
    /// A table as the server describes it.
    type Found: ServerTable;

    /// What sends one kind of rows.
    type Kind;

    /// How many batches of 256 KiB of a file are sent together.
    const BATCHES: usize;

    /// The server's SQL.
    const DIALECT: Dialect;

    /// Runs SQL without values; several statements where the server takes several.
    ///
    /// # Errors
    /// The server refuses it. `doing` says what it was for.
    fn run(&mut self, sql: &str, doing: &str) -> Result<(), Error>;

    /// The table of this name; none where there is none.
    ///
    /// # Errors
    /// The server cannot be asked, or what has the name is not a table.
    fn find(&mut self, table: &str) -> Result<Option<Self::Found>, Error>;

    /// A table as a load would make it for a part. Nothing is left of it.
    ///
    /// # Errors
    /// The server would not make it.
    fn as_made(&mut self, job: &Job, part: &RecordTable) -> Result<Self::Found, Error>;

    /// Locks a table as sending rows does, and so finds out now whether somebody else has
    /// a lock on it; with `alone` so that nobody else may write.
    ///
    /// # Errors
    /// Another session has the lock.
    fn lock_table(&mut self, name: &str, alone: bool) -> Result<(), Error> {
        let _ = (name, alone);
        Ok(())
    }

    /// Makes the table where rows of a part are staged before they are merged. Its key is
    /// unique, so that rows with the same key are merged one after the other.
    ///
    /// # Errors
    /// The server would not make it.
    fn make_stage(&mut self, part: &RecordTable, stage: &str, table: &str) -> Result<(), Error>;

    /// What sends a part's rows into `destination`, which stands for `found`.
    ///
    /// # Errors
    /// A column cannot be sent, or the server refuses the statement.
    fn kind(
        &mut self,
        part: &RecordTable,
        found: &Self::Found,
        destination: &str,
        merge: Option<Statements>,
    ) -> Result<Self::Kind, Error>;

    /// What encodes a part's rows for a table.
    ///
    /// # Errors
    /// A column cannot be sent.
    fn encoder_of(part: &RecordTable, found: &Self::Found) -> Result<Encoder, Error>;

    /// Opens the savepoint to which rows that are refused go back.
    ///
    /// # Errors
    /// The server refuses the statement.
    fn open_savepoint(&mut self) -> Result<(), Error> {
        self.run("SAVEPOINT barrow", "beginning the transaction")
    }

    /// Keeps the rows since that savepoint.
    ///
    /// # Errors
    /// The server refuses the statement.
    fn keep(&mut self) -> Result<(), Error>;

    /// The batches that are sent now. A server may take the first while the last are still
    /// to come.
    fn receive<'b>(
        &mut self,
        senders: &mut [Sender<Self::Kind>],
        batches: &'b mut dyn BatchSource,
    ) -> &'b [EncodedBatch] {
        let _ = senders;
        batches.all()
    }

    /// Notes that the server broke off what it was sent.
    fn note_broken_off(&mut self) {}

    /// Notes whether a transaction is open.
    fn note_open(&mut self, is_open: bool);

    /// Whether the transaction that is open is that of several loads.
    fn is_together(&self) -> bool;

    /// Notes whether it is.
    fn note_together(&mut self, is_together: bool);

    /// Notes a table that this load has made, or made beside another, on a server that
    /// commits that at once.
    fn note_made(&mut self, made: Made) {
        let _ = made;
    }

    /// Sees to what a commit changes: locks that went with it, tables that are no longer
    /// only this load's.
    ///
    /// # Errors
    /// Another session has a lock.
    fn after_commit(&mut self, tables: &[LoadedTable], is_last: bool) -> Result<(), Error>;

    /// Rolls back the transaction that is open, if one is, and what the server commits at
    /// once.
    ///
    /// # Errors
    /// The connection is gone.
    fn roll_back_open(&mut self) -> Result<(), Error>;
}

/// A table that a load has made.
pub enum Made {
    /// In a place where none was.
    New(String),
    /// Beside another, to take its place.
    Beside(String),
}
