//! A load into SQLite: one transaction, or one for each `commit_every` records.

use barrow_core::escape::escape_for_display;
use barrow_core::words::Mode;

use super::DIALECT;
use super::connect::Sqlite;
use super::describe::{describe, kind_of};
use super::encode;
use super::foresight::fits;
use super::insert::{Inserter, PreparedInserts};
use super::merging::Merger;
use crate::cascade::{Deleted, Loss, losses};
use crate::encoded::{EncodedBatch, Encoder};
use crate::error::Error;
use crate::job::{Job, Refusal};
use crate::merge::Merged;
use crate::merge_key;
use crate::session::{BatchSource, Ended, Load, NotBegun, Session};
use crate::sql::Value;
use crate::table::{self, Table};

/// A load into a SQLite database.
struct SqliteLoad<'s> {
    /// What other tables lost when the tables were emptied.
    lost: Vec<Loss>,
    sqlite: &'s mut Sqlite,
    tables: Vec<LoadedTable>,
    parts: Vec<LoadedPart>,
    merged: Option<Merged>,
    rows_before: Vec<u64>,
    /// What was counted when the file began.
    at_file: Option<(Vec<Option<u64>>, Option<Merged>)>,
}

/// A table that is loaded.
struct LoadedTable {
    name: String,
    /// How many rows the table has, as long as nobody but us changes it: the
    /// transaction keeps others out, and without triggers nothing else does.
    rows: Option<u64>,
}

/// What inserts one kind of rows.
struct LoadedPart {
    number: usize,
    /// The table's place among those of the load.
    table: usize,
    way: Way,
}

/// How rows go into their table.
enum Way {
    /// As they come.
    Insert(Inserter, PreparedInserts),
    /// By their key.
    Merge(Box<Merger>),
}

impl Way {
    fn inserter(&self) -> &Inserter {
        match self {
            Way::Insert(inserter, _) => inserter,
            Way::Merge(merger) => merger.inserter(),
        }
    }
}

/// Begins a load; see [`Session::begin`].
///
/// # Errors
/// As there.
pub fn begin<'s>(
    sqlite: &'s mut Sqlite,
    job: &Job,
) -> Result<Box<dyn Load<'s> + 's>, NotBegun<'s>> {
    match ready(sqlite, job) {
        Ok((tables, parts, rows_before, lost)) => Ok(Box::new(SqliteLoad {
            lost,
            sqlite,
            tables,
            parts,
            merged: (job.mode == Mode::Merge).then(Merged::default),
            rows_before,
            at_file: None,
        })),
        Err(error) => {
            // Why it did not begin is what people want to know.
            let _ = sqlite.roll_back_open();
            Err(NotBegun {
                session: sqlite,
                error,
            })
        }
    }
}

/// The tables of a load, what inserts into them, how many rows each had, and what other tables
/// lost.
type Ready = (Vec<LoadedTable>, Vec<LoadedPart>, Vec<u64>, Vec<Loss>);

fn ready(sqlite: &Sqlite, job: &Job) -> Result<Ready, Error> {
    // At once, and not with the first row: a lock is found before the work.
    if !sqlite.is_together.get() {
        sqlite.run("BEGIN IMMEDIATE", "beginning the transaction")?;
    }
    let (mut tables, mut parts, mut before) = (Vec::new(), Vec::new(), Vec::new());
    let mut lost = Vec::new();
    for name in job.tables() {
        before.push(begin_table(
            sqlite,
            job,
            name,
            &mut tables,
            &mut parts,
            &mut lost,
        )?);
    }
    // In the order of the batch's parts, so that a record that others name
    // by a foreign key is there before them.
    parts.sort_by_key(|part| part.number);
    Ok((tables, parts, before, lost))
}

/// Makes a table ready, and what inserts into it. Returns how many rows it had.
fn begin_table(
    sqlite: &Sqlite,
    job: &Job,
    name: &str,
    tables: &mut Vec<LoadedTable>,
    parts: &mut Vec<LoadedPart>,
    lost: &mut Vec<Loss>,
) -> Result<u64, Error> {
    let found = describe(&sqlite.connection, name)?;
    if let (Some(table), Mode::Append | Mode::Truncate | Mode::Merge) = (&found, job.mode) {
        for part in job.parts_of(name) {
            fits(part, table)?;
        }
    }
    let (table, rows) = ready_table(sqlite, job, name, found, lost)?;
    let stay = match job.mode {
        Mode::Append | Mode::Merge => rows,
        Mode::Truncate if job.is_emptied => rows,
        Mode::Truncate | Mode::Replace => 0,
    };
    for part in job.parts_of(name) {
        parts.push(LoadedPart {
            number: part.number,
            table: tables.len(),
            way: match job.mode {
                Mode::Merge => {
                    merge_key::check(DIALECT, part, &table.unique)?;
                    let merger = Merger::new(&sqlite.connection, part, &table, &table.unique)?;
                    Way::Merge(Box::new(merger))
                }
                _ => Way::Insert(Inserter::new(part, &table), PreparedInserts::default()),
            },
        });
    }
    tables.push(LoadedTable {
        name: name.to_string(),
        rows: (!table.triggers).then_some(stay),
    });
    Ok(rows)
}

/// What other tables lose with the rows of a table.
fn lost_with(sqlite: &Sqlite, job: &Job, name: &str) -> Result<Vec<Loss>, Error> {
    let mut ask = |sql: &str, values: &[Value]| {
        super::sql::query(&sqlite.connection, sql, values, "looking for foreign keys")
    };
    let tables = job.tables();
    let all = Deleted::all_of(name, &tables);
    losses(DIALECT, &mut ask, all, job.may_cascade)
}

/// Makes, empties or replaces a table, as the job says.
fn ready_table(
    sqlite: &Sqlite,
    job: &Job,
    name: &str,
    found: Option<Table>,
    lost: &mut Vec<Loss>,
) -> Result<(Table, u64), Error> {
    let shown = escape_for_display(name.as_bytes());
    let rows = if found.is_some() {
        sqlite.count(name)?
    } else {
        0
    };
    match (found, job.mode) {
        (Some(table), Mode::Append | Mode::Merge) => return Ok((table, rows)),
        (Some(table), Mode::Truncate) => {
            let sql = format!("DELETE FROM {}", DIALECT.quoted(name));
            if !job.is_emptied {
                lost.extend(lost_with(sqlite, job, name)?);
                sqlite.run(&sql, "emptying the table")?;
                table::is_empty(name, sqlite.count(name)?)?;
            }
            return Ok((table, rows));
        }
        (Some(_), Mode::Replace) => {
            // SQLite deletes the rows of a table that it drops ("Foreign Key Support", 5).
            lost.extend(lost_with(sqlite, job, name)?);
            let sql = format!("DROP TABLE {}", DIALECT.quoted(name));
            sqlite.run(&sql, "replacing the table")?;
        }
        (None, _) if !job.create => {
            return Err(table::missing(name));
        }
        (None, _) => {}
    }
    sqlite.run(&job.create_table(name, DIALECT)?, "making the table")?;
    let made = describe(&sqlite.connection, name)?;
    made.map(|table| (table, rows))
        .ok_or_else(|| Error::new(format!("the table {shown} was made and is not there")))
}

impl SqliteLoad<'_> {
    /// How many rows each table has.
    fn rows(&self) -> Result<Vec<u64>, Error> {
        let rows = self.tables.iter().map(|table| match table.rows {
            Some(rows) => Ok(rows),
            None => self.sqlite.count(&table.name),
        });
        rows.collect()
    }

    fn end(&self) -> Result<Vec<u64>, Error> {
        let rows = self.rows()?;
        if !self.sqlite.is_together.get() {
            self.sqlite.run("COMMIT", "committing")?;
        }
        Ok(rows)
    }

    fn take_back(&self) -> Result<Vec<u64>, Error> {
        self.sqlite.roll_back_open()?;
        let rows =
            self.tables.iter().map(
                |table| match kind_of(&self.sqlite.connection, &table.name)? {
                    Some(_) => self.sqlite.count(&table.name),
                    None => Ok(0),
                },
            );
        rows.collect()
    }

    /// Loads a batch's rows, part by part.
    fn send_one(&mut self, batch: &EncodedBatch) -> Result<Vec<Refusal>, Error> {
        let connection = &self.sqlite.connection;
        let mut all = Vec::new();
        for part in &mut self.parts {
            let (refused, more) = match &mut part.way {
                Way::Insert(inserter, statements) => {
                    let refused = inserter.insert(connection, statements, batch)?;
                    let good = batch.parts[part.number].good.len();
                    let more = (good - refused.len()) as u64;
                    (refused, more)
                }
                Way::Merge(merger) => {
                    let (refused, found) = merger.merge(connection, batch)?;
                    self.merged.get_or_insert_default().add(found);
                    (refused, found.new)
                }
            };
            if let Some(rows) = &mut self.tables[part.table].rows {
                *rows += more;
            }
            all.extend(refused);
        }
        Ok(all)
    }
}

impl<'s> Load<'s> for SqliteLoad<'s> {
    fn session(&mut self) -> &mut dyn Session {
        self.sqlite
    }

    fn lost(&self) -> &[Loss] {
        &self.lost
    }

    fn rows_before(&self) -> &[u64] {
        &self.rows_before
    }

    fn encoder(&mut self) -> Encoder {
        let parts: Vec<_> = self
            .parts
            .iter()
            .map(|part| (part.number, part.way.inserter().encodings()))
            .collect();
        Box::new(move |batch| {
            for (number, columns) in &parts {
                encode::encode(columns, *number, batch);
            }
        })
    }

    fn send(&mut self, batches: &mut dyn BatchSource) -> Result<Vec<Vec<Refusal>>, Error> {
        let mut refused = Vec::new();
        while let Some(batch) = batches.next() {
            refused.push(self.send_one(batch)?);
        }
        Ok(refused)
    }

    fn merged(&self) -> Option<Merged> {
        self.merged
    }

    fn recount(&mut self) {
        self.tables.iter_mut().for_each(|table| table.rows = None);
    }

    fn begin_file(&mut self) -> Result<(), Error> {
        let sql = match self.at_file {
            Some(_) => "RELEASE barrow_file; SAVEPOINT barrow_file",
            None => "SAVEPOINT barrow_file",
        };
        self.sqlite.run(sql, "beginning a file")?;
        let rows = self.tables.iter().map(|table| table.rows).collect();
        self.at_file = Some((rows, self.merged));
        Ok(())
    }

    fn roll_back_file(&mut self) -> Result<(), Error> {
        self.sqlite
            .run("ROLLBACK TO barrow_file", "taking a file back")?;
        if let Some((rows, merged)) = &self.at_file {
            let tables = self.tables.iter_mut().zip(rows);
            tables.for_each(|(table, rows)| table.rows = *rows);
            self.merged = *merged;
        }
        Ok(())
    }

    fn commit(&mut self) -> Result<(), Error> {
        self.sqlite.run("COMMIT", "committing")?;
        self.sqlite
            .run("BEGIN IMMEDIATE", "beginning the next transaction")?;
        // Between the two, somebody else may have written.
        self.tables.iter_mut().for_each(|table| table.rows = None);
        Ok(())
    }

    fn finish(self: Box<Self>) -> Ended<'s> {
        let rows = self.end();
        (self.sqlite, rows)
    }

    fn roll_back(self: Box<Self>) -> Ended<'s> {
        let rows = self.take_back();
        (self.sqlite, rows)
    }
}
