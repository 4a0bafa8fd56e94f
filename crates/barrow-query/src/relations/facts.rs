//! What is known of tables: how many values each column has, and how many of them differ.

use std::path::Path;

use barrow_core::types::Type;
use barrow_run::draft::each::FileKind;
use barrow_run::{Error, Spec};
use rusqlite::types::Value;

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
    /// How many of them differ.
    pub distinct: u64,
}

/// A table.
#[derive(Debug, Clone)]
pub struct Table {
    /// Its name.
    pub name: String,
    /// How many rows it has.
    pub rows: u64,
    /// The columns whose values may tell rows apart.
    pub columns: Vec<Column>,
    /// The columns that do; none where none do.
    pub key: Vec<String>,
    /// Others that do so, too.
    pub other_keys: Vec<String>,
}

impl Table {
    /// A column by its name.
    pub fn column(&self, name: &str) -> Option<&Column> {
        self.columns.iter().find(|column| column.name == name)
    }
}

impl Column {
    /// Whether it has a value in each of so many rows, and none twice.
    pub fn tells_apart(&self, rows: u64) -> bool {
        rows > 0 && self.values == rows && self.distinct == rows
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
}

impl<'k> Asked<'k> {
    /// These files.
    pub fn new(kinds: &'k [FileKind], threads: Option<usize>) -> Asked<'k> {
        Asked { kinds, threads }
    }

    /// Whether a table has the rows of one file.
    pub fn is_one_file(&self, place: usize) -> bool {
        self.kinds[place].files.len() == 1
    }

    /// The rows of a query to some of the tables, which have the names `t0`, `t1`, …
    ///
    /// # Errors
    /// A file cannot be read.
    pub fn rows(&self, tables: &[usize], sql: &str) -> Result<Vec<Vec<Value>>, Error> {
        let mut query = Query::new(sql).threads(self.threads);
        for (number, place) in tables.iter().enumerate() {
            let kind = &self.kinds[*place];
            // The files as they were named: the spec's folder need not be there yet.
            let spec = Spec::of_text(&kind.path, &kind.text, Path::new(""))?;
            query = query.spec(spec, &kind.files, Some(&format!("t{number}")))?;
        }
        let mut rows = Vec::new();
        query.open()?.rows(&mut |row| {
            rows.push(row.to_vec());
            true
        })?;
        Ok(rows)
    }

    /// The first number of a query's answer.
    ///
    /// # Errors
    /// As [`Asked::rows`].
    pub fn count(&self, tables: &[usize], sql: &str) -> Result<u64, Error> {
        let rows = self.rows(tables, sql)?;
        Ok(rows.first().and_then(|row| row.first()).map_or(0, number))
    }

    /// All tables, with what is counted of their columns.
    ///
    /// # Errors
    /// As [`Asked::rows`].
    pub fn tables(&self) -> Result<Vec<Table>, Error> {
        (0..self.kinds.len())
            .map(|place| self.table(place))
            .collect()
    }

    fn table(&self, place: usize) -> Result<Table, Error> {
        let kind = &self.kinds[place];
        let mut table = Table {
            name: kind.table.clone(),
            rows: 0,
            columns: Vec::new(),
            key: Vec::new(),
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
        let counted = fit.iter().map(|column| {
            let name = quoted(&column.name);
            format!(", count({name}), count(DISTINCT {name})")
        });
        let counted: String = counted.collect();
        let rows = self.rows(&[place], &format!("SELECT count(*){counted} FROM t0"))?;
        let Some(row) = rows.first() else {
            return Ok(table);
        };
        table.rows = row.first().map_or(0, number);
        for (column, found) in fit.iter().zip(row[1..].chunks(2)) {
            table.columns.push(Column {
                name: column.name.clone(),
                ty: column.choice.ty,
                values: number(&found[0]),
                distinct: number(&found[1]),
            });
        }
        Ok(table)
    }
}

fn number(value: &Value) -> u64 {
    match value {
        Value::Integer(n) => u64::try_from(*n).unwrap_or(0),
        _ => 0,
    }
}
