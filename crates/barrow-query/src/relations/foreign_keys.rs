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
    pub says: Option<Says>,
    /// How many values there are.
    pub values: u64,
    /// How many of them differ.
    pub distinct: u64,
    /// How many of these stand in no key.
    pub missing: u64,
    /// Whether it is proposed: otherwise it is only mentioned.
    pub is_sure: bool,
    /// Why it is not proposed, where it holds and is not.
    pub why_not: &'static str,
}

impl Foreign {
    /// Whether it holds, or does for nearly all values.
    pub fn is_worth_a_word(&self) -> bool {
        self.missing == 0 || self.missing * 10 < self.distinct
    }

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

    /// What is said of one that is not proposed.
    pub fn note(&self, tables: &[Table]) -> String {
        let to = &tables[self.to];
        let (columns, key) = (self.columns.join(", "), self.key.join(", "));
        match self.missing {
            0 => format!(
                "perhaps {columns} refers to {} ({key}): {} are there; {}",
                to.name,
                counted(self.values, "value"),
                self.why_not
            ),
            missing => format!(
                "{columns} does not refer to {} ({key}): {} of {} are in no row there",
                to.name,
                number(missing),
                counted(self.distinct, "different value"),
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
                if foreign.is_worth_a_word() {
                    found.push(foreign);
                }
                if is_sure {
                    break;
                }
            }
        }
    }
    // A column that refers to one table is not proposed for another.
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
        let says = names::says(&column.name, &other.stem, key);
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
        if is_own_key && names::says(&column.name, &table.stem, key) == Some(Says::Table) {
            continue;
        }
        let by_values = column.ty.is_text()
            && target.ty.is_text()
            && column.distinct.count() >= TELLING
            && column.distinct.count() <= target.distinct.count()
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
    let mut foreign = Foreign {
        from,
        columns: vec![column.name.clone()],
        to,
        key: tables[to].key.clone(),
        says,
        values: column.values,
        distinct: column.distinct.count(),
        missing: 0,
        is_sure: false,
        why_not: "",
    };
    if let Some(values) = tables[to].values_of_key() {
        foreign.missing = asked.missing(column.distinct, values)?;
        foreign.is_sure = foreign.missing == 0;
    }
    if from != to || foreign.missing > 0 {
        return Ok(foreign);
    }
    // Each row must come after the one that it refers to, or with it.
    let (name, target) = (quoted(&column.name), quoted(&key));
    let sql = format!(
        "SELECT count(*) FROM (SELECT {name} AS c, _record AS at FROM t WHERE {name} IS NOT NULL) a \
         JOIN (SELECT {target} AS k, _record AS at FROM t) b ON a.c = b.k WHERE b.at > a.at"
    );
    let early = asked.numbers(from, &sql)?;
    // Records of several files are numbered in each of them.
    foreign.is_sure = early == [0] && asked.is_one_file(from);
    foreign.why_not =
        "rows may come before those that they refer to, so add it once all are loaded";
    Ok(foreign)
}

/// Removes those that would close a cycle: tables are filled one after the other.
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
