//! Merges rows into a table by its key: they are staged in a temporary table first.

use std::ops::Range;
use std::rc::Rc;

use barrow_core::reason::Code;
use rusqlite::Connection;

use super::DIALECT;
use super::errors::explained;
use super::insert::{Inserter, PreparedInserts, Stopped, Why, stopped};
use crate::encoded::EncodedBatch;
use crate::error::Error;
use crate::isolate::{PieceSize, Refused, Tried, isolate};
use crate::job::Refusal;
use crate::merge::{self, Merged, Merging, Statements};
use crate::order::Order;
use crate::record_table::RecordTable;
use crate::table::Table;

/// What merges the rows of one kind.
pub struct Merger {
    inserter: Inserter,
    staging: PreparedInserts,
    statements: Statements,
    size: PieceSize,
    order: Option<Order>,
}

impl Merger {
    /// Makes the temporary table for a part, and what merges from it into `table`.
    ///
    /// # Errors
    /// The part has no key, or SQLite refuses the table.
    pub fn new(
        connection: &Connection,
        part: &RecordTable,
        table: &Table,
        unique: &[Vec<String>],
    ) -> Result<Merger, Error> {
        let quoted = |name: &str| DIALECT.quoted(name);
        let name = format!("barrow_stage_{}", part.number);
        let target = format!("main.{}", quoted(&part.table));
        let stage = format!("temp.{}", quoted(&name));
        let merging = Merging {
            table: &target,
            stage: &stage,
            triggers: table.triggers,
            unique,
            by_text: &[],
        };
        let statements = merge::statements(DIALECT, part, merging)?;
        let columns: Vec<String> = part.columns.iter().map(|c| quoted(&c.name)).collect();
        let keys: Vec<String> = part.key.iter().map(|name| quoted(name)).collect();
        // Its key is unique, so that rows with the same key are merged one after the
        // other.
        connection
            .execute_batch(&format!(
                "CREATE TEMP TABLE {} AS SELECT {} FROM {target} WHERE 0; \
                 CREATE UNIQUE INDEX temp.{} ON {} ({})",
                quoted(&name),
                columns.join(", "),
                quoted(&format!("{name}_key")),
                quoted(&name),
                keys.join(", ")
            ))
            .map_err(|e| explained(&e, "making room for rows to merge"))?;
        let staged = RecordTable {
            table: name,
            ..part.clone()
        };
        let plain = Table {
            triggers: false,
            own_parents: Vec::new(),
            ..table.clone()
        };
        Ok(Merger {
            inserter: Inserter::new(&staged, &plain),
            staging: PreparedInserts::default(),
            statements,
            order: Order::of(part, table),
            size: PieceSize::default(),
        })
    }

    /// What stages the rows.
    pub fn inserter(&self) -> &Inserter {
        &self.inserter
    }

    /// Merges a batch's good rows, which have been encoded. Returns those that the
    /// table refused, and what became of the others.
    ///
    /// # Errors
    /// Whatever is not the fault of a row.
    pub fn merge(
        &mut self,
        connection: &Rc<Connection>,
        batch: &EncodedBatch,
    ) -> Result<(Vec<Refusal>, Merged), Error> {
        let mut merged = Merged::default();
        let count = batch.parts[self.inserter.part()].good.len();
        let (inserter, statements) = (&self.inserter, &self.statements);
        let staging = &mut self.staging;
        let mut attempt = |rows: Range<usize>| {
            let failed = |e: rusqlite::Error| explained(&e, "merging rows");
            connection
                .execute_batch("SAVEPOINT barrow_merge")
                .map_err(failed)?;
            let count = rows.len() as u64;
            let staged = inserter.stage_row(connection, staging, batch, rows);
            let why = match staged.and_then(|()| piece(connection, statements, count)) {
                Ok(found) => {
                    merged.add(found);
                    connection
                        .execute_batch("RELEASE barrow_merge")
                        .map_err(failed)?;
                    return Ok(Tried::Done);
                }
                Err(Stopped::Failed(error)) => return Err(error),
                Err(Stopped::Refused(why)) => why,
            };
            connection
                .execute_batch("ROLLBACK TO barrow_merge; RELEASE barrow_merge")
                .map_err(failed)?;
            Ok(Tried::Refused(Refused {
                at: None,
                is_certain: false,
                code: why.code,
                column: why.column,
                words: why.words,
                detail: None,
            }))
        };
        let mut refused = Vec::new();
        let mut next = 0;
        let batches = std::slice::from_ref(batch);
        let ends = self.order.as_ref().map_or(Vec::new(), |order| {
            order.cuts(batches, self.inserter.part())
        });
        for end in ends.into_iter().chain([count]) {
            refused.extend(isolate(next..end, &mut self.size, &mut attempt)?);
            next = end;
        }
        let refusals = refused.into_iter().map(|(row, why)| {
            let why = Why {
                column: why.column,
                ..Why::new(why.code, why.words)
            };
            self.inserter.refusal(batch, row, why)
        });
        Ok((refusals.collect(), merged))
    }
}

/// Merges the rows that are staged, so many.
fn piece(connection: &Connection, statements: &Statements, count: u64) -> Result<Merged, Stopped> {
    let run = |sql: &str| -> Result<u64, Stopped> {
        let mut statement = connection
            .prepare_cached(sql)
            .map_err(|e| Stopped::Failed(explained(&e, "merging rows")))?;
        let count = statement
            .raw_execute()
            .map_err(|e| stopped(connection, &e))?;
        Ok(count as u64)
    };
    let counted = |sql: &Option<String>| -> Result<u64, Stopped> {
        let Some(sql) = sql else { return Ok(0) };
        let count = connection
            .prepare_cached(sql)
            .and_then(|mut statement| statement.query_row([], |row| row.get::<_, i64>(0)))
            .map_err(|e| Stopped::Failed(explained(&e, "merging rows")))?;
        Ok(count as u64)
    };
    // Each row alone comes after all before it.
    if count > 1 && counted(&statements.clash)? > 0 {
        return Err(Stopped::Refused(Why::new(
            Code::Refused,
            merge::PASSED_OVER,
        )));
    }
    let differ = counted(&statements.differ)?;
    let changed = match &statements.update {
        Some(update) => run(update)?,
        None => 0,
    };
    let new = run(&statements.insert)?;
    if counted(&statements.lost)? > 0 || changed < differ {
        return Err(Stopped::Refused(Why::new(
            Code::Refused,
            merge::PASSED_OVER,
        )));
    }
    run(&statements.clear)?;
    Ok(Merged::of(count, new, changed))
}
