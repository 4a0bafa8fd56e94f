//! The rows of one format as rows of another: each written column takes the values of a read
//! one.

use super::record::{RecordWriter, Written};
use super::row_typer::{RawValue, RowBatch, RowTyper};
use crate::pipeline::{Batch, Rows};
use crate::types::Type;
use crate::values::{Cell, Piece};

/// Which column of the one format becomes which of the other.
pub struct ColumnMapping {
    /// For each written column, the place of its cells, and their type.
    places: Vec<(usize, Type)>,
    typing: RowTyper,
}

impl ColumnMapping {
    /// For each written column, `places` has the loaded column that it takes its values from,
    /// 0-based, with that one's type, and `types` its own.
    pub fn new(places: Vec<(usize, Type)>, types: &[Type]) -> ColumnMapping {
        ColumnMapping {
            places,
            typing: RowTyper::new(types),
        }
    }

    /// Writes the good rows of a batch's first record type. A row is told by its record's
    /// number in its file.
    pub fn write(&self, writer: &RecordWriter<'_>, batch: &Batch, out: &mut Written) {
        out.clear();
        let Some(rows) = batch.parts.first() else {
            return;
        };
        let mut cells = RowBatch::default();
        self.fill(&mut cells, rows, &batch.block.bytes);
        let number = |row: &u32| {
            let mark = rows.marks[*row as usize] as usize;
            batch.block.record_number(mark)
        };
        let numbered = (0..).zip(rows.good.iter().map(number));
        writer.write(&cells, &[], numbered, out);
    }

    fn fill(&self, cells: &mut RowBatch, rows: &Rows, block: &[u8]) {
        self.typing.begin(cells);
        for row in &rows.good {
            for (column, (place, ty)) in self.places.iter().enumerate() {
                let cell = rows.cell(*place, *row as usize);
                self.put(cells, column, cell, *ty, (block, &rows.store));
            }
        }
    }

    fn put(
        &self,
        cells: &mut RowBatch,
        column: usize,
        cell: Cell,
        ty: Type,
        (block, store): (&[u8], &[u8]),
    ) {
        let bytes = |piece: Piece| piece.of(block, store);
        let scale = match ty {
            Type::Decimal { scale, .. } => Some(u32::from(scale)),
            _ => None,
        };
        let value = match cell {
            Cell::Null => RawValue::Null,
            Cell::Int(n) => RawValue::Int(n),
            Cell::Float(n) => RawValue::Float(n),
            Cell::Text(piece) => match std::str::from_utf8(bytes(piece)) {
                Ok(text) => RawValue::Text(text),
                Err(_) => RawValue::Bytes(bytes(piece)),
            },
            Cell::Bytes(piece) => RawValue::Bytes(bytes(piece)),
            Cell::Decimal(n) => match scale {
                Some(scale) => RawValue::Decimal(n, scale),
                None => RawValue::Lost("a decimal in a column of another type"),
            },
            Cell::LongDecimal(piece) => match (bytes(piece).try_into(), scale) {
                (Ok(digits), Some(scale)) => RawValue::LongDecimal(digits, scale),
                _ => RawValue::Lost("a decimal without its digits"),
            },
            other => RawValue::Typed(other, ty),
        };
        self.typing.put(cells, column, value);
    }
}
