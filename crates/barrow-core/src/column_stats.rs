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
        // Kept here until the end: in `self`, and as long as a decimal may be, a check of
        // the bench's file takes 1.04 of the instructions.
        let (mut values, mut least, mut most) = (0, i64::MAX, i64::MIN);
        let mut longest = self.longest;
        let cells = &rows.cells[slot * rows.height..][..rows.height];
        for row in &rows.good {
            let cell = cells[*row as usize];
            match cell {
                Cell::Null => continue,
                Cell::Int(n) | Cell::Decimal(n) => {
                    least = least.min(n);
                    most = most.max(n);
                }
                Cell::LongDecimal(_) => {
                    let store = &rows.store;
                    if let Some(n) = (Valued { cell, block, store }).decimal() {
                        self.number(n);
                    }
                }
                // A character is at least a byte, so only a longer text needs counting.
                Cell::Text(piece) if longest.is_none_or(|longest| piece.length() > longest) => {
                    longest = longest.max(Some(count_characters(piece.of(block, &rows.store))));
                }
                _ => {}
            }
            values += 1;
        }
        self.values += values;
        self.longest = longest;
        if least <= most {
            self.number(i128::from(least));
            self.number(i128::from(most));
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::values::Piece;

    fn stats(cells: &[Cell], good: &[u32], store: &[u8]) -> ColumnStats {
        let mut all = vec![Cell::Int(-1000); cells.len()];
        all.extend_from_slice(cells);
        let mut rows = Rows::default();
        rows.cells = all;
        rows.height = cells.len();
        rows.good = good.to_vec();
        rows.store = store.to_vec();
        let mut stats = ColumnStats::default();
        stats.column(1, &rows, b"Ada Moor");
        stats
    }

    #[test]
    fn numbers_of_good_rows_have_a_smallest_and_a_largest() {
        let long = i128::from(i64::MAX) + 1;
        let number = Cell::LongDecimal(Piece::in_store(0, 16));
        let cells = [
            Cell::Int(5),
            Cell::Int(-3),
            Cell::Null,
            Cell::Decimal(7),
            number,
            Cell::Int(99),
        ];
        let wanted = |values, least: i128, most: i128| ColumnStats {
            values,
            longest: None,
            range: Some((least, most)),
        };
        let store = long.to_le_bytes();
        assert_eq!(stats(&cells, &[0, 1, 2, 3], &store), wanted(3, -3, 7));
        assert_eq!(stats(&cells, &[0, 1, 4], &store), wanted(3, -3, long));
        assert_eq!(stats(&cells, &[4], &store), wanted(1, long, long));
        let ends = [Cell::Int(i64::MAX), Cell::Int(i64::MIN)];
        assert_eq!(
            stats(&ends[..1], &[0], &[]),
            wanted(1, i64::MAX.into(), i64::MAX.into())
        );
        assert_eq!(
            stats(&ends, &[0, 1], &[]),
            wanted(2, i64::MIN.into(), i64::MAX.into())
        );
        assert_eq!(stats(&cells, &[2], &store), ColumnStats::default());
    }

    #[test]
    fn the_longest_text_is_counted_in_characters() {
        let store = "Elmé é".as_bytes();
        let (moor, elm) = (Piece::in_block(4, 4), Piece::in_store(0, store.len()));
        let cells = [Cell::Text(moor), Cell::Text(elm), Cell::Bool(true)];
        let longest = |good: &[u32]| stats(&cells, good, store).longest;
        assert_eq!(longest(&[0]), Some(4));
        assert_eq!(longest(&[0, 1, 2]), Some(6));
        assert_eq!(longest(&[2]), None);
        assert_eq!(stats(&cells, &[0, 1, 2], store).values, 3);
    }
}
