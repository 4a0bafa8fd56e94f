//! Asks MariaDB what a table is like.

use barrow_core::escape::escape_for_display;
use barrow_core::words::Mode;
use mysql::prelude::Queryable;
use mysql::{Conn, Row};

use super::DIALECT;
use super::errors::explained;
use super::types::Declared;
use crate::error::Error;
use crate::record_table::{Column, RecordTable};
use crate::servers::load::ServerTable;
use crate::table::{Table, TableColumn};

/// A table with its columns' types as the server has them.
#[derive(Debug, Clone)]
pub struct Described {
    /// The table.
    pub table: Table,
    /// For each column, how it is declared.
    pub declared: Vec<Declared>,
    /// The engine that keeps it, if that one cannot undo.
    pub cannot_undo: Option<String>,
}

const FOUND: &str = "
SELECT t.TABLE_TYPE, COALESCE(t.ENGINE, ''), COALESCE(e.TRANSACTIONS, 'NO') = 'YES'
  FROM information_schema.TABLES t
  LEFT JOIN information_schema.ENGINES e ON e.ENGINE = t.ENGINE
 WHERE t.TABLE_SCHEMA = COALESCE(?, DATABASE()) AND t.TABLE_NAME = ?";

const COLUMNS: &str = "
SELECT COLUMN_NAME, COLUMN_TYPE, LOWER(DATA_TYPE), CHARACTER_MAXIMUM_LENGTH, NUMERIC_PRECISION,
       NUMERIC_SCALE, DATETIME_PRECISION, IS_NULLABLE = 'NO', COLUMN_DEFAULT IS NOT NULL,
       LOWER(EXTRA), COALESCE(GENERATION_EXPRESSION, '') <> '', LOWER(CHARACTER_SET_NAME)
  FROM information_schema.COLUMNS
 WHERE TABLE_SCHEMA = COALESCE(?, DATABASE()) AND TABLE_NAME = ?
 ORDER BY ORDINAL_POSITION";

const UNIQUE: &str = "
SELECT INDEX_NAME, COLUMN_NAME FROM information_schema.STATISTICS
 WHERE TABLE_SCHEMA = COALESCE(?, DATABASE()) AND TABLE_NAME = ? AND NON_UNIQUE = 0
 ORDER BY INDEX_NAME, SEQ_IN_INDEX";

const TRIGGERS: &str = "
SELECT COUNT(*) FROM information_schema.TRIGGERS
 WHERE EVENT_OBJECT_SCHEMA = COALESCE(?, DATABASE()) AND EVENT_OBJECT_TABLE = ?";

/// The table of this name; none where there is none.
pub fn describe(conn: &mut Conn, name: &str) -> Result<Option<Described>, Error> {
    let asking = |e: mysql::Error| explained(&e, "asking for the table's columns");
    let (schema, table) = match name.split_once('.') {
        Some((schema, table)) => (Some(schema.to_string()), table.to_string()),
        None => (None, name.to_string()),
    };
    let of = || (schema.clone(), table.clone());
    let found: Option<(String, String, bool)> = conn.exec_first(FOUND, of()).map_err(asking)?;
    let Some((kind, engine, undoes)) = found else {
        return Ok(None);
    };
    if !kind.contains("TABLE") && kind != "SYSTEM VERSIONED" {
        return Err(Error::spec(format!(
            "{} is a view; rows are loaded into tables",
            escape_for_display(name.as_bytes())
        )));
    }
    let mut columns = Vec::new();
    let mut declared = Vec::new();
    let rows: Vec<Row> = conn.exec(COLUMNS, of()).map_err(asking)?;
    for row in &rows {
        let (column, of) = column(row).ok_or_else(|| {
            Error::new("the server describes its columns in a way that is not known")
        })?;
        columns.push(column);
        declared.push(of);
    }
    let mut unique: Vec<(String, Vec<String>)> = Vec::new();
    let indexes: Vec<(String, String)> = conn.exec(UNIQUE, of()).map_err(asking)?;
    for (index, column) in indexes {
        match unique.last_mut() {
            Some((last, columns)) if *last == index => columns.push(column),
            _ => unique.push((index, vec![column])),
        }
    }
    let triggers: Option<u64> = conn.exec_first(TRIGGERS, of()).map_err(asking)?;
    Ok(Some(Described {
        table: Table {
            older_times: Vec::new(),
            own_parents: Vec::new(),
            columns,
            unique: unique.into_iter().map(|(_, columns)| columns).collect(),
            triggers: triggers != Some(0),
        },
        declared,
        cannot_undo: (!undoes).then_some(engine),
    }))
}

fn column(row: &Row) -> Option<(TableColumn, Declared)> {
    let number = |at: usize| row.get::<Option<u64>, _>(at).flatten();
    let truth = |at: usize| row.get::<bool, _>(at);
    let extra: String = row.get(9)?;
    let whole: String = row.get(1)?;
    let declared = Declared {
        words: words(&whole),
        not_null: truth(7)?,
        whole: whole.to_lowercase(),
        name: row.get(2)?,
        characters: number(3),
        precision: number(4),
        scale: number(5),
        digits: number(6),
        charset: row.get::<Option<String>, _>(11).flatten(),
        is_counter: extra.contains("auto_increment"),
    };
    // Those of a system's time too, which have no expression that counts as one.
    let is_generated = truth(10)? || extra.to_lowercase().contains("generated");
    let column = TableColumn {
        name: row.get(0)?,
        declared: declared.whole.clone(),
        ty: declared.spec_type(),
        required: truth(7)? && !truth(8)? && !declared.is_counter && !is_generated,
        generated: is_generated,
        numbered: declared.is_counter,
        not_null: declared.not_null,
    };
    Some((column, declared))
}

/// The words of `enum('a','it''s')`, which the server writes with quotes doubled.
fn words(declared: &str) -> Vec<String> {
    let is_list = ["enum(", "set("]
        .iter()
        .any(|start| declared.to_lowercase().starts_with(start));
    let mut words = Vec::new();
    let mut rest = declared;
    while let Some((_, after)) = rest.split_once('\'').filter(|_| is_list) {
        let mut word = String::new();
        let mut chars = after.char_indices().peekable();
        rest = "";
        while let Some((at, c)) = chars.next() {
            match c {
                '\'' if chars.next_if(|(_, next)| *next == '\'').is_none() => {
                    rest = &after[at + 1..];
                    break;
                }
                c => word.push(c),
            }
        }
        words.push(word);
    }
    words
}

impl Described {
    /// A table as a load would make it for a part.
    pub fn as_made(part: &RecordTable) -> Described {
        let declared = |column: &Column| Declared::made(column.ty, column.required);
        Described {
            table: Table::as_made(part, DIALECT),
            declared: part.columns.iter().map(declared).collect(),
            cannot_undo: None,
        }
    }

    /// How the column of this name is declared.
    pub fn declared(&self, name: &str) -> Option<&Declared> {
        self.declared.get(self.table.position(name)?)
    }
}

impl ServerTable for Described {
    fn table(&self) -> &Table {
        &self.table
    }

    fn takes(&self, column: &Column) -> bool {
        let declared = self.declared(&column.name);
        declared.is_some_and(|declared| declared.wire(column.ty).is_some())
    }

    fn advice(&self, declared: &str) -> &'static str {
        match declared.starts_with("timestamp") {
            true => "say timestamptz in the spec: a timestamp here is a moment in time",
            false => "give the column the table's type in the spec, or change the table",
        }
    }

    fn can_be_loaded(&self, _: Mode, part: &RecordTable) -> Result<(), Error> {
        match &self.cannot_undo {
            None => Ok(()),
            Some(engine) => Err(Error::spec(format!(
                "the table {} is kept by the engine {}, which cannot roll a load back",
                escape_for_display(part.table.as_bytes()),
                escape_for_display(engine.as_bytes())
            ))
            .advice("change it first: ALTER TABLE … ENGINE = InnoDB")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_words_of_a_list_are_read_letter_by_letter() {
        assert_eq!(words("enum('small','Big')"), ["small", "Big"]);
        assert_eq!(words("set('it''s','a,b','')"), ["it's", "a,b", ""]);
        assert_eq!(words("varchar(20)"), [""; 0]);
    }
}
