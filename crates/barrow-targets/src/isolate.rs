//! Finds the rows that a table will not take, without trying each by itself.
//!
//! Rows are tried in pieces. A piece that the table will not have is taken back as a
//! whole; where the database says which row it stumbled over, the rows before it are
//! sent again, and the row alone if the database may be wrong or one of those stayed
//! out; where it does not say, smaller pieces are tried. So every row is tried after all
//! rows before it that went in, and stays out only if the table refuses it there.

use std::ops::Range;

use barrow_core::rejects::Code;

use crate::error::Error;

/// Why the table would not have a piece of rows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    /// The row in the piece, where the database says which.
    pub at: Option<usize>,
    /// Whether the database is sure to be right about the row.
    pub is_certain: bool,
    /// The reason's code.
    pub code: Code,
    /// The column it is about, where the database says so.
    pub column: Option<String>,
    /// The database's own words, the same for all rows that it refuses for one reason.
    pub words: String,
    /// What it says of this row alone.
    pub detail: Option<String>,
}

/// What came of a piece of rows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Tried {
    /// All of them are in.
    Done,
    /// All of them are in but these, which are rows of the piece in their order.
    But(Vec<(usize, Refused)>),
    /// None of them is.
    Refused(Refused),
}

/// How many rows to try at once, learned as rows come.
#[derive(Debug, Clone, Copy)]
pub struct PieceSize {
    rows: usize,
    /// Pieces that went in since the last refusal.
    calm: usize,
}

/// The smallest piece that is tried before a refusal calls for less. A piece costs a few
/// round trips, and what is sent again for a refusal costs half a piece: with one
/// refusal in 1,000 rows, 256 to 512 are the cheapest.
const LEAST: usize = 256;

/// With more rows than this at once, all that come together are tried at once.
const MOST: usize = 1 << 16;

/// After so many pieces without a refusal larger ones are tried.
const CALM: usize = 6;

impl Default for PieceSize {
    fn default() -> PieceSize {
        PieceSize {
            rows: usize::MAX,
            calm: 0,
        }
    }
}

impl PieceSize {
    /// Whether all rows that come together are tried at once.
    pub fn is_whole(&self) -> bool {
        self.rows == usize::MAX
    }

    fn went_in(&mut self) {
        self.calm += 1;
        if self.calm >= CALM {
            self.calm = 0;
            self.rows = match self.rows.saturating_mul(2) {
                rows if rows > MOST => usize::MAX,
                rows => rows,
            };
        }
    }

    fn refused(&mut self, tried: usize) {
        self.calm = 0;
        self.rows = (tried.min(self.rows) / 4).max(LEAST);
    }
}

/// Tries all `rows`, and returns those that were refused, in order.
///
/// # Errors
/// What `attempt` fails with; the rows are then neither in nor out.
pub fn isolate(
    rows: Range<usize>,
    size: &mut PieceSize,
    attempt: &mut dyn FnMut(Range<usize>) -> Result<Tried, Error>,
) -> Result<Vec<(usize, Refused)>, Error> {
    let mut refused = Vec::new();
    let mut next = rows.start;
    while next < rows.end {
        let end = rows.end.min(next.saturating_add(size.rows));
        piece(next..end, size, &mut refused, attempt)?;
        next = end;
    }
    Ok(refused)
}

fn piece(
    rows: Range<usize>,
    size: &mut PieceSize,
    refused: &mut Vec<(usize, Refused)>,
    attempt: &mut dyn FnMut(Range<usize>) -> Result<Tried, Error>,
) -> Result<(), Error> {
    if rows.is_empty() {
        return Ok(());
    }
    let why = match attempt(rows.clone())? {
        Tried::Refused(why) => why,
        Tried::But(few) => {
            size.went_in();
            refused.extend(few.into_iter().map(|(row, why)| (rows.start + row, why)));
            return Ok(());
        }
        Tried::Done => {
            size.went_in();
            return Ok(());
        }
    };
    if rows.len() == 1 {
        refused.push((rows.start, why));
        return Ok(());
    }
    size.refused(rows.len());
    let at = why.at.map(|at| rows.start + at);
    let middle = match at.filter(|at| rows.contains(at)) {
        Some(at) => {
            let before = refused.len();
            piece(rows.start..at, size, refused, attempt)?;
            match why.is_certain && refused.len() == before {
                // All rows before it are in, as they were when it was refused.
                true => refused.push((at, why)),
                false => piece(at..at + 1, size, refused, attempt)?,
            }
            at + 1
        }
        None => {
            let middle = rows.start + rows.len() / 2;
            piece(rows.start..middle, size, refused, attempt)?;
            middle
        }
    };
    let mut next = middle;
    while next < rows.end {
        let end = rows.end.min(next.saturating_add(size.rows));
        piece(next..end, size, refused, attempt)?;
        next = end;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    /// A table that refuses some rows, and may say which; counts the rows it was sent.
    fn run(count: usize, bad: &BTreeSet<usize>, tells: bool) -> (Vec<usize>, Vec<usize>, usize) {
        let mut inside = Vec::new();
        let mut sent = 0;
        let mut size = PieceSize::default();
        let mut attempt = |rows: Range<usize>| {
            let first = bad.range(rows.clone()).next();
            sent += first.map_or(rows.len(), |first| first + 1 - rows.start);
            Ok(match first {
                None => {
                    inside.extend(rows);
                    Tried::Done
                }
                Some(first) => Tried::Refused(Refused {
                    at: tells.then_some(first - rows.start),
                    is_certain: tells,
                    code: Code::Refused,
                    column: None,
                    words: "no".into(),
                    detail: None,
                }),
            })
        };
        let refused = isolate(0..count, &mut size, &mut attempt);
        let refused = refused.map_or(Vec::new(), |all| {
            all.into_iter().map(|(row, _)| row).collect()
        });
        (refused, inside, sent)
    }

    #[test]
    fn only_the_bad_rows_stay_out_and_all_others_are_in_once_and_in_order() {
        let cases: [&[usize]; 6] = [
            &[],
            &[0],
            &[9_999],
            &[3, 4, 5],
            &[0, 77, 5_000, 9_998, 9_999],
            &[1],
        ];
        for bad in cases {
            let bad: BTreeSet<usize> = bad.iter().copied().collect();
            for tells in [true, false] {
                let (refused, inside, _) = run(10_000, &bad, tells);
                assert_eq!(refused, bad.iter().copied().collect::<Vec<_>>());
                let wanted: Vec<usize> = (0..10_000).filter(|row| !bad.contains(row)).collect();
                assert_eq!(inside, wanted);
            }
        }
    }

    #[test]
    fn scattered_refusals_do_not_send_rows_many_times() {
        let bad: BTreeSet<usize> = (0..1_000_000).step_by(1_000).map(|row| row + 500).collect();
        let (refused, _, sent) = run(1_000_000, &bad, true);
        assert_eq!(refused.len(), 1_000);
        assert!(sent < 1_600_000, "{sent} rows were sent");
    }
}
