//! Decimals that are text, since they have more digits than SQLite's numbers: SQL compares and
//! sorts them as text.

use barrow_core::escape::escape_for_display;
use rusqlite::Connection;

use super::describe::describe;
use super::tokens::{Kind, tokens};
use crate::error::Error;
use crate::query::Select;
use crate::table::is_text_decimal;

/// Functions whose argument may be such a column: what they make of it does not depend on how
/// it compares.
const TAKES_TEXT: [&str; 5] = ["CAST", "ABS", "ROUND", "LENGTH", "TYPEOF"];

/// Whether the condition and the order of an export mean what they say.
///
/// # Errors
/// They compare or sort by a column of decimals that are text.
pub fn can_be_asked(connection: &Connection, select: &Select) -> Result<(), Error> {
    if select.is_whole_table() {
        return Ok(());
    }
    let Some(table) = describe(connection, &select.table)? else {
        return Ok(());
    };
    let columns = table.columns.iter().filter(|c| is_text_decimal(c));
    let names: Vec<&str> = columns.map(|column| column.name.as_str()).collect();
    let words = [&select.condition, &select.order].into_iter().flatten();
    for word in words {
        if let Some(name) = compared(word, &names) {
            let shown = escape_for_display(name.as_bytes());
            return Err(Error::spec(format!(
                "{shown} has more digits than SQLite's numbers and is text, which is compared and \
                 sorted as text"
            ))
            .advice(format!(
                "say CAST({shown} AS REAL), which compares about 15 digits of it"
            )));
        }
    }
    Ok(())
}

/// The first of these columns that SQL compares or sorts by, as far as can be told.
fn compared<'n>(sql: &str, names: &[&'n str]) -> Option<&'n str> {
    let tokens = tokens(sql);
    let name_at = |place: usize| match tokens.get(place).map(|token| &token.kind) {
        Some(Kind::Name(name)) => Some(name.as_str()),
        _ => None,
    };
    let is_sign = |place: Option<usize>, sign: char| {
        place.is_some_and(|place| tokens[place].kind == Kind::Sign(sign))
    };
    let is_argument = |mut place: usize| {
        // The table's name may stand before the column's.
        while is_sign(place.checked_sub(1), '.') && place >= 2 {
            place -= 2;
        }
        let takes_text = |name| TAKES_TEXT.iter().any(|f| f.eq_ignore_ascii_case(name));
        let function = place.checked_sub(2).and_then(name_at);
        is_sign(place.checked_sub(1), '(') && function.is_some_and(takes_text)
    };
    let is_asked_for_null = |place: usize| {
        name_at(place + 1).is_some_and(|word| {
            ["IS", "NOTNULL", "ISNULL"]
                .iter()
                .any(|w| w.eq_ignore_ascii_case(word))
        })
    };
    (0..tokens.len()).find_map(|place| {
        let own = name_at(place)?;
        let found = names.iter().find(|name| name.eq_ignore_ascii_case(own))?;
        (!is_argument(place) && !is_asked_for_null(place)).then_some(*found)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_compares_a_column_of_text_is_found() {
        for sql in [
            "amt > 6",
            "6 < \"AMT\"",
            "n = 1 AND (amt) > 2",
            "amt DESC",
            "d.[amt]",
        ] {
            assert_eq!(compared(sql, &["amt"]), Some("amt"), "{sql}");
        }
        for sql in [
            "n > 6",
            "'amt' = s",
            "amt IS NULL",
            "CAST(amt AS REAL) > 6",
            "cast(d.amt AS REAL) > 6",
            "amtx > 1 -- amt",
            "[amt",
        ] {
            let found = compared(sql, &["amt"]);
            assert_eq!(found.is_some(), sql == "[amt", "{sql}");
        }
    }
}
