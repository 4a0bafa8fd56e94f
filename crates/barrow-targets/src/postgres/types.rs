//! What PostgreSQL's columns hold, and how they are sent.

use barrow_core::types::Type;

/// A column of a table, as far as sending to it goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Declared {
    /// Its type's own name, such as `int4`; of a domain, that of its base.
    pub name: String,
    /// The type's modifier: a length, or a precision and a scale; -1 for none.
    pub modifier: i32,
    /// Whether it is an enumeration.
    pub is_enum: bool,
    /// Whether the server alone numbers rows by it (GENERATED ALWAYS AS IDENTITY).
    pub is_always_numbered: bool,
}

/// How values are sent to a column, in the binary form of its type.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wire {
    /// `boolean`
    Bool,
    /// `smallint`
    Int2,
    /// `integer`
    Int4,
    /// `bigint`
    Int8,
    /// `real`
    Float4,
    /// `double precision`
    Float8,
    /// `numeric`, with room for so many digits after the mark.
    Numeric(u32),
    /// `date`
    Date,
    /// `time`, with so many digits of a second.
    Time(u32),
    /// `timestamp` and `timestamptz`, likewise.
    Timestamp(u32),
    /// Text of at most so many characters.
    Text(usize),
    /// `char`, which fills text up to so many characters with spaces.
    Padded(usize),
    /// `xml`
    Xml,
    /// `jsonb`
    Jsonb,
    /// `bytea`
    Bytea,
    /// `uuid`
    Uuid,
}

/// The most digits of a second that the server keeps.
const DIGITS: u32 = 6;

impl Declared {
    /// How values of `ty` are sent to the column; none if they cannot be.
    pub fn wire(&self, ty: Type) -> Option<Wire> {
        let is_number = ty.is_number();
        let is_text = ty.is_text();
        let digits = match self.modifier {
            -1 => DIGITS,
            digits => digits.unsigned_abs().min(DIGITS),
        };
        Some(match self.name.as_str() {
            "bool" if ty == Type::Boolean => Wire::Bool,
            "int2" if is_number => Wire::Int2,
            "int4" if is_number => Wire::Int4,
            "int8" if is_number => Wire::Int8,
            "float4" if is_number => Wire::Float4,
            "float8" if is_number => Wire::Float8,
            "numeric" if is_number && self.rounds() => return None,
            "numeric" if is_number && !matches!(ty, Type::Real | Type::Double) => {
                Wire::Numeric(self.scale())
            }
            "date" if matches!(ty, Type::Date | Type::Timestamp) => Wire::Date,
            "time" if ty == Type::Time => Wire::Time(digits),
            "timestamp" if matches!(ty, Type::Timestamp | Type::Date) => Wire::Timestamp(digits),
            "timestamptz" if ty == Type::TimestampTz => Wire::Timestamp(digits),
            "bpchar" if self.length() < usize::MAX => Wire::Padded(self.length()),
            "varchar" | "bpchar" => Wire::Text(self.length()),
            "text" | "citext" | "name" => Wire::Text(usize::MAX),
            "xml" if is_text => Wire::Xml,
            "json" if ty == Type::Json || is_text => Wire::Text(usize::MAX),
            "jsonb" if ty == Type::Json || is_text => Wire::Jsonb,
            "bytea" if ty == Type::Bytes => Wire::Bytea,
            "uuid" if ty == Type::Uuid => Wire::Uuid,
            _ if self.is_enum && is_text => Wire::Text(usize::MAX),
            _ => return None,
        })
    }

    /// A length is kept with four added (`VARHDRSZ`).
    fn length(&self) -> usize {
        match self.modifier {
            4.. => self.modifier as usize - 4,
            _ => usize::MAX,
        }
    }

    fn precision(&self) -> u32 {
        ((self.modifier - 4) >> 16) as u32 & 0xFFFF
    }

    /// The scale of a numeric; without one it holds all that a value has.
    fn scale(&self) -> u32 {
        match self.modifier {
            4.. => (self.modifier - 4) as u32 & 0x7FF,
            _ => u32::MAX,
        }
    }

    /// Whether a numeric has a scale below zero (15 and later), by which it rounds whole
    /// numbers without a word.
    fn rounds(&self) -> bool {
        self.modifier >= 4 && self.scale() >= 1024
    }

    /// The spec's type for the column, where there is one.
    pub fn spec_type(&self) -> Option<Type> {
        Some(match self.name.as_str() {
            "bool" => Type::Boolean,
            "int2" => Type::SmallInt,
            "int4" => Type::Integer,
            "int8" => Type::BigInt,
            "float4" => Type::Real,
            "float8" => Type::Double,
            // Of tens, hundreds and so on: whole numbers all the same.
            "numeric" if self.rounds() => {
                let digits = self.precision() + (2_048 - self.scale());
                (digits <= 38).then_some(Type::Decimal {
                    precision: digits as u8,
                    scale: 0,
                })?
            }
            "numeric" if self.modifier >= 4 && (1..=38).contains(&self.precision()) => {
                Type::Decimal {
                    precision: self.precision() as u8,
                    scale: self.scale().min(self.precision()) as u8,
                }
            }
            "date" => Type::Date,
            "time" => Type::Time,
            "timestamp" => Type::Timestamp,
            "timestamptz" => Type::TimestampTz,
            "bpchar" if self.length() < usize::MAX => Type::Char(self.length() as u32),
            "varchar" if self.length() < usize::MAX => Type::VarChar(self.length() as u32),
            "text" | "varchar" => Type::Text,
            "json" | "jsonb" => Type::Json,
            "bytea" => Type::Bytes,
            "uuid" => Type::Uuid,
            _ => return None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn declared(name: &str, modifier: i32) -> Declared {
        Declared {
            name: name.into(),
            modifier,
            is_enum: false,
            is_always_numbered: false,
        }
    }

    #[test]
    fn modifiers_are_lengths_and_scales() {
        let numeric = declared("numeric", ((8 << 16) | 2) + 4);
        assert_eq!(numeric.spec_type(), Type::parse("decimal(8,2)").ok());
        assert_eq!(numeric.wire(Type::Integer), Some(Wire::Numeric(2)));
        let varchar = declared("varchar", 44);
        assert_eq!(varchar.spec_type(), Some(Type::VarChar(40)));
        assert_eq!(varchar.wire(Type::Text), Some(Wire::Text(40)));
        assert_eq!(
            declared("timestamp", 3).wire(Type::Date),
            Some(Wire::Timestamp(3))
        );
        assert_eq!(declared("numeric", -1).spec_type(), None);
    }

    #[test]
    fn what_would_be_altered_cannot_be_sent() {
        assert_eq!(declared("timestamptz", -1).wire(Type::Timestamp), None);
        assert_eq!(declared("int4", -1).wire(Type::Text), None);
        // numeric(5,-2)
        let rounds = declared("numeric", ((5 << 16) | (-2 & 0x7FF)) + 4);
        assert_eq!(rounds.spec_type(), Type::parse("decimal(7,0)").ok());
        assert_eq!(rounds.wire(Type::Integer), None);
        assert_eq!(declared("inet", -1).wire(Type::Text), None);
        assert_eq!(declared("bool", -1).wire(Type::Integer), None);
    }
}
