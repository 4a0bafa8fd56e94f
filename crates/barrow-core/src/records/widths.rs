//! Records that have no end: each is as wide as the others.

use super::block::{Mark, State};
use super::scan::{Progress, Scan};

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
                characters(rest, width)
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

/// How many bytes the first `count` characters of UTF-8 take, if all are there.
pub fn characters(text: &[u8], count: usize) -> Option<usize> {
    let starts = || borders(text);
    match starts().nth(count) {
        Some(at) => Some(at),
        None => (starts().count() == count)
            .then_some(text.len())
            .filter(|_| text.last().is_none_or(u8::is_ascii)),
    }
}

/// Where each character of UTF-8 starts, 0-based. The first byte starts one, also where
/// it continues none: such bytes belong to somebody, and nothing is lost.
pub fn borders(text: &[u8]) -> impl Iterator<Item = usize> + '_ {
    let starts = |at: &usize| *at == 0 || (text[*at] as i8) >= -0x40;
    (0..text.len()).filter(starts)
}
