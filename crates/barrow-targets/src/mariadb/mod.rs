//! MariaDB and MySQL, by the server's own bulk statement.
//!
//! The workers write the rows as lines; the sink sends those of a batch as local data,
//! under a savepoint. Of local data the server turns errors into warnings, passes over
//! rows and bends values, all in silence ("LOAD DATA INFILE", error handling): so a
//! piece counts only if every row went in and there is no warning, and is taken back
//! otherwise. The rows that the table refuses are found out by sending smaller pieces
//! ([`crate::isolate`]).

mod asking;
mod connect;
mod describe;
mod encode;
mod outflow;
mod rights;
mod types;
mod warnings;
mod words;

use std::io::Write;
use std::ops::Range;
use std::sync::{Arc, Mutex};

use barrow_core::flow::Batch;
use barrow_core::spec::Type;
use barrow_core::spec::plan::Mode;
use barrow_core::visible::visible;
use mysql::prelude::Queryable;
use mysql::{Conn, LocalInfileHandler};

use self::describe::{Described, describe};
use self::encode::Field;
use self::types::Wire;
use self::words::{because, explained, refused};
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
    outgoing: Arc<Mutex<Vec<u8>>>,
    tables: Vec<Loading>,
    parts: Vec<Sent<Sender>>,
    merged: Option<Merged>,
    is_open: bool,
    at_file: FileBegin,
    asked: Option<outflow::Asked>,
}

/// What sends one kind of rows.
struct Sender {
    fields: Arc<[Field]>,
    load: String,
    /// The statements that merge, where that is the mode.
    merge: Option<merge::Statements>,
}

impl MariaDb {
    /// Connects to the server.
    ///
    /// # Errors
    /// It cannot be reached, or will not have us.
    pub fn open(server: &Server) -> Result<MariaDb, Error> {
        let mut conn = connect::connect(server)?;
        let outgoing = Arc::new(Mutex::new(Vec::new()));
        let lines = outgoing.clone();
        // Only what lies ready is ever sent, whatever file the server asks for.
        conn.set_local_infile_handler(Some(LocalInfileHandler::new(move |_, stream| match lines
            .lock()
        {
            Ok(lines) => stream.write_all(&lines),
            Err(_) => Err(std::io::Error::other("the rows are not ready")),
        })));
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

    /// Makes the tables that are missing, or that take others' places. The server
    /// commits each at once, so this comes before the transaction.
    fn make_table(&mut self, job: &Job, name: &str) -> Result<(), Error> {
        let found = describe(&mut self.conn, name)?;
        let mut table = Loading {
            name: name.to_string(),
            rows: None,
            beside: None,
            is_made: false,
        };
        match (found, job.mode) {
            (Some(found), Mode::Replace) => {
                if let Some(other) = &found.named_by {
                    return Err(Error::spec(format!(
                        "the table {} has a foreign key to {}, which would then be gone",
                        visible(other.as_bytes()),
                        visible(name.as_bytes())
                    ))
                    .advice(
                        "say mode = \"truncate\" or \"merge\", or drop the foreign key first",
                    ));
                }
                let made = sending::beside(name, "_barrow_new");
                // One that a load left which was killed.
                let drop = format!("DROP TABLE IF EXISTS {}", DIALECT.table(&made));
                self.run(&drop, "making the table anew")?;
                let sql = job.create_table_as(name, &made, DIALECT)?;
                self.run(&sql, "making the table anew")?;
                table.beside = Some(made);
            }
            (Some(found), mode) => {
                for part in job.parts_of(name) {
                    fits(part, &found)?;
                    if mode == Mode::Merge {
                        unique::check(part, &found.unique)?;
                    }
                }
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
                table.is_made = true;
            }
        }
        self.tables.push(table);
        Ok(())
    }

    /// Makes a table ready within the transaction. Returns how many rows it had.
    fn begin_table(&mut self, job: &Job, place: usize) -> Result<u64, Error> {
        let (name, beside) = {
            let table = &self.tables[place];
            (table.name.clone(), table.beside.clone())
        };
        let before = self.count(&name)?;
        if job.mode == Mode::Truncate {
            // Not TRUNCATE, which the server commits at once.
            let sql = format!("DELETE FROM {}", DIALECT.table(&name));
            self.run(&sql, "emptying the table")?;
        }
        let into = beside.unwrap_or_else(|| name.clone());
        let found = self.described(&into)?;
        let kept = match job.mode {
            Mode::Append | Mode::Merge => before,
            Mode::Truncate | Mode::Replace => 0,
        };
        self.tables[place].rows = (!found.table.triggers).then_some(kept);
        for part in job.parts_of(&name) {
            let sender = self.sender(job.mode, part, &found, &into, place)?;
            self.parts.push(sender);
        }
        Ok(before)
    }

    fn sender(
        &mut self,
        mode: Mode,
        part: &Part,
        found: &Described,
        into: &str,
        table_place: usize,
    ) -> Result<Sent<Sender>, Error> {
        let named = sending::named(part, &found.table);
        let mut fields = Vec::new();
        let mut targets = Vec::new();
        let mut sets = Vec::new();
        for (place, column) in part.columns.iter().enumerate() {
            let declared = found.declared(&column.name);
            let wire = declared.and_then(|d| d.wire(column.ty));
            let wire = wire.ok_or_else(|| cannot_send(column, found))?;
            let quoted = DIALECT.quoted(&named.columns[place].name);
            match wire {
                Wire::Hex => {
                    targets.push(format!("@barrow{place}"));
                    sets.push(format!("{quoted} = UNHEX(@barrow{place})"));
                }
                _ => targets.push(quoted),
            }
            let is_counter = declared.is_some_and(|d| d.is_counter);
            fields.push(Field::new(column.ty, wire, is_counter));
        }
        let table = DIALECT.table(into);
        let (put_into, merge) = match mode {
            Mode::Merge => {
                let stage = DIALECT.quoted(&format!("barrow_stage_{}", part.number));
                let statements =
                    merge::statements(DIALECT, &table, &stage, &named, found.table.triggers)?;
                self.stage(&named, &stage, &table)?;
                (stage, Some(statements))
            }
            _ => (table, None),
        };
        let set = match sets.is_empty() {
            true => String::new(),
            false => format!(" SET {}", sets.join(", ")),
        };
        let by = Sender {
            fields: fields.into(),
            load: format!(
                "LOAD DATA LOCAL INFILE 'barrow' INTO TABLE {put_into} CHARACTER SET utf8mb4 \
                 FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' ({}){set}",
                targets.join(", ")
            ),
            merge,
        };
        Ok(Sent {
            number: part.number,
            table: table_place,
            names: named.columns.iter().map(|c| c.name.clone()).collect(),
            size: PieceSize::default(),
            by,
        })
    }

    /// Makes the table where rows are put down before they are merged. Its key is
    /// unique, so that rows with the same key are merged one after the other.
    fn stage(&mut self, part: &Part, stage: &str, table: &str) -> Result<(), Error> {
        let quote = |name: &String| DIALECT.quoted(name);
        let keys: Vec<String> = part.key.iter().map(quote).collect();
        let columns: Vec<String> = part.columns.iter().map(|c| quote(&c.name)).collect();
        let sql = format!(
            "CREATE OR REPLACE TEMPORARY TABLE {stage} (UNIQUE KEY ({})) ENGINE=InnoDB \
             AS SELECT {} FROM {table} LIMIT 0",
            keys.join(", "),
            columns.join(", ")
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

    /// Puts the tables that were made beside others into their places, all in one
    /// statement, which the server does as a whole or not at all.
    fn swap(&mut self) -> Result<(), Error> {
        let doing = "putting the new table into the old one's place";
        let swaps = sending::swaps(&self.tables);
        if swaps.is_empty() {
            return Ok(());
        }
        let old = |name: &str| DIALECT.table(&sending::beside(name, "_barrow_old"));
        for (name, _) in &swaps {
            self.run(&format!("DROP TABLE IF EXISTS {}", old(name)), doing)?;
        }
        let renames = swaps.iter().map(|(name, beside)| {
            let (name, beside, old) = (DIALECT.table(name), DIALECT.table(beside), old(name));
            format!("{name} TO {old}, {beside} TO {name}")
        });
        let renames: Vec<String> = renames.collect();
        self.run(&format!("RENAME TABLE {}", renames.join(", ")), doing)?;
        self.tables.iter_mut().for_each(|table| table.beside = None);
        // The load is done. An old table that stays, since the connection is lost right
        // now, is dropped by the next load that replaces it.
        for (name, _) in &swaps {
            let _ = self.conn.query_drop(format!("DROP TABLE {}", old(name)));
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
    match declared.starts_with("timestamp") {
        true => failed.advice("say timestamptz in the spec: a timestamp here is a moment in time"),
        false => failed.advice("give the column the table's type in the spec, or change the table"),
    }
}

fn fits(part: &Part, found: &Described) -> Result<(), Error> {
    fit::check(part, &found.table)?;
    if let Some(engine) = &found.cannot_undo {
        return Err(Error::spec(format!(
            "the table {} is kept by the engine {}, which cannot undo a load",
            visible(part.table.as_bytes()),
            visible(engine.as_bytes())
        ))
        .advice("change it first: ALTER TABLE … ENGINE = InnoDB"));
    }
    for column in &part.columns {
        if let Some(declared) = found.declared(&column.name)
            && declared.wire(column.ty).is_none()
        {
            return Err(cannot_send(column, found));
        }
    }
    Ok(())
}

/// Sends some rows of a batch, under the savepoint that stands: all of them, or none.
fn send(
    conn: &mut Conn,
    outgoing: &Mutex<Vec<u8>>,
    sender: &Sender,
    lines: &Run<'_>,
    places: Range<usize>,
    merged: &mut Merged,
) -> Result<Tried, Error> {
    let (bytes, count) = lines.rows(places.clone());
    if count == 0 {
        return Ok(Tried::Done);
    }
    put_out(outgoing, &bytes);
    let place = |at: usize| {
        let place = lines.sent(places.clone(), at);
        place.map(|place| place - places.start)
    };
    let why = match load(conn, sender, count)? {
        Loaded::All(found) => {
            merged.add(found);
            keep(conn)?;
            return Ok(Tried::Done);
        }
        Loaded::But(few) => {
            let few = few.into_iter().map(|(at, why)| Some((place(at)?, why)));
            match few.collect::<Option<Vec<_>>>() {
                Some(few) if confirmed(conn, outgoing, sender, lines, places.start, &few)? => {
                    keep(conn)?;
                    return Ok(Tried::But(few));
                }
                _ => because(0, "the server passed over rows and does not say which"),
            }
        }
        Loaded::Refused(why) => why,
    };
    conn.query_drop("ROLLBACK TO SAVEPOINT barrow")
        .map_err(|e| explained(&e, "taking rows back"))?;
    // A row that was only put down twice goes in once it comes alone.
    let at = why.at.filter(|_| sender.merge.is_none()).and_then(place);
    Ok(Tried::Refused(Refused { at, ..why }))
}

/// Lays lines ready for the server to ask for.
fn put_out(outgoing: &Mutex<Vec<u8>>, bytes: &[&[u8]]) {
    if let Ok(mut outgoing) = outgoing.lock() {
        outgoing.clear();
        bytes
            .iter()
            .for_each(|bytes| outgoing.extend_from_slice(bytes));
    }
}

/// Whether each row that the server says it passed over is refused in the same words
/// when it comes alone: only then are the numbers that it gave them right.
fn confirmed(
    conn: &mut Conn,
    outgoing: &Mutex<Vec<u8>>,
    sender: &Sender,
    lines: &Run<'_>,
    first: usize,
    few: &[(usize, Refused)],
) -> Result<bool, Error> {
    conn.query_drop("SAVEPOINT barrow_rows")
        .map_err(|e| explained(&e, "loading rows"))?;
    for (row, why) in few {
        let place = first + row;
        let (bytes, count) = lines.rows(place..place + 1);
        put_out(outgoing, &bytes);
        let again = match load(conn, sender, count)? {
            Loaded::All(_) => None,
            Loaded::But(mut one) => one.pop().map(|(_, why)| why),
            Loaded::Refused(why) => Some(why),
        };
        if again.is_none_or(|again| {
            (again.words, again.detail) != (why.words.clone(), why.detail.clone())
        }) {
            return Ok(false);
        }
        conn.query_drop("ROLLBACK TO SAVEPOINT barrow_rows")
            .map_err(|e| explained(&e, "taking rows back"))?;
    }
    Ok(true)
}

/// Keeps the rows so far, whatever becomes of the next ones.
fn keep(conn: &mut Conn) -> Result<(), Error> {
    conn.query_drop("SAVEPOINT barrow")
        .map_err(|e| explained(&e, "loading rows"))
}

/// What came of the lines that were sent.
enum Loaded {
    /// All rows are in.
    All(Merged),
    /// All are in but these, by their number among those that were sent, 0-based.
    But(Vec<(usize, Refused)>),
    /// They are to be taken back.
    Refused(Refused),
}

/// Loads the lines that lie ready, and merges them if that is asked for.
fn load(conn: &mut Conn, sender: &Sender, count: u64) -> Result<Loaded, Error> {
    let told = match run(conn, &sender.load)? {
        Ok(told) => told,
        Err(why) => return Ok(Loaded::Refused(why)),
    };
    let inserted = conn.affected_rows();
    if told > 0 || inserted != count {
        return warned(conn, sender, usize::from(told), count, inserted);
    }
    let Some(merging) = &sender.merge else {
        return Ok(Loaded::All(Merged::default()));
    };
    let mut changed = 0;
    if let Some(update) = &merging.update {
        if let Err(why) = statement(conn, update)? {
            return Ok(Loaded::Refused(why));
        }
        changed = conn.affected_rows();
    }
    if let Err(why) = statement(conn, &merging.insert)? {
        return Ok(Loaded::Refused(why));
    }
    let new = conn.affected_rows();
    let failed = |e: mysql::Error| explained(&e, "merging rows");
    if let Some(lost) = &merging.lost
        && conn.query_first(lost).map_err(failed)?.unwrap_or(0u64) > 0
    {
        return Ok(Loaded::Refused(because(0, merge::PASSED_OVER)));
    }
    conn.query_drop(&merging.clear).map_err(failed)?;
    Ok(Loaded::All(Merged::of(count, new, changed)))
}

/// What the server's warnings say of lines that were sent. Where it passed over rows,
/// each for a reason that leaves all others as they are, the others may stay.
fn warned(
    conn: &mut Conn,
    sender: &Sender,
    told: usize,
    count: u64,
    inserted: u64,
) -> Result<Loaded, Error> {
    let why = warnings::told(conn, told)?;
    let rows = why.windows(2);
    let stay = sender.merge.is_none()
        && !why.is_empty()
        && why
            .iter()
            .all(|why| why.passes_over && why.refused.at.is_some())
        && inserted + why.len() as u64 == count
        && rows.map(|pair| (pair[0].refused.at, pair[1].refused.at)).all(|(a, b)| a < b)
        // The server does not count a row that fails a check (10.11 does not): of the
        // rows after it the numbers are wrong.
        && why.iter().rev().skip(1).all(|why| !why.fails_check);
    if stay {
        let few = why
            .into_iter()
            .filter_map(|why| Some((why.refused.at?, why.refused)));
        return Ok(Loaded::But(few.collect()));
    }
    let first = why.into_iter().next().map(|why| why.refused);
    Ok(Loaded::Refused(first.unwrap_or_else(|| {
        because(0, "the server passed over the row and does not say why")
    })))
}

/// Runs a statement, and says how many warnings the server has of it.
fn run(conn: &mut Conn, sql: &str) -> Result<Result<u16, Refused>, Error> {
    match conn.query_drop(sql) {
        Ok(()) => Ok(Ok(conn.warnings())),
        Err(error) => match refused(&error) {
            Some(why) => Ok(Err(Refused {
                at: warnings::row(conn, 1)?,
                ..why
            })),
            None => Err(explained(&error, "loading rows")),
        },
    }
}

/// Runs a statement of a merge. Whatever the server warns of is a refusal.
fn statement(conn: &mut Conn, sql: &str) -> Result<Result<(), Refused>, Error> {
    let count = match run(conn, sql)? {
        Ok(0) => return Ok(Ok(())),
        Ok(count) => count,
        Err(why) => return Ok(Err(why)),
    };
    let told = warnings::told(conn, usize::from(count))?.into_iter().next();
    let why = told.map(|why| why.refused);
    Ok(Err(why.unwrap_or_else(|| {
        because(0, "the server warns and does not say of what")
    })))
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

    fn fits(&mut self, part: &Part, table: &Table) -> Result<(), Error> {
        match describe(&mut self.conn, &part.table)? {
            Some(found) => fits(part, &found),
            None => fit::check(part, table),
        }
    }

    fn begin(&mut self, job: &Job) -> Result<Vec<u64>, Error> {
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
                encode_part(batch, *number, fields);
            }
        })
    }

    fn take(&mut self, coming: &mut dyn Coming) -> Result<Vec<Vec<Refusal>>, Error> {
        let (conn, outgoing) = (&mut self.conn, &self.outgoing);
        let mut try_rows = |sender: &Sender, lines: &Run<'_>, places, merged: &mut Merged| {
            send(conn, outgoing, sender, lines, places, merged)
        };
        let (parts, tables) = (&mut self.parts, &mut self.tables);
        sending::take(coming.all(), parts, tables, &mut self.merged, &mut try_rows)
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
        // What fails from here on leaves the old tables in their places.
        self.swap()?;
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
        let made: Vec<String> = self
            .tables
            .iter_mut()
            .filter_map(|table| match std::mem::take(&mut table.is_made) {
                true => Some(table.name.clone()),
                false => table.beside.take(),
            })
            .collect();
        for name in made {
            let sql = format!("DROP TABLE IF EXISTS {}", DIALECT.table(&name));
            self.run(&sql, "undoing the load")?;
        }
        Ok(())
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

fn encode_part(batch: &mut Batch, number: usize, fields: &[Field]) {
    lines::encode(batch, number, |batch, row, out| {
        let rows = &batch.parts[number];
        for (column, field) in fields.iter().enumerate() {
            if column > 0 {
                out.push(b'\t');
            }
            let cell = rows.cell(column, row);
            field
                .put(cell, &batch.block.bytes, &rows.store, out)
                .map_err(|fault| (column, fault))?;
        }
        out.push(b'\n');
        Ok(())
    });
}
