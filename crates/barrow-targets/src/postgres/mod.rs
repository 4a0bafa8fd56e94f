//! PostgreSQL, by its binary COPY.
//!
//! The workers make the rows' bytes; the sink sends those of a batch in one COPY, under
//! a savepoint. Rows that the table refuses are taken back with their piece and found
//! out by sending smaller ones ([`crate::isolate`]).

mod asking;
mod connect;
mod describe;
mod encode;
mod outflow;
mod passfile;
mod rights;
mod types;
mod words;

use std::io::{self, Write};
use std::ops::Range;
use std::sync::Arc;

use barrow_core::flow::Batch;
use barrow_core::rejects::Code;
use barrow_core::spec::Type;
use barrow_core::spec::plan::Mode;
use barrow_core::visible::visible;
use postgres::{Client, CopyInWriter, Statement};

use self::describe::{Described, describe};
use self::encode::Field;
use self::words::{explained, refused};
use crate::asking::Value;
use crate::dialect::Dialect;
use crate::error::Error;
use crate::isolate::{PieceSize, Refused, Tried};
use crate::lines::{self, Run};
use crate::merge::{self, Merged};
use crate::outflow::{Decoder, RawRows};
use crate::sending::{self, FileBegin, Loading, Sent};
use crate::server::Server;
use crate::table::Table;
use crate::{About, Coming, Encoder, Job, Part, Portions, Refusal, Target, fit, unique};

const DIALECT: Dialect = Dialect::Postgres;

/// What a binary COPY starts with: its signature, no flags, no extension.
const HEADER: &[u8] = b"PGCOPY\n\xFF\r\n\0\0\0\0\0\0\0\0\0";

/// And what it ends with.
const TRAILER: &[u8] = &(-1i16).to_be_bytes();

/// Bytes that are sent at once: the server starts on the first while the last are
/// still on their way, and keeps what it reads near. With 64 KiB a load took 1.01 of the
/// time that one COPY of the same rows takes, with these 0.94 (medians of 8 pairs in one
/// run).
const CHUNK: usize = 16 * 1024;

/// 4 MiB of a file in one COPY, in batches that come as they are typed. At the end of
/// each COPY the server waits for us: with 1 MiB in a batch, each with a COPY of its own,
/// it did so for 4 % of the time, with these for 0.5 %, and the memory was twice as much.
const PORTIONS: Portions = Portions {
    block_size: 1 << 18,
    together: 16,
};

/// A PostgreSQL database.
pub struct Postgres {
    client: Client,
    server: Server,
    tables: Vec<Loading>,
    parts: Vec<Sent<Copier>>,
    merged: Option<Merged>,
    is_open: bool,
    at_file: FileBegin,
    asked: Option<outflow::Asked>,
}

/// What sends one kind of rows.
struct Copier {
    fields: Arc<[Field]>,
    copy: Statement,
    /// The statements that merge, where that is the mode.
    merge: Option<merge::Statements>,
}

impl Postgres {
    /// Connects to the server.
    ///
    /// # Errors
    /// It cannot be reached, or will not have us.
    pub fn open(server: &Server) -> Result<Postgres, Error> {
        Ok(Postgres {
            client: connect::connect(server)?,
            server: server.clone(),
            tables: Vec::new(),
            parts: Vec::new(),
            merged: None,
            is_open: false,
            at_file: FileBegin::default(),
            asked: None,
        })
    }

    /// Runs SQL that we wrote ourselves.
    ///
    /// # Errors
    /// The database will not have it.
    pub fn script(&mut self, sql: &str) -> Result<(), Error> {
        self.run(sql, "running SQL")
    }

    fn run(&mut self, sql: &str, doing: &str) -> Result<(), Error> {
        self.client
            .batch_execute(sql)
            .map_err(|e| explained(&e, doing))
    }

    fn count(&mut self, table: &str) -> Result<u64, Error> {
        let sql = format!("SELECT count(*) FROM {}", DIALECT.table(table));
        let row = self
            .client
            .query_one(&sql, &[])
            .map_err(|e| explained(&e, "counting the table's rows"))?;
        Ok(row.get::<_, i64>(0) as u64)
    }

    fn described(&mut self, name: &str) -> Result<Described, Error> {
        describe(&mut self.client, name)?.ok_or_else(|| {
            Error::new(format!(
                "the table {} was made and is not there",
                visible(name.as_bytes())
            ))
        })
    }

    /// Makes a table ready. Returns how many rows it had.
    fn begin_table(&mut self, job: &Job, name: &str) -> Result<u64, Error> {
        let found = describe(&mut self.client, name)?;
        let before = match found {
            Some(_) => self.count(name)?,
            None => 0,
        };
        let mut beside = None;
        let found = match (found, job.mode) {
            (Some(found), Mode::Replace) => {
                let made = sending::beside(name, "_barrow_new");
                let sql = job.create_table_as(name, &made, DIALECT)?;
                self.run(&sql, "making the table anew")?;
                beside = Some(made.clone());
                drop(found);
                self.described(&made)?
            }
            (Some(found), mode) => {
                for part in job.parts_of(name) {
                    fits(part, &found)?;
                    if mode == Mode::Merge {
                        unique::check(part, &found.unique)?;
                    }
                }
                if mode == Mode::Truncate {
                    // Not TRUNCATE, which shows others an empty table before its time
                    // ("Caveats" of concurrency control, section 13.6).
                    let sql = format!("DELETE FROM {}", DIALECT.table(name));
                    self.run(&sql, "emptying the table")?;
                }
                found
            }
            (None, _) if !job.create => {
                return Err(
                    Error::spec(format!("there is no table {}", visible(name.as_bytes())))
                        .advice("say [target] create = true to have it made from the spec"),
                );
            }
            (None, _) => {
                let sql = job.create_table(name, DIALECT)?;
                self.run(&sql, "making the table")?;
                self.described(name)?
            }
        };
        let kept = match job.mode {
            Mode::Append | Mode::Merge => before,
            Mode::Truncate | Mode::Replace => 0,
        };
        let into = beside.clone().unwrap_or_else(|| name.to_string());
        for part in job.parts_of(name) {
            let copier = self.copier(job.mode, part, &found, &into)?;
            self.parts.push(copier);
        }
        self.tables.push(Loading {
            name: name.to_string(),
            rows: (!found.table.triggers).then_some(kept),
            beside,
            is_made: false,
        });
        Ok(before)
    }

    fn copier(
        &mut self,
        mode: Mode,
        part: &Part,
        found: &Described,
        into: &str,
    ) -> Result<Sent<Copier>, Error> {
        let named = sending::named(part, &found.table);
        let names: Vec<String> = named.columns.iter().map(|c| c.name.clone()).collect();
        let quoted: Vec<String> = names.iter().map(|name| DIALECT.quoted(name)).collect();
        let list = quoted.join(", ");
        let table = DIALECT.table(into);
        let (put_into, merge) = match mode {
            Mode::Merge => {
                let stage = DIALECT.quoted(&format!("barrow_stage_{}", part.number));
                let statements =
                    merge::statements(DIALECT, &table, &stage, &named, found.table.triggers)?;
                self.stage(part, &stage, &table, &list)?;
                (stage, Some(statements))
            }
            _ => (table, None),
        };
        let copy = format!("COPY {put_into} ({list}) FROM STDIN (FORMAT binary)");
        let fields = part.columns.iter().map(|column| {
            let wire = found.declared(&column.name).and_then(|d| d.wire(column.ty));
            wire.map(|wire| Field::new(column.ty, wire))
                .ok_or_else(|| cannot_send(column, found))
        });
        let by = Copier {
            fields: fields.collect::<Result<_, _>>()?,
            copy: self
                .client
                .prepare(&copy)
                .map_err(|e| explained(&e, "preparing to send rows"))?,
            merge,
        };
        Ok(Sent {
            number: part.number,
            table: self.tables.len(),
            names,
            size: PieceSize::default(),
            by,
        })
    }

    /// Makes the table where rows are put down before they are merged. Its key is
    /// unique, so that rows with the same key are merged one after the other. Each of
    /// them is to be looked for by the table's index: else the server may well read the
    /// whole table for each batch.
    fn stage(&mut self, part: &Part, stage: &str, table: &str, list: &str) -> Result<(), Error> {
        let keys: Vec<String> = part.key.iter().map(|name| DIALECT.quoted(name)).collect();
        let sql = format!(
            "SET enable_hashjoin = off; SET enable_mergejoin = off; \
             DROP TABLE IF EXISTS pg_temp.{stage}; \
             CREATE TEMPORARY TABLE {stage} AS SELECT {list} FROM {table} WITH NO DATA; \
             CREATE UNIQUE INDEX ON {stage} ({})",
            keys.join(", ")
        );
        self.run(&sql, "making room for rows to merge")
    }

    /// How many rows each table of the load has.
    fn rows(&mut self) -> Result<Vec<u64>, Error> {
        let tables: Vec<(String, Option<u64>)> =
            self.tables.iter().map(|t| (t.filled(), t.rows)).collect();
        let rows = tables.iter().map(|(name, rows)| match rows {
            Some(rows) => Ok(*rows),
            None => self.count(name),
        });
        rows.collect()
    }

    /// Puts the tables that were made beside others into their places.
    fn swap(&mut self) -> Result<(), Error> {
        for (name, beside) in sending::swaps(&self.tables) {
            let bare = |name: &str| {
                name.split_once('.')
                    .map_or(name.to_string(), |(_, n)| n.into())
            };
            let schema = name.split_once('.').map(|(schema, _)| schema.to_string());
            let index = |name: &str| {
                let name = DIALECT.quoted(&format!("{}_pkey", bare(name)));
                match &schema {
                    Some(schema) => format!("{}.{name}", DIALECT.quoted(schema)),
                    None => name,
                }
            };
            let sql = format!(
                "DROP TABLE {0}; ALTER TABLE {1} RENAME TO {2}; \
                 ALTER INDEX IF EXISTS {3} RENAME TO {4}",
                DIALECT.table(&name),
                DIALECT.table(&beside),
                DIALECT.quoted(&bare(&name)),
                index(&beside),
                DIALECT.quoted(&format!("{}_pkey", bare(&name))),
            );
            self.run(&sql, "putting the new table into the old one's place")?;
        }
        Ok(())
    }
}

fn cannot_send(column: &crate::Column, found: &Described) -> Error {
    let declared = found
        .table
        .column(&column.name)
        .map_or(String::new(), |c| visible(c.declared.as_bytes()));
    let failed = Error::spec(format!(
        "{} is {} in the spec, which does not go into the table's {declared}",
        visible(column.name.as_bytes()),
        column.ty
    ));
    match declared.as_str() {
        "timestamp with time zone" => failed.advice("say timestamptz in the spec"),
        "timestamp without time zone" => failed.advice("say timestamp in the spec"),
        _ => failed.advice("give the column the table's type in the spec, or change the table"),
    }
}

fn fits(part: &Part, found: &Described) -> Result<(), Error> {
    fit::check(part, &found.table)?;
    for column in &part.columns {
        if let Some(declared) = found.declared(&column.name)
            && declared.wire(column.ty).is_none()
        {
            return Err(cannot_send(column, found));
        }
    }
    Ok(())
}

/// Sends some rows, under the savepoint that stands: all of them, or none. `copied` is
/// what came of it where they were sent already.
fn send(
    client: &mut Client,
    copier: &Copier,
    copied: Option<Copied>,
    lines: &Run<'_>,
    places: Range<usize>,
    merged: &mut Merged,
) -> Result<Tried, Error> {
    let (bytes, count) = lines.rows(places.clone());
    if count == 0 {
        return Ok(Tried::Done);
    }
    let copied = copied.unwrap_or_else(|| copy(client, &copier.copy, &bytes));
    let sent = copied.and_then(|copied| match &copier.merge {
        None => Ok((copied, Merged::default())),
        Some(statements) => run_merge(client, statements, copied),
    });
    let why = match sent {
        Ok((copied, found)) if copied == count => {
            client
                .batch_execute("RELEASE barrow; SAVEPOINT barrow")
                .map_err(|e| explained(&e, "loading rows"))?;
            merged.add(found);
            return Ok(Tried::Done);
        }
        Ok(_) => Refused {
            at: None,
            is_certain: false,
            code: Code::Refused,
            column: None,
            words: merge::PASSED_OVER.into(),
            detail: None,
        },
        Err(error) => {
            let why = error.as_db_error().and_then(refused);
            why.ok_or_else(|| explained(&error, "loading rows"))?
        }
    };
    client
        .batch_execute("ROLLBACK TO barrow")
        .map_err(|e| explained(&e, "taking rows back"))?;
    // A row that was only put down twice goes in once it comes alone.
    let at = why.at.filter(|_| copier.merge.is_none());
    let at = at.and_then(|at| lines.sent(places.clone(), at));
    Ok(Tried::Refused(Refused {
        at: at.map(|place| place - places.start),
        ..why
    }))
}

/// How many rows the server took, or why it took none.
type Copied = Result<u64, postgres::Error>;

/// Copies rows as they come, so that the server has the first while the last are still
/// typed. Nothing where there are none.
fn stream(
    client: &mut Client,
    statement: &Statement,
    part: usize,
    coming: &mut dyn Coming,
) -> Option<Copied> {
    while lines::bytes(coming.next()?, part).is_empty() {}
    let mut writer = match client.copy_in(statement) {
        Ok(writer) => writer,
        Err(error) => return Some(Err(error)),
    };
    let written = writer.write_all(HEADER).and_then(|()| {
        loop {
            if let Some(batch) = coming.come().last() {
                put(&mut writer, lines::bytes(batch, part))?;
            }
            if !coming.wait() {
                return writer.write_all(TRAILER);
            }
        }
    });
    Some(finish(writer, written))
}

/// Copies rows.
fn copy(client: &mut Client, statement: &Statement, bytes: &[&[u8]]) -> Copied {
    let mut writer = client.copy_in(statement)?;
    let written = writer.write_all(HEADER).and_then(|()| {
        bytes.iter().try_for_each(|bytes| put(&mut writer, bytes))?;
        writer.write_all(TRAILER)
    });
    finish(writer, written)
}

fn put(writer: &mut CopyInWriter<'_>, bytes: &[u8]) -> io::Result<()> {
    bytes
        .chunks(CHUNK)
        .try_for_each(|chunk| writer.write_all(chunk))
}

fn finish(writer: CopyInWriter<'_>, written: io::Result<()>) -> Copied {
    match written {
        Ok(()) => writer.finish(),
        // What stopped the writing is told at the end.
        Err(error) => match inner(error) {
            Some(error) => Err(error),
            None => writer.finish(),
        },
    }
}

fn inner(error: io::Error) -> Option<postgres::Error> {
    let inner = error.into_inner()?;
    inner.downcast::<postgres::Error>().ok().map(|error| *error)
}

/// Merges the rows that were put down, and returns how many of them are in the table.
fn run_merge(
    client: &mut Client,
    statements: &merge::Statements,
    count: u64,
) -> Result<(u64, Merged), postgres::Error> {
    let changed = match &statements.update {
        Some(update) => client.execute(update.as_str(), &[])?,
        None => 0,
    };
    let new = client.execute(statements.insert.as_str(), &[])?;
    let lost = match &statements.lost {
        Some(lost) => client.query_one(lost.as_str(), &[])?.get::<_, i64>(0) as u64,
        None => 0,
    };
    client.batch_execute(&statements.clear)?;
    let merged = Merged::of(count, new, changed);
    Ok((count.saturating_sub(lost), merged))
}

impl Target for Postgres {
    fn describe(&mut self, table: &str) -> Result<Option<Table>, Error> {
        Ok(describe(&mut self.client, table)?.map(|found| found.table))
    }

    fn about(&mut self, tables: &[&str]) -> Result<About, Error> {
        rights::about(&mut self.client, tables)
    }

    fn dialect(&self) -> Dialect {
        DIALECT
    }

    fn full_name(&mut self, table: &str) -> Result<String, Error> {
        let (schema, name) = match table.split_once('.') {
            Some((schema, name)) => (Value::from(schema), name),
            None => (Value::Null, table),
        };
        let sql = "SELECT COALESCE(CAST(? AS text), (SELECT n.nspname::text FROM pg_class c JOIN pg_namespace n \
                   ON n.oid = c.relnamespace WHERE c.oid = to_regclass(CAST(? AS text))), current_schema()::text, '')";
        let quoted = Value::from(DIALECT.table(table));
        let found = self.ask(sql, &[schema, quoted], "looking for the table")?;
        let schema = found
            .first()
            .and_then(|row| row[0].as_text())
            .unwrap_or_default();
        Ok(format!("{schema}.{name}"))
    }

    fn ask(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<Vec<Vec<Value>>, Error> {
        asking::ask(&mut self.client, sql, values, doing)
    }

    fn tell(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<u64, Error> {
        asking::tell(&mut self.client, sql, values, doing)
    }

    fn claim(&mut self, key: i64, wait: bool) -> Result<bool, Error> {
        asking::claim(&mut self.client, key, wait)
    }

    fn begin_file(&mut self) -> Result<(), Error> {
        // A savepoint of the same name takes the place of the one before.
        self.run("RELEASE barrow", "beginning a file")?;
        self.run("SAVEPOINT barrow_file", "beginning a file")?;
        self.run("SAVEPOINT barrow", "beginning a file")?;
        self.at_file = FileBegin::of(&self.tables, self.merged);
        Ok(())
    }

    fn take_back_file(&mut self) -> Result<(), Error> {
        self.run("ROLLBACK TO barrow_file", "taking a file back")?;
        self.run("SAVEPOINT barrow", "taking a file back")?;
        self.merged = self.at_file.go_back(&mut self.tables);
        Ok(())
    }

    fn ask_out(&mut self, query: &str, columns: &[(String, Type)]) -> Result<Decoder, Error> {
        let (asked, decoder) = outflow::ask(&mut self.client, query, columns)?;
        self.asked = Some(asked);
        Ok(decoder)
    }

    fn give_out(&mut self, give: &mut dyn FnMut(&mut RawRows) -> bool) -> Result<(), Error> {
        match &self.asked {
            Some(asked) => outflow::give(&mut self.client, asked, give),
            None => Err(Error::new("rows were asked for without a query")),
        }
    }

    fn columns_out(&mut self, query: &str) -> Result<Vec<(String, Type)>, Error> {
        outflow::columns(&mut self.client, query)
    }

    fn fits(&mut self, part: &Part, table: &Table) -> Result<(), Error> {
        match describe(&mut self.client, &part.table)? {
            Some(found) => fits(part, &found),
            None => fit::check(part, table),
        }
    }

    fn begin(&mut self, job: &Job) -> Result<Vec<u64>, Error> {
        self.run("BEGIN", "beginning the transaction")?;
        self.is_open = true;
        let mut before = Vec::new();
        for table in job.tables() {
            before.push(self.begin_table(job, table)?);
        }
        // In the order of the batch's parts, so that a record that others name by a
        // foreign key is there before them.
        self.parts.sort_by_key(|part| part.number);
        self.merged = (job.mode == Mode::Merge).then(Merged::default);
        self.open_savepoint()?;
        Ok(before)
    }

    fn portions(&self) -> Option<Portions> {
        Some(PORTIONS)
    }

    fn encoder(&self) -> Encoder {
        let parts: Vec<(usize, Arc<[Field]>)> = self
            .parts
            .iter()
            .map(|part| (part.number, part.by.fields.clone()))
            .collect();
        Box::new(move |batch| {
            for (number, fields) in &parts {
                encode_part(batch, *number, fields);
            }
        })
    }

    fn take(&mut self, coming: &mut dyn Coming) -> Result<Vec<Vec<Refusal>>, Error> {
        let client = &mut self.client;
        let mut copied = match &self.parts[..] {
            [only] if only.size.is_whole() => stream(client, &only.by.copy, only.number, coming),
            _ => None,
        };
        let mut try_rows = |copier: &Copier, lines: &Run<'_>, places, merged: &mut Merged| {
            send(client, copier, copied.take(), lines, places, merged)
        };
        let (parts, tables) = (&mut self.parts, &mut self.tables);
        sending::take(coming.all(), parts, tables, &mut self.merged, &mut try_rows)
    }

    fn merged(&self) -> Option<Merged> {
        self.merged
    }

    fn commit(&mut self) -> Result<(), Error> {
        self.run("COMMIT", "committing")?;
        self.run("BEGIN", "beginning the next transaction")?;
        // Between the two, somebody else may have written.
        self.tables.iter_mut().for_each(|table| table.rows = None);
        self.open_savepoint()
    }

    fn finish(&mut self) -> Result<Vec<u64>, Error> {
        let rows = self.rows()?;
        self.swap()?;
        self.run("COMMIT", "committing")?;
        self.is_open = false;
        Ok(rows)
    }

    fn undo(&mut self) -> Result<Vec<u64>, Error> {
        if self.client.is_closed() {
            // The server undoes by itself what it has lost the connection to.
            let gone = format!("the connection to {} is gone", self.server);
            return Err(
                Error::new(gone).advice("the server undoes by itself what was not committed")
            );
        }
        if self.is_open {
            self.run("ROLLBACK", "undoing the load")?;
            self.is_open = false;
        }
        let names: Vec<String> = self.tables.iter().map(|t| t.name.clone()).collect();
        let rows = names
            .iter()
            .map(|name| match describe(&mut self.client, name)? {
                Some(_) => self.count(name),
                None => Ok(0),
            });
        rows.collect()
    }
}

impl Postgres {
    /// From here on rows are sent in pieces that can be taken back. Constraints are
    /// checked with each piece, also those that would wait for the commit: then it
    /// is known which rows they refuse.
    fn open_savepoint(&mut self) -> Result<(), Error> {
        self.run(
            "SET CONSTRAINTS ALL IMMEDIATE; SAVEPOINT barrow",
            "beginning the transaction",
        )
    }
}

fn encode_part(batch: &mut Batch, number: usize, fields: &[Field]) {
    let count = (fields.len() as i16).to_be_bytes();
    lines::encode(batch, number, |batch, row, out| {
        let rows = &batch.parts[number];
        out.extend_from_slice(&count);
        for (column, field) in fields.iter().enumerate() {
            let cell = rows.cell(column, row);
            field
                .put(cell, &batch.block.bytes, &rows.store, out)
                .map_err(|fault| (column, fault))?;
        }
        Ok(())
    });
}
