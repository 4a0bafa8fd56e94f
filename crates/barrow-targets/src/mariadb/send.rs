//! Sending rows, and what the server made of them.

use std::ops::Range;
use std::sync::Mutex;

use mysql::Conn;
use mysql::prelude::Queryable;

use super::connect::MariaDb;
use super::encode::Field;
use super::errors::{because, explained, refused};
use super::warnings;
use crate::encoded::EncodedBatch;
use crate::encoded::lines::Bytes;
use crate::encoded::rows;
use crate::encoded::rows::Run;
use crate::error::Error;
use crate::isolate::{Refused, Tried};
use crate::merge::{self, Merged};
use crate::servers::send::Sending;

/// What sends one kind of rows.
pub struct Loader {
    /// The statement that takes them.
    pub load: String,
    /// The statements that merge, where that is the mode.
    pub merge: Option<merge::Statements>,
}

impl Sending<Loader> for MariaDb {
    fn send(
        &mut self,
        loader: &mut Loader,
        lines: &Run<'_>,
        places: Range<usize>,
        merged: &mut Merged,
    ) -> Result<Tried, Error> {
        send(
            &mut self.conn,
            &self.outgoing,
            loader,
            lines,
            places,
            merged,
        )
    }
}

/// Sends some rows, under the savepoint that stands: all of them, or none.
fn send(
    conn: &mut Conn,
    outgoing: &Mutex<Vec<Bytes>>,
    loader: &Loader,
    lines: &Run<'_>,
    places: Range<usize>,
    merged: &mut Merged,
) -> Result<Tried, Error> {
    let (bytes, count) = lines.rows(places.clone());
    if count == 0 {
        return Ok(Tried::Done);
    }
    put_out(outgoing, bytes);
    let place = |at: usize| {
        let place = lines.sent(places.clone(), at);
        place.map(|place| place - places.start)
    };
    let why = match load(conn, loader, count)? {
        Loaded::All(found) => {
            merged.add(found);
            keep(conn)?;
            return Ok(Tried::Done);
        }
        Loaded::But(few) => {
            let few = few.into_iter().map(|(at, why)| Some((place(at)?, why)));
            match few.collect::<Option<Vec<_>>>() {
                Some(few) if confirmed(conn, outgoing, loader, lines, places.start, &few)? => {
                    keep(conn)?;
                    return Ok(Tried::But(few));
                }
                _ => because(0, "the server skipped rows and does not say which"),
            }
        }
        Loaded::Refused(why) => why,
    };
    conn.query_drop("ROLLBACK TO SAVEPOINT barrow")
        .map_err(|e| explained(&e, "taking rows back"))?;
    // A row that was only put down twice goes in once it comes alone.
    let at = why.at.filter(|_| loader.merge.is_none()).and_then(place);
    Ok(Tried::Refused(Refused { at, ..why }))
}

/// Lays lines ready for the server to ask for.
fn put_out(outgoing: &Mutex<Vec<Bytes>>, bytes: Vec<Bytes>) {
    if let Ok(mut outgoing) = outgoing.lock() {
        *outgoing = bytes;
    }
}

/// Whether each row that the server says it passed over is refused in the same words
/// when it comes alone: only then are the numbers that it gave them right.
fn confirmed(
    conn: &mut Conn,
    outgoing: &Mutex<Vec<Bytes>>,
    loader: &Loader,
    lines: &Run<'_>,
    first: usize,
    few: &[(usize, Refused)],
) -> Result<bool, Error> {
    conn.query_drop("SAVEPOINT barrow_rows")
        .map_err(|e| explained(&e, "loading rows"))?;
    for (row, why) in few {
        let place = first + row;
        let (bytes, count) = lines.rows(place..place + 1);
        put_out(outgoing, bytes);
        let again = match load(conn, loader, count)? {
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
pub fn keep(conn: &mut Conn) -> Result<(), Error> {
    conn.query_drop("SAVEPOINT barrow")
        .map_err(|e| explained(&e, "loading rows"))
}

/// What came of the lines that were sent.
enum Loaded {
    /// All rows are in.
    All(Merged),
    /// All are in but these, by their number among those that were sent, 0-based.
    But(Vec<(usize, Refused)>),
    /// They must be rolled back.
    Refused(Refused),
}

/// Loads the lines that lie ready, and merges them if that is asked for.
fn load(conn: &mut Conn, loader: &Loader, count: u64) -> Result<Loaded, Error> {
    let told = match run(conn, &loader.load)? {
        Ok(told) => told,
        Err(why) => return Ok(Loaded::Refused(why)),
    };
    let inserted = conn.affected_rows();
    if told > 0 || inserted != count {
        return warned(conn, loader, usize::from(told), count, inserted);
    }
    let Some(merging) = &loader.merge else {
        return Ok(Loaded::All(Merged::default()));
    };
    // Each row alone comes after all before it.
    if count > 1 && clashes(conn, merging)? {
        return Ok(Loaded::Refused(because(0, merge::PASSED_OVER)));
    }
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

/// Whether staged rows clash beside their key.
fn clashes(conn: &mut Conn, merging: &merge::Statements) -> Result<bool, Error> {
    let Some(clash) = &merging.clash else {
        return Ok(false);
    };
    let found: Result<Option<u8>, _> = conn.query_first(clash);
    match found {
        Ok(found) => Ok(found == Some(1)),
        // A server that cannot open a temporary table twice (ER_CANT_REOPEN_TABLE).
        Err(mysql::Error::MySqlError(error)) if error.code == 1137 => Ok(true),
        Err(error) => Err(explained(&error, "merging rows")),
    }
}

/// What the server's warnings say of lines that were sent. Where it passed over rows,
/// each for a reason that leaves all others as they are, the others may stay.
fn warned(
    conn: &mut Conn,
    loader: &Loader,
    told: usize,
    count: u64,
    inserted: u64,
) -> Result<Loaded, Error> {
    let why = warnings::told(conn, told)?;
    let rows = why.windows(2);
    let stay = loader.merge.is_none()
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
        because(0, "the server skipped the row and does not say why")
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

/// Puts a batch's rows of one part into lines.
pub fn encode(batch: &mut EncodedBatch, number: usize, fields: &[Field]) {
    rows::encode(batch, number, |batch, row, out| {
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
