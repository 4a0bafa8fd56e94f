//! MariaDB's failures in plain words, with what to do. Numbers are those of "MariaDB
//! Error Code Reference".

use barrow_core::escape::escape_for_display;
use barrow_core::reason::Code;

use crate::error::{Error, ErrorKind, NO_RIGHT};
use crate::isolate::Refused;
use crate::servers::Server;

/// The server could not be reached, or refused the connection.
pub fn unreachable(error: &mysql::Error, server: &Server) -> Error {
    let words = server.without_user(&said(error));
    let failed = Error::new(format!("connecting to {server}: {words}"));
    match number(error) {
        Some(1045 | 1698) => {
            failed.advice("is the user right? a password comes from the address or MYSQL_PWD")
        }
        Some(1044 | 1049) => {
            failed.advice("is the database's name right? it is the last part of the address")
        }
        Some(_) => failed,
        None => failed.advice("is the server running, and are host and port right?"),
    }
}

/// A failure that is not a row's fault.
pub fn explained(error: &mysql::Error, doing: &str) -> Error {
    let failed = Error::new(format!("{doing}: {}", said(error)));
    match number(error) {
        Some(1142 | 1143 | 1044 | 1227 | 1370) => failed.kind(ErrorKind::Denied).advice(NO_RIGHT),
        Some(1050 | 1062) => failed.kind(ErrorKind::Duplicate),
        Some(1205) => failed
            .kind(ErrorKind::Locked)
            .advice("another session holds a lock on the table; run this again when it is done"),
        Some(1213) => failed.advice("another session blocked this one; run this again"),
        Some(1114 | 1021 | 3) => {
            failed.advice("the server has no room left; make some, then run this again")
        }
        Some(1148 | 3948 | 4166) => failed.advice(
            "rows are sent as local data, which the server must allow: SET GLOBAL local_infile = 1",
        ),
        Some(1053 | 1927) => failed
            .kind(ErrorKind::Gone)
            .advice("the server was stopped or ended the work; run this again when it is back"),
        Some(_) => failed,
        None => failed
            .kind(ErrorKind::Gone)
            .advice("the server went away; run this again when it is back"),
    }
}

fn number(error: &mysql::Error) -> Option<u16> {
    match error {
        mysql::Error::MySqlError(error) => Some(error.code),
        _ => None,
    }
}

fn said(error: &mysql::Error) -> String {
    match error {
        mysql::Error::MySqlError(error) => escape_for_display(error.message.as_bytes()),
        other => escape_for_display(other.to_string().as_bytes()),
    }
}

/// Why the table refused a row; none where the failure is not a row's fault.
pub fn refused(error: &mysql::Error) -> Option<Refused> {
    let mysql::Error::MySqlError(error) = error else {
        return None;
    };
    (!NO_ROW_S.contains(&error.code)).then(|| because(error.code, &error.message))
}

/// Failures that are plainly not a row's fault: rights, names, room, locks, the server. All
/// else may be: a trigger raises what it likes, and a row may be too large.
const NO_ROW_S: [u16; 45] = [
    3, 1004, 1005, 1016, 1021, 1030, 1037, 1038, 1040, 1041, 1043, 1044, 1045, 1046, 1049, 1053,
    1054, 1064, 1079, 1114, 1142, 1143, 1146, 1148, 1180, 1184, 1194, 1195, 1205, 1206, 1213, 1227,
    1290, 1305, 1317, 1370, 1419, 1598, 1637, 1792, 1836, 1927, 1969, 3948, 4166,
];

/// A warning or an error about a row, as a reason.
pub fn because(number: u16, message: &str) -> Refused {
    Refused {
        at: None,
        // Rows that fail a check are not counted, so the number may be of one before.
        is_certain: false,
        code: match number {
            1022 | 1062 | 1169 | 1586 => Code::DuplicateKey,
            1264 => Code::OutOfRange,
            1406 => Code::TooLong,
            1048 | 1364 => Code::Required,
            _ => Code::Refused,
        },
        column: column(message),
        words: match without_entry(message) {
            Some(words) => escape_for_display(words.as_bytes()),
            None => escape_for_display(message.as_bytes()),
        },
        detail: without_entry(message).map(|_| escape_for_display(message.as_bytes())),
    }
}

/// What is said of a key that comes twice, without the key: `Duplicate entry for key
/// 'PRIMARY'`.
fn without_entry(message: &str) -> Option<String> {
    let (before, rest) = message.split_once(" entry '")?;
    let (_, after) = rest.rsplit_once("' for key ")?;
    Some(format!("{before} entry for key {after}"))
}

/// The column that a message names: `… column 'kg' …`, or `` `market`.`d`.`kg` ``.
fn column(message: &str) -> Option<String> {
    let lower = message.to_ascii_lowercase();
    // `Column set to default value; NULL supplied to NOT NULL column 'kg' at row 2`
    let quoted = ["column '", "column `"]
        .iter()
        .find_map(|start| lower.find(start));
    let at = quoted.or_else(|| lower.find("column "))? + "column ".len();
    let rest = &message[at..];
    let name = match rest.strip_prefix('\'') {
        Some(rest) => rest.split('\'').next()?,
        None => rest
            .split_whitespace()
            .next()?
            .rsplit('.')
            .next()?
            .trim_matches('`'),
    };
    (!name.is_empty()).then(|| name.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_that_comes_twice_is_one_reason_whatever_the_key() {
        let words = |text: &str| because(1062, text).words;
        assert_eq!(
            words("Duplicate entry 'it's' for key 'PRIMARY'"),
            "Duplicate entry for key 'PRIMARY'"
        );
        assert_eq!(words("Field 'x' has no value"), "Field 'x' has no value");
    }

    #[test]
    fn the_column_is_found_in_the_message() {
        assert_eq!(
            column("Data too long for column 'note' at row 1").as_deref(),
            Some("note")
        );
        assert_eq!(
            column("Incorrect integer value: 'x' for column `market`.`d`.`kg` at row 1").as_deref(),
            Some("kg")
        );
        assert_eq!(column("Duplicate entry '1' for key 'PRIMARY'"), None);
        let null = "Column set to default value; NULL supplied to NOT NULL column 'kg' at row 2";
        assert_eq!(column(null).as_deref(), Some("kg"));
    }
}
