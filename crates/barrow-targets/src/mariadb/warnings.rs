//! What the server warned of, and about which rows.

use mysql::Conn;
use mysql::prelude::Queryable;

use super::errors::{because, explained};
use crate::error::Error;
use crate::isolate::Refused;

/// More warnings of one statement are not looked at: its rows are then sent in smaller
/// pieces.
const MOST: usize = 200;

/// A warning about a row.
pub struct Warning {
    /// The row and the reason.
    pub refused: Refused,
    /// Whether the server skipped the row and did nothing else: it has the key of
    /// another, or lacks the row that it names, or fails a check.
    pub passes_over: bool,
    /// Whether the row fails a check.
    pub fails_check: bool,
}

/// The warnings of the last statement, in the order of its rows; only the first where
/// there are too many.
pub fn told(conn: &mut Conn, count: usize) -> Result<Vec<Warning>, Error> {
    let asking = |e: mysql::Error| explained(&e, "asking for the server's warnings");
    let shown: Vec<(String, u16, String)> = conn
        .query(format!("SHOW WARNINGS LIMIT {MOST}"))
        .map_err(asking)?;
    let all = shown.len() == count;
    let wanted = if all { shown.len() } else { 1 };
    let mut warnings = Vec::new();
    for (place, (_, number, message)) in shown.into_iter().take(wanted).enumerate() {
        let at = row(conn, place + 1)?;
        warnings.push(Warning {
            refused: Refused {
                at,
                ..because(number, &message)
            },
            fails_check: number == 4025,
            passes_over: all && matches!(number, 1062 | 1452 | 4025),
        });
    }
    Ok(warnings)
}

/// The row that the last statement's warning or error number `place` is about, 0-based;
/// none where the server does not say ("GET DIAGNOSTICS", `ROW_NUMBER`: MariaDB 10.7).
pub fn row(conn: &mut Conn, place: usize) -> Result<Option<usize>, Error> {
    let asked = conn.query_drop(format!(
        "GET DIAGNOSTICS CONDITION {place} @barrow_row = ROW_NUMBER"
    ));
    match asked {
        Ok(()) => {}
        Err(mysql::Error::MySqlError(_)) => return Ok(None),
        Err(error) => return Err(explained(&error, "asking for the server's warnings")),
    }
    // This reads no table, and so leaves the warnings as they are.
    let row: Option<Option<u64>> = conn
        .query_first("SELECT @barrow_row")
        .map_err(|e| explained(&e, "asking for the server's warnings"))?;
    Ok(row.flatten().and_then(|row| (row as usize).checked_sub(1)))
}
