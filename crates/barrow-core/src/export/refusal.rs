//! Why a value or a record cannot be written.

use crate::escape::visible_short;
use crate::reason::Code;

/// Why a value cannot be written so that it is read back the same.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// The reason's code.
    pub code: Code,
    /// In plain words.
    pub says: String,
    /// The value.
    pub value: String,
}

/// A refusal with its value cut.
pub fn refusal(code: Code, says: impl Into<String>, value: &str) -> Refusal {
    Refusal {
        code,
        says: says.into(),
        value: visible_short(value.as_bytes(), 60),
    }
}
