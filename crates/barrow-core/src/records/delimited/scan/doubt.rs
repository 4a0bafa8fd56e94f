//! Whether a record over several lines may be several records and a stray quote.

use std::ops::Range;

use super::Scan;
use crate::format::LONGEST_MARK;
use crate::records::delimited::judge::Judge;
use crate::records::ending::{Ending, Found, line_end};
use crate::records::mark::State;

impl Scan<'_> {
    /// What a well-formed record over several lines is.
    pub(super) fn state_of_lines<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        record: Range<usize>,
        whole: bool,
    ) -> State {
        let Some(judge) = &self.judge else {
            return State::Quoted;
        };
        match self.lines_like_records(judge, ending, bytes, record.clone(), whole) {
            None => State::Quoted,
            Some(_) if judge.is_quoted_throughout(&bytes[record]) => State::Quoted,
            Some(lines) if judge.doubts() => State::Doubtful(lines),
            Some(lines) => State::Believed(lines),
        }
    }

    /// Whether a quote that is not closed within the longest record is stray: where the
    /// lines of that window look like records.
    pub(super) fn is_stray<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        start: usize,
        whole: bool,
    ) -> bool {
        let Some(judge) = self.judge.as_ref().filter(|judge| judge.doubts()) else {
            return false;
        };
        // Up to a place from which a record's end is seen, whatever was read beyond it.
        let limit = start + self.longest.saturating_sub(LONGEST_MARK);
        let (mut at, mut last) = (start, start);
        while let Found::End(end, next) = line_end(ending, bytes, at, whole)
            && next <= limit
        {
            (at, last) = (next, end);
        }
        let found = self.lines_like_records(judge, ending, bytes, start..last, whole);
        found.is_some()
    }

    /// How many lines of `text` look like records, if its first, its last, and at least half
    /// of those between do. Blank lines and comments between do not count.
    fn lines_like_records<E: Ending>(
        &self,
        judge: &Judge<'_>,
        ending: &E,
        bytes: &[u8],
        text: Range<usize>,
        whole: bool,
    ) -> Option<u32> {
        let (mut between, mut alike) = (0, 0);
        let mut at = text.start;
        while let Found::End(stop, next) = line_end(ending, bytes, at, whole) {
            let line = &bytes[at..stop.min(text.end)];
            let is_last = next >= text.end;
            if at == text.start || is_last {
                let is_several = at > text.start;
                if !judge.looks_whole(line) || (is_last && !is_several) {
                    return None;
                }
            } else if !self.is_blank(line) && !self.is_comment(line) {
                between += 1;
                alike += u32::from(judge.looks_whole(line));
            }
            if is_last {
                return (alike * 2 >= between).then_some(alike + 2);
            }
            at = next;
        }
        None
    }

    fn is_comment(&self, line: &[u8]) -> bool {
        self.comment.is_some_and(|start| line.starts_with(start))
    }
}
