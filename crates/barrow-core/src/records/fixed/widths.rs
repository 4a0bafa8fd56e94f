//! Records that have no end: each is as wide as the others.

use super::characters::place_of;
use crate::records::delimited::scan::{Progress, Scan};
use crate::records::mark::{Mark, State};

impl Scan<'_> {
    /// Marks records that have no end and are each `width` wide. Each counts as a line.
    pub fn widths(
        &self,
        width: usize,
        bytes: &[u8],
        whole: bool,
        progress: &mut Progress,
        marks: &mut Vec<Mark>,
    ) {
        while progress.at < bytes.len() && marks.len() < self.most {
            let rest = &bytes[progress.at..];
            let length = if self.by_characters {
                place_of(rest, width)
            } else {
                Some(width)
            };
            let length = match length.filter(|length| *length <= rest.len()) {
                Some(length) => length,
                None if whole => rest.len(),
                None => return,
            };
            let end = progress.at + length;
            marks.push(Mark::new(
                progress.at..end,
                end,
                progress.line,
                State::Plain,
            ));
            progress.at = end;
            progress.line += 1;
        }
    }
}
