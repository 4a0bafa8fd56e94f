//! From typed cells to lines of the server's own bulk statement; done by the workers.
//!
//! Fields are set apart by tabs and rows by line feeds; a backslash makes either
//! ordinary, and `\N` is null ("LOAD DATA INFILE", MariaDB Knowledge Base).
//!
//! The server looks at each byte by itself, so the fewer there are, the better: days and
//! moments go without marks between their digits ("Date and Time Literals"), for which it
//! takes 6 % less time to read a row of ten columns that has one of each.

use std::io::Write;

use barrow_core::rejects::Code;
use barrow_core::spec::Type;
use barrow_core::values::notation::{clock_digits, day_digits, put_clock, put_decimal, put_whole};
use barrow_core::values::{Cell, Day, decimal, shown};

use super::types::Wire;
use crate::lines::Fault;
use crate::scaled::{float, micros, narrow, scaled, with_scale};

/// How one column's cells become fields; chosen once.
#[derive(Debug, Clone, Copy)]
pub struct Field {
    wire: Wire,
    ty: Type,
    scale: u32,
    /// Whether the server would put a number of its own in place of null.
    is_counter: bool,
}

impl Field {
    /// For values of `ty` that go to a column by `wire`.
    pub fn new(ty: Type, wire: Wire, is_counter: bool) -> Field {
        let scale = match ty {
            Type::Decimal { scale, .. } => u32::from(scale),
            _ => 0,
        };
        Field {
            wire,
            ty,
            scale,
            is_counter,
        }
    }

    /// Adds a cell as a field.
    ///
    /// # Errors
    /// The column has no room for the value as it is.
    #[inline]
    pub fn put(
        &self,
        cell: Cell,
        block: &[u8],
        store: &[u8],
        out: &mut Vec<u8>,
    ) -> Result<(), Fault> {
        match (self.wire, cell) {
            (_, Cell::Null) if self.is_counter => {
                return Err(Fault::new(
                    Code::Required,
                    "the server would put a number of its own in place of null",
                ));
            }
            (_, Cell::Null) => out.extend_from_slice(b"\\N"),
            (Wire::Text(most), Cell::Text(piece)) => text(piece.of(block, store), most, out)?,
            (Wire::Word, Cell::Text(piece)) => word(piece.of(block, store), out)?,
            (Wire::Number(_), Cell::Int(n)) => put_whole(n, out),
            (Wire::Number(most), Cell::Decimal(n)) if self.scale <= most => {
                put_decimal(n, self.scale as usize, out);
            }
            (Wire::Truth, Cell::Bool(truth)) => out.push(b'0' + u8::from(truth)),
            (Wire::Date, Cell::Date(day) | Cell::Timestamp(day, 0)) => {
                out.extend_from_slice(&day_digits(day))
            }
            (Wire::DateTime(digits), Cell::Timestamp(day, nanos)) => {
                micros(nanos, digits)?;
                put_moment(day, nanos, out);
            }
            _ => self.other(cell, block, store, out)?,
        }
        Ok(())
    }

    fn other(
        &self,
        cell: Cell,
        block: &[u8],
        store: &[u8],
        out: &mut Vec<u8>,
    ) -> Result<(), Fault> {
        let number = || scaled(cell, self.scale, block, store).ok_or_else(|| self.strange());
        match (self.wire, cell) {
            (Wire::Double, Cell::Float(n)) => put(out, format_args!("{n:e}")),
            (Wire::Float, Cell::Float(n)) => {
                let short = narrow(n, self.ty == Type::Real)?;
                put(out, format_args!("{short:e}"));
            }
            (Wire::Double, _) => put(out, format_args!("{:e}", float(number()?)?)),
            (Wire::Float, _) => {
                let short = narrow(float(number()?)?, false)?;
                put(out, format_args!("{short:e}"));
            }
            (Wire::Number(most), _) => {
                let (n, scale) = with_scale(number()?, most)?;
                put(out, format_args!("{}", decimal(n, scale as usize)));
            }
            (Wire::Date, Cell::Timestamp(..)) => {
                return Err(Fault::new(
                    Code::TooPrecise,
                    "the table's column is a date, which would lose the time of day",
                ));
            }
            (Wire::DateTime(_), Cell::Date(day)) => out.extend_from_slice(&day_digits(day)),
            (Wire::Time(digits), Cell::Time(nanos)) => {
                micros(nanos, digits)?;
                put_time(nanos, out);
            }
            (Wire::Hex, Cell::Bytes(piece)) => {
                const DIGITS: &[u8; 16] = b"0123456789abcdef";
                for byte in piece.of(block, store) {
                    out.push(DIGITS[usize::from(byte >> 4)]);
                    out.push(DIGITS[usize::from(byte & 15)]);
                }
            }
            (Wire::Text(most), _) => {
                let words = shown(cell, self.ty, block, store).unwrap_or_default();
                text(words.as_bytes(), most, out)?;
            }
            _ => return Err(self.strange()),
        }
        Ok(())
    }

    fn strange(&self) -> Fault {
        Fault::new(
            Code::Refused,
            format!("a value of {} does not go into the table's column", self.ty),
        )
    }
}

fn put(out: &mut Vec<u8>, text: std::fmt::Arguments<'_>) {
    // Writing to a vector cannot fail.
    let _ = out.write_fmt(text);
}

/// A day and a time of it, given as by [`put_time`]: `09870605090807.5`.
#[inline]
fn put_moment(day: Day, nanos: u64, out: &mut Vec<u8>) {
    let [a, b, c, d, e, f, g, h] = day_digits(day);
    let [i, j, k, l, m, n] = clock_digits(nanos);
    out.extend_from_slice(&[a, b, c, d, e, f, g, h, i, j, k, l, m, n]);
    put_fraction((nanos % 1_000_000_000) as u32, out);
}

/// A time of day, given in nanoseconds of which the last three are zeros.
#[inline]
fn put_time(nanos: u64, out: &mut Vec<u8>) {
    let fraction = put_clock(nanos, out);
    put_fraction(fraction, out);
}

#[inline]
fn put_fraction(nanos: u32, out: &mut Vec<u8>) {
    if nanos > 0 {
        put(out, format_args!(".{:06}", nanos / 1_000));
    }
}

/// A word for an enumeration or a set ("ENUM", "SET": a number that is no word of the
/// list is the place of one).
fn word(word: &[u8], out: &mut Vec<u8>) -> Result<(), Fault> {
    if !word.is_empty() && word.iter().all(u8::is_ascii_digit) {
        return Err(Fault::new(
            Code::NotAllowed,
            "the table's column may take the number for the place of a word in its list",
        ));
    }
    text(word, usize::MAX, out)
}

#[inline]
fn text(text: &[u8], most: usize, out: &mut Vec<u8>) -> Result<(), Fault> {
    if text.len() > most && text.iter().filter(|b| **b & 0xC0 != 0x80).count() > most {
        return Err(Fault::new(
            Code::TooLong,
            format!("the table's column has room for {most} characters"),
        ));
    }
    let mut rest = text;
    while let Some(at) = memchr::memchr3(b'\t', b'\n', b'\\', rest) {
        out.extend_from_slice(&rest[..at]);
        out.extend_from_slice(match rest[at] {
            b'\t' => b"\\t",
            b'\n' => b"\\n",
            _ => b"\\\\",
        });
        rest = &rest[at + 1..];
    }
    match memchr::memchr(0, rest) {
        None => out.extend_from_slice(rest),
        Some(_) => rest.iter().for_each(|byte| match byte {
            0 => out.extend_from_slice(b"\\0"),
            byte => out.push(*byte),
        }),
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn field(ty: &str, wire: Wire, cell: Cell) -> Result<String, Code> {
        let mut out = Vec::new();
        let field = Field::new(Type::parse(ty).unwrap(), wire, false);
        let block = "a\tb\\\n\u{fc}".as_bytes();
        match field.put(cell, block, &[], &mut out) {
            Ok(()) => Ok(String::from_utf8(out).unwrap()),
            Err(fault) => Err(fault.code),
        }
    }

    #[test]
    fn fields_are_what_the_server_reads() {
        let decimal = |n| field("decimal(8,2)", Wire::Number(2), Cell::Decimal(n));
        assert_eq!(decimal(-5).as_deref(), Ok("-0.05"));
        assert_eq!(decimal(123_456).as_deref(), Ok("1234.56"));
        assert_eq!(
            field("integer", Wire::Number(0), Cell::Int(0)).as_deref(),
            Ok("0")
        );
        assert_eq!(
            field("bigint", Wire::Number(0), Cell::Int(i64::MIN)).as_deref(),
            Ok("-9223372036854775808")
        );
        let text = |most| {
            field(
                "text",
                Wire::Text(most),
                Cell::Text(barrow_core::values::Piece::in_block(0, 7)),
            )
        };
        assert_eq!(text(6).as_deref(), Ok("a\\tb\\\\\\n\u{fc}"));
        assert_eq!(text(5), Err(Code::TooLong));
        let day = Day::new(1, 2, 3).unwrap();
        let moment = Cell::Timestamp(day, 3_723_000_001_000);
        assert_eq!(
            field("timestamp", Wire::DateTime(6), moment).as_deref(),
            Ok("00010203010203.000001")
        );
        let day = field("date", Wire::Date, Cell::Date(day));
        assert_eq!(day.as_deref(), Ok("00010203"));
        let time = field("time", Wire::Time(3), Cell::Time(86_399_500_000_000));
        assert_eq!(time.as_deref(), Ok("23:59:59.500000"));
        assert_eq!(
            field("timestamp", Wire::DateTime(3), moment),
            Err(Code::TooPrecise)
        );
        assert_eq!(
            field("text", Wire::Text(9), Cell::Null).as_deref(),
            Ok("\\N")
        );
    }
}
