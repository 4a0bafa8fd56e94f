//! Rows out of SQLite: stepped through on one thread, typed on others.

use barrow_core::export::{Loose, Typing};
use barrow_core::spec::Type;
use rusqlite::Connection;
use rusqlite::types::ValueRef;

use super::types;
use super::words::explained;
use crate::error::Error;
use crate::outflow::{Decoder, RawRows, length, places, take, writes};

/// A query whose rows are to leave.
pub struct Asked {
    sql: String,
    places: Vec<usize>,
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
    let asked = Asked {
        sql: sql.to_string(),
        places,
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
    let mut statement = connection.prepare(&asked.sql).map_err(failed)?;
    let mut rows = statement.query([]).map_err(failed)?;
    let mut raw = RawRows::default();
    while let Some(row) = rows.next().map_err(failed)? {
        for place in &asked.places {
            put(row.get_ref(*place).map_err(failed)?, &mut raw.bytes);
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

fn eight(tag: u8, bytes: [u8; 8], out: &mut Vec<u8>) {
    let [a, b, c, d, e, f, g, h] = bytes;
    out.extend_from_slice(&[tag, a, b, c, d, e, f, g, h]);
}

#[inline]
fn put(value: ValueRef<'_>, out: &mut Vec<u8>) {
    let counted = |tag: u8, bytes: &[u8], out: &mut Vec<u8>| {
        let [a, b, c, d] = (bytes.len() as u32).to_le_bytes();
        out.extend_from_slice(&[tag, a, b, c, d]);
        out.extend_from_slice(bytes);
    };
    match value {
        ValueRef::Null => out.push(NULL),
        ValueRef::Integer(n) => {
            eight(INTEGER, n.to_le_bytes(), out);
        }
        ValueRef::Real(n) => {
            eight(REAL, n.to_le_bytes(), out);
        }
        ValueRef::Text(text) => counted(TEXT, text, out),
        ValueRef::Blob(bytes) => counted(BLOB, bytes, out),
    }
}

fn decoder(types: &[Type]) -> Decoder {
    let typing = Typing::new(types);
    Box::new(move |raw, cells| {
        typing.begin(cells, raw.ends.len());
        let mut bytes = raw.bytes.as_slice();
        for row in 0..raw.ends.len() {
            for column in 0..typing.width() {
                let value = loose(&mut bytes);
                typing.put(cells, row, column, value);
            }
        }
    })
}

#[inline]
fn loose<'b>(bytes: &mut &'b [u8]) -> Loose<'b> {
    let tag = take(bytes, 1).first().copied().unwrap_or(NULL);
    let eight = |bytes: &mut &[u8]| take(bytes, 8).try_into().unwrap_or([0; 8]);
    match tag {
        INTEGER => Loose::Int(i64::from_le_bytes(eight(bytes))),
        REAL => Loose::Float(f64::from_le_bytes(eight(bytes))),
        TEXT | BLOB => {
            let count = length(bytes) as usize;
            let value = take(bytes, count);
            match std::str::from_utf8(value) {
                Ok(text) if tag == TEXT => Loose::Text(text),
                _ => Loose::Bytes(value),
            }
        }
        _ => Loose::Null,
    }
}
