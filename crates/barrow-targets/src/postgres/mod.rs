//! PostgreSQL, by its binary COPY.
//!
//! The workers make the rows' bytes; the sink sends those of some batches in one COPY, as
//! they come, under a savepoint. Rows that the table refuses are taken back with their
//! piece and found out by sending smaller ones ([`crate::isolate`]); where many are
//! refused, the server is asked which ones are suspect.

mod asking;
mod begin;
mod connect;
mod describe;
mod encode;
mod foresee;
mod keys;
mod outflow;
mod passfile;
mod rights;
mod send;
mod suspects;
mod types;
mod words;

use std::sync::Arc;

use barrow_core::flow::Batch;
use barrow_core::types::Type;
use barrow_core::visible::visible;
use barrow_core::words::Mode;
use postgres::Client;

use self::describe::{Described, describe};
use self::encode::Field;
use self::send::Copier;
use self::words::explained;
use crate::asking::Value;
use crate::dialect::Dialect;
use crate::error::Error;
use crate::foresight::unfit_lines;
use crate::merge::Merged;
use crate::outflow::{Decoder, RawRows};
use crate::sending::{self, FileBegin, Loading, Sent};
use crate::server::Server;
use crate::table::Table;
use crate::{About, Coming, Encoder, Foresight, Job, Part, Portions, Refusal, Swap, Target, fit};

const DIALECT: Dialect = Dialect::Postgres;

/// 4 MiB of a file in one COPY, in batches that come as they are typed. At the end of
/// each COPY the server waits for us: with 1 MiB in a batch, each with a COPY of its own,
/// it did so for 4 % of the time, with these for 0.5 %, in half of the memory.
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
    /// Whether the server broke off what it was sent.
    is_broken_off: bool,
    at_file: FileBegin,
    asked: Option<outflow::Asked>,
    /// Where the ledger's tables are, as far as that was asked for.
    ledger: std::collections::HashMap<String, String>,
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
            is_broken_off: false,
            at_file: FileBegin::default(),
            asked: None,
            ledger: std::collections::HashMap::new(),
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

    /// A table as a load would make it. Nothing is left of it.
    fn as_made(&mut self, job: &Job, table: &str) -> Result<Described, Error> {
        let name = job.beside(table);
        let sql = job.create_table_as(table, &name, DIALECT)?;
        self.run("BEGIN", "looking at the table that a load would make")?;
        let made = self
            .run(&sql, "making the table")
            .and_then(|()| self.described(&name));
        self.run("ROLLBACK", "looking at the table that a load would make")?;
        made
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
        for Swap {
            table: name,
            beside,
            ..
        } in sending::swaps(&self.tables)
        {
            let bare = |name: &str| {
                name.split_once('.')
                    .map_or(name.to_string(), |(_, n)| n.into())
            };
            let schema = name.split_once('.').map(|(schema, _)| schema.to_string());
            let index = |name: &str| {
                let name = DIALECT.quoted(&key_name(&bare(name)));
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
                DIALECT.quoted(&key_name(&bare(&name))),
            );
            self.run(&sql, "putting the new table into the old one's place")?;
        }
        Ok(())
    }
}

/// What the server calls the index of a table's key: a name of 63 bytes at the most, of which
/// the table's gives way (makeObjectName, indexcmds.c).
fn key_name(table: &str) -> String {
    let fits = |(at, c): &(usize, char)| at + c.len_utf8() <= 63 - "_pkey".len();
    let short: String = table
        .char_indices()
        .take_while(fits)
        .map(|(_, c)| c)
        .collect();
    format!("{short}_pkey")
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

    fn ledger_table(&mut self, table: &str) -> Result<String, Error> {
        if let Some(name) = self.ledger.get(table) {
            return Ok(name.clone());
        }
        let found = asking::ledger_table(&mut self.client, table)?;
        Ok(match found {
            Some(name) => self.ledger.entry(table.into()).or_insert(name).clone(),
            None => table.to_string(),
        })
    }

    fn ask(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<Vec<Vec<Value>>, Error> {
        let values = asking::holdable(&mut self.client, values)?;
        asking::ask(&mut self.client, sql, &values, doing)
    }

    fn tell(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<u64, Error> {
        let values = asking::holdable(&mut self.client, values)?;
        asking::tell(&mut self.client, sql, &values, doing)
    }

    fn claim(&mut self, key: i64, wait: bool) -> Result<bool, Error> {
        asking::claim(&mut self.client, key, wait)
    }

    fn be_patient(&mut self, patience: std::time::Duration) -> Result<(), Error> {
        let sql = format!("SET lock_timeout = {}", patience.as_millis().max(1));
        self.run(&sql, "connecting")
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

    fn fits(&mut self, mode: Mode, part: &Part, table: &Table) -> Result<(), Error> {
        match describe(&mut self.client, &part.table)? {
            Some(found) => begin::fits(mode, part, &found),
            None => fit::check(part, table),
        }
    }

    fn foresight(&mut self, job: &Job) -> Result<Foresight, Error> {
        let mut foresight = Foresight::default();
        for part in &job.parts {
            let found = match describe(&mut self.client, &part.table)? {
                Some(found) if !job.makes_anew() => found,
                _ if !(job.create || job.makes_anew()) => continue,
                _ => self.as_made(job, &part.table)?,
            };
            let fields = begin::fields(part, &found)?;
            let named = sending::named(part, &found.table);
            let names = named.columns.into_iter().map(|column| column.name);
            let unfit = unfit_lines(part.number, names.collect());
            let number = part.number;
            let encoder = Box::new(move |batch: &mut Batch| send::encode(batch, number, &fields));
            foresight.add(part, &found.table, encoder, unfit);
        }
        Ok(foresight)
    }

    fn keep_so_far(&mut self) -> Result<(), Error> {
        send::keep(&mut self.client)
    }

    fn begin(&mut self, job: &Job) -> Result<Vec<u64>, Error> {
        self.tables.clear();
        self.parts.clear();
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
                send::encode(batch, *number, fields);
            }
        })
    }

    fn take(&mut self, coming: &mut dyn Coming) -> Result<Vec<Vec<Refusal>>, Error> {
        let client = &mut self.client;
        let batches = match &mut self.parts[..] {
            [only] if only.size.is_whole() && only.order.is_none() => {
                only.by.copied = send::stream(client, &only.by.copy, only.number, coming);
                coming.come()
            }
            parts if parts.iter().all(|part| part.size.is_whole()) => coming.all(),
            // The next ones are typed meanwhile.
            _ => coming.first(PORTIONS.together / 2),
        };
        let (parts, tables) = (&mut self.parts, &mut self.tables);
        let taken = sending::take(batches, parts, tables, &mut self.merged, client);
        self.is_broken_off = taken.is_err();
        taken
    }

    fn merged(&self) -> Option<Merged> {
        self.merged
    }

    fn commit(&mut self) -> Result<(), Error> {
        self.run("COMMIT", "committing")?;
        self.run("BEGIN", "beginning the next transaction")?;
        // Between the two, somebody else may have written.
        self.tables.iter_mut().for_each(|table| table.rows = None);
        let names: Vec<String> = self.tables.iter().map(|t| t.name.clone()).collect();
        for name in names {
            self.lock(&name, false)?;
        }
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
            self.is_open = false;
            // A COPY that the server broke off leaves the session between two answers. The
            // server undoes what a session leaves open when it ends.
            if self.is_broken_off || self.run("ROLLBACK", "undoing the load").is_err() {
                self.client = connect::connect(&self.server)?;
                self.is_broken_off = false;
            }
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
