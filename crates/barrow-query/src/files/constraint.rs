//! The comparisons that rows and files are passed over by. SQLite compares again whatever is
//! handed to it, so a comparison here may say too often that a row might be wanted, and never
//! too seldom.

use std::cmp::Ordering;

use rusqlite::types::Value;
use rusqlite::vtab::IndexConstraintOp as Op;
use serde::{Deserialize, Serialize};

/// How a column is compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Operator {
    /// `=`
    Equal,
    /// `<>`
    Differs,
    /// `<`
    Below,
    /// `<=`
    AtMost,
    /// `>`
    Above,
    /// `>=`
    AtLeast,
    /// `LIKE`
    Like,
    /// `GLOB`
    Glob,
}

impl Operator {
    /// The one that SQLite means, where it is one of these.
    pub fn of(op: Op) -> Option<Operator> {
        match op {
            Op::SQLITE_INDEX_CONSTRAINT_EQ => Some(Operator::Equal),
            Op::SQLITE_INDEX_CONSTRAINT_NE => Some(Operator::Differs),
            Op::SQLITE_INDEX_CONSTRAINT_LT => Some(Operator::Below),
            Op::SQLITE_INDEX_CONSTRAINT_LE => Some(Operator::AtMost),
            Op::SQLITE_INDEX_CONSTRAINT_GT => Some(Operator::Above),
            Op::SQLITE_INDEX_CONSTRAINT_GE => Some(Operator::AtLeast),
            Op::SQLITE_INDEX_CONSTRAINT_LIKE => Some(Operator::Like),
            Op::SQLITE_INDEX_CONSTRAINT_GLOB => Some(Operator::Glob),
            _ => None,
        }
    }

    /// Whether it goes by text as a pattern.
    pub fn is_pattern(self) -> bool {
        matches!(self, Operator::Like | Operator::Glob)
    }

    /// Whether it holds for what compares so.
    #[inline]
    pub fn holds(self, order: Ordering) -> bool {
        match self {
            Operator::Equal => order.is_eq(),
            Operator::Differs => order.is_ne(),
            Operator::Below => order.is_lt(),
            Operator::AtMost => order.is_le(),
            Operator::Above => order.is_gt(),
            Operator::AtLeast => order.is_ge(),
            Operator::Like | Operator::Glob => true,
        }
    }

    /// Whether it may hold for a text.
    pub fn may_hold(self, text: &str, value: &Value) -> bool {
        let Value::Text(value) = value else {
            return true;
        };
        match self {
            Operator::Like => is_like(value, text),
            // What it does not know of the pattern, SQLite knows.
            Operator::Glob if value.contains('[') => true,
            Operator::Glob => matches(value, text, '*', '?', |a, b| a == b),
            plain => plain.holds(text.cmp(value)),
        }
    }
}

/// `LIKE`, for which capitals and small letters of ASCII are the same.
fn is_like(pattern: &str, text: &str) -> bool {
    matches(pattern, text, '%', '_', |a, b| a.eq_ignore_ascii_case(&b))
}

/// Whether a text is what a pattern says, with a mark for any text and one for any character.
fn matches(pattern: &str, text: &str, any: char, one: char, same: fn(char, char) -> bool) -> bool {
    let (pattern, text): (Vec<char>, Vec<char>) =
        (pattern.chars().collect(), text.chars().collect());
    let (mut p, mut t) = (0, 0);
    // Where the last mark for any text was, and how far it reached.
    let mut back = None;
    while t < text.len() {
        match pattern.get(p) {
            Some(mark) if *mark == any => {
                back = Some((p, t));
                p += 1;
            }
            Some(c) if *c == one || same(*c, text[t]) => {
                p += 1;
                t += 1;
            }
            _ => match &mut back {
                Some((mark, reached)) => {
                    *reached += 1;
                    (p, t) = (*mark + 1, *reached);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|c| *c == any)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_are_as_sqlite_has_them() {
        let connection = rusqlite::Connection::open_in_memory().unwrap();
        let texts = [
            "",
            "a",
            "market/a-1.csv",
            "A-1.csv",
            "a-12.csv",
            "ä.csv",
            "aab",
        ];
        let likes = [
            "", "%", "a%", "%.csv", "a-_.csv", "%a%1%", "_.csv", "%%b", "a_b",
        ];
        for text in texts {
            for like in likes {
                for (operator, word, pattern) in [
                    (Operator::Like, "LIKE", like.to_string()),
                    (
                        Operator::Glob,
                        "GLOB",
                        like.replace('%', "*").replace('_', "?"),
                    ),
                ] {
                    let sql = format!("SELECT ?1 {word} ?2");
                    let wanted: bool = connection
                        .query_row(&sql, [text, &pattern], |row| row.get(0))
                        .unwrap();
                    let found = operator.may_hold(text, &Value::Text(pattern.clone()));
                    assert_eq!(found, wanted, "{text} {word} {pattern}");
                }
            }
        }
    }
}
