//! What the servers have in common: the tables of a load, and sending a batch's rows.

use std::ops::Range;

use barrow_core::flow::Batch;
use barrow_core::source::content::hash_of;

use crate::error::Error;
use crate::isolate::{Foreseen, PieceSize, Tried, Tries, isolate};
use crate::lines::Run;
use crate::merge::Merged;
use crate::order::Order;
use crate::{Column, Part, Refusal, Swap, Table};

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
    /// The server's words, in which a table beside has the name that it is to have.
    fn in_its_words(&self, words: String) -> String {
        let bare = |name: &str| {
            name.split_once('.')
                .map_or(name, |(_, bare)| bare)
                .to_string()
        };
        match &self.beside {
            Some(beside) => words.replace(&bare(beside), &bare(&self.name)),
            None => words,
        }
    }

    /// The name of the table that rows go into.
    pub fn filled(&self) -> String {
        self.beside.clone().unwrap_or_else(|| self.name.clone())
    }
}

/// What was counted when a file began, to go back to.
#[derive(Default)]
pub struct FileBegin {
    rows: Vec<Option<u64>>,
    merged: Option<Merged>,
}

impl FileBegin {
    /// What is counted now.
    pub fn of(tables: &[Loading], merged: Option<Merged>) -> FileBegin {
        FileBegin {
            rows: tables.iter().map(|table| table.rows).collect(),
            merged,
        }
    }

    /// Counts from there again; returns what was merged then.
    pub fn go_back(&self, tables: &mut [Loading]) -> Option<Merged> {
        let each = tables.iter_mut().zip(&self.rows);
        each.for_each(|(table, rows)| table.rows = *rows);
        self.merged
    }
}

/// The name of a table of ours beside another, in the same schema. It is short enough
/// for any server, and no two tables have the same.
pub fn beside(name: &str, ending: &str) -> String {
    let (schema, table) = match name.split_once('.') {
        Some((schema, table)) => (format!("{schema}."), table),
        None => (String::new(), name),
    };
    if table.len() <= LONGEST {
        return format!("{schema}{table}{ending}");
    }
    // The same from one version of the program to the next.
    let hash = hash_of(table.as_bytes());
    let fits = |(at, c): &(usize, char)| at + c.len_utf8() <= LONGEST;
    let short: String = table
        .char_indices()
        .take_while(fits)
        .map(|(_, c)| c)
        .collect();
    format!("{schema}{short}_{}{ending}", &hash[..8])
}

/// A table's name of so many bytes has room for an ending: PostgreSQL's names have 63
/// bytes, and the index of a key adds `_pkey`.
const LONGEST: usize = 28;

/// The tables that take others' places.
pub fn swaps(tables: &[Loading]) -> Vec<Swap> {
    let swaps = tables.iter().filter_map(|table| {
        Some(Swap {
            table: table.name.clone(),
            beside: table.beside.clone()?,
            old: beside(&table.name, "_barrow_old"),
        })
    });
    swaps.collect()
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
    /// Which rows must not be tried together with those before them, if any.
    pub order: Option<Order>,
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
pub fn take<T>(
    batches: &[Batch],
    parts: &mut [Sent<T>],
    tables: &mut [Loading],
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_beside_others_are_short_and_differ() {
        assert_eq!(beside("d", "_barrow_new"), "d_barrow_new");
        assert_eq!(beside("yard.d", "_barrow_new"), "yard.d_barrow_new");
        let long = |last: &str| beside(&format!("{}{last}", "ü".repeat(30)), "_barrow_new");
        assert!(long("a").len() + "_pkey".len() <= 63, "{}", long("a"));
        assert_ne!(long("a"), long("b"));
    }
}
