//! What counts, sums and the like need to know of a column's values.

use barrow_core::types::Type;
use barrow_core::values::canonical::put_day;
use barrow_core::values::{Cell, Day};
use rusqlite::types::Value;

use super::words::Function;
use crate::exact::Sum;
use crate::exact::decimal::{Decimal, UNITS};
use crate::files::value::{of_ref, short};

/// What values are, of which a summary can say all that a function of SQL would.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Whole numbers.
    Whole,
    /// Decimals that are numbers of SQLite's, with so many digits after the mark.
    Decimal(u8),
    /// Days.
    Day,
    /// Values of which only a count is known.
    Other,
}

impl Kind {
    /// That of a type.
    pub fn of(ty: Type) -> Kind {
        match ty {
            Type::SmallInt | Type::Integer | Type::BigInt => Kind::Whole,
            Type::Decimal {
                precision: ..=15,
                scale,
            } => Kind::Decimal(scale),
            Type::Date => Kind::Day,
            _ => Kind::Other,
        }
    }

    /// Whether a summary answers the function. Sums of binary floating point differ by the
    /// order in which they are added up, and text compares by collations: both are SQLite's.
    pub fn answers(self, function: Function) -> bool {
        match function {
            Function::Count => true,
            Function::Sum | Function::Total | Function::Avg => {
                matches!(self, Kind::Whole | Kind::Decimal(_))
            }
            Function::Min | Function::Max => self != Kind::Other,
        }
    }
}

/// What is known of a column's values.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Summary {
    /// How many are not null.
    count: u64,
    /// Their sum, times ten to the power of their scale: at most 2^41 numbers of 2^63, so it
    /// fits.
    sum: i128,
    /// Whether one has digits after the mark that are not zero.
    has_fraction: bool,
    /// The least and the greatest.
    range: Option<(i64, i64)>,
    days: Option<(Day, Day)>,
}

impl Summary {
    /// Adds a cell.
    #[inline]
    fn add(&mut self, cell: Cell, unit: i64) {
        match cell {
            Cell::Null => return,
            Cell::Int(n) | Cell::Decimal(n) => {
                self.sum += i128::from(n);
                self.has_fraction = self.has_fraction || n % unit != 0;
                let (least, most) = self.range.unwrap_or((n, n));
                self.range = Some((least.min(n), most.max(n)));
            }
            Cell::Date(day) => {
                let (first, last) = self.days.unwrap_or((day, day));
                self.days = Some((first.min(day), last.max(day)));
            }
            _ => {}
        }
        self.count += 1;
    }

    /// Adds a column's cells.
    pub fn add_all(&mut self, kind: Kind, cells: impl Iterator<Item = Cell>) {
        let unit = match kind {
            Kind::Decimal(scale) => 10i64.pow(u32::from(scale)),
            _ => 1,
        };
        cells.for_each(|cell| self.add(cell, unit));
    }

    /// Adds what is known of other values of the same column.
    pub fn join(&mut self, other: &Summary) {
        self.count += other.count;
        self.sum += other.sum;
        self.has_fraction |= other.has_fraction;
        self.range = wider(self.range, other.range);
        self.days = wider(self.days, other.days);
    }

    /// A function's value, as SQLite gives it over the same values.
    pub fn value(&self, function: Function, kind: Kind) -> Value {
        match function {
            Function::Count => Value::Integer(self.count as i64),
            Function::Sum => self.exact(kind).sum(),
            Function::Total => self.exact(kind).total(),
            Function::Avg => self.exact(kind).average(),
            Function::Min => self.end(kind, |(n, _)| n, |(day, _)| day),
            Function::Max => self.end(kind, |(_, n)| n, |(_, day)| day),
        }
    }

    fn exact(&self, kind: Kind) -> Sum {
        let scale = match kind {
            Kind::Decimal(scale) => u32::from(scale),
            _ => 0,
        };
        // Where none has a fraction the sum is a whole number, as `short` gives each of them.
        let (digits, scale) = match self.has_fraction {
            true => (self.sum, scale),
            false => (self.sum / 10i128.pow(scale), 0),
        };
        Sum::of(self.count, Decimal { digits, scale }, self.has_fraction)
    }

    fn end(&self, kind: Kind, number: fn((i64, i64)) -> i64, day: fn((Day, Day)) -> Day) -> Value {
        if let Some(days) = self.days {
            let mut text = Vec::new();
            put_day(day(days), &mut text);
            return Value::Text(String::from_utf8_lossy(&text).into_owned());
        }
        match (self.range.map(number), kind) {
            (None, _) => Value::Null,
            (Some(n), Kind::Decimal(scale)) => of_ref(short(n, UNITS[usize::from(scale)])),
            (Some(n), _) => Value::Integer(n),
        }
    }
}

fn wider<T: Ord + Copy>(a: Option<(T, T)>, b: Option<(T, T)>) -> Option<(T, T)> {
    match (a, b) {
        (Some((a, z)), Some((b, y))) => Some((a.min(b), z.max(y))),
        _ => a.or(b),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn summary(kind: Kind, cells: &[Cell]) -> Summary {
        let mut summary = Summary::default();
        summary.add_all(kind, cells.iter().copied());
        summary
    }

    #[test]
    fn cents_are_exact_and_whole_ones_are_whole_numbers() {
        let cents = Kind::Decimal(2);
        let mut some = summary(cents, &[Cell::Decimal(10), Cell::Null, Cell::Decimal(20)]);
        assert_eq!(some.value(Function::Sum, cents), Value::Real(0.3));
        assert_eq!(some.value(Function::Avg, cents), Value::Real(0.15));
        assert_eq!(some.value(Function::Count, cents), Value::Integer(2));
        some.join(&summary(cents, &[Cell::Decimal(-500)]));
        assert_eq!(some.value(Function::Sum, cents), Value::Real(-4.7));
        assert_eq!(some.value(Function::Min, cents), Value::Integer(-5));
        assert_eq!(some.value(Function::Max, cents), Value::Real(0.2));
        let whole = summary(cents, &[Cell::Decimal(300)]);
        assert_eq!(whole.value(Function::Sum, cents), Value::Integer(3));
        assert_eq!(whole.value(Function::Total, cents), Value::Real(3.0));
    }

    #[test]
    fn days_and_numbers_have_ends_and_nothing_has_none() {
        let (early, late) = (
            Day::new(2031, 2, 3).unwrap(),
            Day::new(2031, 11, 1).unwrap(),
        );
        let mut days = summary(Kind::Day, &[Cell::Date(late)]);
        days.join(&summary(Kind::Day, &[Cell::Date(early), Cell::Null]));
        let text = |text: &str| Value::Text(text.into());
        assert_eq!(days.value(Function::Min, Kind::Day), text("2031-02-03"));
        assert_eq!(days.value(Function::Max, Kind::Day), text("2031-11-01"));
        let big = summary(Kind::Whole, &[Cell::Int(i64::MAX), Cell::Int(1)]);
        assert_eq!(
            big.value(Function::Sum, Kind::Whole),
            text("9223372036854775808")
        );
        let none = Summary::default();
        assert_eq!(none.value(Function::Sum, Kind::Whole), Value::Null);
        assert_eq!(none.value(Function::Total, Kind::Whole), Value::Real(0.0));
        assert_eq!(none.value(Function::Max, Kind::Day), Value::Null);
        assert_eq!(none.value(Function::Count, Kind::Day), Value::Integer(0));
    }
}
