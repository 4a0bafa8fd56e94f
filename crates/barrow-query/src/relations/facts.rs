//! What is known of tables: how many values each column has, and how many of them differ.

use std::path::Path;

use barrow_core::types::Type;
use barrow_run::draft::each::FileKind;
use barrow_run::{Error, Spec};
use rusqlite::types::Value;

use super::distinct::{self, Collected, Collector, Distinct, Scratch};
use super::names;
use crate::Query;
use crate::files::quoted;

/// A column, and what was counted of it.
#[derive(Debug, Clone)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// Its type.
    pub ty: Type,
    /// How many values it has that are not null.
    pub values: u64,
    /// Those of them that differ.
    pub distinct: Distinct,
}

/// A table.
#[derive(Debug, Clone)]
pub struct Table {
    /// Its name.
    pub name: String,
    /// The name without what many tables' names begin or end with.
    pub stem: String,
    /// How many rows it has.
    pub rows: u64,
    /// The columns whose values may tell rows apart.
    pub columns: Vec<Column>,
    /// The columns that do; none where none do.
    pub key: Vec<String>,
    /// The values of a key of several columns.
    pub key_values: Option<Distinct>,
    /// Others that do so, too.
    pub other_keys: Vec<String>,
}

impl Table {
    /// A column by its name.
    pub fn column(&self, name: &str) -> Option<&Column> {
        self.columns.iter().find(|column| column.name == name)
    }

    /// The values that tell its rows apart.
    pub fn values_of_key(&self) -> Option<Distinct> {
        match self.key.as_slice() {
            [one] => self.column(one).map(|column| column.distinct),
            _ => self.key_values,
        }
    }
}

impl Column {
    /// Whether it has a value in each of so many rows, and none twice.
    pub fn tells_apart(&self, rows: u64) -> bool {
        rows > 0 && self.values == rows && self.distinct.count() == rows
    }

    /// Whether its values can be those of another column.
    pub fn is_like(&self, other: &Column) -> bool {
        (is_whole(self.ty) && is_whole(other.ty))
            || (self.ty.is_text() && other.ty.is_text())
            || self.ty == other.ty
    }
}

/// Whether it is a type of whole numbers.
pub fn is_whole(ty: Type) -> bool {
    matches!(ty, Type::SmallInt | Type::Integer | Type::BigInt)
}

/// Types whose values keys are made of.
fn may_be_key(ty: Type) -> bool {
    is_whole(ty)
        || matches!(
            ty,
            Type::Char(_) | Type::VarChar(_) | Type::Uuid | Type::Date | Type::Timestamp
        )
}

/// Files that are asked by the drafts of their specs.
pub struct Asked<'k> {
    kinds: &'k [FileKind],
    threads: Option<usize>,
    scratch: Scratch,
}

impl<'k> Asked<'k> {
    /// These files.
    ///
    /// # Errors
    /// The system's folder for files of the moment cannot be written.
    pub fn new(kinds: &'k [FileKind], threads: Option<usize>) -> Result<Asked<'k>, Error> {
        Ok(Asked {
            kinds,
            threads,
            scratch: Scratch::new().map_err(|e| on_disk(&e))?,
        })
    }

    /// Whether a table has the rows of one file.
    pub fn is_one_file(&self, place: usize) -> bool {
        self.kinds[place].files.len() == 1
    }

    /// The one row of a query to one of the tables, which has the name `t`: its numbers.
    ///
    /// # Errors
    /// A file cannot be read.
    pub fn numbers(&self, place: usize, sql: &str) -> Result<Vec<u64>, Error> {
        let mut numbers = Vec::new();
        rows(&self.kinds[place], self.threads, sql, &mut |row| {
            numbers = row.iter().map(number).collect();
            false
        })?;
        Ok(numbers)
    }

    /// How many values of one column, or of several together, are not among others.
    ///
    /// # Errors
    /// What was put on disk cannot be read.
    pub fn missing(&self, own: Distinct, others: Distinct) -> Result<u64, Error> {
        let missing = own.missing_in(others, &self.scratch);
        missing.map_err(|e| on_disk(&e))
    }

    /// Reads a table once, and collects the values of its columns, each by itself or several
    /// together, in the order of `sets`. Where they are to tell rows apart, those that do not
    /// have none. The first number is how many rows it has.
    ///
    /// # Errors
    /// A file cannot be read, or what it needs on disk cannot be written.
    pub fn collect(
        &mut self,
        place: usize,
        sets: &[Vec<&str>],
        tell_apart: bool,
    ) -> Result<(u64, Vec<Collected>), Error> {
        let mut names: Vec<&str> = Vec::new();
        let mut place_of = |name| match names.iter().position(|known| *known == name) {
            Some(place) => place,
            None => {
                names.push(name);
                names.len() - 1
            }
        };
        let places: Vec<Vec<usize>> = sets
            .iter()
            .map(|set| set.iter().map(|name| place_of(*name)).collect())
            .collect();
        let mut collectors: Vec<Collector> = sets
            .iter()
            .map(|_| match tell_apart {
                true => Collector::one_of(sets.len()).ends_when_doubled(),
                false => Collector::one_of(sets.len()),
            })
            .collect();
        let quoted: Vec<String> = names.iter().map(|name| quoted(name)).collect();
        // A table without such columns has rows, too.
        let columns = match quoted.is_empty() {
            true => "1".to_string(),
            false => quoted.join(", "),
        };
        let sql = format!("SELECT {columns} FROM t");
        let (mut count, mut wrong) = (0, None);
        let mut prints = Vec::with_capacity(names.len());
        rows(&self.kinds[place], self.threads, &sql, &mut |row| {
            count += 1;
            prints.clear();
            prints.extend(row.iter().map(distinct::of_value));
            for (places, collector) in places.iter().zip(&mut collectors) {
                let Some(print) = distinct::of_several(&prints, places) else {
                    continue;
                };
                if let Err(error) = collector.take(print, &mut self.scratch) {
                    wrong = Some(error);
                    return false;
                }
            }
            true
        })?;
        if let Some(error) = wrong {
            return Err(on_disk(&error));
        }
        let finished = collectors.into_iter().map(|c| c.finish(&mut self.scratch));
        let finished: Result<Vec<_>, _> = finished.collect();
        Ok((count, finished.map_err(|e| on_disk(&e))?))
    }

    /// All tables, with what is counted of their columns.
    ///
    /// # Errors
    /// As [`Asked::collect`].
    pub fn tables(&mut self) -> Result<Vec<Table>, Error> {
        let names: Vec<&str> = self.kinds.iter().map(|kind| kind.table.as_str()).collect();
        let stems = names::stems(&names);
        stems
            .iter()
            .enumerate()
            .map(|(place, stem)| self.table(place, stem))
            .collect()
    }

    fn table(&mut self, place: usize, stem: &str) -> Result<Table, Error> {
        let kinds = self.kinds;
        let kind = &kinds[place];
        let mut table = Table {
            name: kind.table.clone(),
            stem: stem.to_string(),
            rows: 0,
            columns: Vec::new(),
            key: Vec::new(),
            key_values: None,
            other_keys: Vec::new(),
        };
        // Several record types are several tables, whose rows are not told apart here.
        if kind.drafted.shape.has_types() {
            return Ok(table);
        }
        let columns = kind.drafted.columns.iter();
        let fit: Vec<_> = columns
            .filter(|c| may_be_key(c.choice.ty) && !c.is_nothing)
            .collect();
        let sets: Vec<Vec<&str>> = fit.iter().map(|c| vec![c.name.as_str()]).collect();
        let (rows, found) = self.collect(place, &sets, false)?;
        table.rows = rows;
        for (column, collected) in fit.iter().zip(found) {
            let Some(distinct) = collected.distinct else {
                continue;
            };
            table.columns.push(Column {
                name: column.name.clone(),
                ty: column.choice.ty,
                values: collected.values,
                distinct,
            });
        }
        Ok(table)
    }
}

/// Gives the rows of a query to a kind of file, which has the name `t`, until `give` has had
/// enough.
fn rows(
    kind: &FileKind,
    threads: Option<usize>,
    sql: &str,
    give: &mut dyn FnMut(&[Value]) -> bool,
) -> Result<(), Error> {
    // The files as they were named: the spec's folder need not be there yet.
    let spec = Spec::of_text(&kind.path, &kind.text, Path::new(""))?;
    let query = Query::new(sql).threads(threads);
    let query = query.spec(spec, &kind.files, Some("t"))?;
    query.open()?.rows(give).map(|_| ())
}

fn number(value: &Value) -> u64 {
    match value {
        Value::Integer(n) => u64::try_from(*n).unwrap_or(0),
        _ => 0,
    }
}

fn on_disk(error: &std::io::Error) -> Error {
    let folder = std::env::temp_dir();
    Error::file(&folder, error)
}
