//! What MariaDB's columns hold, and how they are sent.

use barrow_core::types::Type;

/// A column of a table, as far as sending to it goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Declared {
    /// Its type as it is declared, in small letters, such as `decimal(8,2)`.
    pub whole: String,
    /// Its type's own name, such as `decimal`.
    pub name: String,
    /// The most characters of a text.
    pub characters: Option<u64>,
    /// Digits after the mark.
    pub scale: Option<u64>,
    /// Digits in all.
    pub precision: Option<u64>,
    /// Digits of a second.
    pub digits: Option<u64>,
    /// The encoding that it keeps text in.
    pub charset: Option<String>,
    /// Whether the server numbers rows by it.
    pub is_counter: bool,
    /// Whether it may not be null.
    pub not_null: bool,
    /// The words of an enumeration or a set.
    pub words: Vec<String>,
}

/// How values are sent to a column, as text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wire {
    /// A number of at most so many digits after the mark.
    Number(u32),
    /// `float`
    Float,
    /// `double`
    Double,
    /// A truth value as 0 or 1.
    Truth,
    /// `date`
    Date,
    /// `time`, with so many digits of a second.
    Time(u32),
    /// `datetime` and `timestamp`, likewise.
    DateTime(u32),
    /// Text of at most so many characters.
    Text(usize),
    /// Text of at most so many characters, of which spaces at the end are lost.
    Padded(usize),
    /// An address of so many bytes (4 or 16), which is written in one way alone.
    Address(u8),
    /// A word of a list.
    Word,
    /// Words of a list, in its order, with commas between.
    Words,
    /// Bytes in hexadecimal digits, which the server turns back: just so many, if that is
    /// set, for fewer would be filled up.
    Hex(Option<usize>),
}

impl Declared {
    /// A column as we declare it for a type.
    pub fn made(ty: Type, not_null: bool) -> Declared {
        let whole = super::DIALECT.type_word(ty).to_lowercase();
        let (name, rest) = whole.split_once('(').unwrap_or((&whole, ""));
        let numbers: Vec<u64> = rest
            .trim_end_matches(|c: char| !c.is_ascii_digit())
            .split(',')
            .filter_map(|n| n.trim().parse().ok())
            .collect();
        let first = numbers.first().copied();
        let is_text = name.contains("char") || name.contains("text") || name == "json";
        Declared {
            name: name.split(' ').next().unwrap_or_default().to_string(),
            characters: first.filter(|_| is_text),
            precision: first.filter(|_| name == "decimal"),
            scale: numbers.get(1).copied(),
            digits: first.filter(|_| name.starts_with("date") || name.starts_with("time")),
            charset: is_text.then(|| "utf8mb4".to_string()),
            is_counter: false,
            not_null,
            words: Vec::new(),
            whole: whole.clone(),
        }
    }

    /// Whether text in UTF-8 is the same for the column as the bytes that it is made of.
    /// Some types read bytes as a form of their own (`uuid`, `inet6`).
    pub fn takes_bytes(&self) -> bool {
        match (&self.charset, self.name.as_str()) {
            (Some(charset), _) => charset.starts_with("utf8"),
            (None, "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "decimal") => true,
            (None, "float" | "double" | "date" | "time" | "datetime" | "timestamp") => true,
            (None, _) => false,
        }
    }

    /// How values of `ty` are sent to the column; none if they cannot be.
    pub fn wire(&self, ty: Type) -> Option<Wire> {
        let is_number = ty.is_number();
        let digits = self.digits.unwrap_or(0).min(6) as u32;
        Some(match self.name.as_str() {
            "tinyint" if ty == Type::Boolean => Wire::Truth,
            "tinyint" | "smallint" | "mediumint" | "int" | "bigint" if is_number => Wire::Number(0),
            "decimal" if is_number && !matches!(ty, Type::Real | Type::Double) => {
                Wire::Number(self.scale.unwrap_or(0) as u32)
            }
            // With a scale of their own they round without a word.
            "float" if is_number && self.scale.is_none() => Wire::Float,
            "double" if is_number && self.scale.is_none() => Wire::Double,
            "date" if matches!(ty, Type::Date | Type::Timestamp) => Wire::Date,
            "time" if ty == Type::Time => Wire::Time(digits),
            "datetime" if matches!(ty, Type::Timestamp | Type::Date | Type::TimestampTz) => {
                Wire::DateTime(digits)
            }
            "timestamp" if ty == Type::TimestampTz => Wire::DateTime(digits),
            "char" => Wire::Padded(self.characters.map_or(usize::MAX, |n| n as usize)),
            "varchar" => Wire::Text(self.characters.map_or(usize::MAX, |n| n as usize)),
            "tinytext" | "text" | "mediumtext" | "longtext" | "json" => Wire::Text(usize::MAX),
            "enum" if ty.is_text() => Wire::Word,
            "set" if ty.is_text() => Wire::Words,
            "uuid" if ty == Type::Uuid => Wire::Text(usize::MAX),
            "inet4" if ty.is_text() => Wire::Address(4),
            "inet6" if ty.is_text() => Wire::Address(16),
            "binary" if ty == Type::Bytes => Wire::Hex(self.characters.map(|n| n as usize)),
            "tinyblob" | "blob" | "mediumblob" | "longblob" | "varbinary" if ty == Type::Bytes => {
                Wire::Hex(None)
            }
            _ => return None,
        })
    }

    /// What the server would put in place of null, in silence, if anything.
    pub fn in_place_of_null(&self) -> Option<&'static str> {
        match self.name.as_str() {
            _ if self.is_counter => Some("its own number"),
            // LOAD DATA does so, whatever explicit_defaults_for_timestamp says.
            "timestamp" if self.not_null => Some("the time of the load"),
            _ => None,
        }
    }

    /// The spec's type for the column, where there is one.
    pub fn spec_type(&self) -> Option<Type> {
        let characters = self.characters.unwrap_or(0) as u32;
        let (precision, scale) = (self.precision.unwrap_or(0), self.scale.unwrap_or(0));
        Some(match self.name.as_str() {
            "tinyint" if self.whole.starts_with("tinyint(1)") => Type::Boolean,
            "tinyint" => Type::SmallInt,
            // What has no sign goes further than its name without one.
            "smallint" | "mediumint" if self.whole.contains("unsigned") => Type::Integer,
            "int" if self.whole.contains("unsigned") => Type::BigInt,
            "smallint" => Type::SmallInt,
            "mediumint" | "int" => Type::Integer,
            "bigint" if self.whole.contains("unsigned") => Type::Decimal {
                precision: 20,
                scale: 0,
            },
            "bigint" => Type::BigInt,
            "decimal" if (1..=38).contains(&precision) => Type::Decimal {
                precision: precision as u8,
                scale: scale as u8,
            },
            "float" => Type::Real,
            "double" => Type::Double,
            "date" => Type::Date,
            "time" => Type::Time,
            "datetime" => Type::Timestamp,
            "timestamp" => Type::TimestampTz,
            "char" if characters > 0 => Type::Char(characters),
            "varchar" if characters > 0 => Type::VarChar(characters),
            "tinytext" | "text" | "mediumtext" | "longtext" => Type::Text,
            "json" => Type::Json,
            "uuid" => Type::Uuid,
            "tinyblob" | "blob" | "mediumblob" | "longblob" | "binary" | "varbinary" => Type::Bytes,
            _ => return None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn declared(whole: &str, characters: Option<u64>) -> Declared {
        Declared {
            whole: whole.into(),
            name: whole.split(['(', ' ']).next().unwrap_or_default().into(),
            characters,
            scale: Some(2),
            precision: Some(8),
            digits: None,
            charset: None,
            is_counter: false,
            not_null: false,
            words: Vec::new(),
        }
    }

    #[test]
    fn bytes_are_text_only_where_text_is_utf8() {
        let of = |name: &str, charset: Option<&str>| Declared {
            charset: charset.map(str::to_string),
            ..declared(name, None)
        };
        assert!(of("varchar", Some("utf8mb4")).takes_bytes());
        assert!(of("text", Some("utf8mb3")).takes_bytes());
        assert!(of("bigint", None).takes_bytes());
        assert!(!of("varchar", Some("latin1")).takes_bytes());
        assert!(!of("varchar", Some("ucs2")).takes_bytes());
        assert!(!of("uuid", None).takes_bytes());
        assert!(!of("inet6", None).takes_bytes());
    }

    #[test]
    fn columns_are_told_in_the_words_of_a_spec() {
        let of = |whole: &str| {
            declared(whole, Some(10))
                .spec_type()
                .map(|ty| ty.to_string())
        };
        for (whole, ty) in [
            ("tinyint(1)", "boolean"),
            ("int(10) unsigned", "bigint"),
            ("decimal(8,2)", "decimal(8,2)"),
            ("varchar(10)", "varchar(10)"),
            ("datetime(6)", "timestamp"),
            ("longblob", "bytes"),
        ] {
            assert_eq!(of(whole).as_deref(), Some(ty), "{whole}");
        }
        assert_eq!(of("geometry"), None);
    }

    #[test]
    fn what_would_be_altered_cannot_be_sent() {
        assert_eq!(declared("timestamp", None).wire(Type::Timestamp), None);
        assert_eq!(declared("int(11)", None).wire(Type::Text), None);
        assert_eq!(declared("bit(8)", None).wire(Type::Boolean), None);
        assert_eq!(declared("double(8,2)", None).wire(Type::Double), None);
        assert_eq!(
            declared("varchar(10)", Some(10)).wire(Type::Text),
            Some(Wire::Text(10))
        );
    }
}
