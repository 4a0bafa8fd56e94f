//! Rows as a database gives them become typed cells.

use crate::types::Type;
use crate::values::{Cell, Day, Piece, Standard, shown};

/// A value as a database gives it.
#[derive(Debug, Clone, Copy)]
pub enum RawValue<'v> {
    /// Null.
    Null,
    /// A whole number.
    Int(i64),
    /// A floating point number.
    Float(f64),
    /// A decimal: digits times ten to the power of minus the scale.
    Decimal(i64, u32),
    /// The same with digits of 128 bits, little end first: as bytes, for a number of 128
    /// bits would make every value larger.
    LongDecimal([u8; 16], u32),
    /// Text, or anything else in the standard notation.
    Text(&'v str),
    /// The same, which stands at this byte of the text that the rows came with: it is named
    /// there, and not copied.
    Placed(&'v str, u32),
    /// Bytes.
    Bytes(&'v [u8]),
    /// A UUID.
    Uuid([u8; 16]),
    /// A value of this type that names no bytes.
    Typed(Cell, Type),
    /// A value that no type of ours has, and why.
    Lost(&'static str),
}

/// Typed rows, one after the other: each is written whole before the next, so what
/// belongs together stands together. Column after column, and with cells that were put
/// together first, an export took 1.05 to 1.17 times the processor time.
#[derive(Debug, Default)]
pub struct RowBatch {
    /// All cells of the first row, then of the second, and so on.
    cells: Vec<Cell>,
    /// How many cells each row has.
    width: usize,
    /// The bytes that they name.
    pub store: Vec<u8>,
    /// Values that are none of their column's type, in the order of their rows.
    pub misfits: Vec<Misfit>,
}

impl RowBatch {
    /// How many rows there are.
    pub fn height(&self) -> usize {
        self.cells.len() / self.width.max(1)
    }

    /// The cells of a row, from 0; none where there is no such row.
    #[inline]
    pub fn row(&self, row: usize) -> &[Cell] {
        let start = row * self.width;
        self.cells.get(start..start + self.width).unwrap_or(&[])
    }

    #[inline(always)]
    fn push(&mut self, cell: Cell) {
        self.cells.push(cell);
    }

    #[inline(always)]
    fn push_text(&mut self, text: &str) {
        let at = self.store.len();
        self.store.extend_from_slice(text.as_bytes());
        self.push(Cell::Text(Piece::in_store(at, text.len())));
    }

    #[inline(always)]
    fn push_placed(&mut self, text: &str, at: u32) {
        self.push(Cell::Text(Piece::in_block(at as usize, text.len())));
    }

    fn push_bytes(&mut self, bytes: &[u8]) {
        let at = self.store.len();
        self.store.extend_from_slice(bytes);
        self.push(Cell::Bytes(Piece::in_store(at, bytes.len())));
    }
}

/// A value of a database that is none of its column's type in the spec.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Misfit {
    /// Its row among the cells.
    pub row: u32,
    /// Its column.
    pub column: u32,
    /// It, in the standard notation.
    pub text: String,
    /// Why nothing can be made of it, whatever the spec's policies; none where they may.
    pub lost: Option<&'static str>,
}

/// How loose values become typed ones.
#[derive(Debug)]
pub struct RowTyper {
    types: Vec<Type>,
    standards: Vec<Standard>,
}

impl RowTyper {
    /// For columns of these types.
    pub fn new(types: &[Type]) -> RowTyper {
        RowTyper {
            types: types.to_vec(),
            standards: types.iter().map(|ty| Standard::new(*ty)).collect(),
        }
    }

    /// How many columns there are.
    pub fn width(&self) -> usize {
        self.types.len()
    }

    /// Clears it for other rows, and keeps its memory.
    pub fn begin(&self, cells: &mut RowBatch) {
        cells.width = self.types.len();
        cells.cells.clear();
        cells.store.clear();
        cells.misfits.clear();
    }

    /// Puts the next value, that of `column`. Values come row by row, and in a row in the
    /// order of the columns.
    ///
    /// Each arm puts its cell where it belongs: put together first and copied as a whole, a
    /// cell took half as long again, since it was read before its parts were written. Inlined, no
    /// value is put together only to be taken apart here.
    #[inline(always)]
    pub fn put(&self, cells: &mut RowBatch, column: usize, value: RawValue<'_>) {
        let ty = self.types[column];
        match (value, ty) {
            (RawValue::Null, _) => cells.push(Cell::Null),
            (RawValue::Placed(text, at), Type::Text) => cells.push_placed(text, at),
            (RawValue::Placed(text, at), Type::Char(n) | Type::VarChar(n))
                if text.len() <= n as usize =>
            {
                cells.push_placed(text, at);
            }
            (RawValue::Text(text), Type::Text) => cells.push_text(text),
            (RawValue::Text(text), Type::Char(n) | Type::VarChar(n))
                if text.len() <= n as usize =>
            {
                cells.push_text(text);
            }
            (RawValue::Int(n), Type::BigInt) => cells.push(Cell::Int(n)),
            (RawValue::Int(n), Type::Integer) if i32::try_from(n).is_ok() => {
                cells.push(Cell::Int(n));
            }
            (RawValue::Int(n), Type::SmallInt) if i16::try_from(n).is_ok() => {
                cells.push(Cell::Int(n));
            }
            (RawValue::Int(n @ 0..=1), Type::Boolean) => cells.push(Cell::Bool(n == 1)),
            (RawValue::Float(n), Type::Double) if n.is_finite() => cells.push(Cell::Float(n)),
            (RawValue::Float(n), Type::Real) if f64::from(n as f32) == n => {
                cells.push(Cell::Float(n));
            }
            (RawValue::Typed(cell, own), ty) if own == ty => cells.push(cell),
            (RawValue::Bytes(bytes), Type::Bytes) => cells.push_bytes(bytes),
            (RawValue::Bytes(bytes), Type::Uuid) if bytes.len() == 16 => cells.push_bytes(bytes),
            (RawValue::Uuid(bytes), Type::Uuid) => cells.push_bytes(&bytes),
            (RawValue::Text(text) | RawValue::Placed(text, _), Type::Date) => {
                match day(text.as_bytes()) {
                    Some(day) => cells.push(Cell::Date(day)),
                    None => self.put_by_text(cells, column, value),
                }
            }
            (RawValue::Text(text) | RawValue::Placed(text, _), Type::Timestamp) => {
                match timestamp(text.as_bytes()) {
                    Some((day, nanos)) => cells.push(Cell::Timestamp(day, nanos)),
                    None => self.put_by_text(cells, column, value),
                }
            }
            // A moment without an offset is UTC.
            (RawValue::Text(text) | RawValue::Placed(text, _), Type::TimestampTz) => {
                match moment(text.as_bytes()) {
                    Some((day, nanos)) => cells.push(Cell::Timestamp(day, nanos)),
                    None => self.put_by_text(cells, column, value),
                }
            }
            (RawValue::Float(n), Type::Decimal { precision, scale }) => {
                match short(n, precision, scale) {
                    Some(n) => cells.push(Cell::Decimal(n)),
                    None => self.put_by_text(cells, column, value),
                }
            }
            (
                RawValue::Int(_) | RawValue::Decimal(..) | RawValue::LongDecimal(..),
                Type::Decimal { precision, scale },
            ) => match decimal(value, precision, scale, &mut cells.store) {
                Some(cell) => cells.push(cell),
                None => self.put_by_text(cells, column, value),
            },
            _ => self.put_by_text(cells, column, value),
        }
    }

    #[cold]
    #[inline(never)]
    fn put_by_text(&self, cells: &mut RowBatch, column: usize, value: RawValue<'_>) {
        let cell = self.by_text(cells, column, value);
        cells.push(cell);
    }

    /// A value of another type, by way of its text.
    fn by_text(&self, cells: &mut RowBatch, column: usize, value: RawValue<'_>) -> Cell {
        let row = cells.height();
        let misfit = |cells: &mut RowBatch, text: String, lost: Option<&'static str>| {
            cells.misfits.push(Misfit {
                row: row as u32,
                column: column as u32,
                text,
                lost,
            });
            Cell::Null
        };
        let text = match value {
            RawValue::Null => return Cell::Null,
            RawValue::Int(n) => n.to_string(),
            RawValue::Float(n) if n.is_finite() => n.to_string(),
            RawValue::Float(n) => return misfit(cells, n.to_string(), Some("not a finite number")),
            RawValue::Decimal(n, scale) => crate::values::decimal(n.into(), scale as usize),
            RawValue::LongDecimal(n, scale) => {
                crate::values::decimal(i128::from_le_bytes(n), scale as usize)
            }
            RawValue::Text(text) | RawValue::Placed(text, _) => text.to_string(),
            RawValue::Bytes(bytes) => match std::str::from_utf8(bytes) {
                Ok(text) if self.types[column].is_text() => text.to_string(),
                // Its digits are no value of another type, whatever they look like.
                _ => {
                    let digits = bytes.iter().map(|b| format!("{b:02x}")).collect();
                    let why = "bytes, where the column has text or a number";
                    return misfit(cells, digits, Some(why));
                }
            },
            RawValue::Uuid(bytes) => uuid::Uuid::from_bytes(bytes).hyphenated().to_string(),
            RawValue::Typed(cell, ty) => shown(cell, ty, &[], &[]).unwrap_or_default(),
            RawValue::Lost(why) => return misfit(cells, String::new(), Some(why)),
        };
        let before = cells.store.len();
        let read = self.standards[column].read(&text, &mut cells.store);
        read.unwrap_or_else(|_| {
            cells.store.truncate(before);
            misfit(cells, text, None)
        })
    }
}

/// A day written `2031-04-03`.
fn day(text: &[u8]) -> Option<Day> {
    let [a, b, c, d, b'-', e, f, b'-', g, h] = text else {
        return None;
    };
    let [a, b, c, d, e, f, g, h] = digits([a, b, c, d, e, f, g, h])?;
    let year = i16::from(a * 10 + b) * 100 + i16::from(c * 10 + d);
    Day::new(year, e * 10 + f, g * 10 + h)
}

/// A timestamp written `2031-04-03 08:05:09`.
fn timestamp(text: &[u8]) -> Option<(Day, u64)> {
    let (date, [b' ', a, b, b':', c, d, b':', e, f]) = text.split_at_checked(10)? else {
        return None;
    };
    let [a, b, c, d, e, f] = digits([a, b, c, d, e, f])?;
    let (hour, minute, second) = (a * 10 + b, c * 10 + d, e * 10 + f);
    if hour > 23 || minute > 59 || second > 59 {
        return None;
    }
    let seconds = u64::from(hour) * 3600 + u64::from(minute) * 60 + u64::from(second);
    Some((day(date)?, seconds * 1_000_000_000))
}

/// The same with a fraction of up to nine digits: `2031-04-03 08:05:09.25`.
fn moment(text: &[u8]) -> Option<(Day, u64)> {
    let (whole, fraction) = text.split_at_checked(19)?;
    let (day, nanos) = timestamp(whole)?;
    let digits = match fraction {
        [] => return Some((day, nanos)),
        [b'.', digits @ ..] if (1..=9).contains(&digits.len()) => digits,
        _ => return None,
    };
    let mut number = 0u64;
    for digit in digits {
        if !digit.is_ascii_digit() {
            return None;
        }
        number = number * 10 + u64::from(digit - b'0');
    }
    Some((day, nanos + number * 10u64.pow(9 - digits.len() as u32)))
}

/// What digits stand for; none where one is no digit.
fn digits<const N: usize>(text: [&u8; N]) -> Option<[u8; N]> {
    let digits = text.map(|b| b.wrapping_sub(b'0'));
    let largest = digits.iter().fold(0, |most, digit| *digit.max(&most));
    (largest <= 9).then_some(digits)
}

/// The decimal of which a floating point number is the nearest, if it has at most 15
/// digits: then it is the only one ("Limits", DBL_DIG, C17 5.2.4.2.2).
fn short(n: f64, precision: u8, scale: u8) -> Option<i64> {
    // Those that a double has exactly.
    const POWERS: [f64; 16] = [
        1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15,
    ];
    if !n.is_finite() {
        return None;
    }
    let by = *POWERS.get(usize::from(scale))?;
    let most = *POWERS.get(usize::from(precision))?;
    // Any whole number near it will do: whether it is the one, its quotient tells.
    let whole = (n * by + 0.5f64.copysign(n)) as i64;
    let scaled = whole as f64;
    (scaled / by == n && scaled.abs() < most).then_some(whole)
}

/// A decimal with another scale, where that loses nothing and it fits.
fn decimal(value: RawValue<'_>, precision: u8, to: u8, store: &mut Vec<u8>) -> Option<Cell> {
    let (n, from) = match value {
        RawValue::Int(n) => (i128::from(n), 0),
        RawValue::Decimal(n, from) => (i128::from(n), from),
        RawValue::LongDecimal(n, from) => (i128::from_le_bytes(n), from),
        _ => return None,
    };
    // Nearly all are of the column's own scale, and short.
    if from == u32::from(to)
        && let Ok(short) = i64::try_from(n)
        && (precision > 18 || short.unsigned_abs() < 10u64.pow(u32::from(precision)))
    {
        return Some(Cell::Decimal(short));
    }
    let to = u32::from(to);
    let n = match from <= to {
        true => n.checked_mul(10i128.checked_pow(to - from)?)?,
        false => {
            let by = 10i128.checked_pow(from - to)?;
            (n % by == 0).then_some(n / by)?
        }
    };
    if n.unsigned_abs() >= 10u128.pow(u32::from(precision)) {
        return None;
    }
    Some(match i64::try_from(n) {
        Ok(n) => Cell::Decimal(n),
        Err(_) => {
            store.extend_from_slice(&n.to_le_bytes());
            Cell::LongDecimal(Piece::in_store(store.len() - 16, 16))
        }
    })
}
