//! Rows out of MariaDB: one after the other, as the server sends their text.

use barrow_core::export::{RawValue, RowTyper};
use barrow_core::types::Type;
use mysql::Conn;
use mysql::consts::ColumnType;
use mysql::prelude::Queryable;

use super::errors::explained;
use crate::error::Error;
use crate::query_rows::{RawRows, length, places, take, writes};
use crate::session::{Decoder, OpenQuery, Rows};

/// A query that is open.
struct Asked<'s> {
    conn: &'s mut Conn,
    sql: String,
    places: Vec<usize>,
    /// Whether the values come in the server's binary form: its text has six digits of a
    /// `float` alone.
    is_binary: bool,
}

/// The length that stands for null.
const NULL: u32 = u32::MAX;

/// Opens a query, in a transaction that only reads.
pub fn open<'s>(
    conn: &'s mut Conn,
    sql: String,
    columns: &[(String, Type)],
) -> Result<OpenQuery<'s>, Error> {
    let failed = |e| explained(&e, "asking the query");
    if !reads(&sql) {
        return Err(writes());
    }
    conn.query_drop("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
        .map_err(failed)?;
    let statement = conn.prep(&sql).map_err(failed)?;
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
    let is_binary = statement
        .columns()
        .iter()
        .any(|column| column.column_type() == ColumnType::MYSQL_TYPE_FLOAT);
    Ok(OpenQuery {
        decoder: decoder(&types),
        rows: Box::new(Asked {
            conn,
            sql,
            places,
            is_binary,
        }),
    })
}

/// Whether a statement does nothing but read, by its first word: OPTIMIZE TABLE and its like
/// have columns too, and commit what is open.
fn reads(sql: &str) -> bool {
    let mut rest = sql.trim_start();
    loop {
        rest = match rest {
            // `/*! … */` is no comment to this server.
            text if text.starts_with("/*")
                && !text.starts_with("/*!")
                && !text.starts_with("/*M!") =>
            {
                text.split_once("*/").map_or("", |(_, after)| after)
            }
            text if text.starts_with("-- ") || text.starts_with('#') => {
                text.split_once('\n').map_or("", |(_, after)| after)
            }
            text if text.starts_with('(') => &text[1..],
            _ => break,
        }
        .trim_start();
    }
    let word: String = rest.chars().take_while(char::is_ascii_alphabetic).collect();
    [
        "SELECT", "WITH", "VALUES", "TABLE", "SHOW", "DESCRIBE", "DESC", "EXPLAIN",
    ]
    .contains(&word.to_ascii_uppercase().as_str())
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

impl Rows for Asked<'_> {
    fn fetch(self: Box<Self>, give: &mut dyn FnMut(&mut RawRows) -> bool) -> Result<(), Error> {
        self::give(*self, give)
    }
}

/// Reads the rows as they come.
fn give(asked: Asked<'_>, give: &mut dyn FnMut(&mut RawRows) -> bool) -> Result<(), Error> {
    let Asked {
        conn,
        sql,
        places,
        is_binary,
    } = asked;
    let failed = |e| explained(&e, "reading the rows");
    let mut raw = RawRows::default();
    let mut each = |row: mysql::Row| {
        let columns = row.columns_ref();
        for place in &places {
            match row.as_ref(*place) {
                Some(mysql::Value::Bytes(bytes)) => counted(bytes, &mut raw.bytes),
                Some(mysql::Value::NULL) | None => {
                    raw.bytes.extend_from_slice(&NULL.to_le_bytes());
                }
                Some(other) => {
                    let is_day = columns[*place].column_type() == ColumnType::MYSQL_TYPE_DATE;
                    counted(text_of(other, is_day).as_bytes(), &mut raw.bytes);
                }
            }
        }
        !raw.end_row() || give(&mut raw)
    };
    if is_binary {
        for row in conn.exec_iter(&sql, ()).map_err(failed)? {
            if !each(row.map_err(failed)?) {
                return Ok(());
            }
        }
    } else {
        for row in conn.query_iter(&sql).map_err(failed)? {
            if !each(row.map_err(failed)?) {
                return Ok(());
            }
        }
    }
    if !raw.ends.is_empty() {
        give(&mut raw);
    }
    let ended = conn.query_drop("ROLLBACK");
    ended.map_err(|e| explained(&e, "ending the query"))
}

/// A value of the binary form as the server would write it, with all its digits.
fn text_of(value: &mysql::Value, is_day: bool) -> String {
    match value {
        mysql::Value::Float(n) => n.to_string(),
        mysql::Value::Double(n) => n.to_string(),
        mysql::Value::Date(y, m, d, ..) if is_day => format!("{y:04}-{m:02}-{d:02}"),
        mysql::Value::Date(y, m, d, hour, minute, second, micros) => {
            format!("{y:04}-{m:02}-{d:02} {hour:02}:{minute:02}:{second:02}.{micros:06}")
        }
        mysql::Value::Time(is_negative, days, hours, minutes, seconds, micros) => {
            let sign = if *is_negative { "-" } else { "" };
            let hours = days * 24 + u32::from(*hours);
            format!("{sign}{hours:02}:{minutes:02}:{seconds:02}.{micros:06}")
        }
        other => other.as_sql(true),
    }
}

fn counted(bytes: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(&(bytes.len() as u32).to_le_bytes());
    out.extend_from_slice(bytes);
}

fn decoder(types: &[Type]) -> Decoder {
    let typing = RowTyper::new(types);
    let types = types.to_vec();
    Box::new(move |raw, cells| {
        typing.begin(cells);
        let mut bytes = raw.bytes.as_slice();
        for _ in 0..raw.ends.len() {
            for (column, ty) in types.iter().enumerate() {
                let value = match length(&mut bytes) {
                    NULL => RawValue::Null,
                    count => loose(take(&mut bytes, count as usize), *ty),
                };
                typing.put(cells, column, value);
            }
        }
    })
}

fn loose(value: &[u8], ty: Type) -> RawValue<'_> {
    match std::str::from_utf8(value) {
        Ok(text) if ty != Type::Bytes => RawValue::Text(text),
        _ => RawValue::Bytes(value),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_statements_that_read_are_asked() {
        for sql in [
            "SELECT 1",
            "  (select 1) union (select 2)",
            "-- a remark\n/* more */ with a as (select 1) select * from a",
            "TABLE d",
        ] {
            assert!(reads(sql), "{sql}");
        }
        for sql in [
            "OPTIMIZE TABLE d",
            "/*!50000 DELETE FROM d */",
            "repair table d",
            "",
            "DELETE FROM d",
        ] {
            assert!(!reads(sql), "{sql}");
        }
    }
}
