//! Rows in a server's wire form: one after the other, made by the workers.

use std::ops::Range;

use barrow_core::flow::Batch;
use barrow_core::rejects::Code;

use crate::Refusal;
use crate::error::Error;

/// A batch's good rows in a server's form.
#[derive(Debug, Default)]
pub struct Lines {
    /// The rows' bytes.
    pub bytes: Vec<u8>,
    /// Where each row ends; a row that the table has no room for is empty.
    pub ends: Vec<usize>,
    /// The rows that the table has no room for, in order.
    pub unfit: Vec<Unfit>,
}

/// A row that the table has no room for.
#[derive(Debug)]
pub struct Unfit {
    /// The row, as a place among the good ones.
    pub place: usize,
    /// The column, as a place in the part.
    pub column: usize,
    /// What is wrong.
    pub fault: Fault,
}

/// Why a value cannot be put into a column of the table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// The reason's code.
    pub code: Code,
    /// In plain words.
    pub words: String,
}

impl Fault {
    /// A fault in plain words.
    pub fn new(code: Code, words: impl Into<String>) -> Fault {
        Fault {
            code,
            words: words.into(),
        }
    }
}

impl Lines {
    /// The lines of one of a batch's parts.
    ///
    /// # Errors
    /// The part was not encoded.
    pub fn of(batch: &Batch, part: usize) -> Result<&Lines, Error> {
        let encoded = batch.encoded.get(part);
        encoded
            .and_then(|encoded| encoded.downcast_ref::<Lines>())
            .ok_or_else(|| Error::new("rows came that were not encoded"))
    }

    /// The bytes of some rows, and how many rows they are.
    pub fn rows(&self, places: Range<usize>) -> (&[u8], u64) {
        let start = |place: usize| if place == 0 { 0 } else { self.ends[place - 1] };
        let (from, to) = (start(places.start), start(places.end));
        let unfit = self
            .unfit
            .iter()
            .filter(|unfit| places.contains(&unfit.place));
        (&self.bytes[from..to], (places.len() - unfit.count()) as u64)
    }

    /// The place of the row that was sent as number `at` of some rows, 0-based.
    pub fn sent(&self, places: Range<usize>, at: usize) -> Option<usize> {
        let is_unfit = |place: usize| {
            let found = self.unfit.binary_search_by_key(&place, |unfit| unfit.place);
            found.is_ok()
        };
        places.filter(|place| !is_unfit(*place)).nth(at)
    }

    /// The rows that the table has no room for, as refusals.
    pub fn refusals(&self, batch: &Batch, part: usize, names: &[String]) -> Vec<Refusal> {
        let refusal = |unfit: &Unfit| Refusal {
            part,
            row: batch.parts[part].good[unfit.place],
            code: unfit.fault.code,
            column: Some(names[unfit.column].clone()),
            words: unfit.fault.words.clone(),
            detail: None,
        };
        self.unfit.iter().map(refusal).collect()
    }
}

/// Puts the good rows of a part into lines. `put` adds a row's bytes to the buffer.
pub fn encode(
    batch: &mut Batch,
    part: usize,
    mut put: impl FnMut(&Batch, usize, &mut Vec<u8>) -> Result<(), (usize, Fault)>,
) {
    batch
        .encoded
        .resize_with(batch.parts.len(), || Box::new(()));
    let spare = std::mem::replace(&mut batch.encoded[part], Box::new(()));
    let mut lines = spare.downcast::<Lines>().unwrap_or_default();
    lines.bytes.clear();
    lines.ends.clear();
    lines.unfit.clear();
    let rows = &batch.parts[part];
    for (place, row) in rows.good.iter().enumerate() {
        let start = lines.bytes.len();
        if let Err((column, fault)) = put(batch, *row as usize, &mut lines.bytes) {
            lines.bytes.truncate(start);
            lines.unfit.push(Unfit {
                place,
                column,
                fault,
            });
        }
        lines.ends.push(lines.bytes.len());
    }
    batch.encoded[part] = lines;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_that_are_not_sent_do_not_count() {
        let unfit = |place| Unfit {
            place,
            column: 0,
            fault: Fault::new(Code::TooLong, ""),
        };
        let lines = Lines {
            bytes: b"aabbccc".to_vec(),
            ends: vec![2, 2, 4, 4, 7],
            unfit: vec![unfit(1), unfit(3)],
        };
        assert_eq!(lines.rows(0..5), (&b"aabbccc"[..], 3));
        assert_eq!(lines.rows(1..4), (&b"bb"[..], 1));
        assert_eq!(lines.rows(3..4), (&b""[..], 0));
        assert_eq!(lines.sent(0..5, 1), Some(2));
        assert_eq!(lines.sent(1..5, 1), Some(4));
        assert_eq!(lines.sent(1..5, 2), None);
    }
}
