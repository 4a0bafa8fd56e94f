//! Rows in a server's wire form: one after the other, made by the workers.

use std::ops::Range;
use std::sync::Arc;

use barrow_core::pipeline::Batch;

use crate::encoded::lines::{Bytes, Fault, Lines, Unfit};
use crate::encoded::{self, EncodedBatch, EncodedPart, not_encoded};
use crate::error::Error;
use crate::job::Refusal;

/// The lines of one of a batch's parts.
fn lines_of(batch: &EncodedBatch, part: usize) -> Result<&Lines, Error> {
    match batch.encoded.get(part) {
        Some(EncodedPart::Lines(lines)) => Ok(lines),
        _ => Err(not_encoded()),
    }
}

/// The lines of one part of several batches, one after the other. A row's place is
/// counted through all of them, from 0.
pub struct Run<'b> {
    part: usize,
    each: Vec<Piece<'b>>,
}

/// The lines of one batch.
struct Piece<'b> {
    /// The place of its first row.
    first: usize,
    batch: &'b EncodedBatch,
    lines: &'b Lines,
}

impl<'b> Run<'b> {
    /// The lines of one of the batches' parts.
    ///
    /// # Errors
    /// The part was not encoded.
    pub fn of(batches: &'b [EncodedBatch], part: usize) -> Result<Run<'b>, Error> {
        let mut first = 0;
        let pieces = batches.iter().map(|batch| {
            let lines = lines_of(batch, part)?;
            let piece = Piece {
                first,
                batch,
                lines,
            };
            first += lines.ends.len();
            Ok(piece)
        });
        let each = pieces.collect::<Result<_, Error>>()?;
        Ok(Run { part, each })
    }

    /// How many rows there are.
    pub fn count(&self) -> usize {
        self.each
            .last()
            .map_or(0, |piece| piece.first + piece.lines.ends.len())
    }

    /// The pieces that hold some of the rows, each with the places within it.
    fn within(&self, places: Range<usize>) -> impl Iterator<Item = (&Piece<'b>, Range<usize>)> {
        self.each.iter().filter_map(move |piece| {
            let start = places.start.max(piece.first) - piece.first;
            let end = places.end.saturating_sub(piece.first);
            let end = end.min(piece.lines.ends.len());
            (start < end).then_some((piece, start..end))
        })
    }

    /// The bytes of some rows, in their order, and how many rows they are.
    pub fn rows(&self, places: Range<usize>) -> (Vec<Bytes>, u64) {
        let mut count = 0;
        let bytes = self.within(places).map(|(piece, places)| {
            let (bytes, rows) = piece.lines.rows(places);
            count += rows;
            bytes
        });
        (bytes.collect(), count)
    }

    /// The rows that are sent of some, each with its place.
    pub fn each(&self, places: Range<usize>) -> impl Iterator<Item = (usize, &'b [u8])> {
        self.within(places).flat_map(|(piece, places)| {
            let (first, lines) = (piece.first, piece.lines);
            let rows = places.map(move |place| (first + place, lines.row(place)));
            rows.filter(|(_, bytes)| !bytes.is_empty())
        })
    }

    /// The place of the row that was sent as number `at` of some rows, 0-based.
    pub fn sent(&self, places: Range<usize>, at: usize) -> Option<usize> {
        let mut sent = self.within(places).flat_map(|(piece, places)| {
            let fit = places.filter(|place| !piece.lines.is_unfit(*place));
            fit.map(|place| piece.first + place)
        });
        sent.nth(at)
    }

    /// Which of the batches the row at a place is of, and which row of its part it is.
    pub fn row(&self, place: usize) -> (usize, u32) {
        let after = self.each.partition_point(|piece| piece.first <= place);
        let at = after.saturating_sub(1);
        let piece = &self.each[at];
        (at, piece.batch.parts[self.part].good[place - piece.first])
    }

    /// The rows that the table has no room for, as refusals, for each batch.
    pub fn refusals(&self, names: &[String]) -> Vec<Vec<Refusal>> {
        let part = self.part;
        let of = |piece: &Piece<'_>| {
            let refusal = |unfit: &Unfit| Refusal {
                part,
                row: piece.batch.parts[part].good[unfit.place],
                code: unfit.fault.code,
                column: Some(names[unfit.column].clone()),
                words: unfit.fault.words.clone(),
                detail: None,
            };
            piece.lines.unfit.iter().map(refusal).collect()
        };
        self.each.iter().map(of).collect()
    }
}

/// The bytes of all rows of one of a batch's parts; none where it was not encoded.
pub fn bytes(batch: &EncodedBatch, part: usize) -> &[u8] {
    lines_of(batch, part).map_or(&[], |lines| &lines.bytes)
}

/// Puts the good rows of a part into lines. `put` adds a row's bytes to the buffer.
pub fn encode(
    batch: &mut EncodedBatch,
    part: usize,
    mut put: impl FnMut(&Batch, usize, &mut Vec<u8>) -> Result<(), (usize, Fault)>,
) {
    let mut lines = match encoded::spare(batch, part) {
        EncodedPart::Lines(lines) => lines,
        _ => Lines::default(),
    };
    let Lines { bytes, ends, unfit } = &mut lines;
    // Nobody else holds the bytes any more: the server has taken them.
    let bytes = Arc::make_mut(bytes);
    bytes.clear();
    ends.clear();
    unfit.clear();
    let rows = &batch.parts[part];
    for (place, row) in rows.good.iter().enumerate() {
        let start = bytes.len();
        if let Err((column, fault)) = put(batch, *row as usize, bytes) {
            bytes.truncate(start);
            unfit.push(Unfit {
                place,
                column,
                fault,
            });
        }
        ends.push(bytes.len());
    }
    batch.encoded[part] = EncodedPart::Lines(lines);
}

#[cfg(test)]
mod tests {
    use barrow_core::pipeline::Rows;
    use barrow_core::reason::Code;

    use super::*;

    /// A batch of one part with these rows, of which empty ones have no room. Its rows
    /// are those of the block with odd numbers.
    fn batch(rows: &[&str]) -> EncodedBatch {
        let mut batch = EncodedBatch::default();
        batch.parts.push(Rows::default());
        batch.parts[0].good = (0..rows.len() as u32).map(|row| 2 * row + 1).collect();
        encode(&mut batch, 0, |_, row, out| {
            out.extend_from_slice(rows[row / 2].as_bytes());
            match rows[row / 2] {
                "" => Err((0, Fault::new(Code::TooLong, ""))),
                _ => Ok(()),
            }
        });
        batch
    }

    /// Some rows' bytes as text, and how many rows they are.
    fn rows(run: &Run<'_>, places: Range<usize>) -> (Vec<String>, u64) {
        let (bytes, count) = run.rows(places);
        let text = |bytes: &Bytes| String::from_utf8_lossy(bytes).into_owned();
        (bytes.iter().map(text).collect(), count)
    }

    #[test]
    fn rows_that_are_not_sent_do_not_count() -> Result<(), Error> {
        let batches = [batch(&["aa", "", "bb", "", "ccc"])];
        let run = Run::of(&batches, 0)?;
        assert_eq!(rows(&run, 0..5), (vec!["aabbccc".into()], 3));
        assert_eq!(rows(&run, 1..4), (vec!["bb".into()], 1));
        assert_eq!(rows(&run, 3..4), (vec!["".into()], 0));
        assert_eq!(run.sent(0..5, 1), Some(2));
        assert_eq!(run.sent(1..5, 1), Some(4));
        assert_eq!(run.sent(1..5, 2), None);
        Ok(())
    }

    #[test]
    fn rows_of_several_batches_are_one_run() -> Result<(), Error> {
        let batches = [
            batch(&[]),
            batch(&["a", "", "b"]),
            batch(&[]),
            batch(&["c", "d"]),
            batch(&[]),
        ];
        let run = Run::of(&batches, 0)?;
        assert_eq!(run.count(), 5);
        assert_eq!(rows(&run, 0..5), (vec!["ab".into(), "cd".into()], 4));
        assert_eq!(rows(&run, 2..4), (vec!["b".into(), "c".into()], 2));
        assert_eq!(rows(&run, 4..5), (vec!["d".into()], 1));
        let sent: Vec<_> = (0..3).map(|at| run.sent(1..5, at)).collect();
        assert_eq!(sent, [Some(2), Some(3), Some(4)]);
        let rows: Vec<_> = (0..5).map(|place| run.row(place)).collect();
        assert_eq!(rows, [(1, 1), (1, 3), (1, 5), (3, 1), (3, 3)]);
        let unfit: Vec<usize> = run
            .refusals(&["note".into()])
            .iter()
            .map(Vec::len)
            .collect();
        assert_eq!(unfit, [0, 1, 0, 0, 0]);
        Ok(())
    }
}
