//! What the values of columns were like: the longest text, the smallest and the
//! largest number.

use crate::pipeline::Rows;
use crate::utf8::count_characters;
use crate::values::{Cell, Valued};

/// What one column's values were like.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct ColumnStats {
    /// Values that are not null.
    pub values: u64,
    /// The most characters of a text.
    pub longest: Option<usize>,
    /// The smallest and the largest whole number or decimal; the latter times ten
    /// to the power of its scale.
    pub range: Option<(i128, i128)>,
}

impl ColumnStats {
    /// Takes up a column's values of good rows.
    pub fn column(&mut self, slot: usize, rows: &Rows, block: &[u8]) {
        for row in &rows.good {
            let valued = Valued {
                cell: rows.cell(slot, *row as usize),
                block,
                store: &rows.store,
            };
            match valued.cell {
                Cell::Null => continue,
                Cell::Int(n) => self.number(i128::from(n)),
                Cell::Decimal(n) => self.number(i128::from(n)),
                Cell::LongDecimal(_) => {
                    if let Some(n) = valued.decimal() {
                        self.number(n);
                    }
                }
                Cell::Text(_) => {
                    let text = valued.bytes().unwrap_or_default();
                    // A character is at least a byte, so only a longer text needs counting.
                    if self.longest.is_none_or(|longest| text.len() > longest) {
                        let length = count_characters(text);
                        self.longest = self.longest.max(Some(length));
                    }
                }
                _ => {}
            }
            self.values += 1;
        }
    }

    fn number(&mut self, n: i128) {
        self.range = match self.range {
            None => Some((n, n)),
            Some((least, most)) => Some((least.min(n), most.max(n))),
        };
    }

    /// Adds what others were like.
    pub fn add(&mut self, other: &ColumnStats) {
        self.values += other.values;
        self.longest = self.longest.max(other.longest);
        if let Some((least, most)) = other.range {
            self.number(least);
            self.number(most);
        }
    }
}
