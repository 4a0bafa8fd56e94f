//! Whether the rows' columns fit the table, found out before a record is read.

use barrow_core::spec::nearest::nearest;
use barrow_core::visible::visible;

use crate::error::Error;
use crate::table::Table;
use crate::{Column, Part};

/// Compares the columns of a kind of rows with the table's.
///
/// # Errors
/// Everything that would keep the rows out, in one error.
pub fn check(part: &Part, table: &Table) -> Result<(), Error> {
    let mut troubles: Vec<String> = Vec::new();
    for column in &part.columns {
        troubles.extend(trouble(column, table));
    }
    for column in table.columns.iter().filter(|c| c.required) {
        if !part
            .columns
            .iter()
            .any(|c| c.name.eq_ignore_ascii_case(&column.name))
        {
            troubles.push(format!(
                "{}: the table requires it and has no default, and the spec does not load it",
                visible(column.name.as_bytes())
            ));
        }
    }
    if troubles.is_empty() {
        return Ok(());
    }
    let names: Vec<_> = table
        .columns
        .iter()
        .map(|c| visible(c.name.as_bytes()))
        .collect();
    Err(Error::spec(format!(
        "the table {} does not fit the spec\n  {}\n  the table's columns: {}",
        visible(part.table.as_bytes()),
        troubles.join("\n  "),
        names.join(", ")
    )))
}

fn trouble(column: &Column, table: &Table) -> Option<String> {
    let name = visible(column.name.as_bytes());
    match table.column(&column.name) {
        Some(found) if found.generated => Some(format!(
            "{name}: the table computes it itself; say load = false"
        )),
        Some(_) => None,
        None => {
            let near = nearest(&column.name, table.columns.iter().map(|c| c.name.as_str()));
            let near = near.map(|n| format!("; the nearest is {}", visible(n.as_bytes())));
            Some(format!(
                "{name}: the table has no such column{}",
                near.unwrap_or_default()
            ))
        }
    }
}
