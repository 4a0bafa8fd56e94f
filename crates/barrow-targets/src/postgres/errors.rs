//! PostgreSQL's failures in plain words, with what to do.

use barrow_core::escape::{escape_for_display, visible_path};
use barrow_core::reason::Code;
use postgres::error::{DbError, SqlState};

use crate::error::{Error, ErrorKind, NO_RIGHT};
use crate::isolate::Refused;
use crate::servers::Server;

/// The server could not be reached, or refused the connection.
pub fn unreachable(error: &postgres::Error, server: &Server) -> Error {
    let words = match error.as_db_error() {
        Some(error) => said(error),
        None => chain(error),
    };
    let words = server.without_user(&words);
    let failed = Error::new(format!("connecting to {server}: {words}"));
    match error.code() {
        Some(code)
            if *code == SqlState::INVALID_PASSWORD
                || *code == SqlState::INVALID_AUTHORIZATION_SPECIFICATION =>
        {
            failed.advice("is the user right? a password comes from the address, PGPASSWORD or the password file")
        }
        Some(code) if *code == SqlState::INVALID_CATALOG_NAME => {
            failed.advice("is the database's name right? it is the last part of the address")
        }
        Some(_) => failed,
        None if words.contains("password missing") => {
            failed.advice(match super::passfile::passed_over() {
                Some(path) => {
                    let path = visible_path(&path);
                    format!("others may read {path}, so it is not used: chmod 600 {path}")
                }
                None => "put the password into PGPASSWORD, or into the password file".into(),
            })
        }
        None => failed.advice("is the server running, and are host and port right?"),
    }
}

/// A failure that is not a row's fault.
pub fn explained(error: &postgres::Error, doing: &str) -> Error {
    let Some(found) = error.as_db_error() else {
        let failed = Error::new(format!("{doing}: {}", chain(error)));
        return match error.is_closed() || std::error::Error::source(error).is_some() {
            true => failed
                .kind(ErrorKind::Gone)
                .advice("the server went away; run this again when it is back"),
            false => failed,
        };
    };
    let failed = Error::new(format!("{doing}: {}", said(found)));
    let code = found.code();
    match code.code().get(..2).unwrap_or_default() {
        _ if *code == SqlState::INSUFFICIENT_PRIVILEGE => failed
            .kind(ErrorKind::Denied)
            .advice(NO_RIGHT),
        _ if *code == SqlState::LOCK_NOT_AVAILABLE => failed
            .kind(ErrorKind::Locked)
            .advice("another session holds a lock on the table; run this again when it is done"),
        _ if *code == SqlState::DEPENDENT_OBJECTS_STILL_EXIST => failed.advice(
            "others, such as views or foreign keys, need the table; say mode = \"truncate\" instead",
        ),
        _ if *code == SqlState::DISK_FULL => {
            failed.advice("the server's disk is full; make room there, then run this again")
        }
        "23" | "42" if is_there_already(code) => failed.kind(ErrorKind::Duplicate),
        "53" => failed.advice("the server is short of room, memory or connections"),
        "57" if *code != SqlState::QUERY_CANCELED => failed.kind(ErrorKind::Gone).advice("the server was stopped or ended the work; run this again when it is back"),
        "40" => failed.advice("another session blocked this one; run this again"),
        _ => failed,
    }
}

/// Whether what was to be made, or a key, is there already.
fn is_there_already(code: &SqlState) -> bool {
    [
        SqlState::UNIQUE_VIOLATION,
        SqlState::DUPLICATE_TABLE,
        SqlState::DUPLICATE_OBJECT,
    ]
    .contains(code)
}

/// The words of errors within errors, which say more than the outermost.
fn chain(error: &postgres::Error) -> String {
    let mut words = escape_for_display(error.to_string().as_bytes());
    let mut inner = std::error::Error::source(error);
    while let Some(error) = inner {
        let more = escape_for_display(error.to_string().as_bytes());
        if !words.contains(&more) {
            words += &format!(": {more}");
        }
        inner = error.source();
    }
    words
}

/// The server's own words: the message, and its detail.
fn said(error: &DbError) -> String {
    let mut words = escape_for_display(error.message().as_bytes());
    if let Some(detail) = error.detail() {
        words += &format!(" ({})", escape_for_display(detail.as_bytes()));
    }
    words
}

/// Why the table refused a row; none where the failure is not a row's fault.
/// Classes of codes are those of "PostgreSQL Error Codes" (appendix A).
pub fn refused(error: &DbError) -> Option<Refused> {
    if is_no_row_s(error.code()) {
        return None;
    }
    let code = match error.code() {
        code if *code == SqlState::UNIQUE_VIOLATION => Code::DuplicateKey,
        _ => Code::Refused,
    };
    Some(Refused {
        at: error.where_().and_then(line),
        is_certain: true,
        code,
        column: error.column().map(str::to_string),
        words: escape_for_display(error.message().as_bytes()),
        detail: detail(error),
    })
}

/// Whether a failure is plainly not a row's fault. All else may be: a trigger raises what
/// it likes, and a row may be too large for the table or an index of it.
fn is_no_row_s(code: &SqlState) -> bool {
    let class = code.code().get(..2).unwrap_or_default();
    // Connection, room, the operator, the system, other sessions, the transaction, rights,
    // the database, the configuration, and faults of the server itself.
    let classes = [
        "08", "53", "57", "58", "40", "25", "26", "28", "2D", "34", "3B", "3D", "3F", "F0", "XX",
    ];
    let of_others = [
        SqlState::INSUFFICIENT_PRIVILEGE,
        SqlState::UNDEFINED_TABLE,
        SqlState::UNDEFINED_COLUMN,
        SqlState::UNDEFINED_FUNCTION,
        SqlState::SYNTAX_ERROR,
        SqlState::LOCK_NOT_AVAILABLE,
        SqlState::OBJECT_IN_USE,
    ];
    classes.contains(&class) || of_others.contains(code)
}

/// What the server says of the row. Of a check and of null it repeats the whole row,
/// which the rejects have as it came.
fn detail(error: &DbError) -> Option<String> {
    let repeats = [SqlState::CHECK_VIOLATION, SqlState::NOT_NULL_VIOLATION];
    let detail = error.detail().filter(|_| !repeats.contains(error.code()))?;
    Some(escape_for_display(detail.as_bytes()))
}

/// The row that a COPY stumbled over, 0-based: the context says `COPY table, line 7`,
/// in the server's own language.
fn line(context: &str) -> Option<usize> {
    let last = context.lines().last()?;
    let rest = last.strip_prefix("COPY ")?;
    // The table's name comes first and may itself hold ", line 7": the last one counts,
    // before what is said of the column.
    let after = rest.rsplit_once(", line ").map(|(_, after)| after)?;
    let digits: String = after.chars().take_while(char::is_ascii_digit).collect();
    digits.parse::<usize>().ok()?.checked_sub(1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_row_is_found_in_the_context() {
        assert_eq!(line("COPY d, line 7"), Some(6));
        assert_eq!(
            line("PL/pgSQL function f() line 3 at RAISE\nCOPY d, line 12, column kg"),
            Some(11)
        );
        assert_eq!(line("SQL statement \"SELECT 1\""), None);
        assert_eq!(line("COPY a, line 9, line 2"), Some(1));
    }
}
