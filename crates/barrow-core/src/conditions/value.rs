//! The values of conditions, and their types.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::fmt;

use super::number::Number;
use crate::types::Type;
use crate::values::{Cell, Day, Valued};

/// A value while a condition is computed.
#[derive(Debug, Clone, PartialEq)]
pub enum Value<'v> {
    /// Null.
    Null,
    /// True or false.
    Truth(bool),
    /// A number, exact.
    Number(Number),
    /// Text.
    Text(Cow<'v, str>),
    /// A day.
    Date(Day),
    /// A time of day, in nanoseconds since midnight.
    Time(u64),
    /// A day and a time of day.
    Timestamp(Day, u64),
}

/// The type of a part of a condition, known before any record is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sort {
    /// Only null.
    Null,
    /// True or false.
    Truth,
    /// A number.
    Number,
    /// Text.
    Text,
    /// A day.
    Date,
    /// A time of day.
    Time,
    /// A day and a time of day.
    Timestamp,
}

impl fmt::Display for Sort {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Sort::Null => "null",
            Sort::Truth => "true or false",
            Sort::Number => "a number",
            Sort::Text => "text",
            Sort::Date => "a date",
            Sort::Time => "a time",
            Sort::Timestamp => "a timestamp",
        })
    }
}

impl Sort {
    /// What values of a column's type are.
    pub fn of(ty: Type) -> Sort {
        match ty {
            _ if ty.is_number() => Sort::Number,
            Type::Boolean => Sort::Truth,
            Type::Date => Sort::Date,
            Type::Time => Sort::Time,
            Type::Timestamp | Type::TimestampTz => Sort::Timestamp,
            _ => Sort::Text,
        }
    }
}

impl<'v> Value<'v> {
    /// A column's value. Bytes and UUIDs are their hexadecimal digits.
    pub fn of(valued: Valued<'v>, ty: Type) -> Value<'v> {
        match valued.cell {
            Cell::Null => Value::Null,
            Cell::Bool(truth) => Value::Truth(truth),
            Cell::Int(n) => Value::Number(Number::whole(n)),
            Cell::Float(n) => Number::float(n).map_or(Value::Null, Value::Number),
            Cell::Decimal(_) | Cell::LongDecimal(_) => match (valued.decimal(), ty) {
                (Some(n), Type::Decimal { scale, .. }) => {
                    Value::Number(Number::Short(n, scale.into()))
                }
                _ => Value::Null,
            },
            Cell::Date(day) => Value::Date(day),
            Cell::Time(nanos) => Value::Time(nanos),
            Cell::Timestamp(day, nanos) => Value::Timestamp(day, nanos),
            Cell::Text(_) => {
                Value::Text(String::from_utf8_lossy(valued.bytes().unwrap_or_default()))
            }
            Cell::Bytes(_) => {
                let shown = crate::values::shown(valued.cell, ty, valued.block, valued.store);
                Value::Text(Cow::Owned(shown.unwrap_or_default()))
            }
        }
    }

    /// How two values compare; none where one is null.
    pub fn compare(&self, other: &Value<'_>) -> Option<Ordering> {
        Some(match (self, other) {
            (Value::Truth(a), Value::Truth(b)) => a.cmp(b),
            (Value::Number(a), Value::Number(b)) => a.compare(b),
            (Value::Text(a), Value::Text(b)) => a.as_bytes().cmp(b.as_bytes()),
            (Value::Time(a), Value::Time(b)) => a.cmp(b),
            (Value::Date(a), Value::Date(b)) => a.cmp(b),
            // A date is the midnight at which it starts.
            (a, b) => a.moment()?.cmp(&b.moment()?),
        })
    }

    /// A date or timestamp as a day and nanoseconds.
    pub fn moment(&self) -> Option<(Day, u64)> {
        match self {
            Value::Date(day) => Some((*day, 0)),
            Value::Timestamp(day, nanos) => Some((*day, *nanos)),
            _ => None,
        }
    }
}
