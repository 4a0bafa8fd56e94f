//! Rows out of SQLite: stepped through on one thread, typed on others.

use barrow_core::export::{RawValue, RowTyper};
use barrow_core::types::Type;
use rusqlite::Connection;

use super::describe::describe;
use super::errors::explained;
use super::moments::in_utc;
use super::raw::{self, BLOB, INTEGER, NULL, REAL, TEXT};
use super::{row_function, types};
use crate::error::Error;
use crate::query::Query;
use crate::query_rows::{RawRows, length, places, take, writes};
use crate::session::{Decoder, OpenQuery, Rows};

/// A query that is open.
struct Asked<'s> {
    connection: &'s Connection,
    sql: String,
    places: Vec<usize>,
    /// The statement that takes the rows itself, where one does.
    taking: Option<String>,
}

/// The names of a query's columns.
fn names(connection: &Connection, sql: &str) -> Result<Vec<String>, Error> {
    let statement = connection
        .prepare(sql)
        .map_err(|e| explained(&e, "asking the query"))?;
    if !statement.readonly() || statement.column_count() == 0 {
        return Err(writes());
    }
    Ok(statement.column_names().map(str::to_string).collect())
}

/// Opens a query, of which `sql` is the text.
pub fn open<'s>(
    connection: &'s Connection,
    query: &Query,
    sql: String,
    columns: &[(String, Type)],
) -> Result<OpenQuery<'s>, Error> {
    let names = names(connection, &sql)?;
    let places = places(columns.iter().map(|(name, _)| name.as_str()), &names)?;
    let types: Vec<Type> = columns.iter().map(|(_, ty)| *ty).collect();
    // The columns of the query in its own order are those that are wanted.
    let is_plain = places.iter().copied().eq(0..names.len());
    let taking = match query {
        Query::Table(select) if is_plain => row_function::statement(connection, select),
        _ => Ok(None),
    };
    let taking = taking.map_err(|e| explained(&e, "asking the query"))?;
    Ok(OpenQuery {
        decoder: decoder(&types),
        rows: Box::new(Asked {
            connection,
            sql,
            places,
            taking,
        }),
    })
}

/// A query with its moments in UTC, as columns of moments have them. A table of an earlier
/// version has another form, with which a moment is compared as it stands.
pub fn with_moments(connection: &Connection, sql: &str) -> Result<String, Error> {
    let failed = |e| explained(&e, "asking for the tables' columns");
    let of = "SELECT m.name, c.name FROM sqlite_master m, pragma_table_info(m.name) c \
              WHERE m.type = 'table' AND upper(c.type) = 'TIMESTAMPTZ'";
    let mut statement = connection.prepare(of).map_err(failed)?;
    let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)));
    let columns: Vec<(String, String)> = rows.and_then(Iterator::collect).map_err(failed)?;
    let mut tables: Vec<&String> = columns.iter().map(|(table, _)| table).collect();
    tables.dedup();
    for table in tables {
        let is_virtual = kind_is_virtual(connection, table).map_err(failed)?;
        let described = if is_virtual {
            None
        } else {
            describe(connection, table)?
        };
        if described.is_some_and(|table| !table.older_times.is_empty()) {
            return Ok(sql.to_string());
        }
    }
    match columns.is_empty() {
        true => Ok(sql.to_string()),
        false => in_utc(sql, |name| {
            columns
                .iter()
                .any(|(_, own)| own.eq_ignore_ascii_case(name))
        }),
    }
}

/// Whether a table is one of files, which are never of an earlier version.
fn kind_is_virtual(connection: &Connection, table: &str) -> rusqlite::Result<bool> {
    let sql = "SELECT sql LIKE 'CREATE VIRTUAL%' FROM sqlite_master WHERE name = ?1";
    connection.query_row(sql, [table], |row| row.get(0))
}

/// The columns of a query with the types of their declarations.
pub fn columns(connection: &Connection, sql: &str) -> Result<Vec<(String, Type)>, Error> {
    names(connection, sql)?;
    let statement = connection
        .prepare(sql)
        .map_err(|e| explained(&e, "asking the query"))?;
    let columns = statement.columns();
    let column = columns.map(|column| {
        let declared = column.decl_type().unwrap_or("TEXT");
        let ty = types::spec_type(declared).unwrap_or(Type::Text);
        (column.name().to_string(), ty)
    });
    Ok(column.collect())
}

impl Rows for Asked<'_> {
    fn fetch(self: Box<Self>, give: &mut dyn FnMut(&mut RawRows) -> bool) -> Result<(), Error> {
        self::give(&self, give)
    }
}

/// Steps through the query.
fn give(asked: &Asked<'_>, give: &mut dyn FnMut(&mut RawRows) -> bool) -> Result<(), Error> {
    let connection = asked.connection;
    let failed = |e| explained(&e, "reading the rows");
    if let Some(taking) = &asked.taking {
        return row_function::give(connection, taking, give);
    }
    let mut statement = connection.prepare(&asked.sql).map_err(failed)?;
    let mut rows = statement.query([]).map_err(failed)?;
    let mut raw = RawRows::default();
    while let Some(row) = rows.next().map_err(failed)? {
        for place in &asked.places {
            raw::put(row.get_ref(*place).map_err(failed)?, &mut raw);
        }
        if raw.end_row() && !give(&mut raw) {
            return Ok(());
        }
    }
    if !raw.ends.is_empty() {
        give(&mut raw);
    }
    Ok(())
}

/// Why bytes in a column of text are not written.
const BYTES: &str = "bytes in a column of text, which would be read back as text";

fn decoder(types: &[Type]) -> Decoder {
    let typing = RowTyper::new(types);
    let is_text: Vec<bool> = types.iter().map(|ty| ty.is_text()).collect();
    Box::new(move |raw, cells| {
        typing.begin(cells);
        let mut bytes = raw.bytes.as_slice();
        let mut text = Texts::new(&raw.text);
        for _ in 0..raw.ends.len() {
            for (column, is_text) in is_text.iter().enumerate() {
                let value = match loose(&mut bytes, &mut text) {
                    RawValue::Bytes(_) if *is_text => RawValue::Lost(BYTES),
                    value => value,
                };
                typing.put(cells, column, value);
            }
        }
    })
}

/// The text of a batch, value by value.
struct Texts<'b> {
    bytes: &'b [u8],
    /// The same where all of it is UTF-8, as it nearly always is.
    whole: Option<&'b str>,
    at: usize,
}

impl<'b> Texts<'b> {
    fn new(bytes: &'b [u8]) -> Texts<'b> {
        Texts {
            bytes,
            whole: simdutf8::basic::from_utf8(bytes).ok(),
            at: 0,
        }
    }

    /// The next value, of so many bytes. One may be cut within a character, and the whole
    /// be UTF-8 nevertheless.
    #[inline]
    fn next(&mut self, count: usize) -> RawValue<'b> {
        let at = self.at;
        let place = at..at + count;
        self.at = place.end;
        if let Some(text) = self.whole.and_then(|whole| whole.get(place.clone())) {
            return RawValue::Placed(text, at as u32);
        }
        let bytes = self.bytes.get(place).unwrap_or(&[]);
        std::str::from_utf8(bytes).map_or(RawValue::Bytes(bytes), RawValue::Text)
    }
}

#[inline]
fn loose<'b>(bytes: &mut &'b [u8], text: &mut Texts<'b>) -> RawValue<'b> {
    let tag = take(bytes, 1).first().copied().unwrap_or(NULL);
    let eight = |bytes: &mut &[u8]| take(bytes, 8).try_into().unwrap_or([0; 8]);
    match tag {
        INTEGER => RawValue::Int(i64::from_le_bytes(eight(bytes))),
        REAL => RawValue::Float(f64::from_le_bytes(eight(bytes))),
        TEXT => text.next(length(bytes) as usize),
        BLOB => {
            let count = length(bytes) as usize;
            RawValue::Bytes(take(bytes, count))
        }
        _ => RawValue::Null,
    }
}

#[cfg(test)]
mod tests {
    use barrow_core::export::RowBatch;
    use barrow_core::values::Cell;

    use super::*;

    fn read(sql: &str) -> (RowBatch, Vec<u8>, usize) {
        let connection = Connection::open_in_memory().unwrap();
        let columns = [("a".to_string(), Type::Text), ("b".to_string(), Type::Text)];
        let query = Query::Sql(sql.to_string());
        let OpenQuery { decoder, rows } =
            open(&connection, &query, sql.to_string(), &columns).unwrap();
        let mut cells = RowBatch::default();
        let (mut text, mut batches) = (Vec::new(), 0);
        let mut take = |raw: &mut RawRows| {
            decoder(raw, &mut cells);
            text.clone_from(&raw.text);
            batches += 1;
            true
        };
        rows.fetch(&mut take).unwrap();
        (cells, text, batches)
    }

    #[test]
    fn two_halves_of_a_character_are_no_text() {
        // Put together they would be UTF-8; each alone is not.
        let (cells, ..) = read("SELECT CAST(x'C3' AS TEXT) AS a, CAST(x'A9' AS TEXT) AS b");
        assert_eq!(cells.row(0), [Cell::Null, Cell::Null]);
        let misfits: Vec<_> = cells.misfits.iter().map(|m| (m.row, m.column)).collect();
        assert_eq!(misfits, [(0, 0), (0, 1)]);
        assert!(cells.misfits.iter().all(|m| m.lost.is_some()));
    }

    #[test]
    fn text_behind_bytes_that_are_none_is_whole() {
        let (cells, text_of, batches) =
            read("SELECT 'é' AS a, CAST(x'FF' AS TEXT) AS b UNION ALL SELECT 'kale', 'ö'");
        assert_eq!((cells.height(), batches), (2, 1));
        let text = |row: usize, column: usize| match cells.row(row)[column] {
            Cell::Text(piece) => {
                String::from_utf8(piece.of(&text_of, &cells.store).to_vec()).unwrap()
            }
            other => format!("{other:?}"),
        };
        assert_eq!(text(0, 0), "é");
        assert_eq!(text(0, 1), "Null");
        assert_eq!((text(1, 0).as_str(), text(1, 1).as_str()), ("kale", "ö"));
        assert_eq!(cells.misfits.len(), 1);
    }
}
