//! MariaDB and MySQL, by the server's own bulk statement.
//!
//! The workers write the rows as lines; the sink sends those of some batches as local data,
//! under a savepoint. Of local data the server turns errors into warnings, passes over
//! rows and bends values, all in silence ("LOAD DATA INFILE", error handling): so a
//! piece counts only if every row went in and there is no warning, and is taken back
//! otherwise. The rows that the table refuses are found out by sending smaller pieces
//! ([`crate::isolate`]).

mod asking;
mod begin;
mod connect;
mod describe;
mod encode;
mod outflow;
mod rights;
mod send;
mod types;
mod warnings;
mod words;

use std::io::Write;
use std::sync::{Arc, Mutex};

use barrow_core::flow::Batch;
use barrow_core::types::Type;
use barrow_core::visible::visible;
use barrow_core::words::Mode;
use mysql::prelude::Queryable;
use mysql::{Conn, LocalInfileHandler};

use self::describe::{Described, describe};
use self::encode::Field;
use self::send::{Link, Sender};
use self::words::explained;
use crate::asking::Value;
use crate::dialect::Dialect;
use crate::error::Error;
use crate::foresight::unfit_lines;
use crate::lines::Bytes;
use crate::merge::Merged;
use crate::outflow::{Decoder, RawRows};
use crate::sending::{self, FileBegin, Loading, Sent};
use crate::server::Server;
use crate::table::Table;
use crate::{About, Coming, Encoder, Foresight, Job, Part, Portions, Refusal, Swap, Target, fit};

const DIALECT: Dialect = Dialect::MariaDb;

/// 2 MiB of a file in one statement: between two of them the server waits for three round
/// trips. So many batches lie typed while the ones before them are with the server.
const PORTIONS: Portions = Portions {
    block_size: 1 << 18,
    together: 8,
};

/// A MariaDB or MySQL database.
pub struct MariaDb {
    conn: Conn,
    /// The lines that the server is about to ask for.
    outgoing: Arc<Mutex<Vec<Bytes>>>,
    tables: Vec<Loading>,
    parts: Vec<Sent<Sender>>,
    merged: Option<Merged>,
    is_open: bool,
    at_file: FileBegin,
    asked: Option<outflow::Asked>,
}

impl MariaDb {
    /// Connects to the server.
    ///
    /// # Errors
    /// It cannot be reached, or will not have us.
    pub fn open(server: &Server) -> Result<MariaDb, Error> {
        let mut conn = connect::connect(server)?;
        let outgoing = Arc::new(Mutex::new(Vec::<Bytes>::new()));
        let lines = outgoing.clone();
        // Only what lies ready is ever sent, and once, whatever file the server asks for.
        let handler = LocalInfileHandler::new(move |_, stream| match lines.lock() {
            Ok(mut lines) => std::mem::take(&mut *lines)
                .iter()
                .try_for_each(|bytes| stream.write_all(bytes)),
            Err(_) => Err(std::io::Error::other("the rows are not ready")),
        });
        conn.set_local_infile_handler(Some(handler));
        Ok(MariaDb {
            conn,
            outgoing,
            tables: Vec::new(),
            parts: Vec::new(),
            merged: None,
            is_open: false,
            at_file: FileBegin::default(),
            asked: None,
        })
    }

    /// Runs SQL that we wrote ourselves, each statement ended by a semicolon and a
    /// line end.
    ///
    /// # Errors
    /// The database will not have it.
    pub fn script(&mut self, sql: &str) -> Result<(), Error> {
        let statements = sql.split(";\n").map(|one| one.trim().trim_end_matches(';'));
        for statement in statements.filter(|one| !one.is_empty()) {
            self.run(statement, "running SQL")?;
        }
        Ok(())
    }

    fn run(&mut self, sql: &str, doing: &str) -> Result<(), Error> {
        self.conn.query_drop(sql).map_err(|e| explained(&e, doing))
    }

    fn count(&mut self, table: &str) -> Result<u64, Error> {
        let sql = format!("SELECT COUNT(*) FROM {}", DIALECT.table(table));
        let count: Option<u64> = self
            .conn
            .query_first(sql)
            .map_err(|e| explained(&e, "counting the table's rows"))?;
        Ok(count.unwrap_or(0))
    }

    fn described(&mut self, name: &str) -> Result<Described, Error> {
        describe(&mut self.conn, name)?.ok_or_else(|| {
            Error::new(format!(
                "the table {} was made and is not there",
                visible(name.as_bytes())
            ))
        })
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

    /// Puts the tables that were made beside others into their places, all in one
    /// statement, which the server does as a whole or not at all.
    fn put_in_place(&mut self) -> Result<(), Error> {
        let doing = "putting the new table into the old one's place";
        let swaps = sending::swaps(&self.tables);
        if swaps.is_empty() {
            return Ok(());
        }
        let named = |swap: &Swap| {
            let names = [&swap.table, &swap.beside, &swap.old];
            names.map(|name| DIALECT.table(name))
        };
        for swap in &swaps {
            let [_, _, old] = named(swap);
            self.run(&format!("DROP TABLE IF EXISTS {old}"), doing)?;
        }
        let renames = swaps.iter().map(|swap| {
            let [name, beside, old] = named(swap);
            format!("{name} TO {old}, {beside} TO {name}")
        });
        let renames: Vec<String> = renames.collect();
        self.run(&format!("RENAME TABLE {}", renames.join(", ")), doing)?;
        self.tables.iter_mut().for_each(|table| table.beside = None);
        // The load is done. An old table that stays, since the connection is lost right
        // now, is dropped by the next load that replaces it.
        for swap in &swaps {
            let [_, _, old] = named(swap);
            let _ = self.conn.query_drop(format!("DROP TABLE {old}"));
        }
        Ok(())
    }
}

impl Target for MariaDb {
    fn describe(&mut self, table: &str) -> Result<Option<Table>, Error> {
        Ok(describe(&mut self.conn, table)?.map(|found| found.table))
    }

    fn about(&mut self, tables: &[&str]) -> Result<About, Error> {
        rights::about(&mut self.conn, tables)
    }

    fn dialect(&self) -> Dialect {
        DIALECT
    }

    fn full_name(&mut self, table: &str) -> Result<String, Error> {
        if table.contains('.') {
            return Ok(table.to_string());
        }
        let found = self.ask("SELECT DATABASE()", &[], "asking for the database")?;
        let database = found
            .first()
            .and_then(|row| row[0].as_text())
            .unwrap_or_default();
        Ok(format!("{database}.{table}"))
    }

    fn ask(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<Vec<Vec<Value>>, Error> {
        asking::ask(&mut self.conn, sql, values, doing)
    }

    fn tell(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<u64, Error> {
        asking::tell(&mut self.conn, sql, values, doing)
    }

    fn claim(&mut self, key: i64, wait: bool) -> Result<bool, Error> {
        asking::claim(&mut self.conn, key, wait)
    }

    fn be_patient(&mut self, patience: std::time::Duration) -> Result<(), Error> {
        let seconds = patience.as_secs().max(1);
        let sql = format!(
            "SET SESSION innodb_lock_wait_timeout = {seconds}, lock_wait_timeout = {seconds}"
        );
        self.run(&sql, "connecting")
    }

    fn begin_file(&mut self) -> Result<(), Error> {
        // A savepoint of the same name takes the place of the one before.
        self.run("RELEASE SAVEPOINT barrow", "beginning a file")?;
        self.run("SAVEPOINT barrow_file", "beginning a file")?;
        self.run("SAVEPOINT barrow", "beginning a file")?;
        self.at_file = FileBegin::of(&self.tables, self.merged);
        Ok(())
    }

    fn take_back_file(&mut self) -> Result<(), Error> {
        self.run("ROLLBACK TO SAVEPOINT barrow_file", "taking a file back")?;
        self.run("SAVEPOINT barrow", "taking a file back")?;
        self.merged = self.at_file.go_back(&mut self.tables);
        Ok(())
    }

    fn ask_out(&mut self, query: &str, columns: &[(String, Type)]) -> Result<Decoder, Error> {
        let (asked, decoder) = outflow::ask(&mut self.conn, query, columns)?;
        self.asked = Some(asked);
        Ok(decoder)
    }

    fn give_out(&mut self, give: &mut dyn FnMut(&mut RawRows) -> bool) -> Result<(), Error> {
        match &self.asked {
            Some(asked) => outflow::give(&mut self.conn, asked, give),
            None => Err(Error::new("rows were asked for without a query")),
        }
    }

    fn columns_out(&mut self, query: &str) -> Result<Vec<(String, Type)>, Error> {
        outflow::columns(&mut self.conn, query)
    }

    fn fits(&mut self, mode: Mode, part: &Part, table: &Table) -> Result<(), Error> {
        match describe(&mut self.conn, &part.table)? {
            Some(found) => begin::fits(mode, part, &found),
            None => fit::check(part, table),
        }
    }

    fn foresight(&mut self, job: &Job) -> Result<Foresight, Error> {
        let mut foresight = Foresight::default();
        for part in &job.parts {
            let found = describe(&mut self.conn, &part.table)?.filter(|_| !job.makes_anew());
            let fields = match &found {
                Some(found) => begin::fields(part, found)?,
                None if !(job.create || job.makes_anew()) => continue,
                None => begin::fields_as_made(part),
            };
            let made = || Table::as_made(part, DIALECT);
            let table = found.map_or_else(made, |found| found.table);
            let named = sending::named(part, &table);
            let names = named.columns.into_iter().map(|column| column.name);
            let unfit = unfit_lines(part.number, names.collect());
            let number = part.number;
            let encoder = Box::new(move |batch: &mut Batch| send::encode(batch, number, &fields));
            foresight.add(part, &table, encoder, unfit);
        }
        Ok(foresight)
    }

    fn keep_so_far(&mut self) -> Result<(), Error> {
        send::keep(&mut self.conn)
    }

    fn swaps(&self) -> Vec<Swap> {
        sending::swaps(&self.tables)
    }

    fn swap(&mut self) -> Result<(), Error> {
        self.put_in_place()
    }

    fn begin(&mut self, job: &Job) -> Result<Vec<u64>, Error> {
        self.tables.clear();
        self.parts.clear();
        for table in job.tables() {
            self.make_table(job, table)?;
        }
        self.run("START TRANSACTION", "beginning the transaction")?;
        self.is_open = true;
        let mut before = Vec::new();
        for place in 0..self.tables.len() {
            before.push(self.begin_table(job, place)?);
        }
        // In the order of the batch's parts, so that a record that others name by a
        // foreign key is there before them.
        self.parts.sort_by_key(|part| part.number);
        self.merged = (job.mode == Mode::Merge).then(Merged::default);
        self.run("SAVEPOINT barrow", "beginning the transaction")?;
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
        let mut link = Link {
            conn: &mut self.conn,
            outgoing: &self.outgoing,
        };
        let (parts, tables) = (&mut self.parts, &mut self.tables);
        sending::take(coming.all(), parts, tables, &mut self.merged, &mut link)
    }

    fn merged(&self) -> Option<Merged> {
        self.merged
    }

    fn commit(&mut self) -> Result<(), Error> {
        self.run("COMMIT", "committing")?;
        self.run("START TRANSACTION", "beginning the next transaction")?;
        // Between the two, somebody else may have written.
        self.tables.iter_mut().for_each(|table| table.rows = None);
        // What was made now has rows that stay.
        self.tables
            .iter_mut()
            .for_each(|table| table.is_made = false);
        self.run("SAVEPOINT barrow", "beginning the next transaction")
    }

    fn finish(&mut self) -> Result<Vec<u64>, Error> {
        let rows = self.rows()?;
        self.run("COMMIT", "committing")?;
        self.is_open = false;
        self.tables
            .iter_mut()
            .for_each(|table| table.is_made = false);
        Ok(rows)
    }

    fn undo(&mut self) -> Result<Vec<u64>, Error> {
        if self.is_open {
            self.run("ROLLBACK", "undoing the load")?;
            self.is_open = false;
        }
        self.drop_made()?;
        let names: Vec<String> = self.tables.iter().map(|t| t.name.clone()).collect();
        let rows = names
            .iter()
            .map(|name| match describe(&mut self.conn, name)? {
                Some(_) => self.count(name),
                None => Ok(0),
            });
        rows.collect()
    }
}

impl MariaDb {
    /// Takes the tables away that this load made, and that hold nothing.
    fn drop_made(&mut self) -> Result<(), Error> {
        let beside: Vec<String> = self
            .tables
            .iter_mut()
            .filter_map(|table| table.beside.take())
            .collect();
        for name in beside {
            let sql = format!("DROP TABLE IF EXISTS {}", DIALECT.table(&name));
            self.run(&sql, "undoing the load")?;
        }
        let made: Vec<String> = self
            .tables
            .iter_mut()
            .filter_map(|table| std::mem::take(&mut table.is_made).then(|| table.name.clone()))
            .collect();
        made.iter().try_for_each(|name| self.drop_empty(name))
    }

    /// Takes a table away unless others have put rows into it meanwhile: they are kept out
    /// while that is looked at. One that is in use now stays, and is empty.
    fn drop_empty(&mut self, name: &str) -> Result<(), Error> {
        let table = DIALECT.table(name);
        if self
            .conn
            .query_drop(format!("LOCK TABLES {table} WRITE"))
            .is_err()
        {
            return Ok(());
        }
        let rows: Result<Option<u8>, _> = self
            .conn
            .query_first(format!("SELECT 1 FROM {table} LIMIT 1"));
        let dropped = match rows {
            Ok(None) => self.run(&format!("DROP TABLE {table}"), "undoing the load"),
            _ => Ok(()),
        };
        self.run("UNLOCK TABLES", "undoing the load")?;
        dropped
    }
}

impl Drop for MariaDb {
    fn drop(&mut self) {
        if self.is_open {
            let _ = self.conn.query_drop("ROLLBACK");
        }
        let _ = self.drop_made();
    }
}
