//! Date and time patterns that a draft knows.

use std::sync::LazyLock;

use crate::spec::Type;
use crate::values::{Cell, ColumnReader, ReaderOptions};

/// Dates, the usual ones first. Where two fit every value, the first is taken, and
/// the other named.
const DATES: &[&str] = &[
    "%Y-%m-%d",
    "%d/%m/%Y",
    "%m/%d/%Y",
    "%d.%m.%Y",
    "%Y/%m/%d",
    "%d-%m-%Y",
    "%m-%d-%Y",
    "%Y%m%d",
    "%d/%m/%y",
    "%m/%d/%y",
    "%d.%m.%y",
    "%d %b %Y",
    "%d-%b-%Y",
    "%d-%b-%y",
    "%b %d, %Y",
    "%d %B %Y",
    "%B %d, %Y",
];

/// Times of day.
const TIMES: &[&str] = &["%H:%M:%S%.f", "%H:%M", "%I:%M:%S %p", "%I:%M %p"];

/// A pattern with the type that it reads.
pub struct Known {
    /// The pattern.
    pub text: String,
    /// Its type.
    pub ty: Type,
    reader: ColumnReader,
}

impl Known {
    /// The value's day (as a number that orders) and time, if the pattern reads it.
    pub fn read(&self, value: &str) -> Option<(i64, u64)> {
        let mut cell = Cell::Null;
        self.reader
            .read_text(value, &mut Vec::new(), &mut cell, |_| {})
            .ok()?;
        let day = |d: crate::values::Day| {
            i64::from(d.year) * 10_000 + i64::from(d.month) * 100 + i64::from(d.day)
        };
        match cell {
            Cell::Date(d) => Some((day(d), 0)),
            Cell::Time(nanos) => Some((0, nanos)),
            Cell::Timestamp(d, nanos) => Some((day(d), nanos)),
            _ => None,
        }
    }
}

/// All patterns.
pub static KNOWN: LazyLock<Vec<Known>> = LazyLock::new(|| {
    let mut all: Vec<(String, Type)> = Vec::new();
    all.extend(DATES.iter().map(|d| ((*d).to_string(), Type::Date)));
    all.extend(TIMES.iter().map(|t| ((*t).to_string(), Type::Time)));
    for date in DATES {
        for time in TIMES {
            all.push((format!("{date} {time}"), Type::Timestamp));
        }
        all.push((format!("{date}T%H:%M:%S%.f"), Type::Timestamp));
        all.push((format!("{date} %H:%M:%S%.f%:z"), Type::TimestampTz));
        all.push((format!("{date}T%H:%M:%S%.f%:z"), Type::TimestampTz));
    }
    let known = |(text, ty): (String, Type)| {
        let options = ReaderOptions {
            patterns: vec![text.clone()],
            ..ReaderOptions::default()
        };
        let reader = ColumnReader::new(ty, options).ok()?;
        Some(Known { text, ty, reader })
    };
    all.into_iter().filter_map(known).collect()
});

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_pattern_is_one() {
        assert_eq!(KNOWN.len(), 17 + 4 + 17 * 7);
    }
}
