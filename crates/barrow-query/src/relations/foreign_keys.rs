//! Columns whose values all stand in the key of another table.

use barrow_core::plan::Reference;
use barrow_run::Error;
use barrow_run::draft::related::ForeignKey;
use barrow_run::words::{counted, number};

use super::facts::{Asked, Column, Table};
use super::names::{self, Says};
use crate::files::quoted;

/// Texts tell by their values alone where so many differ.
const TELLING: u64 = 3;

/// A foreign key that may be.
#[derive(Debug, Clone)]
pub struct Foreign {
    /// The table, by its place.
    pub from: usize,
    /// Its columns.
    pub columns: Vec<String>,
    /// The table that is referred to.
    pub to: usize,
    /// Its key.
    pub key: Vec<String>,
    /// What the name says; nothing where the values alone tell.
    says: Option<Says>,
    /// How many values there are.
    values: u64,
    /// How many of them stand in no key.
    missing: u64,
    /// Whether it is one: else it is only told.
    pub is_sure: bool,
    /// Why it is not put down, where it holds and is not.
    why_not: &'static str,
}

impl Foreign {
    /// As it goes into the draft.
    pub fn in_words(&self, tables: &[Table]) -> ForeignKey {
        let to = &tables[self.to];
        let values = match self.values {
            1 => "the one value".to_string(),
            values => format!("all {}", counted(values, "value")),
        };
        ForeignKey {
            reference: Reference {
                columns: self.columns.clone(),
                table: to.name.clone(),
                to: self.key.clone(),
            },
            evidence: format!(
                "{values} of {} among the {} of {}",
                self.columns.join(", "),
                counted(to.rows, "key"),
                to.name
            ),
        }
    }

    /// What is told of one that is not put down.
    pub fn note(&self, tables: &[Table]) -> String {
        let to = &tables[self.to];
        let (columns, key) = (self.columns.join(", "), self.key.join(", "));
        match self.missing {
            0 => format!(
                "perhaps {columns} refers to {} ({key}): {} stand there; {}",
                to.name,
                counted(self.values, "value"),
                self.why_not
            ),
            missing => format!(
                "{columns} does not refer to {} ({key}): {} of {} stand in no row there",
                to.name,
                number(missing),
                counted(self.values, "value"),
            ),
        }
    }
}

/// Foreign keys of one column.
///
/// # Errors
/// A file cannot be read.
pub fn find(asked: &Asked<'_>, tables: &[Table]) -> Result<Vec<Foreign>, Error> {
    let mut found = Vec::new();
    for (from, table) in tables.iter().enumerate() {
        for column in table.columns.iter().filter(|column| column.values > 0) {
            let mut candidates = candidates(tables, from, column);
            // What the name says most clearly first.
            candidates.sort_by_key(|(says, _)| std::cmp::Reverse(*says));
            for (says, to) in candidates {
                let foreign = tried(asked, tables, (from, column), (says, to))?;
                let is_sure = foreign.is_sure;
                if is_sure || foreign.missing == 0 || foreign.missing * 10 < foreign.values {
                    found.push(foreign);
                }
                if is_sure {
                    break;
                }
            }
        }
    }
    // A column that refers to one table needs no word on another.
    let sure: Vec<(usize, Vec<String>)> = found
        .iter()
        .filter(|f| f.is_sure)
        .map(|f| (f.from, f.columns.clone()))
        .collect();
    found.retain(|f| {
        f.is_sure
            || !sure
                .iter()
                .any(|(from, columns)| *from == f.from && *columns == f.columns)
    });
    Ok(found)
}

/// The tables that a column may refer to, with what its name says.
fn candidates(tables: &[Table], from: usize, column: &Column) -> Vec<(Option<Says>, usize)> {
    let table = &tables[from];
    let mut all = Vec::new();
    for (to, other) in tables.iter().enumerate() {
        let [key] = other.key.as_slice() else {
            continue;
        };
        let Some(target) = other.column(key) else {
            continue;
        };
        if (to == from && *key == column.name) || !column.is_like(target) {
            continue;
        }
        let says = names::says(&column.name, &other.name, key);
        if to == from {
            if names::is_of_own_table(&column.name) || says == Some(Says::Ending) {
                all.push((Some(Says::Ending), to));
            }
            continue;
        }
        // The key of a table is that of another only where the name says so of the table.
        let is_own_key = table.key == [column.name.clone()];
        if is_own_key && says != Some(Says::Table) {
            continue;
        }
        // Of two tables with the same key, the one that it is named for has it.
        if is_own_key && names::says(&column.name, &table.name, key) == Some(Says::Table) {
            continue;
        }
        let by_values = column.ty.is_text()
            && target.ty.is_text()
            && column.distinct >= TELLING
            && column.distinct <= target.distinct
            && !names::is_generic(&column.name);
        if says.is_some() || by_values {
            all.push((says, to));
        }
    }
    all
}

/// Looks whether all values stand there.
fn tried(
    asked: &Asked<'_>,
    tables: &[Table],
    (from, column): (usize, &Column),
    (says, to): (Option<Says>, usize),
) -> Result<Foreign, Error> {
    let key = tables[to].key[0].clone();
    let (name, target) = (quoted(&column.name), quoted(&key));
    let mut foreign = Foreign {
        from,
        columns: vec![column.name.clone()],
        to,
        key: vec![key],
        says,
        values: column.values,
        missing: 0,
        is_sure: false,
        why_not: "",
    };
    if from == to {
        // Each row must come after the one that it refers to, or with it.
        let sql = format!(
            "SELECT count(*), sum(b.at IS NULL), sum(b.at > a.at) FROM (SELECT {name} AS c, \
             _record AS at FROM t0 WHERE {name} IS NOT NULL) a LEFT JOIN (SELECT {target} AS k, \
             _record AS at FROM t0) b ON a.c = b.k"
        );
        let rows = asked.rows(&[from], &sql)?;
        let of = |place: usize| match rows.first().and_then(|row| row.get(place)) {
            Some(rusqlite::types::Value::Integer(n)) => u64::try_from(*n).unwrap_or(0),
            _ => 0,
        };
        foreign.missing = of(1);
        // Records of several files are numbered in each of them.
        foreign.is_sure = foreign.missing == 0 && of(2) == 0 && asked.is_one_file(from);
        foreign.why_not =
            "rows may come before those that they refer to, so add it once all are loaded";
        return Ok(foreign);
    }
    let sql = format!(
        "SELECT count(*) FROM t0 WHERE {name} IS NOT NULL AND {name} NOT IN (SELECT {target} FROM t1)"
    );
    foreign.missing = asked.count(&[from, to], &sql)?;
    foreign.is_sure = foreign.missing == 0;
    Ok(foreign)
}

/// Foreign keys of several columns: those that another table's key has by the same names.
///
/// # Errors
/// A file cannot be read.
pub fn of_composite_keys(
    asked: &Asked<'_>,
    tables: &[Table],
    found: &mut Vec<Foreign>,
) -> Result<(), Error> {
    for (to, other) in tables
        .iter()
        .enumerate()
        .filter(|(_, table)| table.key.len() > 1)
    {
        for (from, table) in tables.iter().enumerate().filter(|(from, _)| *from != to) {
            let has = |key: &String| {
                table
                    .columns
                    .iter()
                    .find(|c| names::plain(&c.name) == names::plain(key))
            };
            let columns: Option<Vec<&Column>> = other.key.iter().map(has).collect();
            let Some(columns) = columns else { continue };
            // A part of one's own key that is the other's is no reference to it, both ways.
            let same = columns.iter().map(|c| c.name.clone()).collect::<Vec<_>>() == table.key;
            if same && (other.rows < table.rows || from < to) {
                continue;
            }
            let pairs: Vec<String> = columns
                .iter()
                .zip(&other.key)
                .map(|(c, key)| format!("b.{} = a.{}", quoted(key), quoted(&c.name)))
                .collect();
            let whole: Vec<String> = columns
                .iter()
                .map(|c| format!("a.{} IS NOT NULL", quoted(&c.name)))
                .collect();
            let sql = format!(
                "SELECT count(*) FROM t0 a WHERE {} AND NOT EXISTS (SELECT 1 FROM t1 b WHERE {})",
                whole.join(" AND "),
                pairs.join(" AND ")
            );
            if asked.count(&[from, to], &sql)? == 0 {
                found.push(Foreign {
                    from,
                    columns: columns.iter().map(|c| c.name.clone()).collect(),
                    to,
                    key: other.key.clone(),
                    says: Some(Says::Key),
                    values: table.rows,
                    missing: 0,
                    is_sure: true,
                    why_not: "",
                });
            }
        }
    }
    Ok(())
}

/// Takes down those that would close a circle: tables are filled one after the other.
pub fn without_circles(tables: &[Table], found: &mut [Foreign]) {
    let mut order: Vec<usize> = (0..found.len())
        .filter(|at| found[*at].is_sure && found[*at].from != found[*at].to)
        .collect();
    let has_null = |f: &Foreign| f.values < tables[f.from].rows;
    order.sort_by_key(|at| (std::cmp::Reverse(found[*at].says), has_null(&found[*at])));
    let mut kept: Vec<(usize, usize)> = Vec::new();
    for at in order {
        let (from, to) = (found[at].from, found[at].to);
        match reaches(&kept, to, from) {
            true => {
                found[at].is_sure = false;
                found[at].why_not = "it would close a circle, so add it once all are loaded";
            }
            false => kept.push((from, to)),
        }
    }
}

/// Whether a table refers to another, if by way of others.
fn reaches(edges: &[(usize, usize)], start: usize, end: usize) -> bool {
    let mut next = vec![start];
    let mut seen = vec![start];
    while let Some(at) = next.pop() {
        if at == end {
            return true;
        }
        for (_, to) in edges.iter().filter(|(from, _)| *from == at) {
            if !seen.contains(to) {
                seen.push(*to);
                next.push(*to);
            }
        }
    }
    false
}
