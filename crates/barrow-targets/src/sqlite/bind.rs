//! From typed cells to what SQLite binds.

use std::io::Write;

use barrow_core::flow::Batch;
use barrow_core::spec::Type;
use barrow_core::values::{Cell, Day};
use rusqlite::types::{ToSql, ToSqlOutput, ValueRef};

use super::types::Affinity;

/// Every whole number up to here has its own 64-bit floating point number.
const WHOLE: u64 = 1 << 53;

/// How one column's cells become SQLite's values; chosen once.
#[derive(Debug, Clone, Copy)]
pub struct Binder {
    scale: u32,
    /// Ten to the power of `scale`.
    unit: f64,
    affinity: Affinity,
}

/// A value for SQLite.
#[derive(Debug, Clone, Copy)]
pub enum Bound<'b> {
    /// Null.
    Null,
    /// An integer.
    Int(i64),
    /// A floating point number.
    Float(f64),
    /// Text of the batch.
    Text(&'b [u8]),
    /// Text made here.
    Made(Made),
}

/// A short text made from a number, a date or a time.
#[derive(Debug, Clone, Copy)]
pub struct Made {
    length: u8,
    bytes: [u8; 47],
}

/// The column would not keep the value as it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lossy;

impl ToSql for Bound<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self {
            Bound::Null => ValueRef::Null,
            Bound::Int(n) => ValueRef::Integer(*n),
            Bound::Float(n) => ValueRef::Real(*n),
            Bound::Text(text) => ValueRef::Text(text),
            Bound::Made(made) => ValueRef::Text(&made.bytes[..usize::from(made.length)]),
        }))
    }
}

impl Binder {
    /// For a column of `ty` in the spec that is `declared` so in the table.
    pub fn new(ty: Type, declared: &str) -> Binder {
        let scale = match ty {
            Type::Decimal { scale, .. } => u32::from(scale),
            _ => 0,
        };
        Binder { scale, unit: 10f64.powi(scale as i32), affinity: Affinity::of(declared) }
    }

    /// The value to bind.
    ///
    /// # Errors
    /// The column would round it.
    #[inline]
    pub fn bind<'b>(&self, cell: Cell, batch: &'b Batch) -> Result<Bound<'b>, Lossy> {
        Ok(match cell {
            Cell::Null => Bound::Null,
            Cell::Bool(truth) => Bound::Int(i64::from(truth)),
            Cell::Int(n) if self.affinity != Affinity::Real || n.unsigned_abs() <= WHOLE => {
                Bound::Int(n)
            }
            Cell::Int(_) => return Err(Lossy),
            Cell::Float(n) if self.affinity == Affinity::Text => {
                Bound::Made(made(|out| put_float(out, n)))
            }
            Cell::Float(n) => Bound::Float(n),
            Cell::Decimal(n) => return self.decimal(n),
            Cell::LongDecimal(piece) => {
                let bytes = piece.of(&batch.block.bytes, &batch.rows.store);
                let number = bytes.try_into().map(i128::from_le_bytes).map_err(|_| Lossy)?;
                return self.long_decimal(number);
            }
            Cell::Date(day) => Bound::Made(made(|out| put_day(out, day))),
            Cell::Time(nanos) => Bound::Made(made(|out| put_time(out, nanos))),
            Cell::Timestamp(day, nanos) => Bound::Made(made(|out| {
                put_day(out, day)?;
                out.write_all(b" ")?;
                put_time(out, nanos)
            })),
            Cell::Text(piece) => Bound::Text(piece.of(&batch.block.bytes, &batch.rows.store)),
        })
    }

    #[inline]
    fn decimal(&self, n: i64) -> Result<Bound<'static>, Lossy> {
        if self.affinity.turns_text_into_numbers() && n.unsigned_abs() < 1_000_000_000_000_000 {
            // Both are exact, so the division rounds once: the nearest number
            // to the decimal, which gives back its 15 digits.
            return Ok(match self.scale {
                0 => Bound::Int(n),
                1..=22 => Bound::Float(n as f64 / self.unit),
                _ => return self.long_decimal(i128::from(n)),
            });
        }
        self.long_decimal(i128::from(n))
    }

    /// Text where the column keeps it; a number where that is exact.
    fn long_decimal(&self, n: i128) -> Result<Bound<'static>, Lossy> {
        if !self.affinity.turns_text_into_numbers() {
            return Ok(Bound::Made(made(|out| put_decimal(out, n, self.scale))));
        }
        let unit = 10i128.pow(self.scale);
        let whole = i64::try_from(n / unit).map_err(|_| Lossy)?;
        let keeps = self.affinity != Affinity::Real || whole.unsigned_abs() <= WHOLE;
        if n % unit == 0 && keeps { Ok(Bound::Int(whole)) } else { Err(Lossy) }
    }
}

fn made(write: impl FnOnce(&mut &mut [u8]) -> std::io::Result<()>) -> Made {
    let mut bytes = [0; 47];
    let mut rest = &mut bytes[..];
    // 47 bytes hold the longest: a sign, 38 digits and a mark, or a timestamp.
    let _ = write(&mut rest);
    let length = (47 - rest.len()) as u8;
    Made { length, bytes }
}

fn put_decimal(out: &mut &mut [u8], n: i128, scale: u32) -> std::io::Result<()> {
    let unit = 10u128.pow(scale);
    let sign = if n < 0 { "-" } else { "" };
    let (whole, fraction) = (n.unsigned_abs() / unit, n.unsigned_abs() % unit);
    if scale == 0 {
        return write!(out, "{sign}{whole}");
    }
    write!(out, "{sign}{whole}.{fraction:0width$}", width = scale as usize)
}

/// The shortest digits that read back as the same number; at most 25 bytes.
fn put_float(out: &mut &mut [u8], n: f64) -> std::io::Result<()> {
    if n == 0.0 || (1e-5..1e16).contains(&n.abs()) { write!(out, "{n}") } else { write!(out, "{n:e}") }
}

fn put_day(out: &mut &mut [u8], day: Day) -> std::io::Result<()> {
    let year = day.year as u16;
    out.write_all(&two((year / 100) as u8))?;
    out.write_all(&two((year % 100) as u8))?;
    out.write_all(b"-")?;
    out.write_all(&two(day.month))?;
    out.write_all(b"-")?;
    out.write_all(&two(day.day))
}

fn put_time(out: &mut &mut [u8], nanos: u64) -> std::io::Result<()> {
    let seconds = (nanos / 1_000_000_000) as u32;
    out.write_all(&two((seconds / 3600) as u8))?;
    out.write_all(b":")?;
    out.write_all(&two((seconds / 60 % 60) as u8))?;
    out.write_all(b":")?;
    out.write_all(&two((seconds % 60) as u8))?;
    match nanos % 1_000_000_000 {
        0 => Ok(()),
        fraction if fraction % 1_000_000 == 0 => write!(out, ".{:03}", fraction / 1_000_000),
        fraction if fraction % 1_000 == 0 => write!(out, ".{:06}", fraction / 1_000),
        fraction => write!(out, ".{fraction:09}"),
    }
}

fn two(number: u8) -> [u8; 2] {
    [b'0' + number / 10, b'0' + number % 10]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(bound: Bound<'_>) -> String {
        match bound {
            Bound::Made(made) => {
                String::from_utf8_lossy(&made.bytes[..usize::from(made.length)]).into_owned()
            }
            other => format!("{other:?}"),
        }
    }

    fn decimal(scale: u8, declared: &str, n: i128) -> Result<String, Lossy> {
        let binder = Binder::new(Type::Decimal { precision: 38, scale }, declared);
        match i64::try_from(n) {
            Ok(short) => binder.decimal(short).map(text),
            Err(_) => binder.long_decimal(n).map(text),
        }
    }

    #[test]
    fn decimals_are_bound_exactly_or_not_at_all() {
        assert_eq!(decimal(2, "DECIMAL(8,2)", 1250), Ok("Float(12.5)".into()));
        assert_eq!(decimal(2, "DECIMAL(8,2)", -1), Ok("Float(-0.01)".into()));
        assert_eq!(decimal(2, "DECIMAL_TEXT(38,2)", -1), Ok("-0.01".into()));
        assert_eq!(decimal(2, "NUMERIC", 12_345_678_901_234_567), Err(Lossy));
        assert_eq!(decimal(2, "NUMERIC", 12_345_678_901_234_500), Ok("Int(123456789012345)".into()));
        let most = 99_999_999_999_999_999_999_999_999_999_999_999_999i128;
        assert_eq!(decimal(38, "TEXT", -most), Ok(format!("-0.{most}")));
        assert_eq!(decimal(0, "TEXT", most), Ok(most.to_string()));
    }

    #[test]
    fn times_have_the_digits_they_need() {
        let time = |nanos| text(Bound::Made(made(|out| put_time(out, nanos))));
        assert_eq!(time(0), "00:00:00");
        assert_eq!(time(86_399_500_000_000), "23:59:59.500");
        assert_eq!(time(1_000), "00:00:00.000001");
        assert_eq!(time(1), "00:00:00.000000001");
    }
}
