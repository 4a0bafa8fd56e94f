//! SQL with values beside it, and locks that last as long as the session.

use std::borrow::Cow;

use postgres::types::{FromSql, IsNull, ToSql, Type, accepts, private::BytesMut, to_sql_checked};
use postgres::{Client, Row};

use crate::error::Error;
use crate::postgres::DIALECT;
use crate::postgres::errors::explained;
use crate::sql::Value;

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
pub fn query(
    client: &mut Client,
    sql: &str,
    values: &[Value],
    doing: &str,
) -> Result<Vec<Vec<Value>>, Error> {
    let sql = DIALECT.marked(sql);
    let found = client.query(&sql, &parameters(values));
    let row = |row: &Row| (0..row.len()).map(|at| row.try_get(at)).collect();
    found
        .and_then(|rows| rows.iter().map(row).collect())
        .map_err(|e| explained(&e, doing))
}

/// Runs a statement, and returns how many rows it changed.
pub fn execute(
    client: &mut Client,
    sql: &str,
    values: &[Value],
    doing: &str,
) -> Result<u64, Error> {
    let sql = DIALECT.marked(sql);
    let told = client.execute(&sql, &parameters(values));
    told.map_err(|e| explained(&e, doing))
}

/// The values as a database can hold them whose encoding is not UTF-8: such an encoding
/// lacks most characters, so those beyond ASCII are written out, `\u{65E5}`. What is looked
/// up is written in the same way.
pub fn holdable<'a>(client: &mut Client, values: &'a [Value]) -> Result<Cow<'a, [Value]>, Error> {
    let is_plain = |value: &Value| value.as_text().is_none_or(str::is_ascii);
    if values.iter().all(is_plain) {
        return Ok(Cow::Borrowed(values));
    }
    let encoding: String = client
        .query_one("SHOW server_encoding", &[])
        .map_err(|e| explained(&e, "asking for the database's encoding"))?
        .get(0);
    // A database in SQL_ASCII takes any bytes.
    if ["UTF8", "SQL_ASCII"].contains(&encoding.as_str()) {
        return Ok(Cow::Borrowed(values));
    }
    let held = |value: &Value| match value {
        Value::Text(text) => Value::Text(in_ascii(text)),
        other => other.clone(),
    };
    Ok(Cow::Owned(values.iter().map(held).collect()))
}

/// The text with characters beyond ASCII written out.
fn in_ascii(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c.is_ascii() {
            true => out.push(c),
            false => out.extend(c.escape_unicode()),
        }
    }
    out
}

const LEDGER: &str = "
SELECT CASE WHEN to_regclass(quote_ident($1)) IS NOT NULL THEN '' ELSE (
SELECT n.nspname::text
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relname = $1 AND c.relkind IN ('r', 'p') AND n.nspname !~ '[.]'
   AND has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'INSERT')
   AND NOT pg_is_other_temp_schema(n.oid)
 ORDER BY c.oid LIMIT 1) END";

/// Where a table of the ledger is: where the search path has it, or else in the schema that
/// has one which this session may write to; none where there is none.
pub fn ledger_table(client: &mut Client, table: &str) -> Result<Option<String>, Error> {
    let found = client
        .query_one(LEDGER, &[&table])
        .map_err(|e| explained(&e, "looking for the ledger"))?;
    Ok(match found.get::<_, Option<String>>(0).as_deref() {
        None => None,
        Some("") => Some(table.to_string()),
        Some(schema) => Some(format!("{schema}.{table}")),
    })
}

/// Takes a lock that the session keeps until it ends, however it ends ("Advisory Locks",
/// section 13.3.5).
pub fn lock(client: &mut Client, key: i64, wait: bool) -> Result<bool, Error> {
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
    client
        .batch_execute("SET lock_timeout = 0")
        .map_err(failed)?;
    client
        .query_one("SELECT pg_advisory_lock($1) IS NOT NULL", &[&key])
        .map_err(failed)?;
    client
        .query_one("SELECT set_config('lock_timeout', $1, false)", &[&patience])
        .map_err(failed)?;
    Ok(true)
}
