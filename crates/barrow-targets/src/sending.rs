//! What the servers have in common: the tables of a load, and sending a batch's rows.

use std::ops::Range;

use barrow_core::flow::Batch;

use crate::error::Error;
use crate::isolate::{PieceSize, Tried, isolate};
use crate::lines::Lines;
use crate::merge::Merged;
use crate::{Column, Part, Refusal, Table};

/// A table that is loaded.
pub struct Loading {
    /// Its name.
    pub name: String,
    /// How many rows it has, unless triggers or others may change that.
    pub rows: Option<u64>,
    /// The table that is made beside it, to take its place.
    pub beside: Option<String>,
    /// Whether this load made it, on a server that commits that at once.
    pub is_made: bool,
}

impl Loading {
    /// The name of the table that rows go into.
    pub fn filled(&self) -> String {
        self.beside.clone().unwrap_or_else(|| self.name.clone())
    }
}

/// One kind of rows, and how it is sent.
pub struct Sent<T> {
    /// Which of a batch's parts it is.
    pub number: usize,
    /// The table's place among those of the load.
    pub table: usize,
    /// The columns, as the table writes them.
    pub names: Vec<String>,
    /// How many rows are tried at once.
    pub size: PieceSize,
    /// What sends it.
    pub by: T,
}

/// A part with its columns named as the table names them.
pub fn named(part: &Part, table: &Table) -> Part {
    let column = |column: &Column| {
        let found = table.column(&column.name);
        Column {
            name: found.map_or(column.name.clone(), |found| found.name.clone()),
            ..column.clone()
        }
    };
    Part {
        columns: part.columns.iter().map(column).collect(),
        ..part.clone()
    }
}

/// Tries some rows of a part, and adds up what was merged.
pub type Send<'s, T> =
    dyn FnMut(&T, &Lines, Range<usize>, &mut Merged) -> Result<Tried, Error> + 's;

/// Sends a batch's rows, part by part, and returns those that were refused.
///
/// # Errors
/// Whatever is not the fault of a row.
pub fn take<T>(
    batch: &Batch,
    parts: &mut [Sent<T>],
    tables: &mut [Loading],
    merged: &mut Option<Merged>,
    send: &mut Send<'_, T>,
) -> Result<Vec<Refusal>, Error> {
    let mut all = Vec::new();
    let mut found = Merged::default();
    for part in parts {
        let lines = Lines::of(batch, part.number)?;
        let mut attempt = |places| send(&part.by, lines, places, &mut found);
        let refused = isolate(0..lines.ends.len(), &mut part.size, &mut attempt)?;
        let mut refusals = lines.refusals(batch, part.number, &part.names);
        refusals.extend(refused.into_iter().map(|(place, why)| Refusal {
            part: part.number,
            row: batch.parts[part.number].good[place],
            code: why.code,
            column: why.column,
            words: why.words,
            detail: why.detail,
        }));
        if let (Some(rows), None) = (&mut tables[part.table].rows, &merged) {
            *rows += (batch.parts[part.number].good.len() - refusals.len()) as u64;
        }
        all.extend(refusals);
    }
    if let Some(merged) = merged {
        merged.add(found);
        // A load that merges has most often one table.
        match tables {
            [table] => table.rows = table.rows.map(|rows| rows + found.new),
            tables => tables.iter_mut().for_each(|table| table.rows = None),
        }
    }
    Ok(all)
}
