//! Whether a table can be merged into by a key.

use barrow_core::escape::escape_for_display;

use crate::dialect::Dialect;
use crate::error::Error;
use crate::record_table::RecordTable;

/// Holds a part's key against the sets of columns that are unique in its table.
///
/// # Errors
/// None of them is the key: two rows of the table might have it.
pub fn check(dialect: Dialect, part: &RecordTable, unique: &[Vec<String>]) -> Result<(), Error> {
    let has = |names: &[String], name: &String| names.iter().any(|n| n.eq_ignore_ascii_case(name));
    let is_key = |names: &Vec<String>| {
        names.len() == part.key.len() && part.key.iter().all(|name| has(names, name))
    };
    if unique.iter().any(is_key) {
        return Ok(());
    }
    let names: Vec<_> = part
        .key
        .iter()
        .map(|name| escape_for_display(name.as_bytes()))
        .collect();
    Err(Error::spec(format!(
        "two rows of the table {} may have the same {}, so rows cannot be merged by it",
        escape_for_display(part.table.as_bytes()),
        names.join(", ")
    ))
    .advice(format!(
        "make the key unique in the table: CREATE UNIQUE INDEX {} ON {} ({})",
        dialect.quoted(&format!(
            "{}_key",
            part.table.rsplit('.').next().unwrap_or_default()
        )),
        dialect.table(&part.table),
        part.key
            .iter()
            .map(|name| dialect.quoted(name))
            .collect::<Vec<_>>()
            .join(", ")
    )))
}
