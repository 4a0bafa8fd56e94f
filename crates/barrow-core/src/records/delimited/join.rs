//! Joins records that line ends inside unquoted text have broken.

use super::fields;
use super::scan::{Progress, SIGHT, Scan};
use crate::records::ending::{Ending, Found, line_end};
use crate::records::mark::{Mark, State};

/// How many lines are joined to one record at the most.
const MOST_JOINED: u32 = 20;

impl Scan<'_> {
    /// Whether a line that is not blank has fewer fields than a record.
    pub(super) fn is_short(&self, text: &[u8]) -> bool {
        let count = || fields::count(self.delimited, text);
        !self.is_blank(text)
            && self
                .fields
                .is_some_and(|fields| count().is_ok_and(|found| found < fields))
    }

    /// Joins the next lines to a short record until it has its number of fields.
    /// `first` is what there is of it: where its text and its end stop, and how
    /// many lines that are. A line that is whole by itself is never joined to another;
    /// where joining fails, `first` stands alone. False where the bytes read so
    /// far do not tell.
    pub(super) fn join<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        first: (usize, usize, u32),
        whole: bool,
        progress: &mut Progress,
        marks: &mut Vec<Mark>,
    ) -> bool {
        let start = progress.at;
        let wanted = self.fields.unwrap_or(0);
        let count = |text: &[u8]| fields::count(self.delimited, text);
        let (_, mut at, mut lines) = first;
        let joined = loop {
            // No further line: what is there is all there is.
            if at == bytes.len() && whole {
                break None;
            }
            let Found::End(end, next) = line_end(ending, bytes, at, whole) else {
                if bytes.len() - start <= self.longest + SIGHT {
                    return false;
                }
                break None;
            };
            lines += 1;
            let alone = count(&bytes[at..end]) == Ok(wanted);
            if alone || lines > MOST_JOINED + first.2 || end - start > self.longest {
                break None;
            }
            match count(&bytes[start..end]) {
                Ok(found) if found > wanted => break None,
                Ok(found) if found == wanted => break Some((end, next, lines)),
                // Too few yet, or the line ends inside quotes.
                _ => at = next,
            }
        };
        let state = if joined.is_some() {
            State::Joined
        } else {
            State::Quoted
        };
        let (end, next, lines) = joined.unwrap_or(first);
        marks.push(Mark::new(start..end, next, progress.line, state));
        progress.at = next;
        progress.line += lines;
        true
    }
}
