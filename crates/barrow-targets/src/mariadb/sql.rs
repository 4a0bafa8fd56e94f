//! SQL with values beside it, and locks that last as long as the session.

use mysql::prelude::Queryable;
use mysql::{Conn, Params, Row};

use crate::error::Error;
use crate::mariadb::errors::explained;
use crate::sql::Value;

/// A wait without a limit, in seconds: a year.
const LONG: u32 = 31_536_000;

impl From<&Value> for mysql::Value {
    fn from(value: &Value) -> mysql::Value {
        match value {
            Value::Null => mysql::Value::NULL,
            Value::Number(number) => mysql::Value::Int(*number),
            Value::Text(text) => mysql::Value::Bytes(text.clone().into_bytes()),
            Value::Bytes(bytes) => mysql::Value::Bytes(bytes.clone()),
        }
    }
}

fn value(column: &mysql::Column, found: mysql::Value) -> Value {
    // The character set 63 is the one of bytes ("Connection Phase", Character Set).
    match found {
        mysql::Value::NULL => Value::Null,
        mysql::Value::Int(number) => Value::Number(number),
        mysql::Value::UInt(number) => Value::Number(i64::try_from(number).unwrap_or(i64::MAX)),
        mysql::Value::Bytes(bytes) if column.character_set() == 63 => Value::Bytes(bytes),
        mysql::Value::Bytes(bytes) => Value::Text(String::from_utf8_lossy(&bytes).into_owned()),
        other => Value::Text(other.as_sql(true)),
    }
}

fn parameters(values: &[Value]) -> Params {
    match values.is_empty() {
        true => Params::Empty,
        false => Params::Positional(values.iter().map(mysql::Value::from).collect()),
    }
}

fn row(row: Row) -> Vec<Value> {
    let columns = row.columns();
    let values = row.unwrap();
    let pairs = columns.iter().zip(values);
    pairs.map(|(column, found)| value(column, found)).collect()
}

/// The rows of a query.
pub fn query(
    conn: &mut Conn,
    sql: &str,
    values: &[Value],
    doing: &str,
) -> Result<Vec<Vec<Value>>, Error> {
    let rows: Vec<Row> = conn
        .exec(sql, parameters(values))
        .map_err(|e| explained(&e, doing))?;
    Ok(rows.into_iter().map(row).collect())
}

/// Runs a statement, and returns how many rows it changed.
pub fn execute(conn: &mut Conn, sql: &str, values: &[Value], doing: &str) -> Result<u64, Error> {
    conn.exec_drop(sql, parameters(values))
        .map_err(|e| explained(&e, doing))?;
    Ok(conn.affected_rows())
}

/// Takes a lock that the session keeps until it ends, however it ends ("GET_LOCK").
pub fn lock(conn: &mut Conn, key: i64, wait: bool) -> Result<bool, Error> {
    let patience = if wait { LONG } else { 0 };
    let name = format!("barrow {key:016x}");
    let got: Option<Option<i64>> = conn
        .exec_first("SELECT GET_LOCK(?, ?)", (name, patience))
        .map_err(|e| explained(&e, "keeping other loads away"))?;
    match got.flatten() {
        Some(got) => Ok(got == 1),
        None => Err(Error::new(
            "the server could not keep other loads away (GET_LOCK failed)",
        )),
    }
}
