//! The types a column may have: SQL's own names, as in ISO/IEC 9075-2.

use std::fmt;

/// A column's type.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Type {
    /// -32,768 to 32,767.
    SmallInt,
    /// -2,147,483,648 to 2,147,483,647.
    Integer,
    /// 64 bits, signed.
    BigInt,
    /// Exact, with `precision` digits of which `scale` stand after the mark.
    Decimal {
        /// All digits, 1 to 38.
        precision: u8,
        /// Digits after the mark, 0 to `precision`.
        scale: u8,
    },
    /// Binary floating point, 32 bits.
    Real,
    /// Binary floating point, 64 bits.
    Double,
    /// True or false.
    Boolean,
    /// Text of at most so many characters, of a set length in the database.
    Char(u32),
    /// Text of at most so many characters.
    VarChar(u32),
    /// Text of any length.
    Text,
    /// A day of the calendar, years 0001 to 9999.
    Date,
    /// A time of day.
    Time,
    /// A day and a time of day, without a zone.
    Timestamp,
    /// A moment in time.
    TimestampTz,
    /// A JSON document (RFC 8259), kept as text.
    Json,
    /// A UUID (RFC 9562).
    Uuid,
    /// Bytes.
    Bytes,
}

/// Every type as it is written in a spec, and what it is.
pub const TYPE_MEANINGS: &[(&str, &str)] = &[
    ("smallint", "Whole numbers from -32,768 to 32,767."),
    (
        "integer",
        "Whole numbers from -2,147,483,648 to 2,147,483,647.",
    ),
    ("bigint", "Whole numbers of 64 bits."),
    (
        "decimal(p,s)",
        "Exact numbers of up to p digits, s of them after the mark; p up to 38.",
    ),
    ("real", "Binary floating point of 32 bits."),
    ("double", "Binary floating point of 64 bits."),
    ("boolean", "True or false, by words."),
    (
        "char(n)",
        "Text of at most n characters, filled up by the database.",
    ),
    ("varchar(n)", "Text of at most n characters."),
    ("text", "Text of any length."),
    ("date", "A day, years 0001 to 9999."),
    ("time", "A time of day."),
    ("timestamp", "A day and a time, without a zone."),
    ("timestamptz", "A moment in time, kept in UTC."),
    ("json", "A JSON document (RFC 8259), kept letter by letter."),
    ("uuid", "A UUID (RFC 9562)."),
    ("bytes", "Bytes, in hexadecimal or base64."),
];

/// Every type's name as it is written in a spec.
pub const TYPE_NAMES: &[&str] = &[
    "smallint",
    "integer",
    "bigint",
    "decimal(p,s)",
    "real",
    "double",
    "boolean",
    "char(n)",
    "varchar(n)",
    "text",
    "date",
    "time",
    "timestamp",
    "timestamptz",
    "json",
    "uuid",
    "bytes",
];

/// The longest text length a type may name, in characters.
const LONGEST: u32 = 1_000_000_000;

impl Type {
    /// Reads a type as it is written in a spec, such as `decimal(8,2)`.
    ///
    /// # Errors
    /// A plain sentence that says what is wrong with it.
    pub fn parse(text: &str) -> Result<Type, String> {
        let lower = text.trim().to_ascii_lowercase();
        let (name, numbers) = match lower.split_once('(') {
            None => (lower.as_str(), Vec::new()),
            Some((name, rest)) => {
                let inside = rest
                    .strip_suffix(')')
                    .ok_or_else(|| format!("the type \"{text}\" lacks its closing parenthesis"))?;
                let numbers = inside
                    .split(',')
                    .map(|n| n.trim().parse::<u32>())
                    .collect::<Result<Vec<_>, _>>()
                    .map_err(|_| format!("\"{inside}\" in \"{text}\" is not a length"))?;
                (name.trim_end(), numbers)
            }
        };
        match (name, numbers.as_slice()) {
            ("smallint", []) => Ok(Type::SmallInt),
            ("integer" | "int", []) => Ok(Type::Integer),
            ("bigint", []) => Ok(Type::BigInt),
            ("decimal" | "numeric", [p]) => decimal(*p, 0),
            ("decimal" | "numeric", [p, s]) => decimal(*p, *s),
            ("decimal" | "numeric", _) => Err(format!(
                "{name} needs its precision and scale, such as {name}(12,2)"
            )),
            ("real", []) => Ok(Type::Real),
            ("double" | "double precision", []) => Ok(Type::Double),
            ("boolean", []) => Ok(Type::Boolean),
            ("char" | "character", [n]) => length(*n).map(Type::Char),
            ("varchar" | "character varying", [n]) => length(*n).map(Type::VarChar),
            ("char" | "varchar" | "character" | "character varying", _) => {
                Err(format!("{name} needs one length, such as {name}(40)"))
            }
            ("text", []) => Ok(Type::Text),
            ("date", []) => Ok(Type::Date),
            ("time", []) => Ok(Type::Time),
            ("timestamp", []) => Ok(Type::Timestamp),
            ("timestamptz" | "timestamp with time zone", []) => Ok(Type::TimestampTz),
            ("json", []) => Ok(Type::Json),
            ("uuid", []) => Ok(Type::Uuid),
            ("bytes", []) => Ok(Type::Bytes),
            (known, [_, ..]) if TYPE_NAMES.contains(&known) => {
                Err(format!("{known} takes no length"))
            }
            _ => Err(format!("\"{text}\" is not a type")),
        }
    }

    /// Whether values of this type are text to the reader.
    pub fn is_text(self) -> bool {
        matches!(self, Type::Char(_) | Type::VarChar(_) | Type::Text)
    }

    /// Whether values of this type are numbers.
    pub fn is_number(self) -> bool {
        matches!(
            self,
            Type::SmallInt
                | Type::Integer
                | Type::BigInt
                | Type::Decimal { .. }
                | Type::Real
                | Type::Double
        )
    }

    /// Whether values of this type are read by date or time patterns.
    pub fn is_temporal(self) -> bool {
        matches!(
            self,
            Type::Date | Type::Time | Type::Timestamp | Type::TimestampTz
        )
    }
}

fn decimal(precision: u32, scale: u32) -> Result<Type, String> {
    if !(1..=38).contains(&precision) {
        return Err(format!(
            "a decimal has 1 to 38 digits, and this one asks for {precision}"
        ));
    }
    if scale > precision {
        return Err(format!(
            "the scale {scale} is larger than the precision {precision}"
        ));
    }
    Ok(Type::Decimal {
        precision: precision as u8,
        scale: scale as u8,
    })
}

fn length(n: u32) -> Result<u32, String> {
    match n {
        1..=LONGEST => Ok(n),
        _ => Err(format!("a length is 1 to {LONGEST}, and this one is {n}")),
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Type::SmallInt => f.write_str("smallint"),
            Type::Integer => f.write_str("integer"),
            Type::BigInt => f.write_str("bigint"),
            Type::Decimal { precision, scale } => write!(f, "decimal({precision},{scale})"),
            Type::Real => f.write_str("real"),
            Type::Double => f.write_str("double"),
            Type::Boolean => f.write_str("boolean"),
            Type::Char(n) => write!(f, "char({n})"),
            Type::VarChar(n) => write!(f, "varchar({n})"),
            Type::Text => f.write_str("text"),
            Type::Date => f.write_str("date"),
            Type::Time => f.write_str("time"),
            Type::Timestamp => f.write_str("timestamp"),
            Type::TimestampTz => f.write_str("timestamptz"),
            Type::Json => f.write_str("json"),
            Type::Uuid => f.write_str("uuid"),
            Type::Bytes => f.write_str("bytes"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_type_has_its_meaning() {
        let named: Vec<&str> = TYPE_MEANINGS.iter().map(|(name, _)| *name).collect();
        assert_eq!(named, TYPE_NAMES);
    }

    #[test]
    fn a_type_reads_back_as_it_is_written() {
        for text in [
            "smallint",
            "integer",
            "bigint",
            "decimal(38,10)",
            "real",
            "double",
            "boolean",
            "char(1)",
            "varchar(40)",
            "text",
            "date",
            "time",
            "timestamp",
            "timestamptz",
            "json",
            "uuid",
            "bytes",
        ] {
            assert_eq!(Type::parse(text).unwrap().to_string(), text);
        }
        assert_eq!(
            Type::parse(" Decimal( 8 , 2 ) ").unwrap().to_string(),
            "decimal(8,2)"
        );
    }

    #[test]
    fn a_wrong_type_says_what_is_wrong() {
        let cases = [
            ("decimal(4,6)", "scale 6 is larger"),
            ("decimal(39,0)", "1 to 38"),
            ("decimal", "needs its precision"),
            ("varchar", "needs one length"),
            ("varchar(0)", "a length is 1"),
            ("text(5)", "takes no length"),
            ("char(2", "closing parenthesis"),
            ("char(x)", "not a length"),
            ("strng", "is not a type"),
        ];
        for (text, says) in cases {
            let error = Type::parse(text).unwrap_err();
            assert!(error.contains(says), "{text}: {error}");
        }
    }
}
