//! What SQLite would make of rows, without a row being inserted.

use barrow_core::escape::escape_for_display;

use super::insert::Inserter;
use super::{DIALECT, encode, types};
use crate::encoded::EncodedBatch;
use crate::error::Error;
use crate::fit;
use crate::foresight::Foresight;
use crate::job::Job;
use crate::record_table::RecordTable;
use crate::table::Table;

/// Whether a part's rows can go into a table.
///
/// # Errors
/// What does not fit.
pub fn fits(part: &RecordTable, table: &Table) -> Result<(), Error> {
    fit::check(part, table)?;
    check_affinities(part, table)
}

/// What finds the rows that tables would refuse, where `describe` says what there is.
pub fn foresight(
    job: &Job,
    mut describe: impl FnMut(&str) -> Result<Option<Table>, Error>,
) -> Result<Foresight, Error> {
    let mut foresight = Foresight::default();
    for part in &job.parts {
        let found = describe(&part.table)?.filter(|_| !job.makes_anew());
        let table = match found {
            Some(table) => table,
            None if !(job.create || job.makes_anew()) => continue,
            None => Table::as_made(part, DIALECT),
        };
        let inserter = Inserter::new(part, &table);
        let (encodings, number) = (inserter.encodings(), part.number);
        let encoder =
            Box::new(move |batch: &mut EncodedBatch| encode::encode(&encodings, number, batch));
        let unfit = Box::new(move |batch: &EncodedBatch| inserter.unfit(batch));
        foresight.add(part, &table, encoder, unfit);
    }
    Ok(foresight)
}

/// Text in a column that turns text into numbers would lose its zeros.
fn check_affinities(part: &RecordTable, table: &Table) -> Result<(), Error> {
    let altered: Vec<String> = part
        .columns
        .iter()
        .filter_map(|column| Some((column, table.column(&column.name)?)))
        .filter(|(column, found)| types::turns_into_numbers(column.ty, &found.declared))
        .map(|(_, found)| found)
        .map(|found| {
            format!(
                "{} ({})",
                escape_for_display(found.name.as_bytes()),
                escape_for_display(found.declared.as_bytes())
            )
        })
        .collect();
    if altered.is_empty() {
        return Ok(());
    }
    Err(Error::spec(format!(
        "SQLite would turn text that looks like a number into one, and 007 into 7, in {}",
        altered.join(", ")
    ))
    .advice("give these columns a number's type in the spec, or declare them TEXT in the table"))
}
