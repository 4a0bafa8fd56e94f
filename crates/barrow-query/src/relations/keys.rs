//! Columns that tell the rows of a table apart.

use barrow_run::Error;

use super::distinct::{Collected, Distinct};
use super::facts::{Asked, Column, Table, is_whole};
use super::foreign_keys::Foreign;
use super::names;

/// How many columns are tried in pairs and triples.
const TRIED: usize = 6;

/// From so many rows on, a column that is named for another table is its own table's key, too,
/// where no value comes twice.
const MANY: u64 = 20;

/// The key of each table that has one of a single column.
pub fn single(tables: &mut [Table]) {
    let names: Vec<String> = tables.iter().map(|table| table.stem.clone()).collect();
    for table in tables {
        let own = table.stem.clone();
        let others = || names.iter().filter(|name| **name != own);
        let is_of_other = |column: &Column| {
            let name = names::plain(&column.name);
            others().any(|other| names::begins_with_table(&name, other))
                && !names::begins_with_table(&name, &own)
        };
        let apart = table.columns.iter().enumerate();
        let mut apart: Vec<(u32, String)> = apart
            .filter(|(_, column)| column.tells_apart(table.rows))
            // A few rows prove little: there the name decides.
            .filter(|(_, column)| table.rows >= MANY || !is_of_other(column))
            .filter(|(_, column)| table.rows > 1 || names::has_ending(&names::plain(&column.name)))
            .filter_map(|(place, column)| {
                Some((weight(place, column, &table.stem)?, column.name.clone()))
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
pub fn composite(
    asked: &mut Asked<'_>,
    tables: &mut [Table],
    found: &[Foreign],
) -> Result<(), Error> {
    for place in 0..tables.len() {
        let table = &tables[place];
        if !table.key.is_empty() || table.rows < 2 {
            continue;
        }
        let sets = sets_of(place, tables, found);
        let names: Vec<Vec<&str>> = sets
            .iter()
            .map(|set| set.iter().map(|column| column.name.as_str()).collect())
            .collect();
        if names.is_empty() {
            continue;
        }
        let (rows, values) = asked.collect(place, &names, true)?;
        let all = |set: &Collected| set.distinct.filter(|values| values.count() == rows);
        let keys = values.iter().map(all).zip(&names);
        let mut keys: Vec<(Distinct, &Vec<&str>)> = keys
            .filter_map(|(values, names)| Some((values?, names)))
            .collect();
        // The fewest columns, then those that most other tables have: they refer to it.
        keys.sort_by_key(|(_, names)| {
            (names.len(), std::cmp::Reverse(shared(place, tables, names)))
        });
        let Some((values, names)) = keys.first() else {
            continue;
        };
        let key: Vec<String> = names.iter().map(|name| name.to_string()).collect();
        let key_values = Some(*values);
        tables[place].key = key;
        tables[place].key_values = key_values;
    }
    Ok(())
}

/// The sets of columns that may tell a table's rows apart, the likeliest first; each in the order
/// of the table.
fn sets_of<'t>(place: usize, tables: &'t [Table], found: &[Foreign]) -> Vec<Vec<&'t Column>> {
    let table = &tables[place];
    let refers = |name: &str| {
        found
            .iter()
            .any(|f| f.from == place && f.is_sure && f.columns.iter().any(|c| c == name))
    };
    let is_evident = |c: &Column| refers(&c.name) || names::is_of_key(&c.name, &table.stem);
    let may_be = |c: &Column| c.values == table.rows && c.distinct.count() > 1;
    let whole = table.columns.iter().enumerate().filter(|(_, c)| may_be(c));
    let mut tried: Vec<(usize, &Column)> = whole.collect();
    // Columns that refer to others first, then those that are named as keys.
    tried.sort_by_key(|(_, c)| (!refers(&c.name), !names::is_of_key(&c.name, &table.stem)));
    tried.truncate(TRIED);
    let mut sets: Vec<Vec<(usize, &Column)>> = Vec::new();
    for (first, a) in tried.iter().enumerate() {
        for (second, b) in tried.iter().enumerate().skip(first + 1) {
            sets.push(vec![*a, *b]);
            let thirds = tried.iter().skip(second + 1);
            sets.extend(thirds.map(|c| vec![*a, *b, *c]));
        }
    }
    sets.sort_by_key(Vec::len);
    let in_order = |mut set: Vec<(usize, &'t Column)>| -> Vec<&'t Column> {
        set.sort_unstable_by_key(|(at, _)| *at);
        set.into_iter().map(|(_, column)| column).collect()
    };
    let mut sets: Vec<Vec<&Column>> = sets.into_iter().map(in_order).collect();
    // Fewer ways than rows cannot tell them apart.
    let ways = |set: &[&Column]| {
        let each = set.iter().map(|c| c.distinct.count());
        each.fold(1u64, u64::saturating_mul)
    };
    sets.retain(|set| set.iter().any(|c| is_evident(c)) && ways(set) >= table.rows);
    sets
}

/// How many other tables have columns of all these names.
fn shared(place: usize, tables: &[Table], names: &[&str]) -> usize {
    let has = |table: &Table, name: &str| {
        let name = names::plain(name);
        table.columns.iter().any(|c| names::plain(&c.name) == name)
    };
    let others = tables
        .iter()
        .enumerate()
        .filter(|(other, _)| *other != place);
    others
        .filter(|(_, table)| names.iter().all(|name| has(table, name)))
        .count()
}
