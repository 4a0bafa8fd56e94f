//! Rows out of SQLite: stepped through on one thread, typed on others.

use barrow_core::export::{Loose, Typing};
use barrow_core::types::Type;
use rusqlite::Connection;
use rusqlite::types::ValueRef;

use super::words::explained;
use super::{taken, types};
use crate::error::Error;
use crate::outflow::{Decoder, RawRows, length, places, take, writes};

/// A query whose rows are to leave.
pub struct Asked {
    sql: String,
    places: Vec<usize>,
    /// The statement that takes the rows itself, where one does.
    taking: Option<String>,
}

const NULL: u8 = 0;
const INTEGER: u8 = 1;
const REAL: u8 = 2;
const TEXT: u8 = 3;
const BLOB: u8 = 4;

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

/// Asks a query.
pub fn ask(
    connection: &Connection,
    sql: &str,
    columns: &[(String, Type)],
) -> Result<(Asked, Decoder), Error> {
    let names = names(connection, sql)?;
    let places = places(columns.iter().map(|(name, _)| name.as_str()), &names)?;
    let types: Vec<Type> = columns.iter().map(|(_, ty)| *ty).collect();
    let own: Vec<&str> = columns.iter().map(|(name, _)| name.as_str()).collect();
    let taking =
        taken::statement(connection, sql, &own).map_err(|e| explained(&e, "asking the query"))?;
    let asked = Asked {
        sql: sql.to_string(),
        places,
        taking,
    };
    Ok((asked, decoder(&types)))
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

/// Steps through the query.
pub fn give(
    connection: &Connection,
    asked: &Asked,
    give: &mut dyn FnMut(&mut RawRows) -> bool,
) -> Result<(), Error> {
    let failed = |e| explained(&e, "reading the rows");
    if let Some(taking) = &asked.taking {
        return taken::give(connection, taking, give);
    }
    let mut statement = connection.prepare(&asked.sql).map_err(failed)?;
    let mut rows = statement.query([]).map_err(failed)?;
    let mut raw = RawRows::default();
    while let Some(row) = rows.next().map_err(failed)? {
        for place in &asked.places {
            put(row.get_ref(*place).map_err(failed)?, &mut raw);
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

fn eight(tag: u8, bytes: [u8; 8], out: &mut Vec<u8>) {
    let [a, b, c, d, e, f, g, h] = bytes;
    out.extend_from_slice(&[tag, a, b, c, d, e, f, g, h]);
}

/// Puts a value among others of its row.
#[inline]
pub fn put(value: ValueRef<'_>, raw: &mut RawRows) {
    let counted = |tag: u8, bytes: &[u8], out: &mut Vec<u8>| {
        let [a, b, c, d] = (bytes.len() as u32).to_le_bytes();
        out.extend_from_slice(&[tag, a, b, c, d]);
    };
    let out = &mut raw.bytes;
    match value {
        ValueRef::Null => out.push(NULL),
        ValueRef::Integer(n) => eight(INTEGER, n.to_le_bytes(), out),
        ValueRef::Real(n) => eight(REAL, n.to_le_bytes(), out),
        ValueRef::Text(text) => {
            counted(TEXT, text, out);
            raw.text.extend_from_slice(text);
        }
        ValueRef::Blob(bytes) => {
            counted(BLOB, bytes, out);
            out.extend_from_slice(bytes);
        }
    }
}

fn decoder(types: &[Type]) -> Decoder {
    let typing = Typing::new(types);
    let is_text: Vec<bool> = types.iter().map(|ty| ty.is_text()).collect();
    Box::new(move |raw, cells| {
        typing.begin(cells);
        let mut bytes = raw.bytes.as_slice();
        let mut text = Texts::new(&raw.text);
        for _ in 0..raw.ends.len() {
            for (column, is_text) in is_text.iter().enumerate() {
                let value = match loose(&mut bytes, &mut text) {
                    Loose::Bytes(_) if *is_text => Loose::Lost(BYTES),
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
    fn next(&mut self, count: usize) -> Loose<'b> {
        let at = self.at;
        let place = at..at + count;
        self.at = place.end;
        if let Some(text) = self.whole.and_then(|whole| whole.get(place.clone())) {
            return Loose::Placed(text, at as u32);
        }
        let bytes = self.bytes.get(place).unwrap_or(&[]);
        std::str::from_utf8(bytes).map_or(Loose::Bytes(bytes), Loose::Text)
    }
}

#[inline]
fn loose<'b>(bytes: &mut &'b [u8], text: &mut Texts<'b>) -> Loose<'b> {
    let tag = take(bytes, 1).first().copied().unwrap_or(NULL);
    let eight = |bytes: &mut &[u8]| take(bytes, 8).try_into().unwrap_or([0; 8]);
    match tag {
        INTEGER => Loose::Int(i64::from_le_bytes(eight(bytes))),
        REAL => Loose::Float(f64::from_le_bytes(eight(bytes))),
        TEXT => text.next(length(bytes) as usize),
        BLOB => {
            let count = length(bytes) as usize;
            Loose::Bytes(take(bytes, count))
        }
        _ => Loose::Null,
    }
}

#[cfg(test)]
mod tests {
    use barrow_core::export::Cells;
    use barrow_core::values::Cell;

    use super::*;

    fn read(sql: &str) -> (Cells, Vec<u8>, usize) {
        let connection = Connection::open_in_memory().unwrap();
        let columns = [("a".to_string(), Type::Text), ("b".to_string(), Type::Text)];
        let (asked, decoder) = ask(&connection, sql, &columns).unwrap();
        let mut cells = Cells::default();
        let (mut text, mut batches) = (Vec::new(), 0);
        let mut take = |raw: &mut RawRows| {
            decoder(raw, &mut cells);
            text.clone_from(&raw.text);
            batches += 1;
            true
        };
        give(&connection, &asked, &mut take).unwrap();
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
