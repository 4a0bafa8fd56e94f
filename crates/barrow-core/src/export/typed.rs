//! Rows as a database gives them become typed cells.

use crate::spec::Type;
use crate::values::{Cell, Day, Piece, Standard, shown};

/// A value as a database gives it.
#[derive(Debug, Clone, Copy)]
pub enum Loose<'v> {
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
    /// Bytes.
    Bytes(&'v [u8]),
    /// A UUID.
    Uuid([u8; 16]),
    /// A value of this type that names no bytes.
    Typed(Cell, Type),
    /// A value that no type of ours has, and why.
    Lost(&'static str),
}

/// Typed rows, column by column.
#[derive(Debug, Default)]
pub struct Cells {
    /// All cells of the first column, then of the second, and so on.
    pub cells: Vec<Cell>,
    /// How many cells each column has.
    pub height: usize,
    /// The bytes that they name.
    pub store: Vec<u8>,
    /// Values that are none of their column's type, in the order of their rows.
    pub misfits: Vec<Misfit>,
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
pub struct Typing {
    types: Vec<Type>,
    standards: Vec<Standard>,
}

impl Typing {
    /// For columns of these types.
    pub fn new(types: &[Type]) -> Typing {
        Typing {
            types: types.to_vec(),
            standards: types.iter().map(|ty| Standard::new(*ty)).collect(),
        }
    }

    /// How many columns there are.
    pub fn width(&self) -> usize {
        self.types.len()
    }

    /// Makes room for so many rows.
    pub fn begin(&self, cells: &mut Cells, height: usize) {
        cells.height = height;
        cells.cells.clear();
        cells.cells.resize(height * self.types.len(), Cell::Null);
        cells.store.clear();
        cells.misfits.clear();
    }

    /// Puts a value in its place. Rows come in their order.
    #[inline]
    pub fn put(&self, cells: &mut Cells, row: usize, column: usize, value: Loose<'_>) {
        let ty = self.types[column];
        let cell = match (value, ty) {
            (Loose::Null, _) => Some(Cell::Null),
            (Loose::Text(text), Type::Text) => {
                cells.store.extend_from_slice(text.as_bytes());
                let at = cells.store.len() - text.len();
                Some(Cell::Text(Piece::in_store(at, text.len())))
            }
            (Loose::Text(text), Type::Char(n) | Type::VarChar(n)) if text.len() <= n as usize => {
                cells.store.extend_from_slice(text.as_bytes());
                let at = cells.store.len() - text.len();
                Some(Cell::Text(Piece::in_store(at, text.len())))
            }
            (Loose::Text(text), Type::Date) => day(text.as_bytes()).map(Cell::Date),
            (Loose::Text(text), Type::Timestamp) => timestamp(text.as_bytes()),
            (Loose::Int(n), Type::BigInt) => Some(Cell::Int(n)),
            (Loose::Int(n), Type::Integer) => i32::try_from(n).ok().map(|_| Cell::Int(n)),
            (Loose::Int(n), Type::SmallInt) => i16::try_from(n).ok().map(|_| Cell::Int(n)),
            (Loose::Int(n @ 0..=1), Type::Boolean) => Some(Cell::Bool(n == 1)),
            (Loose::Float(n), Type::Double) if n.is_finite() => Some(Cell::Float(n)),
            (Loose::Float(n), Type::Real) if f64::from(n as f32) == n => Some(Cell::Float(n)),
            (Loose::Decimal(n, from), Type::Decimal { precision, scale }) => {
                decimal(n.into(), from, precision, scale, &mut cells.store)
            }
            (Loose::LongDecimal(n, from), Type::Decimal { precision, scale }) => {
                let n = i128::from_le_bytes(n);
                decimal(n, from, precision, scale, &mut cells.store)
            }
            (Loose::Float(n), Type::Decimal { precision, scale }) => short(n, precision, scale),
            (Loose::Int(n), Type::Decimal { precision, scale }) => {
                decimal(n.into(), 0, precision, scale, &mut cells.store)
            }
            (Loose::Typed(cell, own), ty) if own == ty => Some(cell),
            (Loose::Bytes(bytes), Type::Bytes | Type::Uuid)
                if ty == Type::Bytes || bytes.len() == 16 =>
            {
                Some(stored_bytes(bytes, &mut cells.store))
            }
            (Loose::Uuid(bytes), Type::Uuid) => Some(stored_bytes(&bytes, &mut cells.store)),
            _ => None,
        };
        let cell = match cell {
            Some(cell) => cell,
            None => self.by_text(cells, row, column, value),
        };
        cells.cells[column * cells.height + row] = cell;
    }

    /// A value of another type, by way of its text.
    fn by_text(&self, cells: &mut Cells, row: usize, column: usize, value: Loose<'_>) -> Cell {
        let misfit = |cells: &mut Cells, text: String, lost: Option<&'static str>| {
            cells.misfits.push(Misfit {
                row: row as u32,
                column: column as u32,
                text,
                lost,
            });
            Cell::Null
        };
        let text = match value {
            Loose::Null => return Cell::Null,
            Loose::Int(n) => n.to_string(),
            Loose::Float(n) if n.is_finite() => n.to_string(),
            Loose::Float(n) => return misfit(cells, n.to_string(), Some("not a finite number")),
            Loose::Decimal(n, scale) => crate::values::decimal(n.into(), scale as usize),
            Loose::LongDecimal(n, scale) => {
                crate::values::decimal(i128::from_le_bytes(n), scale as usize)
            }
            Loose::Text(text) => text.to_string(),
            Loose::Bytes(bytes) => match std::str::from_utf8(bytes) {
                Ok(text) if self.types[column].is_text() => text.to_string(),
                // Its digits are no value of another type, whatever they look like.
                _ => {
                    let digits = bytes.iter().map(|b| format!("{b:02x}")).collect();
                    let why = "bytes, where the column has text or a number";
                    return misfit(cells, digits, Some(why));
                }
            },
            Loose::Uuid(bytes) => uuid::Uuid::from_bytes(bytes).hyphenated().to_string(),
            Loose::Typed(cell, ty) => shown(cell, ty, &[], &[]).unwrap_or_default(),
            Loose::Lost(why) => return misfit(cells, String::new(), Some(why)),
        };
        let before = cells.store.len();
        let read = self.standards[column].read(&text, &mut cells.store);
        read.unwrap_or_else(|_| {
            cells.store.truncate(before);
            misfit(cells, text, None)
        })
    }
}

fn stored_bytes(bytes: &[u8], store: &mut Vec<u8>) -> Cell {
    store.extend_from_slice(bytes);
    Cell::Bytes(Piece::in_store(store.len() - bytes.len(), bytes.len()))
}

/// A day written `2031-04-03`.
fn day(text: &[u8]) -> Option<Day> {
    let [a, b, c, d, b'-', e, f, b'-', g, h] = text else {
        return None;
    };
    let digit = |b: &u8| b.is_ascii_digit().then(|| b - b'0');
    let two = |a: &u8, b: &u8| Some(digit(a)? * 10 + digit(b)?);
    let year = i16::from(two(a, b)?) * 100 + i16::from(two(c, d)?);
    Day::new(year, two(e, f)?, two(g, h)?)
}

/// A timestamp written `2031-04-03 08:05:09`.
fn timestamp(text: &[u8]) -> Option<Cell> {
    let (date, [b' ', a, b, b':', c, d, b':', e, f]) = text.split_at_checked(10)? else {
        return None;
    };
    let digit = |b: &u8| b.is_ascii_digit().then(|| u64::from(b - b'0'));
    let two = |a: &u8, b: &u8, most: u64| {
        let n = digit(a)? * 10 + digit(b)?;
        (n < most).then_some(n)
    };
    let seconds = two(a, b, 24)? * 3600 + two(c, d, 60)? * 60 + two(e, f, 60)?;
    Some(Cell::Timestamp(day(date)?, seconds * 1_000_000_000))
}

/// The decimal of which a floating point number is the nearest, if it has at most 15
/// digits: then it is the only one ("Limits", DBL_DIG, C17 5.2.4.2.2).
fn short(n: f64, precision: u8, scale: u8) -> Option<Cell> {
    if precision > 15 || !n.is_finite() {
        return None;
    }
    let by = 10f64.powi(i32::from(scale));
    let scaled = (n * by).round();
    let is_exact = scaled / by == n && scaled.abs() < 10f64.powi(i32::from(precision));
    is_exact.then_some(Cell::Decimal(scaled as i64))
}

/// A decimal with another scale, where that loses nothing and it fits.
fn decimal(n: i128, from: u32, precision: u8, to: u8, store: &mut Vec<u8>) -> Option<Cell> {
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
