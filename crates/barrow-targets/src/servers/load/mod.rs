//! A load into a server, the same for every server: the tables, the transaction, and the
//! savepoints. What a server does in its own way is a method of [`ServerSession`].

mod loads;
mod server;

pub use self::server::{Made, ServerSession, ServerTable};
use barrow_core::escape::escape_for_display;
use barrow_core::words::Mode;

use super::loaded_table::LoadedTable;
use super::send::{self, Sender, named};
use crate::cascade::{self, Deleted, Loss, losses};
use crate::dialect::Dialect;
use crate::encoded::Encoder;
use crate::error::Error;
use crate::fit;
use crate::isolate::PieceSize;
use crate::job::{Job, Refusal};
use crate::merge::{self, Merged, Merging};
use crate::merge_key;
use crate::order::Order;
use crate::record_table::{Column, RecordTable};
use crate::session::{BatchSource, Batching, Ended, Load, Session, Swap};
use crate::shadow_table::shadow_table;
use crate::sql::Value;
use crate::table;

/// A load into a server.
pub struct ServerLoad<'s, S: ServerSession> {
    server: &'s mut S,
    tables: Vec<LoadedTable>,
    senders: Vec<Sender<S::Kind>>,
    encoders: Vec<Encoder>,
    merged: Option<Merged>,
    rows_before: Vec<u64>,
    lost: Vec<Loss>,
    at_file: AtFile,
}

/// What was counted when a file began, to go back to.
#[derive(Default)]
struct AtFile {
    rows: Vec<Option<u64>>,
    merged: Option<Merged>,
}

/// The tables of a load, what sends its kinds of rows, what encodes them, how many rows each
/// table had, and what other tables lost.
struct Ready<K> {
    tables: Vec<LoadedTable>,
    senders: Vec<Sender<K>>,
    encoders: Vec<Encoder>,
    rows_before: Vec<u64>,
    lost: Vec<Loss>,
}

fn ready<S: ServerSession>(server: &mut S, job: &Job) -> Result<Ready<S::Kind>, Error> {
    // Where the server commits a table that is made at once, all are made first.
    let makes_first = !S::DIALECT.has_transactional_ddl();
    if !makes_first {
        open(server)?;
    }
    let mut tables = Vec::new();
    for name in job.tables() {
        tables.push(make_table(server, job, name)?);
    }
    if makes_first {
        open(server)?;
    }
    let (mut senders, mut encoders, mut rows_before) = (Vec::new(), Vec::new(), Vec::new());
    let mut lost = Vec::new();
    let job_tables = job.tables();
    for (place, table) in tables.iter_mut().enumerate() {
        let before = match table.was_there {
            true => count(server, &table.name)?,
            false => 0,
        };
        if job.mode == Mode::Truncate && table.was_there && !job.is_emptied {
            let mut ask =
                |sql: &str, values: &[Value]| server.query(sql, values, "looking for foreign keys");
            let all = Deleted::all_of(&table.name, &job_tables);
            lost.extend(losses(S::DIALECT, &mut ask, all, job.may_cascade)?);
            // TRUNCATE only where it is asked for: others wait for it, or see it before its time.
            let verb = if job.truncates {
                "TRUNCATE TABLE"
            } else {
                "DELETE FROM"
            };
            let sql = format!("{verb} {}", S::DIALECT.table(&table.name));
            server.run(&sql, "emptying the table")?;
            table::is_empty(&table.name, count(server, &table.name)?)?;
        }
        let found = described(server, table.destination())?;
        let stay = match job.mode {
            Mode::Append | Mode::Merge => before,
            Mode::Truncate if job.is_emptied => before,
            Mode::Truncate | Mode::Replace => 0,
        };
        table.rows = (!found.table().triggers).then_some(stay);
        rows_before.push(before);
        for part in job.parts_of(&table.name) {
            senders.push(sender(server, job.mode, part, &found, table, place)?);
            encoders.push(S::encoder_of(part, &found)?);
        }
    }
    // In the order of the batch's parts, so that a record that others name by a foreign
    // key is there before them.
    senders.sort_by_key(|kind| kind.number);
    server.open_savepoint()?;
    Ok(Ready {
        tables,
        senders,
        encoders,
        rows_before,
        lost,
    })
}

fn open<S: ServerSession>(server: &mut S) -> Result<(), Error> {
    if server.is_together() {
        return Ok(());
    }
    server.run("START TRANSACTION", "beginning the transaction")?;
    server.note_open(true);
    Ok(())
}

/// Makes the tables that are missing, where the server commits that at once.
fn made_first<S: ServerSession>(server: &mut S, jobs: &[&Job]) -> Result<(), Error> {
    if S::DIALECT.has_transactional_ddl() {
        return Ok(());
    }
    for job in jobs.iter().filter(|job| job.create) {
        for name in job.tables() {
            if server.find(name)?.is_none() {
                make_table(server, job, name)?;
            }
        }
    }
    Ok(())
}

fn described<S: ServerSession>(server: &mut S, name: &str) -> Result<S::Found, Error> {
    server.find(name)?.ok_or_else(|| {
        Error::new(format!(
            "the table {} was made and is not there",
            escape_for_display(name.as_bytes())
        ))
    })
}

fn count<S: ServerSession>(server: &mut S, table: &str) -> Result<u64, Error> {
    let sql = format!("SELECT COUNT(*) FROM {}", S::DIALECT.table(table));
    let rows = server.query(&sql, &[], "counting the table's rows")?;
    let count = rows.first().and_then(|row| row.first()?.as_count());
    count.ok_or_else(|| Error::new("the server did not count the table's rows"))
}

/// Makes a table that is missing, or that takes another's place; checks one that stays.
fn make_table<S: ServerSession>(
    server: &mut S,
    job: &Job,
    name: &str,
) -> Result<LoadedTable, Error> {
    let mut found = server.find(name)?;
    if found.is_some() && S::DIALECT.has_transactional_ddl() {
        server.lock_table(name, job.mode == Mode::Truncate)?;
        // Another session may have changed it meanwhile.
        found = server.find(name)?;
    }
    let mut table = LoadedTable {
        name: name.to_string(),
        was_there: found.is_some(),
        rows: None,
        beside: None,
    };
    match (found, job.mode) {
        (Some(_), Mode::Replace) => {
            let mut ask =
                |sql: &str, values: &[Value]| server.query(sql, values, "looking for foreign keys");
            cascade::can_be_replaced(S::DIALECT, &mut ask, name)?;
            let beside = job.beside(name);
            let sql = job.create_table_as(name, &beside, S::DIALECT)?;
            server.run(&sql, "making the new table")?;
            server.note_made(Made::Beside(beside.clone()));
            table.beside = Some(beside);
        }
        (Some(found), mode) => {
            for part in job.parts_of(name) {
                fits(S::DIALECT, mode, part, &found)?;
            }
        }
        (None, _) if !job.create => {
            return Err(table::missing(name));
        }
        (None, _) => {
            let sql = job.create_table(name, S::DIALECT)?;
            server.run(&sql, "making the table")?;
            server.note_made(Made::New(name.to_string()));
        }
    }
    Ok(table)
}

/// What sends a part's rows into a table, or to where they are staged.
fn sender<S: ServerSession>(
    server: &mut S,
    mode: Mode,
    part: &RecordTable,
    found: &S::Found,
    table: &LoadedTable,
    place: usize,
) -> Result<Sender<S::Kind>, Error> {
    let named = named(part, found.table());
    let quoted = S::DIALECT.table(table.destination());
    let (destination, merge) = match mode {
        Mode::Merge => {
            let stage = S::DIALECT.quoted(&format!("barrow_stage_{}", part.number));
            let merging = Merging {
                table: &quoted,
                stage: &stage,
                triggers: found.table().triggers,
                unique: &found.table().unique,
                by_text: &found.by_text(),
            };
            let statements = merge::statements(S::DIALECT, &named, merging)?;
            server.make_stage(&named, &stage, &quoted)?;
            (stage, Some(statements))
        }
        _ => (quoted, None),
    };
    Ok(Sender {
        number: part.number,
        table: place,
        names: named.columns.iter().map(|c| c.name.clone()).collect(),
        size: PieceSize::default(),
        order: Order::of(part, found.table()),
        by: server.kind(part, found, &destination, merge)?,
    })
}

fn fits(
    dialect: Dialect,
    mode: Mode,
    part: &RecordTable,
    found: &impl ServerTable,
) -> Result<(), Error> {
    fit::check(part, found.table())?;
    found.can_be_loaded(mode, part)?;
    let misfit = part
        .columns
        .iter()
        .find(|column| found.table().column(&column.name).is_some() && !found.takes(column));
    if let Some(column) = misfit {
        return Err(cannot_send(column, found));
    }
    match mode {
        Mode::Merge => merge_key::check(dialect, part, &found.table().unique),
        Mode::Append | Mode::Truncate | Mode::Replace => Ok(()),
    }
}

/// A column whose values do not go into the table's.
pub fn cannot_send(column: &Column, found: &impl ServerTable) -> Error {
    let declared = found
        .table()
        .column(&column.name)
        .map_or(String::new(), |c| escape_for_display(c.declared.as_bytes()));
    Error::spec(format!(
        "{} is {} in the spec, which does not go into the table's {declared}",
        escape_for_display(column.name.as_bytes()),
        column.ty
    ))
    .advice(found.advice(&declared))
}

/// The tables that take others' places.
fn swaps(tables: &[LoadedTable]) -> Vec<Swap> {
    let swaps = tables.iter().filter_map(|table| {
        Some(Swap {
            table: table.name.clone(),
            beside: table.beside.clone()?,
            old: shadow_table(&table.name, "_barrow_old"),
        })
    });
    swaps.collect()
}

impl<S: ServerSession> ServerLoad<'_, S> {
    /// How many rows each table has.
    fn rows(&mut self) -> Result<Vec<u64>, Error> {
        let rows = self.tables.iter().map(|table| match table.rows {
            Some(rows) => Ok(rows),
            None => count(self.server, table.destination()),
        });
        rows.collect()
    }

    fn end(&mut self) -> Result<Vec<u64>, Error> {
        let rows = self.rows()?;
        self.settle()?;
        if self.server.is_together() {
            return Ok(rows);
        }
        self.server.run("COMMIT", "committing")?;
        self.server.note_open(false);
        self.server.after_commit(&self.tables, true)?;
        Ok(rows)
    }

    fn take_back(&mut self) -> Result<Vec<u64>, Error> {
        self.server.roll_back_open()?;
        let rows = self
            .tables
            .iter()
            .map(|table| match self.server.find(&table.name)? {
                Some(_) => count(self.server, &table.name),
                None => Ok(0),
            });
        rows.collect()
    }
}

impl<'s, S: ServerSession> Load<'s> for ServerLoad<'s, S> {
    fn session(&mut self) -> &mut dyn Session {
        self.server
    }

    fn lost(&self) -> &[Loss] {
        &self.lost
    }

    fn rows_before(&self) -> &[u64] {
        &self.rows_before
    }

    fn batching(&self) -> Option<Batching> {
        Some(Batching {
            block_size: 1 << 18,
            batches: S::BATCHES,
        })
    }

    fn encoder(&mut self) -> Encoder {
        let encoders = std::mem::take(&mut self.encoders);
        Box::new(move |batch| encoders.iter().for_each(|encode| encode(batch)))
    }

    fn keep_so_far(&mut self) -> Result<(), Error> {
        self.server.keep()
    }

    fn settle(&mut self) -> Result<(), Error> {
        if S::DIALECT.has_transactional_ddl() {
            self.server.put_in_place(&swaps(&self.tables))?;
            self.tables.iter_mut().for_each(|table| table.beside = None);
        }
        Ok(())
    }

    fn send(&mut self, batches: &mut dyn BatchSource) -> Result<Vec<Vec<Refusal>>, Error> {
        let batches = self.server.receive(&mut self.senders, batches);
        let sent = send::send(
            batches,
            &mut self.senders,
            &mut self.tables,
            &mut self.merged,
            self.server,
        );
        if sent.is_err() {
            self.server.note_broken_off();
        }
        sent
    }

    fn merged(&self) -> Option<Merged> {
        self.merged
    }

    fn recount(&mut self) {
        self.tables.iter_mut().for_each(|table| table.rows = None);
    }

    fn begin_file(&mut self) -> Result<(), Error> {
        // A savepoint of the same name takes the place of the one before.
        for sql in [
            "RELEASE SAVEPOINT barrow",
            "SAVEPOINT barrow_file",
            "SAVEPOINT barrow",
        ] {
            self.server.run(sql, "beginning a file")?;
        }
        self.at_file = AtFile {
            rows: self.tables.iter().map(|table| table.rows).collect(),
            merged: self.merged,
        };
        Ok(())
    }

    fn roll_back_file(&mut self) -> Result<(), Error> {
        for sql in ["ROLLBACK TO SAVEPOINT barrow_file", "SAVEPOINT barrow"] {
            self.server.run(sql, "taking a file back")?;
        }
        let each = self.tables.iter_mut().zip(&self.at_file.rows);
        each.for_each(|(table, rows)| table.rows = *rows);
        self.merged = self.at_file.merged;
        Ok(())
    }

    fn commit(&mut self) -> Result<(), Error> {
        self.server.run("COMMIT", "committing")?;
        self.server
            .run("START TRANSACTION", "beginning the next transaction")?;
        // Between the two, somebody else may have written.
        self.tables.iter_mut().for_each(|table| table.rows = None);
        self.server.after_commit(&self.tables, false)?;
        self.server.open_savepoint()
    }

    fn swaps(&self) -> Vec<Swap> {
        match S::DIALECT.has_transactional_ddl() {
            true => Vec::new(),
            false => swaps(&self.tables),
        }
    }

    fn finish(mut self: Box<Self>) -> Ended<'s> {
        let rows = self.end();
        (self.server, rows)
    }

    fn roll_back(mut self: Box<Self>) -> Ended<'s> {
        let rows = self.take_back();
        (self.server, rows)
    }
}
