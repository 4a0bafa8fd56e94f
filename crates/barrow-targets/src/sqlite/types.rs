//! What SQLite makes of a declared type.

use barrow_core::types::Type;

/// How SQLite stores a column's values ("Datatypes In SQLite", section 3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Affinity {
    /// Whole numbers where a value is one.
    Integer,
    /// Text as it is.
    Text,
    /// Any value as it is.
    Blob,
    /// 64-bit floating point.
    Real,
    /// Numbers where a value looks like one.
    Numeric,
}

impl Affinity {
    /// The affinity of a declared type, by the five rules in their order.
    pub fn of(declared: &str) -> Affinity {
        let declared = declared.to_ascii_uppercase();
        let has = |words: &[&str]| words.iter().any(|w| declared.contains(w));
        if has(&["INT"]) {
            Affinity::Integer
        } else if has(&["CHAR", "CLOB", "TEXT"]) {
            Affinity::Text
        } else if declared.is_empty() || has(&["BLOB"]) {
            Affinity::Blob
        } else if has(&["REAL", "FLOA", "DOUB"]) {
            Affinity::Real
        } else {
            Affinity::Numeric
        }
    }

    /// Whether text that looks like a number would become one.
    pub fn turns_text_into_numbers(self) -> bool {
        !matches!(self, Affinity::Text | Affinity::Blob)
    }
}

/// The spec's type for a declared one, where there is one.
pub fn spec_type(declared: &str) -> Option<Type> {
    let plain = declared.to_ascii_lowercase().replace("_text", "");
    match plain.as_str() {
        "blob" => Some(Type::Bytes),
        "datetime" => Some(Type::Timestamp),
        // Of 64 bits, whatever it is called.
        "integer" | "int" => Some(Type::BigInt),
        "" => None,
        other => Type::parse(other).ok(),
    }
}

/// Whether a column that is declared so would turn some text of a type into a number
/// ("Datatypes In SQLite", section 3).
pub fn turns_into_numbers(ty: Type, declared: &str) -> bool {
    (ty.is_text() || ty == Type::Json) && Affinity::of(declared).turns_text_into_numbers()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_type_reads_back_and_keeps_its_values() {
        let cases = [
            ("smallint", Affinity::Integer),
            ("bigint", Affinity::Integer),
            ("decimal(15,2)", Affinity::Numeric),
            ("decimal(16,2)", Affinity::Numeric),
            ("real", Affinity::Real),
            ("double", Affinity::Real),
            ("boolean", Affinity::Numeric),
            ("char(3)", Affinity::Text),
            ("varchar(40)", Affinity::Text),
            ("text", Affinity::Text),
            ("date", Affinity::Numeric),
            ("timestamp", Affinity::Numeric),
            ("json", Affinity::Text),
            ("uuid", Affinity::Text),
            ("bytes", Affinity::Blob),
        ];
        for (name, affinity) in cases {
            let ty = Type::parse(name).unwrap();
            let declared = crate::sqlite::DIALECT.type_word(ty);
            assert_eq!(Affinity::of(&declared), affinity, "{name}");
            assert_eq!(spec_type(&declared), Some(ty), "{name}");
        }
    }
}
