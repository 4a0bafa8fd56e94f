//! From typed cells to lines of the server's own bulk statement; done by the workers.
//!
//! Fields are set apart by tabs and rows by line feeds; a backslash makes either
//! ordinary, and `\N` is null ("LOAD DATA INFILE", MariaDB Knowledge Base).
//!
//! The server looks at each byte by itself, so the fewer there are, the better: days and
//! moments go without marks between their digits ("Date and Time Literals"), for which it
//! takes 6 % less time to read a row of ten columns that has one of each.

use std::io::Write;
use std::sync::Arc;

use barrow_core::reason::Code;
use barrow_core::types::Type;
use barrow_core::utf8::count_characters;
use barrow_core::values::canonical::{clock_digits, day_digits, put_clock, put_decimal, put_whole};
use barrow_core::values::{Cell, Day, decimal, shown};

use super::types::{Declared, Wire};
use crate::decimal_scaling::{float, micros, narrow, scaled, with_scale};
use crate::encoded::lines::{Encoded, Fault};

/// How one column's cells become fields; chosen once.
#[derive(Debug, Clone)]
pub struct Field {
    wire: Wire,
    ty: Type,
    scale: u32,
    /// What the server would put in place of null, if anything.
    in_place_of_null: Option<&'static str>,
    /// The words of an enumeration or a set.
    words: Arc<[String]>,
}

impl Field {
    /// For values of `ty` that go to a column by `wire`.
    pub fn new(ty: Type, wire: Wire, declared: &Declared) -> Field {
        let scale = match ty {
            Type::Decimal { scale, .. } => u32::from(scale),
            _ => 0,
        };
        Field {
            wire,
            ty,
            scale,
            in_place_of_null: declared.in_place_of_null(),
            words: declared.words.clone().into(),
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
            (_, Cell::Null) => match self.in_place_of_null {
                None => out.extend_from_slice(b"\\N"),
                Some(what) => {
                    let says = format!("the server would put {what} in place of null");
                    return Err(Fault::new(Code::Required, says));
                }
            },
            (Wire::Text(most), Cell::Text(piece)) => text(piece.of(block, store), most, out)?,
            (Wire::Padded(most), Cell::Text(piece)) => padded(piece.of(block, store), most, out)?,
            (Wire::Word, Cell::Text(piece)) => word(piece.of(block, store), &self.words, out)?,
            (Wire::Words, Cell::Text(piece)) => words(piece.of(block, store), &self.words, out)?,
            (Wire::Address(size), Cell::Text(piece)) => {
                address(piece.of(block, store), size, out)?;
            }
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

    fn other(&self, cell: Cell, block: &[u8], store: &[u8], out: &mut Vec<u8>) -> Encoded {
        let number =
            || scaled(cell, self.scale, block, store).ok_or_else(|| Fault::strange(self.ty));
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
            (Wire::Hex(size), Cell::Bytes(piece)) => {
                const DIGITS: &[u8; 16] = b"0123456789abcdef";
                let bytes = piece.of(block, store);
                if let Some(size) = size.filter(|size| bytes.len() < *size) {
                    return Err(Fault::new(
                        Code::Refused,
                        format!("the table's column would fill it up to {size} bytes"),
                    ));
                }
                for byte in bytes {
                    out.push(DIGITS[usize::from(byte >> 4)]);
                    out.push(DIGITS[usize::from(byte & 15)]);
                }
            }
            (Wire::Text(most) | Wire::Padded(most), _) => {
                let words = shown(cell, self.ty, block, store).unwrap_or_default();
                text(words.as_bytes(), most, out)?;
            }
            _ => return Err(Fault::strange(self.ty)),
        }
        Ok(())
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

/// Text for a column that loses spaces at the end ("CHAR").
fn padded(value: &[u8], most: usize, out: &mut Vec<u8>) -> Result<(), Fault> {
    if value.last() == Some(&b' ') {
        return Err(Fault::new(
            Code::NotAllowed,
            "the table's column would lose the spaces at its end",
        ));
    }
    text(value, most, out)
}

/// A word of an enumeration, letter by letter. The server would also take a number for the
/// place of one, and ignore case and spaces at the end ("ENUM").
fn word(word: &[u8], list: &[String], out: &mut Vec<u8>) -> Result<(), Fault> {
    match list.iter().any(|own| own.as_bytes() == word) {
        true => text(word, usize::MAX, out),
        false => Err(Fault::new(
            Code::NotAllowed,
            "not a word of the table's list, letter by letter",
        )),
    }
}

/// Words of a set, likewise; the server would put them into the order of its list, each
/// once ("SET").
fn words(words: &[u8], list: &[String], out: &mut Vec<u8>) -> Result<(), Fault> {
    let mut next = 0;
    let mut is_fit = true;
    for word in words.split(|b| *b == b',').filter(|_| !words.is_empty()) {
        let at = list[next..].iter().position(|own| own.as_bytes() == word);
        is_fit &= at.is_some();
        next += at.map_or(0, |at| at + 1);
    }
    match is_fit {
        true => text(words, usize::MAX, out),
        false => Err(Fault::new(
            Code::NotAllowed,
            "not words of the table's list, letter by letter and in its order",
        )),
    }
}

/// An address of the internet as the server writes it (RFC 5952): it would write another
/// form otherwise.
fn address(value: &[u8], size: u8, out: &mut Vec<u8>) -> Result<(), Fault> {
    let same = std::str::from_utf8(value)
        .ok()
        .is_some_and(|text| match size {
            4 => text
                .parse::<std::net::Ipv4Addr>()
                .is_ok_and(|ip| ip.to_string() == text),
            _ => text
                .parse::<std::net::Ipv6Addr>()
                .is_ok_and(|ip| ip.to_string() == text),
        });
    match same {
        true => text(value, usize::MAX, out),
        false => Err(Fault::new(
            Code::NotAllowed,
            "not an address as the table's column writes it",
        )),
    }
}

#[inline]
fn text(text: &[u8], most: usize, out: &mut Vec<u8>) -> Result<(), Fault> {
    if text.len() > most && count_characters(text) > most {
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

    fn plain() -> Declared {
        Declared {
            whole: String::new(),
            name: String::new(),
            characters: None,
            scale: None,
            precision: None,
            digits: None,
            charset: None,
            is_counter: false,
            not_null: false,
            words: Vec::new(),
        }
    }

    #[test]
    fn what_a_column_would_bend_does_not_go_out() {
        let put = |wire: Wire, value: &str| {
            let declared = Declared {
                words: ["a", "b", "Big"].map(String::from).into(),
                ..plain()
            };
            let field = Field::new(Type::Text, wire, &declared);
            let cell = Cell::Text(barrow_core::values::Piece::in_block(0, value.len()));
            let mut out = Vec::new();
            field
                .put(cell, value.as_bytes(), &[], &mut out)
                .map(|()| out == value.as_bytes())
        };
        let cases: [(Wire, &[&str], &[&str]); 5] = [
            (
                Wire::Word,
                &["a", "Big"],
                &["", "+1", " 2", "1 ", "big", "a "],
            ),
            (
                Wire::Words,
                &["", "a", "a,Big", "b,Big"],
                &["b,a", "a,a", "A", "+3", "a,", " a"],
            ),
            (Wire::Padded(5), &["ab", " ab"], &["ab ", " "]),
            (
                Wire::Address(4),
                &["10.0.0.1"],
                &["10.0.0.01", "10.0.0", "::1"],
            ),
            (
                Wire::Address(16),
                &["::1", "fe80::1"],
                &["0:0:0:0:0:0:0:1", "FE80::1"],
            ),
        ];
        for (wire, fine, bent) in cases {
            fine.iter()
                .for_each(|value| assert_eq!(put(wire, value), Ok(true), "{value}"));
            bent.iter().for_each(|value| {
                assert_eq!(
                    put(wire, value).unwrap_err().code,
                    Code::NotAllowed,
                    "{value}"
                );
            });
        }
        let bytes = |size| {
            let field = Field::new(Type::Bytes, Wire::Hex(size), &plain());
            let cell = Cell::Bytes(barrow_core::values::Piece::in_block(0, 2));
            field.put(cell, b"ab", &[], &mut Vec::new()).is_ok()
        };
        assert_eq!(
            (bytes(None), bytes(Some(2)), bytes(Some(3))),
            (true, true, false)
        );
        let null = |declared: Declared| {
            let field = Field::new(Type::TimestampTz, Wire::DateTime(0), &declared);
            field.put(Cell::Null, &[], &[], &mut Vec::new()).is_ok()
        };
        let stamp = |not_null| Declared {
            name: "timestamp".into(),
            not_null,
            ..plain()
        };
        assert_eq!((null(stamp(true)), null(stamp(false))), (false, true));
        assert!(!null(Declared {
            is_counter: true,
            ..plain()
        }));
    }

    fn field(ty: &str, wire: Wire, cell: Cell) -> Result<String, Code> {
        let mut out = Vec::new();
        let field = Field::new(Type::parse(ty).unwrap(), wire, &plain());
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
