//! Rows that a query cannot want are skipped by the workers, before SQLite sees them.

use std::cmp::Ordering;

use barrow_core::pipeline::Batch;
use barrow_core::plan::RecordTypePlan;
use barrow_core::types::Type;
use barrow_core::values::{Cell, Day};
use rusqlite::types::Value;

use super::constraint::Operator;

/// What the cells of a column are compared with.
#[derive(Debug, Clone)]
enum With {
    Number(i64),
    Float(f64),
    Text(Vec<u8>),
    Day(Day),
}

/// A comparison with the cells of a column.
#[derive(Debug, Clone)]
struct Comparison {
    /// Where the column's cells stand.
    slot: usize,
    /// Ten to the power of the column's scale.
    unit: f64,
    operator: Operator,
    with: With,
}

/// What a row must be like.
#[derive(Debug, Clone, Default)]
pub struct Prune(Vec<Comparison>);

impl Prune {
    /// Adds a comparison, if the cells of such a column can be told to fail it as SQLite would.
    pub fn add(&mut self, kind: &RecordTypePlan, column: &str, operator: Operator, value: &Value) {
        let Some(place) = kind.columns.iter().position(|c| c.name == column) else {
            return;
        };
        let Some(slot) = kind.slot(place) else { return };
        let ty = kind.columns[place].ty;
        let Some(with) = with(ty, operator, value) else {
            return;
        };
        let unit = match ty {
            Type::Decimal { scale, .. } => 10f64.powi(i32::from(scale)),
            _ => 1.0,
        };
        self.0.push(Comparison {
            slot,
            unit,
            operator,
            with,
        });
    }

    /// Passes over the rows of a batch that fail one of them.
    pub fn prune(&self, batch: &mut Batch, part: usize) {
        if self.0.is_empty() {
            return;
        }
        let Batch { block, parts, .. } = batch;
        let Some(rows) = parts.get_mut(part) else {
            return;
        };
        let (cells, store, height) = (&rows.cells, &rows.store, rows.height);
        for comparison in &self.0 {
            let cells = &cells[comparison.slot * height..][..height];
            let holds = |row: &u32| comparison.holds(cells[*row as usize], &block.bytes, store);
            rows.good.retain(holds);
        }
    }
}

fn with(ty: Type, operator: Operator, value: &Value) -> Option<With> {
    if operator.is_pattern() {
        return None;
    }
    match (ty, value) {
        (Type::SmallInt | Type::Integer | Type::BigInt, Value::Integer(n)) => {
            Some(With::Number(*n))
        }
        (
            Type::Decimal {
                precision: ..=15, ..
            },
            Value::Integer(n),
        ) if n.unsigned_abs() < 1 << 53 => Some(With::Float(*n as f64)),
        (
            Type::Decimal {
                precision: ..=15, ..
            },
            Value::Real(n),
        ) => Some(With::Float(*n)),
        (Type::Real | Type::Double, Value::Real(n)) => Some(With::Float(*n)),
        (Type::Char(_) | Type::VarChar(_) | Type::Text, Value::Text(text)) => {
            Some(With::Text(text.clone().into_bytes()))
        }
        (Type::Date, Value::Text(text)) => day(text).map(With::Day),
        _ => None,
    }
}

/// A day as it stands in a column of days.
fn day(text: &str) -> Option<Day> {
    let bytes = text.as_bytes();
    let is_one = bytes.len() == 10
        && bytes.iter().enumerate().all(|(place, byte)| match place {
            4 | 7 => *byte == b'-',
            _ => byte.is_ascii_digit(),
        });
    let number = |range: std::ops::Range<usize>| text.get(range)?.parse::<i16>().ok();
    let (year, month, day) = (number(0..4)?, number(5..7)?, number(8..10)?);
    Day::new(year, month as u8, day as u8).filter(|_| is_one)
}

impl Comparison {
    /// Whether the cell may be wanted. Null is not: no comparison holds for it.
    #[inline]
    fn holds(&self, cell: Cell, block: &[u8], store: &[u8]) -> bool {
        let order = match (&self.with, cell) {
            (_, Cell::Null) => return false,
            (With::Number(n), Cell::Int(cell)) => cell.cmp(n),
            (With::Float(n), Cell::Decimal(cell)) => order(cell as f64 / self.unit, *n),
            (With::Float(n), Cell::Float(cell)) => order(cell, *n),
            (With::Text(text), Cell::Text(piece)) => piece.of(block, store).cmp(text),
            (With::Day(day), Cell::Date(cell)) => cell.cmp(day),
            _ => return true,
        };
        self.operator.holds(order)
    }
}

fn order(a: f64, b: f64) -> Ordering {
    a.partial_cmp(&b).unwrap_or(Ordering::Equal)
}
