//! Finds the rows that a table will not take, without trying each by itself.
//!
//! Rows are tried in pieces. A piece that the table refuses is rolled back as a whole; where the
//! database says which row it stumbled over, the rows before it are sent again, and the row alone
//! if the database may be wrong or one of those stayed out; where it does not say, smaller pieces
//! are tried. So every row is tried after all rows before it that went in, and stays out only if
//! the table refuses it there. Where refusals are frequent and the database can be asked for many
//! rows at once which of them it will refuse, all others are sent together; that counts only if
//! the result is the same.

mod size;

use std::ops::Range;

use barrow_core::reason::Code;

pub use self::size::PieceSize;
use crate::error::Error;

/// Why the table refused a piece of rows.
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

/// A table that rows are tried on.
pub trait Tries {
    /// Tries rows at once.
    ///
    /// # Errors
    /// Whatever is not the fault of a row; the rows are then neither in nor out.
    fn attempt(&mut self, rows: Range<usize>) -> Result<Tried, Error>;

    /// Tries rows without those that the table is likely to refuse, and then each of
    /// those by itself.
    ///
    /// # Errors
    /// Whatever is not the fault of a row.
    fn foresee(&mut self, rows: Range<usize>) -> Result<Foreseen, Error> {
        let _ = rows;
        Ok(Foreseen::Nothing)
    }
}

/// What came of rows of which some were suspect.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Foreseen {
    /// None was, and nothing was tried.
    Nothing,
    /// Other rows were refused, or for other reasons. No row is in.
    Wrong,
    /// All of them are in but these, as if each had been tried in its turn.
    But(Vec<(usize, Refused)>),
}

impl<F: FnMut(Range<usize>) -> Result<Tried, Error>> Tries for F {
    fn attempt(&mut self, rows: Range<usize>) -> Result<Tried, Error> {
        self(rows)
    }
}

/// Tries all `rows`, and returns those that were refused, in order.
///
/// # Errors
/// What `table` fails with; the rows are then neither in nor out.
pub fn isolate(
    rows: Range<usize>,
    size: &mut PieceSize,
    table: &mut dyn Tries,
) -> Result<Vec<(usize, Refused)>, Error> {
    let mut search = Search {
        size,
        table,
        end: rows.end,
        done: rows.start,
        has_foreseen: false,
        refused: Vec::new(),
    };
    search.all(rows)?;
    Ok(search.refused)
}

/// The refused rows among some, as far as they are found.
struct Search<'s> {
    size: &'s mut PieceSize,
    table: &'s mut dyn Tries,
    /// Where the rows end.
    end: usize,
    /// All rows before this one are in or out, where they were not tried piece by piece.
    done: usize,
    /// Whether it was asked already which of the rows are suspect.
    has_foreseen: bool,
    refused: Vec<(usize, Refused)>,
}

impl Search<'_> {
    /// Tries rows piece by piece, or all that are left but those that are suspect.
    fn all(&mut self, rows: Range<usize>) -> Result<(), Error> {
        let mut next = rows.start.max(self.done);
        while next < rows.end {
            if self.size.foresees() && self.foresee(next..self.end)? {
                return Ok(());
            }
            let end = rows.end.min(next.saturating_add(self.size.rows()));
            self.piece(next..end)?;
            next = end.max(self.done);
        }
        Ok(())
    }

    /// Tries rows without those that are suspect; whether the prediction was right.
    fn foresee(&mut self, rows: Range<usize>) -> Result<bool, Error> {
        if self.has_foreseen {
            return Ok(false);
        }
        self.has_foreseen = true;
        let few = match self.table.foresee(rows.clone())? {
            Foreseen::Nothing => return Ok(false),
            Foreseen::Wrong => {
                self.size.was_wrong();
                return Ok(false);
            }
            Foreseen::But(few) => few,
        };
        self.size
            .foreseen(rows.len(), few.iter().map(|(row, _)| *row));
        let few = few.into_iter().map(|(row, why)| (rows.start + row, why));
        self.refused.extend(few);
        self.done = rows.end;
        Ok(true)
    }

    /// Tries rows at once; returns why, where that is none of them.
    fn attempt(&mut self, rows: Range<usize>) -> Result<Option<Refused>, Error> {
        let tried = self.table.attempt(rows.clone())?;
        if let Tried::Refused(why) = tried {
            return Ok(Some(why));
        }
        self.size.went_in(rows.len());
        if let Tried::But(few) = tried {
            let few = few.into_iter().map(|(row, why)| (rows.start + row, why));
            self.refused.extend(few);
        }
        Ok(None)
    }

    fn piece(&mut self, rows: Range<usize>) -> Result<(), Error> {
        if rows.is_empty() {
            return Ok(());
        }
        let Some(why) = self.attempt(rows.clone())? else {
            return Ok(());
        };
        if rows.len() == 1 {
            self.size.refused(0);
            self.refused.push((rows.start, why));
            return Ok(());
        }
        let known = why.at.filter(|at| *at < rows.len());
        if let Some(before) = known {
            self.size.refused(before);
            let at = rows.start + before;
            let so_far = self.refused.len();
            self.piece(rows.start..at)?;
            if at < self.done {
                return Ok(());
            }
            match why.is_certain && self.refused.len() == so_far {
                // All rows before it are in, as they were when it was refused.
                true => self.refused.push((at, why)),
                false => self.alone(at)?,
            }
            return self.all(at + 1..rows.end);
        }
        let middle = rows.start + rows.len() / 2;
        self.piece(rows.start..middle)?;
        self.all(middle..rows.end)
    }

    /// Tries a row by itself, of which it is known already that it was refused.
    fn alone(&mut self, row: usize) -> Result<(), Error> {
        if let Some(why) = self.attempt(row..row + 1)? {
            self.refused.push((row, why));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    /// A table that refuses some rows, and may say which; and what it was sent.
    #[derive(Default)]
    struct Model {
        bad: BTreeSet<usize>,
        tells: bool,
        /// Those that it would name before they come.
        suspects: BTreeSet<usize>,
        inside: Vec<usize>,
        sent: usize,
        pieces: usize,
        asked: usize,
    }

    impl Model {
        fn why(&self, at: Option<usize>) -> Refused {
            Refused {
                at,
                is_certain: self.tells,
                code: Code::Refused,
                column: None,
                words: "no".into(),
                detail: None,
            }
        }
    }

    impl Tries for Model {
        fn attempt(&mut self, rows: Range<usize>) -> Result<Tried, Error> {
            let first = self.bad.range(rows.clone()).next().copied();
            self.pieces += 1;
            self.sent += first.map_or(rows.len(), |first| first + 1 - rows.start);
            Ok(match first {
                None => {
                    self.inside.extend(rows);
                    Tried::Done
                }
                Some(first) => Tried::Refused(self.why(self.tells.then_some(first - rows.start))),
            })
        }

        fn foresee(&mut self, rows: Range<usize>) -> Result<Foreseen, Error> {
            let suspects: Vec<usize> = self.suspects.range(rows.clone()).copied().collect();
            if suspects.is_empty() {
                return Ok(Foreseen::Nothing);
            }
            self.asked += 1;
            self.sent += rows.len();
            self.pieces += 1 + suspects.len();
            if !suspects.iter().eq(self.bad.range(rows.clone())) {
                return Ok(Foreseen::Wrong);
            }
            let start = rows.start;
            self.inside
                .extend(rows.filter(|row| !self.bad.contains(row)));
            let few = suspects.into_iter();
            Ok(Foreseen::But(
                few.map(|row| (row - start, self.why(Some(0)))).collect(),
            ))
        }
    }

    /// What came of rows: those that were refused, those that are in, what the table was
    /// sent, and in how many pieces.
    struct Came {
        refused: Vec<usize>,
        inside: Vec<usize>,
        sent: usize,
        pieces: usize,
    }

    /// A table that refuses some rows, and may say which.
    fn run(count: usize, bad: &BTreeSet<usize>, tells: bool) -> Came {
        let mut model = Model {
            bad: bad.clone(),
            tells,
            ..Model::default()
        };
        let refused = refused(0..count, &mut PieceSize::default(), &mut model);
        Came {
            refused,
            inside: model.inside,
            sent: model.sent,
            pieces: model.pieces,
        }
    }

    fn refused(rows: Range<usize>, size: &mut PieceSize, model: &mut Model) -> Vec<usize> {
        let refused = isolate(rows, size, model);
        refused.map_or(Vec::new(), |all| {
            all.into_iter().map(|(row, _)| row).collect()
        })
    }

    /// Which of 100,000 rows are refused, of which so many come together.
    fn refused_of_100_000(model: &mut Model, together: usize) -> Vec<usize> {
        let mut size = PieceSize::default();
        let starts = (0..100_000).step_by(together);
        let each = starts.map(|start| refused(start..start + together, &mut size, model));
        each.collect::<Vec<_>>().concat()
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
                let came = run(10_000, &bad, tells);
                assert_eq!(came.refused, bad.iter().copied().collect::<Vec<_>>());
                let wanted: Vec<usize> = (0..10_000).filter(|row| !bad.contains(row)).collect();
                assert_eq!(came.inside, wanted);
            }
        }
    }

    #[test]
    fn scattered_refusals_do_not_send_rows_many_times() {
        let bad: BTreeSet<usize> = (0..1_000_000).step_by(1_000).map(|row| row + 500).collect();
        let came = run(1_000_000, &bad, true);
        assert_eq!(came.refused.len(), 1_000);
        // The best pieces have 283 rows (the root of 2 * 40 * 1,000): of them half are sent
        // again for each refusal, and there are 3.5 for each, and the two around it.
        assert!(came.sent < 1_200_000, "{} rows were sent", came.sent);
        assert!(came.pieces < 6_000, "in {} pieces", came.pieces);
    }

    #[test]
    fn where_all_rows_are_refused_the_pieces_are_small() {
        let came = run(10_000, &(0..10_000).collect(), true);
        assert_eq!(came.refused.len(), 10_000);
        assert!(came.sent <= 10_000, "{} rows were sent", came.sent);
        // A table that does not say which row it refused halves each piece.
        let came = run(10_000, &(0..10_000).collect(), false);
        assert_eq!(came.refused.len(), 10_000);
        assert!(came.pieces < 25_000, "{} pieces", came.pieces);
    }

    #[test]
    fn refusals_that_are_foreseen_take_one_piece_each() {
        for tells in [true, false] {
            let bad: BTreeSet<usize> = (0..100_000).step_by(1_000).map(|row| row + 7).collect();
            let mut model = Model {
                bad: bad.clone(),
                suspects: bad.clone(),
                tells,
                ..Model::default()
            };
            let found = refused_of_100_000(&mut model, 20_000);
            assert_eq!(found, bad.iter().copied().collect::<Vec<_>>());
            let wanted: Vec<usize> = (0..100_000).filter(|row| !bad.contains(row)).collect();
            assert_eq!(model.inside, wanted);
            // One for each, one for each 20,000 rows, and some until the first was found: a
            // table that does not say which row it is halves what it is sent.
            assert!(model.pieces < 140, "in {} pieces", model.pieces);
            assert!(model.sent < 142_000, "{} rows were sent", model.sent);
        }
    }

    #[test]
    fn what_is_foreseen_wrongly_changes_nothing_and_is_given_up() {
        for tells in [true, false] {
            let bad: BTreeSet<usize> = (0..100_000).step_by(500).collect();
            let mut model = Model {
                bad: bad.clone(),
                suspects: bad.iter().map(|row| row + 1).collect(),
                tells,
                ..Model::default()
            };
            let found = refused_of_100_000(&mut model, 5_000);
            assert_eq!(found, bad.iter().copied().collect::<Vec<_>>());
            let wanted: Vec<usize> = (0..100_000).filter(|row| !bad.contains(row)).collect();
            assert_eq!(model.inside, wanted);
            assert_eq!(model.asked, size::PATIENCE);
        }
    }

    #[test]
    fn rare_refusals_are_not_asked_for() {
        let bad: BTreeSet<usize> = (0..1_000_000)
            .step_by(10_000)
            .map(|row| row + 5_000)
            .collect();
        let mut model = Model {
            bad: bad.clone(),
            suspects: bad,
            tells: true,
            ..Model::default()
        };
        let found = refused(0..1_000_000, &mut PieceSize::default(), &mut model);
        assert_eq!((found.len(), model.asked), (100, 0));
    }
}
