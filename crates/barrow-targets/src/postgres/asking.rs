//! SQL with values beside it, and locks that last as long as the session.

use postgres::types::{FromSql, IsNull, ToSql, Type, accepts, private::BytesMut, to_sql_checked};
use postgres::{Client, Row};

use super::words::explained;
use crate::asking::{Value, marked};
use crate::dialect::Dialect;
use crate::error::Error;

type Failed = Box<dyn std::error::Error + Sync + Send>;

impl ToSql for Value {
    fn to_sql(&self, ty: &Type, out: &mut BytesMut) -> Result<IsNull, Failed> {
        match self {
            Value::Null => Ok(IsNull::Yes),
            Value::Number(number) if *ty == Type::INT4 => i32::try_from(*number)?.to_sql(ty, out),
            Value::Number(number) => number.to_sql(ty, out),
            Value::Text(text) => text.to_sql(ty, out),
            Value::Bytes(bytes) => bytes.to_sql(ty, out),
        }
    }

    accepts!(INT4, INT8, TEXT, VARCHAR, BYTEA);

    to_sql_checked!();
}

impl<'a> FromSql<'a> for Value {
    fn from_sql(ty: &Type, raw: &'a [u8]) -> Result<Value, Failed> {
        Ok(match *ty {
            Type::INT4 => Value::Number(i64::from(i32::from_sql(ty, raw)?)),
            Type::INT8 => Value::Number(i64::from_sql(ty, raw)?),
            Type::BOOL => Value::Number(i64::from(bool::from_sql(ty, raw)?)),
            Type::BYTEA => Value::Bytes(raw.to_vec()),
            _ => Value::Text(String::from_sql(ty, raw)?),
        })
    }

    fn from_sql_null(_: &Type) -> Result<Value, Failed> {
        Ok(Value::Null)
    }

    accepts!(INT4, INT8, BOOL, TEXT, VARCHAR, BPCHAR, NAME, BYTEA);
}

fn parameters(values: &[Value]) -> Vec<&(dyn ToSql + Sync)> {
    values.iter().map(|v| v as &(dyn ToSql + Sync)).collect()
}

/// The rows of a query.
pub fn ask(
    client: &mut Client,
    sql: &str,
    values: &[Value],
    doing: &str,
) -> Result<Vec<Vec<Value>>, Error> {
    let sql = marked(Dialect::Postgres, sql);
    let found = client.query(&sql, &parameters(values));
    let row = |row: &Row| (0..row.len()).map(|at| row.try_get(at)).collect();
    found
        .and_then(|rows| rows.iter().map(row).collect())
        .map_err(|e| explained(&e, doing))
}

/// Runs a statement, and returns how many rows it changed.
pub fn tell(client: &mut Client, sql: &str, values: &[Value], doing: &str) -> Result<u64, Error> {
    let sql = marked(Dialect::Postgres, sql);
    let told = client.execute(&sql, &parameters(values));
    told.map_err(|e| explained(&e, doing))
}

/// Takes a lock that the session keeps until it ends, however it ends ("Advisory Locks",
/// section 13.3.5).
pub fn claim(client: &mut Client, key: i64, wait: bool) -> Result<bool, Error> {
    let failed = |e| explained(&e, "keeping other loads away");
    if !wait {
        let row = client.query_one("SELECT pg_try_advisory_lock($1)", &[&key]);
        return row.map(|row| row.get(0)).map_err(failed);
    }
    // The patience for locks on tables holds for these as well, and another load may take
    // as long as it likes.
    let patience: String = client
        .query_one("SELECT current_setting('lock_timeout')", &[])
        .map_err(failed)?
        .get(0);
    client.batch_execute("SET lock_timeout = 0").map_err(failed)?;
    client
        .query_one("SELECT pg_advisory_lock($1) IS NOT NULL", &[&key])
        .map_err(failed)?;
    client
        .query_one("SELECT set_config('lock_timeout', $1, false)", &[&patience])
        .map_err(failed)?;
    Ok(true)
}
