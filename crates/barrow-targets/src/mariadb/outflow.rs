//! Rows out of MariaDB: one after the other, as the server sends their text.

use barrow_core::export::{Loose, Typing};
use barrow_core::spec::Type;
use mysql::Conn;
use mysql::consts::ColumnType;
use mysql::prelude::Queryable;

use super::words::explained;
use crate::error::Error;
use crate::outflow::{Decoder, RawRows, length, places, take, writes};

/// A query whose rows are to leave.
pub struct Asked {
    sql: String,
    places: Vec<usize>,
}

/// The length that stands for null.
const NULL: u32 = u32::MAX;

/// Asks a query, in a transaction that only reads.
pub fn ask(
    conn: &mut Conn,
    sql: &str,
    columns: &[(String, Type)],
) -> Result<(Asked, Decoder), Error> {
    let failed = |e| explained(&e, "asking the query");
    conn.query_drop("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
        .map_err(failed)?;
    let statement = conn.prep(sql).map_err(failed)?;
    let names: Vec<String> = statement
        .columns()
        .iter()
        .map(|column| column.name_str().into_owned())
        .collect();
    // One that writes, or puts what it finds into a file of the server, has no columns.
    if names.is_empty() {
        return Err(writes());
    }
    let places = places(columns.iter().map(|(name, _)| name.as_str()), &names)?;
    let types: Vec<Type> = columns.iter().map(|(_, ty)| *ty).collect();
    let asked = Asked {
        sql: sql.to_string(),
        places,
    };
    Ok((asked, decoder(&types)))
}

/// The columns of a query with the nearest types.
pub fn columns(conn: &mut Conn, sql: &str) -> Result<Vec<(String, Type)>, Error> {
    let statement = conn
        .prep(sql)
        .map_err(|e| explained(&e, "asking the query"))?;
    let found = statement.columns();
    let column = found.iter().map(|column| {
        let is_binary = column.character_set() == 63;
        let ty = match column.column_type() {
            ColumnType::MYSQL_TYPE_TINY if column.column_length() == 1 => Type::Boolean,
            ColumnType::MYSQL_TYPE_TINY | ColumnType::MYSQL_TYPE_SHORT => Type::SmallInt,
            ColumnType::MYSQL_TYPE_LONG | ColumnType::MYSQL_TYPE_INT24 => Type::Integer,
            ColumnType::MYSQL_TYPE_LONGLONG => Type::BigInt,
            ColumnType::MYSQL_TYPE_FLOAT => Type::Real,
            ColumnType::MYSQL_TYPE_DOUBLE => Type::Double,
            ColumnType::MYSQL_TYPE_NEWDECIMAL | ColumnType::MYSQL_TYPE_DECIMAL => Type::Decimal {
                precision: 38,
                scale: column.decimals().min(38),
            },
            ColumnType::MYSQL_TYPE_DATE => Type::Date,
            ColumnType::MYSQL_TYPE_TIME => Type::Time,
            ColumnType::MYSQL_TYPE_DATETIME | ColumnType::MYSQL_TYPE_TIMESTAMP => Type::Timestamp,
            ColumnType::MYSQL_TYPE_BLOB if is_binary => Type::Bytes,
            _ => Type::Text,
        };
        (column.name_str().into_owned(), ty)
    });
    Ok(column.collect())
}

/// Reads the rows as they come.
pub fn give(
    conn: &mut Conn,
    asked: &Asked,
    give: &mut dyn FnMut(&mut RawRows) -> bool,
) -> Result<(), Error> {
    let failed = |e| explained(&e, "reading the rows");
    let rows = conn.query_iter(&asked.sql).map_err(failed)?;
    let mut raw = RawRows::default();
    for row in rows {
        let row = row.map_err(failed)?;
        for place in &asked.places {
            match row.as_ref(*place) {
                Some(mysql::Value::Bytes(bytes)) => counted(bytes, &mut raw.bytes),
                Some(mysql::Value::NULL) | None => {
                    raw.bytes.extend_from_slice(&NULL.to_le_bytes());
                }
                Some(other) => counted(other.as_sql(true).as_bytes(), &mut raw.bytes),
            }
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

fn counted(bytes: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(&(bytes.len() as u32).to_le_bytes());
    out.extend_from_slice(bytes);
}

fn decoder(types: &[Type]) -> Decoder {
    let typing = Typing::new(types);
    let types = types.to_vec();
    Box::new(move |raw, cells| {
        typing.begin(cells);
        let mut bytes = raw.bytes.as_slice();
        for _ in 0..raw.ends.len() {
            for (column, ty) in types.iter().enumerate() {
                let value = match length(&mut bytes) {
                    NULL => Loose::Null,
                    count => loose(take(&mut bytes, count as usize), *ty),
                };
                typing.put(cells, column, value);
            }
        }
    })
}

fn loose(value: &[u8], ty: Type) -> Loose<'_> {
    match std::str::from_utf8(value) {
        Ok(text) if ty != Type::Bytes => Loose::Text(text),
        _ => Loose::Bytes(value),
    }
}
