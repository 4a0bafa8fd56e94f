//! A cell as SQLite has it: the same as in a table that was loaded.

use crate::exact::decimal::nearest_whole;
use barrow_core::types::Type;
use barrow_core::values::canonical::put_day;
use barrow_core::values::{Cell, shown};
use rusqlite::types::{ToSqlOutput, Value, ValueRef};

/// The value of a cell; of a decimal, where it stands as text ([`short`] is for the others).
/// `text` is room for one that is made.
#[inline]
pub fn of_cell<'v>(
    cell: Cell,
    ty: Type,
    block: &'v [u8],
    store: &'v [u8],
    text: &'v mut Vec<u8>,
) -> ToSqlOutput<'v> {
    ToSqlOutput::Borrowed(match cell {
        Cell::Null => ValueRef::Null,
        Cell::Bool(truth) => ValueRef::Integer(i64::from(truth)),
        Cell::Int(n) if matches!(ty, Type::Real | Type::Double) => ValueRef::Real(n as f64),
        Cell::Int(n) => ValueRef::Integer(n),
        Cell::Float(n) => ValueRef::Real(n),
        Cell::Text(piece) => ValueRef::Text(piece.of(block, store)),
        Cell::Bytes(piece) if ty != Type::Uuid => ValueRef::Blob(piece.of(block, store)),
        Cell::Date(day) => {
            text.clear();
            put_day(day, text);
            ValueRef::Text(text)
        }
        other => return made(other, ty, block, store),
    })
}

/// A decimal that a number of SQLite's gives back as it was. A whole one is a whole number,
/// as in a column of a table ("Datatypes In SQLite", section 3).
#[inline]
pub fn short(n: i64, unit: f64) -> ValueRef<'static> {
    // Both are exact, so the division rounds once, and a quotient is whole only where it is.
    let number = n as f64 / unit;
    match nearest_whole(number) == number {
        true => ValueRef::Integer(number as i64),
        false => ValueRef::Real(number),
    }
}

fn made<'v>(cell: Cell, ty: Type, block: &[u8], store: &[u8]) -> ToSqlOutput<'v> {
    // In a table that was loaded a moment is UTC, and says no zone.
    let ty = match ty {
        Type::TimestampTz => Type::Timestamp,
        ty => ty,
    };
    let text = shown(cell, ty, block, store);
    ToSqlOutput::Owned(text.map_or(Value::Null, Value::Text))
}

/// A value that is kept.
pub fn owned(value: &ToSqlOutput<'_>) -> Value {
    match value {
        ToSqlOutput::Borrowed(value) => of_ref(*value),
        ToSqlOutput::Owned(value) => value.clone(),
        _ => Value::Null,
    }
}

/// A value of SQLite's as one that is kept.
pub fn of_ref(value: ValueRef<'_>) -> Value {
    match value {
        ValueRef::Null => Value::Null,
        ValueRef::Integer(n) => Value::Integer(n),
        ValueRef::Real(n) => Value::Real(n),
        // Text of a file is UTF-8; that of a database may be anything.
        ValueRef::Text(text) => Value::Text(String::from_utf8_lossy(text).into_owned()),
        ValueRef::Blob(bytes) => Value::Blob(bytes.to_vec()),
    }
}
