//! Making tables ready, before rows are sent.

use std::sync::Arc;

use barrow_core::visible::visible;
use barrow_core::words::Mode;

use super::describe::{Described, describe};
use super::encode::Field;
use super::send::Copier;
use super::suspects::Suspects;
use super::words::explained;
use super::{DIALECT, Postgres};
use crate::error::Error;
use crate::isolate::PieceSize;
use crate::merge::Merging;
use crate::order::Order;
use crate::sending::{self, Loading, Sent};
use crate::{Column, Job, Part, fit, merge, unique};

impl Postgres {
    /// Makes a table ready. Returns how many rows it had.
    pub(super) fn begin_table(&mut self, job: &Job, name: &str) -> Result<u64, Error> {
        let mut found = describe(&mut self.client, name)?;
        if found.is_some() {
            self.lock(name, job.mode == Mode::Truncate)?;
            found = describe(&mut self.client, name)?;
        }
        let before = match found {
            Some(_) => self.count(name)?,
            None => 0,
        };
        let mut beside = None;
        let found = match (found, job.mode) {
            (Some(found), Mode::Replace) => {
                let made = job.beside(name);
                let sql = job.create_table_as(name, &made, DIALECT)?;
                self.run(&sql, "making the table anew")?;
                beside = Some(made.clone());
                drop(found);
                self.described(&made)?
            }
            (Some(found), mode) => {
                for part in job.parts_of(name) {
                    fits(mode, part, &found)?;
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

    /// Locks a table as sending rows does, and so finds out now whether somebody else has a
    /// lock on it. Where it is to be emptied, rows that another load has not committed yet
    /// could not be seen, and would stay: then nobody else may write ("Explicit Locking",
    /// section 13.3.1).
    pub(super) fn lock(&mut self, name: &str, alone: bool) -> Result<(), Error> {
        let may = "SELECT has_table_privilege(to_regclass($1), 'INSERT, UPDATE, DELETE')";
        let table = DIALECT.table(name);
        let may = self.client.query_one(may, &[&table]);
        let may: Option<bool> = may.map_err(|e| explained(&e, "locking the table"))?.get(0);
        let mode = match (alone, may) {
            (true, _) => "SHARE ROW EXCLUSIVE",
            (false, Some(true)) => "ROW EXCLUSIVE",
            // Rights on single columns let us insert, and not lock.
            (false, _) => return Ok(()),
        };
        self.run(
            &format!("LOCK TABLE {table} IN {mode} MODE"),
            "locking the table",
        )
    }

    /// What sends a part's rows into a table.
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
                let merging = Merging {
                    table: &table,
                    stage: &stage,
                    triggers: found.table.triggers,
                    unique: &found.table.unique,
                    by_text: &found.by_text(),
                };
                let statements = merge::statements(DIALECT, &named, merging)?;
                self.stage(part, &stage, &table, &list)?;
                (stage, Some(statements))
            }
            _ => (table, None),
        };
        let copy = format!("COPY {put_into} ({list}) FROM STDIN (FORMAT binary)");
        let fields = fields(part, found)?;
        let by = Copier {
            suspects: Suspects::new(&put_into, &names, &fields),
            fields,
            copy: self
                .client
                .prepare(&copy)
                .map_err(|e| explained(&e, "preparing to send rows"))?,
            merge,
            copied: None,
        };
        Ok(Sent {
            number: part.number,
            table: self.tables.len(),
            names,
            size: PieceSize::default(),
            order: Order::of(part, &found.table),
            by,
        })
    }

    /// Makes the table where rows are put down before they are merged. Its key is
    /// unique, so that rows with the same key are merged one after the other. Each of
    /// them is to be looked for by the table's index: else the server may well read the
    /// whole table for each batch, or for each row where it believes the table is empty.
    fn stage(&mut self, part: &Part, stage: &str, table: &str, list: &str) -> Result<(), Error> {
        let keys: Vec<String> = part.key.iter().map(|name| DIALECT.quoted(name)).collect();
        let sql = format!(
            "SET enable_hashjoin = off; SET enable_mergejoin = off; SET enable_seqscan = off; \
             SET enable_material = off; \
             DROP TABLE IF EXISTS pg_temp.{stage}; \
             CREATE TEMPORARY TABLE {stage} AS SELECT {list} FROM {table} WITH NO DATA; \
             CREATE UNIQUE INDEX ON {stage} ({})",
            keys.join(", ")
        );
        self.run(&sql, "making room for rows to merge")
    }

    /// From here on rows are sent in pieces that can be taken back. Constraints are
    /// checked with each piece, also those that would wait for the commit: then it
    /// is known which rows they refuse.
    pub(super) fn open_savepoint(&mut self) -> Result<(), Error> {
        self.run(
            "SET CONSTRAINTS ALL IMMEDIATE; SAVEPOINT barrow",
            "beginning the transaction",
        )
    }
}

/// How a part's columns are sent.
///
/// # Errors
/// One cannot be.
pub fn fields(part: &Part, found: &Described) -> Result<Arc<[Field]>, Error> {
    let fields = part.columns.iter().map(|column| {
        let wire = found.declared(&column.name).and_then(|d| d.wire(column.ty));
        wire.map(|wire| Field::new(column.ty, wire))
            .ok_or_else(|| cannot_send(column, found))
    });
    fields.collect()
}

fn cannot_send(column: &Column, found: &Described) -> Error {
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

/// Whether a part's rows can go into the table in this mode.
///
/// # Errors
/// What does not fit.
pub fn fits(mode: Mode, part: &Part, found: &Described) -> Result<(), Error> {
    fit::check(part, &found.table)?;
    for column in &part.columns {
        if let Some(declared) = found.declared(&column.name)
            && declared.wire(column.ty).is_none()
        {
            return Err(cannot_send(column, found));
        }
    }
    match mode {
        Mode::Merge => {
            let fixed = part.columns.iter().find(|c| {
                !part.key.iter().any(|key| key.eq_ignore_ascii_case(&c.name))
                    && found.is_always_numbered(&c.name)
            });
            if let Some(column) = fixed {
                return Err(Error::spec(format!(
                    "the table numbers its rows by {} itself (GENERATED ALWAYS), and rows that \
                     are there cannot be given another number",
                    visible(column.name.as_bytes())
                ))
                .advice("make it a part of the key, or say load = false"));
            }
            unique::check(DIALECT, part, &found.table.unique)
        }
        Mode::Append | Mode::Truncate | Mode::Replace => Ok(()),
    }
}
