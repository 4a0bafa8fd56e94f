//! How many rows to try at once.

/// How far apart refusals are, in rows, as learned from those that came.
#[derive(Debug, Clone, Copy)]
struct Gap {
    /// How many rows there are from one refusal to the next; the most that can be where
    /// none came yet.
    rows: usize,
    /// How many rows went in since the last refusal. Below 0 those that are to go in
    /// again.
    since: i64,
}

impl Default for Gap {
    fn default() -> Gap {
        Gap {
            rows: usize::MAX,
            since: 0,
        }
    }
}

impl Gap {
    fn went_in(&mut self, rows: usize) {
        self.since += rows as i64;
        if self.rows != usize::MAX && self.since > self.rows as i64 {
            self.rows = self.since as usize;
        }
    }

    /// A row was refused after `before` others of its piece, or about so many.
    fn refused(&mut self, before: usize) {
        let gap = (self.since.max(0) as usize + before).max(1);
        self.rows = match self.rows {
            usize::MAX => gap,
            known => known.midpoint(gap),
        };
        self.since = -(before as i64);
    }
}

/// How many rows to try at once, learned from how far apart the refusals are.
///
/// A piece costs as much as some rows beside its own, and for each refusal about a piece
/// is done for nothing: half of it before the refusal, and half that is sent again. With a
/// refusal in `gap` rows, pieces of `n` rows cost `COST * gap / n` and `n / 2`, which
/// together are smallest where `n` is the square root of `2 * COST * gap`.
#[derive(Debug, Clone, Copy, Default)]
pub struct PieceSize {
    /// Between all refusals.
    all: Gap,
    /// Between those that were not foreseen: only they make pieces fail.
    unforeseen: Gap,
    /// How many predictions in a row were wrong.
    wrong: usize,
}

/// What a piece costs, in rows of which half are lost with a refusal. A trace of PostgreSQL
/// says 110 rows (0.3 ms) against 1.15 rows for each of the piece's, thus about 50; measured
/// with a refusal in 1,000 rows, 10 and 33 took as long, 90 a tenth more, and 180 a quarter.
const COST: usize = 40;

/// Smaller pieces are only those that are left over.
const LEAST: usize = 16;

/// With more rows than this at once, all that come together are tried at once.
const MOST: usize = 1 << 15;

/// Refusals are foreseen where they are nearer to each other than this. To ask for a row
/// costs about a third of what it costs to load it, and to find a refusal by pieces as
/// much as the square root of the gap.
const FREQUENT: usize = 4_000;

/// After so many wrong predictions in a row, none is made again.
pub(super) const PATIENCE: usize = 4;

impl PieceSize {
    /// Whether all rows that come together are tried at once.
    pub fn is_whole(&self) -> bool {
        self.rows() == usize::MAX && !self.foresees()
    }

    /// Whether it is worth while to foresee refusals.
    pub(super) fn foresees(&self) -> bool {
        self.all.rows <= FREQUENT && self.wrong < PATIENCE
    }

    /// How many rows to try at once.
    pub(super) fn rows(&self) -> usize {
        let gap = self.unforeseen.rows;
        let best = gap.saturating_mul(2 * COST).isqrt().max(LEAST);
        if best > MOST { usize::MAX } else { best }
    }

    /// This many rows went in.
    pub(super) fn went_in(&mut self, rows: usize) {
        self.all.went_in(rows);
        self.unforeseen.went_in(rows);
    }

    /// A row was refused after `before` others of its piece, or about so many.
    pub(super) fn refused(&mut self, before: usize) {
        self.all.refused(before);
        self.unforeseen.refused(before);
    }

    /// These of so many rows were predicted to be refused, and were.
    pub(super) fn foreseen(&mut self, rows: usize, refused: impl Iterator<Item = usize>) {
        self.wrong = 0;
        let mut next = 0;
        for row in refused {
            self.all.refused(row - next);
            self.all.went_in(row - next);
            next = row + 1;
        }
        self.all.went_in(rows - next);
        self.unforeseen.went_in(rows);
    }

    /// Other rows were refused than predicted.
    pub(super) fn was_wrong(&mut self) {
        self.wrong += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn after_a_calm_stretch_all_rows_are_tried_at_once_again() {
        let mut size = PieceSize::default();
        assert!(size.is_whole());
        size.refused(1_250);
        assert_eq!(size.rows(), 316);
        size.went_in(1_250);
        size.went_in(4_000);
        assert_eq!(size.unforeseen.rows, 4_000);
        size.went_in(20_000_000);
        assert!(size.is_whole());
    }
}
