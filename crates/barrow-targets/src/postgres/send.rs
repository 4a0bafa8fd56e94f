//! Sending rows, and what the server made of them.

use std::ops::Range;

use barrow_core::reason::Code;
use postgres::Client;

use super::connect::Postgres;
use super::copy::copy;
pub use super::copy::{Copier, keep, stream};
use super::copy::{reason, take_back};
use super::encode::Field;
use super::predict::predict;
use crate::encoded::EncodedBatch;
use crate::encoded::rows;
use crate::encoded::rows::Run;
use crate::error::Error;
use crate::isolate::{Foreseen, Refused, Tried};
use crate::merge::{self, Merged};
use crate::servers::send::Sending;

impl Sending<Copier> for Postgres {
    fn send(
        &mut self,
        copier: &mut Copier,
        lines: &Run<'_>,
        places: Range<usize>,
        merged: &mut Merged,
    ) -> Result<Tried, Error> {
        send(&mut self.client, copier, lines, places, merged)
    }

    fn foresee(
        &mut self,
        copier: &mut Copier,
        lines: &Run<'_>,
        places: Range<usize>,
    ) -> Result<Foreseen, Error> {
        predict(&mut self.client, copier, lines, &places)
    }
}

/// Sends some rows, under the savepoint that stands: all of them, or none.
fn send(
    client: &mut Client,
    copier: &mut Copier,
    lines: &Run<'_>,
    places: Range<usize>,
    merged: &mut Merged,
) -> Result<Tried, Error> {
    let (bytes, count) = lines.rows(places.clone());
    if count == 0 {
        return Ok(Tried::Done);
    }
    let copied = copier.copied.take();
    let copied = copied.unwrap_or_else(|| copy(client, &copier.copy, &bytes));
    let sent = copied.and_then(|copied| match &copier.merge {
        None => Ok((copied, Merged::default())),
        Some(statements) => run_merge(client, statements, copied),
    });
    let why = match sent {
        Ok((copied, found)) if copied == count => {
            keep(client)?;
            merged.add(found);
            return Ok(Tried::Done);
        }
        Ok(_) => Refused {
            at: None,
            is_certain: false,
            code: Code::Refused,
            column: None,
            words: merge::PASSED_OVER.into(),
            detail: None,
        },
        Err(error) => {
            if copier.merge.is_none() {
                copier.suspects.learn(&error);
            }
            reason(&error)?
        }
    };
    take_back(client, "barrow")?;
    // A row that was only put down twice goes in once it comes alone.
    let at = why.at.filter(|_| copier.merge.is_none());
    let at = at.and_then(|at| lines.sent(places.clone(), at));
    Ok(Tried::Refused(Refused {
        at: at.map(|place| place - places.start),
        ..why
    }))
}

/// Merges the staged rows, and returns how many of them are in the table.
fn run_merge(
    client: &mut Client,
    statements: &merge::Statements,
    count: u64,
) -> Result<(u64, Merged), postgres::Error> {
    // Each row alone comes after all before it.
    if count > 1 && counted(client, &statements.clash)? > 0 {
        return Ok((0, Merged::default()));
    }
    let differ = counted(client, &statements.differ)?;
    let changed = match &statements.update {
        Some(update) => client.execute(update.as_str(), &[])?,
        None => 0,
    };
    let new = client.execute(statements.insert.as_str(), &[])?;
    let lost = counted(client, &statements.lost)? + differ.saturating_sub(changed);
    client.batch_execute(&statements.clear)?;
    let merged = Merged::of(count, new, changed);
    Ok((count.saturating_sub(lost), merged))
}

/// What a statement counts, where there is one.
fn counted(client: &mut Client, sql: &Option<String>) -> Result<u64, postgres::Error> {
    match sql {
        Some(sql) => {
            let row = client.query_one(sql.as_str(), &[])?;
            let count = row.try_get::<_, i64>(0);
            Ok(count.or_else(|_| row.try_get::<_, i32>(0).map(i64::from))? as u64)
        }
        None => Ok(0),
    }
}

/// Puts a batch's rows of one part into the form of a binary COPY.
pub fn encode(batch: &mut EncodedBatch, number: usize, fields: &[Field]) {
    let count = (fields.len() as i16).to_be_bytes();
    rows::encode(batch, number, |batch, row, out| {
        let rows = &batch.parts[number];
        out.extend_from_slice(&count);
        for (column, field) in fields.iter().enumerate() {
            let cell = rows.cell(column, row);
            field
                .put(cell, &batch.block.bytes, &rows.store, out)
                .map_err(|fault| (column, fault))?;
        }
        Ok(())
    });
}
