//! SQL of our own with values beside it, the same for every kind of database.

use crate::dialect::Dialect;

/// A value that goes to a database or comes from it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// No value.
    Null,
    /// A whole number.
    Number(i64),
    /// Text.
    Text(String),
    /// Bytes.
    Bytes(Vec<u8>),
}

impl Value {
    /// A count, which no database counts beyond 63 bits.
    pub fn count(count: u64) -> Value {
        Value::Number(i64::try_from(count).unwrap_or(i64::MAX))
    }

    /// Text, or null.
    pub fn maybe(text: Option<impl Into<String>>) -> Value {
        text.map_or(Value::Null, |text| Value::Text(text.into()))
    }

    /// The number, zero or more; none for anything else.
    pub fn as_count(&self) -> Option<u64> {
        match self {
            Value::Number(number) => u64::try_from(*number).ok(),
            Value::Text(text) => text.parse().ok(),
            _ => None,
        }
    }

    /// The text, if it is any.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Value::Text(text) => Some(text),
            _ => None,
        }
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Value {
        Value::Text(text.into())
    }
}

impl From<String> for Value {
    fn from(text: String) -> Value {
        Value::Text(text)
    }
}

/// SQL whose values are marked with `?`, as the database marks them: PostgreSQL
/// numbers them. A `?` within quotes is text.
pub fn marked(dialect: Dialect, sql: &str) -> String {
    if dialect != Dialect::Postgres {
        return sql.to_string();
    }
    let mut out = String::with_capacity(sql.len() + 16);
    let (mut quote, mut number) = (None, 0);
    for c in sql.chars() {
        match (c, quote) {
            ('\'' | '"', None) => quote = Some(c),
            (c, Some(open)) if c == open => quote = None,
            ('?', None) => {
                number += 1;
                out += &format!("${number}");
                continue;
            }
            _ => {}
        }
        out.push(c);
    }
    out
}

/// So many marks for values: `?, ?, ?`.
pub fn marks(count: usize) -> String {
    vec!["?"; count].join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_are_numbered_outside_of_quotes() {
        let sql = "SELECT '?''?' FROM \"a?\" WHERE b = ? AND c IN (?, ?)";
        assert_eq!(
            marked(Dialect::Postgres, sql),
            "SELECT '?''?' FROM \"a?\" WHERE b = $1 AND c IN ($2, $3)"
        );
        assert_eq!(marked(Dialect::MariaDb, sql), sql);
        assert_eq!(marks(3), "?, ?, ?");
    }
}
