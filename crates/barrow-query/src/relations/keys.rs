//! Columns that tell the rows of a table apart.

use barrow_run::Error;

use super::facts::{Asked, Column, Table, is_whole};
use super::foreign_keys::Foreign;
use super::names;
use crate::files::quoted;

/// So many columns are tried in twos and threes.
const TRIED: usize = 6;

/// From so many rows on, a column that is named for another table is its own table's key, too,
/// where no value comes twice.
const MANY: u64 = 20;

/// The key of each table that has one of a single column.
pub fn single(tables: &mut [Table]) {
    let names: Vec<String> = tables.iter().map(|table| table.name.clone()).collect();
    for table in tables {
        let own = table.name.clone();
        let others = || names.iter().filter(|name| **name != own);
        let is_of_other = |column: &Column| {
            let name = names::plain(&column.name);
            others().any(|other| names::begins_with_table(&name, other))
                && !names::begins_with_table(&name, &own)
        };
        let apart = table.columns.iter().enumerate();
        let mut apart: Vec<(u32, String)> = apart
            .filter(|(_, column)| column.tells_apart(table.rows))
            // A few rows tell little: there the name has to.
            .filter(|(_, column)| table.rows >= MANY || !is_of_other(column))
            .filter(|(_, column)| table.rows > 1 || names::has_ending(&names::plain(&column.name)))
            .filter_map(|(place, column)| {
                Some((weight(place, column, &table.name)?, column.name.clone()))
            })
            .collect();
        // The likeliest first, and of these the first in the file.
        apart.sort_by_key(|(weight, _)| std::cmp::Reverse(*weight));
        let mut found = apart.into_iter().map(|(_, name)| name);
        table.key = found.next().into_iter().collect();
        table.other_keys = found.collect();
    }
}

/// How likely a column is the key that people mean; none where it only happens to tell rows
/// apart.
fn weight(place: usize, column: &Column, table: &str) -> Option<u32> {
    let is_named = names::is_of_key(&column.name, table);
    let is_first = place == 0;
    let may_be =
        is_whole(column.ty) || column.ty.is_text() || column.ty == barrow_core::types::Type::Uuid;
    if !may_be || !(is_named || is_first) {
        return None;
    }
    let name = names::plain(&column.name);
    let is_of_table =
        name == "id" || (names::has_ending(&name) && names::begins_with_table(&name, table));
    Some(
        4 * u32::from(is_of_table && is_named)
            + 3 * u32::from(is_first)
            + 2 * u32::from(is_named)
            + u32::from(is_whole(column.ty)),
    )
}

/// The key of each table that has one of two or three columns, where no single one will do.
///
/// # Errors
/// A file cannot be read.
pub fn composite(asked: &Asked<'_>, tables: &mut [Table], found: &[Foreign]) -> Result<(), Error> {
    for (place, table) in tables.iter_mut().enumerate() {
        if !table.key.is_empty() || table.rows < 2 {
            continue;
        }
        let refers = |name: &str| {
            found
                .iter()
                .any(|f| f.from == place && f.is_sure && f.columns.iter().any(|c| c == name))
        };
        let whole = table
            .columns
            .iter()
            .filter(|c| c.values == table.rows && c.distinct > 1);
        let mut tried: Vec<&Column> = whole.collect();
        // Columns that refer to others first, then those that are named as keys.
        tried.sort_by_key(|c| (!refers(&c.name), !names::is_of_key(&c.name, &table.name)));
        tried.truncate(TRIED);
        let is_evident = |names: &[&Column]| {
            let evident = names
                .iter()
                .filter(|c| refers(&c.name) || names::is_of_key(&c.name, &table.name));
            evident.count() > 0
        };
        let mut sets: Vec<Vec<&Column>> = Vec::new();
        for (first, a) in tried.iter().enumerate() {
            for (second, b) in tried.iter().enumerate().skip(first + 1) {
                sets.push(vec![a, b]);
                let thirds = tried.iter().skip(second + 1);
                sets.extend(thirds.map(|c| vec![*a, *b, *c]));
            }
        }
        sets.sort_by_key(Vec::len);
        for set in sets.iter().filter(|set| is_evident(set)) {
            // Fewer ways than rows cannot tell them apart.
            let ways = set
                .iter()
                .fold(1u64, |all, c| all.saturating_mul(c.distinct));
            if ways < table.rows {
                continue;
            }
            let names: Vec<String> = set.iter().map(|c| quoted(&c.name)).collect();
            let sql = format!(
                "SELECT count(*) FROM (SELECT DISTINCT {} FROM t0)",
                names.join(", ")
            );
            if asked.count(&[place], &sql)? == table.rows {
                let is_in = |c: &&Column| set.iter().any(|own| own.name == c.name);
                table.key = table
                    .columns
                    .iter()
                    .filter(is_in)
                    .map(|c| c.name.clone())
                    .collect();
                break;
            }
        }
    }
    Ok(())
}
