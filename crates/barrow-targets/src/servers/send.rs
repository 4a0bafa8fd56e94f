//! Sends the rows of batches to a server, kind by kind.

use std::ops::Range;

use super::loaded_table::LoadedTable;
use crate::encoded::EncodedBatch;
use crate::encoded::rows::Run;
use crate::error::Error;
use crate::isolate::{Foreseen, PieceSize, Tried, Tries, isolate};
use crate::job::Refusal;
use crate::merge::Merged;
use crate::order::Order;
use crate::record_table::{Column, RecordTable};
use crate::table::Table;

/// One kind of rows, and how it is sent.
pub struct Sender<T> {
    /// Which of a batch's parts it is.
    pub number: usize,
    /// The table's place among those of the load.
    pub table: usize,
    /// The columns, as the table writes them.
    pub names: Vec<String>,
    /// How many rows are tried at once.
    pub size: PieceSize,
    /// Which rows must not be tried together with those before them, if any.
    pub order: Option<Order>,
    /// What sends it.
    pub by: T,
}

/// A part with its columns named as the table names them.
pub fn named(part: &RecordTable, table: &Table) -> RecordTable {
    let column = |column: &Column| {
        let found = table.column(&column.name);
        Column {
            name: found.map_or(column.name.clone(), |found| found.name.clone()),
            ..column.clone()
        }
    };
    RecordTable {
        columns: part.columns.iter().map(column).collect(),
        ..part.clone()
    }
}

/// A server that rows are sent to by what `T` knows of their kind.
pub trait Sending<T> {
    /// Tries some rows of a part, and adds up what was merged.
    ///
    /// # Errors
    /// Whatever is not the fault of a row.
    fn send(
        &mut self,
        by: &mut T,
        lines: &Run<'_>,
        places: Range<usize>,
        merged: &mut Merged,
    ) -> Result<Tried, Error>;

    /// Tries some rows of a part without those that the server is likely to refuse
    /// ([`Tries::foresee`]).
    ///
    /// # Errors
    /// Whatever is not the fault of a row.
    fn foresee(
        &mut self,
        by: &mut T,
        lines: &Run<'_>,
        places: Range<usize>,
    ) -> Result<Foreseen, Error> {
        let _ = (by, lines, places);
        Ok(Foreseen::Nothing)
    }
}

/// A part's rows, on their way to a server.
struct Trying<'t, T> {
    to: &'t mut dyn Sending<T>,
    by: &'t mut T,
    lines: &'t Run<'t>,
    merged: &'t mut Merged,
}

impl<T> Tries for Trying<'_, T> {
    fn attempt(&mut self, rows: Range<usize>) -> Result<Tried, Error> {
        self.to.send(self.by, self.lines, rows, self.merged)
    }

    fn foresee(&mut self, rows: Range<usize>) -> Result<Foreseen, Error> {
        self.to.foresee(self.by, self.lines, rows)
    }
}

/// Sends the rows of batches, part by part, and returns those that were refused of each
/// batch.
///
/// # Errors
/// Whatever is not the fault of a row.
pub fn send<T>(
    batches: &[EncodedBatch],
    parts: &mut [Sender<T>],
    tables: &mut [LoadedTable],
    merged: &mut Option<Merged>,
    to: &mut dyn Sending<T>,
) -> Result<Vec<Vec<Refusal>>, Error> {
    let mut all: Vec<Vec<Refusal>> = batches.iter().map(|_| Vec::new()).collect();
    let mut found = Merged::default();
    for part in parts {
        let lines = Run::of(batches, part.number)?;
        let mut trying = Trying {
            to: &mut *to,
            by: &mut part.by,
            lines: &lines,
            merged: &mut found,
        };
        let mut refused = Vec::new();
        let mut next = 0;
        let ends = part
            .order
            .as_ref()
            .map_or(Vec::new(), |o| o.cuts(batches, part.number));
        for end in ends.into_iter().chain([lines.count()]) {
            refused.extend(isolate(next..end, &mut part.size, &mut trying)?);
            next = end;
        }
        let unfit = lines.refusals(&part.names);
        let lost = refused.len() + unfit.iter().map(Vec::len).sum::<usize>();
        if let (Some(rows), None) = (&mut tables[part.table].rows, &merged) {
            *rows += (lines.count() - lost) as u64;
        }
        all.iter_mut()
            .zip(unfit)
            .for_each(|(all, unfit)| all.extend(unfit));
        let tables_of = &tables[part.table];
        for (place, why) in refused {
            let (batch, row) = lines.row(place);
            all[batch].push(Refusal {
                part: part.number,
                row,
                code: why.code,
                column: why.column,
                words: tables_of.in_its_words(why.words),
                detail: why.detail,
            });
        }
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
