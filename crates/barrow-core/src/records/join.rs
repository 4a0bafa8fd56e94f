//! Joins records that line ends inside unquoted text have broken.

use super::block::{Mark, State};
use super::ending::{Ending, Found, line_end};
use super::fields;
use super::scan::{Progress, SIGHT, Scan};

/// At most so many lines are joined to one record.
const MOST_JOINED: u32 = 20;

impl Scan<'_> {
    /// Whether a line that is not blank has fewer fields than a record.
    pub(super) fn is_short(&self, text: &[u8]) -> bool {
        !self.is_blank(text)
            && self
                .fields
                .is_some_and(|fields| fields::count(self.delimited, text) < fields)
    }

    /// Joins the next lines to a short one until they have its number of fields.
    /// A line that is whole by itself is never swallowed; where joining fails,
    /// the first line stands alone. False where the bytes read do not tell.
    pub(super) fn join<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        whole: bool,
        progress: &mut Progress,
        marks: &mut Vec<Mark>,
    ) -> bool {
        let start = progress.at;
        let fields = self.fields.unwrap_or(0);
        let count = |text: &[u8]| fields::count(self.delimited, text);
        let mut first = None;
        let mut lines = 1;
        let mut at = start;
        let joined = loop {
            let Found::End(end, next) = line_end(ending, bytes, at, whole) else {
                if bytes.len() - start <= self.longest + SIGHT {
                    return false;
                }
                break None;
            };
            first.get_or_insert((end, next));
            let found = count(&bytes[start..end]);
            let alone = at > start && count(&bytes[at..end]) == fields;
            if alone || found > fields || lines > MOST_JOINED || end - start > self.longest {
                break None;
            }
            if found == fields {
                break Some((end, next));
            }
            // No further line: what is there is all there is.
            if next == bytes.len() {
                if !whole {
                    return false;
                }
                break None;
            }
            at = next;
            lines += 1;
        };
        let Some((mut end, mut next)) = joined.or(first) else {
            return false;
        };
        let mut state = State::Joined;
        if joined.is_none() {
            (end, next) = first.unwrap_or((end, next));
            (lines, state) = (1, State::Quoted);
        }
        marks.push(Mark {
            start: start as u32,
            end: end as u32,
            next: next as u32,
            line: progress.line,
            state,
        });
        progress.at = next;
        progress.line += lines;
        true
    }
}
