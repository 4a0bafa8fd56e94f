//! What the tests of all dialects use.

use barrow_core::types::Type;

use crate::dialect::Dialect;

/// A name that would end its quotes if they were not doubled.
pub fn hostile_name() -> &'static str {
    "a\"; DROP TABLE `x`; --"
}

/// Holds the words for types against what they should be.
pub fn columns_of_types(dialect: Dialect, cases: &[(&str, &str)]) {
    for (ty, word) in cases {
        let ty = Type::parse(ty).unwrap();
        assert_eq!(dialect.type_word(ty), *word);
    }
}
