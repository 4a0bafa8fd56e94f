//! SQL of our own with values beside it, the same for every kind of database.

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

/// Placeholders for this many values: `?, ?, ?`.
pub fn marks(count: usize) -> String {
    vec!["?"; count].join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn so_many_marks_as_values() {
        assert_eq!(marks(3), "?, ?, ?");
    }
}
