//! Making tables ready, before rows are sent.

use std::sync::Arc;

use super::DIALECT;
use super::conflict_probe::Candidates;
use super::connect::Postgres;
use super::describe::Described;
use super::encode::Field;
use super::errors::explained;
use super::send::Copier;
use crate::error::Error;
use crate::merge::Statements;
use crate::record_table::RecordTable;
use crate::servers::load::{ServerSession, cannot_send};
use crate::servers::send::named;
use crate::session::Swap;

/// Locks a table as sending rows does, and so finds out now whether somebody else has a
/// lock on it. Where it is to be emptied, rows that another load has not committed yet
/// could not be seen, and would stay: then nobody else may write ("Explicit Locking",
/// section 13.3.1).
pub fn lock_table(session: &mut Postgres, name: &str, alone: bool) -> Result<(), Error> {
    let may = "SELECT has_table_privilege(to_regclass($1), 'INSERT, UPDATE, DELETE')";
    let table = DIALECT.table(name);
    let may = session.client.query_one(may, &[&table]);
    let may: Option<bool> = may.map_err(|e| explained(&e, "locking the table"))?.get(0);
    let mode = match (alone, may) {
        (true, _) => "SHARE ROW EXCLUSIVE",
        (false, Some(true)) => "ROW EXCLUSIVE",
        // Rights on single columns let us insert, and not lock.
        (false, _) => return Ok(()),
    };
    let sql = format!("LOCK TABLE {table} IN {mode} MODE");
    session.run(&sql, "locking the table")
}

/// What sends a part's rows.
pub fn copier(
    session: &mut Postgres,
    part: &RecordTable,
    found: &Described,
    destination: &str,
    merge: Option<Statements>,
) -> Result<Copier, Error> {
    let names: Vec<String> = named(part, &found.table)
        .columns
        .into_iter()
        .map(|column| column.name)
        .collect();
    let copy = format!(
        "COPY {destination} ({}) FROM STDIN (FORMAT binary)",
        quoted(&names).join(", ")
    );
    let fields = fields(part, found)?;
    Ok(Copier {
        suspects: Candidates::new(destination, &names, &fields),
        copy: session
            .client
            .prepare(&copy)
            .map_err(|e| explained(&e, "preparing to send rows"))?,
        merge,
        copied: None,
    })
}

fn quoted(names: &[String]) -> Vec<String> {
    names.iter().map(|name| DIALECT.quoted(name)).collect()
}

/// Makes the table where rows are staged before they are merged. Each of them is to be
/// looked for by the table's index: else the server may well read the whole table for each
/// batch, or for each row where it believes the table is empty.
pub fn make_stage(
    session: &mut Postgres,
    part: &RecordTable,
    stage: &str,
    table: &str,
) -> Result<(), Error> {
    let names: Vec<String> = part.columns.iter().map(|c| c.name.clone()).collect();
    let sql = format!(
        "SET enable_hashjoin = off; SET enable_mergejoin = off; SET enable_seqscan = off; \
         SET enable_material = off; \
         DROP TABLE IF EXISTS pg_temp.{stage}; \
         CREATE TEMPORARY TABLE {stage} AS SELECT {} FROM {table} WITH NO DATA; \
         CREATE UNIQUE INDEX ON {stage} ({})",
        quoted(&names).join(", "),
        quoted(&part.key).join(", ")
    );
    session.run(&sql, "making room for rows to merge")
}

/// How a part's columns are sent.
///
/// # Errors
/// One cannot be.
pub fn fields(part: &RecordTable, found: &Described) -> Result<Arc<[Field]>, Error> {
    let fields = part.columns.iter().map(|column| {
        let wire = found.declared(&column.name).and_then(|d| d.wire(column.ty));
        wire.map(|wire| Field::new(column.ty, wire))
            .ok_or_else(|| cannot_send(column, found))
    });
    fields.collect()
}

/// The statements that put a table that was made beside another into its place.
pub fn swap(swap: &Swap) -> String {
    let Swap {
        table: name,
        beside,
        ..
    } = swap;
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
    format!(
        "DROP TABLE {0}; ALTER TABLE {1} RENAME TO {2}; \
         ALTER INDEX IF EXISTS {3} RENAME TO {4}",
        DIALECT.table(name),
        DIALECT.table(beside),
        DIALECT.quoted(&bare(name)),
        index(beside),
        DIALECT.quoted(&key_name(&bare(name))),
    )
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
