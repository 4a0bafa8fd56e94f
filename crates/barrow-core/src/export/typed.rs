//! Rows as a database gives them become typed cells.

use super::record::Misfit;
use crate::spec::Type;
use crate::values::{Cell, Piece, Standard, shown};

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
    Decimal(i128, u32),
    /// Text, or anything else in the standard notation.
    Text(&'v str),
    /// Bytes.
    Bytes(&'v [u8]),
    /// A value of this type that names no bytes.
    Typed(Cell, Type),
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
            (Loose::Int(n), Type::BigInt) => Some(Cell::Int(n)),
            (Loose::Int(n), Type::Integer) => i32::try_from(n).ok().map(|_| Cell::Int(n)),
            (Loose::Int(n), Type::SmallInt) => i16::try_from(n).ok().map(|_| Cell::Int(n)),
            (Loose::Int(n @ 0..=1), Type::Boolean) => Some(Cell::Bool(n == 1)),
            (Loose::Float(n), Type::Double) if n.is_finite() => Some(Cell::Float(n)),
            (Loose::Float(n), Type::Real) if f64::from(n as f32) == n => Some(Cell::Float(n)),
            (Loose::Decimal(n, from), Type::Decimal { precision, scale }) => {
                decimal(n, from, precision, scale, &mut cells.store)
            }
            (Loose::Typed(cell, own), ty) if own == ty => Some(cell),
            (Loose::Bytes(bytes), Type::Bytes | Type::Uuid)
                if ty == Type::Bytes || bytes.len() == 16 =>
            {
                cells.store.extend_from_slice(bytes);
                let at = cells.store.len() - bytes.len();
                Some(Cell::Bytes(Piece::in_store(at, bytes.len())))
            }
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
        let text = match value {
            Loose::Null => return Cell::Null,
            Loose::Int(n) => n.to_string(),
            Loose::Float(n) => n.to_string(),
            Loose::Decimal(n, scale) => crate::values::decimal(n, scale as usize),
            Loose::Text(text) => text.to_string(),
            Loose::Bytes(bytes) => match std::str::from_utf8(bytes) {
                Ok(text) if self.types[column].is_text() => text.to_string(),
                _ => bytes.iter().map(|b| format!("{b:02x}")).collect(),
            },
            Loose::Typed(cell, ty) => shown(cell, ty, &[], &[]).unwrap_or_default(),
        };
        let before = cells.store.len();
        let read = self.standards[column].read(&text, &mut cells.store);
        read.unwrap_or_else(|_| {
            cells.store.truncate(before);
            cells.misfits.push(Misfit {
                row: row as u32,
                column: column as u32,
                text,
            });
            Cell::Null
        })
    }
}

/// A decimal with another scale, where that loses nothing and it fits.
fn decimal(n: i128, from: u32, precision: u8, to: u8, store: &mut Vec<u8>) -> Option<Cell> {
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
