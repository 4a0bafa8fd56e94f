//! Rows of SQLite as bytes, until the workers read them: for each value a tag, and what it
//! needs.

use rusqlite::types::ValueRef;

use crate::query_rows::RawRows;

/// No value.
pub const NULL: u8 = 0;
/// Eight bytes follow.
pub const INTEGER: u8 = 1;
/// Eight bytes follow.
pub const REAL: u8 = 2;
/// The length of text follows, which is kept apart.
pub const TEXT: u8 = 3;
/// The length follows, and so many bytes.
pub const BLOB: u8 = 4;

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
