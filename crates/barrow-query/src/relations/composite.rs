//! Foreign keys of several columns: another table has a key of several, and this one columns of
//! the same names, of which one may have more to it: `winner_team` of a table whose key is of
//! `year` and `team`.

use barrow_run::Error;

use super::distinct::Collected;
use super::facts::{Asked, Column, Table};
use super::foreign_keys::Foreign;
use super::names::{self, Says};

/// A foreign key that may be: the other table, the columns, and what their names say.
struct Candidate<'t> {
    to: usize,
    columns: Vec<&'t str>,
    says: Says,
}

/// Foreign keys of several columns. Each table is read once more, at most.
///
/// # Errors
/// A file cannot be read.
pub fn find(asked: &mut Asked<'_>, tables: &[Table]) -> Result<Vec<Foreign>, Error> {
    let mut found = Vec::new();
    for from in 0..tables.len() {
        let candidates = candidates(tables, from);
        let mut sets: Vec<Vec<&str>> = Vec::new();
        for candidate in &candidates {
            if !sets.contains(&candidate.columns) {
                sets.push(candidate.columns.clone());
            }
        }
        if sets.is_empty() {
            continue;
        }
        let (_, collected) = asked.collect(from, &sets, false)?;
        for Candidate { to, columns, says } in candidates {
            let of = sets.iter().position(|set| *set == columns);
            let Some(Collected { values, distinct }) = of.map(|of| collected[of]) else {
                continue;
            };
            let key = tables[to].values_of_key().filter(|_| values > 0);
            let (Some(distinct), Some(key)) = (distinct, key) else {
                continue;
            };
            let missing = asked.missing(distinct, key)?;
            let foreign = Foreign {
                from,
                columns: columns.iter().map(|name| name.to_string()).collect(),
                to,
                key: tables[to].key.clone(),
                says: Some(says),
                values,
                distinct: distinct.count(),
                missing,
                is_sure: missing == 0,
                why_not: "",
            };
            let is_word = says == Says::Key && foreign.is_worth_a_word();
            if foreign.is_sure || is_word {
                found.push(foreign);
            }
        }
    }
    Ok(found)
}

fn candidates(tables: &[Table], from: usize) -> Vec<Candidate<'_>> {
    let table = &tables[from];
    let mut all = Vec::new();
    let keys = tables.iter().enumerate();
    for (to, other) in keys.filter(|(to, table)| *to != from && table.key.len() > 1) {
        for (columns, says) in alike(table, other) {
            // Of two tables with the same key, the one with fewer rows refers to the other.
            let is_own_key = columns.iter().eq(table.key.iter());
            let has_more = (table.rows, to) > (other.rows, from);
            if is_own_key && has_more {
                continue;
            }
            all.push(Candidate { to, columns, says });
        }
    }
    all
}

/// The columns of a table that are named as those of another table's key, each in its place: all
/// of them the same, or all but one, which begins or ends so.
fn alike<'t>(table: &'t Table, other: &Table) -> Vec<(Vec<&'t str>, Says)> {
    let same: Vec<Option<&Column>> = of_key(other)
        .map(|key| columns(table, key, |name, key| name == key).next())
        .collect();
    let mut found = Vec::new();
    if let Some(all) = same.iter().map(|c| c.map(|c| c.name.as_str())).collect() {
        found.push((all, Says::Key));
    }
    for (place, key) in of_key(other).enumerate() {
        let longer = |name: &str, key: &str| {
            key.len() > 2
                && name.len() > key.len()
                && (name.starts_with(key) || name.ends_with(key))
        };
        for column in columns(table, key, longer) {
            let each = same.iter().enumerate().map(|(at, c)| match at == place {
                true => Some(column.name.as_str()),
                false => c.map(|c| c.name.as_str()),
            });
            // None where another column of the key has no column here.
            if let Some(all) = each.collect() {
                found.push((all, Says::Ending));
            }
        }
    }
    found
}

fn of_key(table: &Table) -> impl Iterator<Item = &Column> {
    table.key.iter().filter_map(|name| table.column(name))
}

/// The columns of a table whose values can be those of a key's column, and whose names say so.
fn columns<'t>(
    table: &'t Table,
    key: &Column,
    says: impl Fn(&str, &str) -> bool,
) -> impl Iterator<Item = &'t Column> {
    let key_name = names::plain(&key.name);
    table
        .columns
        .iter()
        .filter(move |c| c.is_like(key) && says(&names::plain(&c.name), &key_name))
}
