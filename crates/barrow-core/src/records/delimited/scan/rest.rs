//! Records that are too long to be held: passed over to their end, quotes in mind.

use super::{Progress, SIGHT, Scan};
use crate::records::ending::{Ending, Found};
use crate::records::mark::{Mark, State};

/// Where in a record that is too long its next byte is.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub enum Rest {
    /// Where a field may start.
    #[default]
    FieldStart,
    /// In a field without quotes, or behind a closing quote.
    Field,
    /// Inside quotes.
    Quoted,
}

/// How far a step went.
enum Step {
    /// On to this place.
    On(usize, Rest),
    /// To the record's end.
    End(usize, usize),
    /// Nowhere: what follows must be seen first.
    Unknown,
}

impl Scan<'_> {
    /// A record whose end is not in sight within `max_record_size`: what there is of it is
    /// marked, and the rest of it after that.
    pub(super) fn too_long<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        whole: bool,
        progress: &mut Progress,
        marks: &mut Vec<Mark>,
    ) -> bool {
        // An escape or a quote at the end of sight takes another look.
        if bytes.len() - progress.at <= self.longest + 2 * SIGHT && !whole {
            return false;
        }
        progress.rest = Rest::FieldStart;
        self.pass(ending, bytes, whole, State::TooLong, progress, marks)
    }

    /// Goes on with the rest of such a record.
    pub(super) fn pass_rest<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        whole: bool,
        progress: &mut Progress,
        marks: &mut Vec<Mark>,
    ) -> bool {
        self.pass(ending, bytes, whole, State::TooLongRest, progress, marks)
    }

    fn pass<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        whole: bool,
        state: State,
        progress: &mut Progress,
        marks: &mut Vec<Mark>,
    ) -> bool {
        let start = progress.at;
        let (mut at, mut rest) = (start, progress.rest);
        let (end, next, done) = loop {
            if at == bytes.len() {
                break (at, at, whole);
            }
            match self.step(ending, bytes, start, (at, rest), whole) {
                Step::On(to, then) => (at, rest) = (to, then),
                Step::End(end, next) => break (end, next, true),
                Step::Unknown => break (at, at, false),
            }
        };
        if next == start {
            return false;
        }
        let lines = super::count_lines(ending, bytes, start, next, whole);
        marks.push(Mark::new(start..end, next, progress.line, state));
        progress.at = next;
        progress.rest = rest;
        progress.too_long = !done;
        progress.line += lines + u32::from(done && end == next);
        true
    }

    /// One step within a record: past a field's start, past an escape, a quote or a
    /// delimiter, or to the next one of these.
    fn step<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        start: usize,
        (at, rest): (usize, Rest),
        whole: bool,
    ) -> Step {
        let quote = self.delimited.quote.as_slice();
        let escape = self.delimited.escape_text();
        let delimiter = self.delimited.delimiter.as_slice();
        let text = &bytes[at..];
        if text.len() < SIGHT && !whole {
            return Step::Unknown;
        }
        let starts = |mark: &[u8]| !mark.is_empty() && text.starts_with(mark);
        if rest == Rest::FieldStart {
            if starts(&self.delimited.space) {
                return Step::On(at + 1, Rest::FieldStart);
            }
            if starts(quote) && self.delimited.span_lines {
                return Step::On(at + quote.len(), Rest::Quoted);
            }
        }
        if starts(escape) && (rest == Rest::Quoted || self.delimited.span_lines) {
            let after = self.escaped(ending, bytes, start, at + escape.len(), whole);
            let then = match rest {
                Rest::Quoted => Rest::Quoted,
                _ => Rest::Field,
            };
            return after.map_or(Step::Unknown, |after| Step::On(after, then));
        }
        if rest == Rest::Quoted {
            if starts(quote) {
                let after = at + quote.len();
                let is_doubled = escape.is_empty() && bytes[after..].starts_with(quote);
                return match is_doubled {
                    true => Step::On(after + quote.len(), Rest::Quoted),
                    false => Step::On(after, Rest::Field),
                };
            }
            return Step::On(at + self.quiet(text, [quote, escape, &[]]), rest);
        }
        if text[0] == ending.first() {
            match ending.at(bytes, start, at, whole) {
                Found::End(end, next) => return Step::End(end, next),
                Found::Unknown => return Step::Unknown,
                Found::Text => {}
            }
        }
        if starts(delimiter) {
            return Step::On(at + delimiter.len(), Rest::FieldStart);
        }
        let first = [ending.first()];
        Step::On(
            at + self.quiet(text, [delimiter, escape, &first]),
            Rest::Field,
        )
    }

    /// How many bytes from the first on mean nothing, at least that one: none of `marks`
    /// starts in them.
    fn quiet(&self, text: &[u8], marks: [&[u8]; 3]) -> usize {
        let rest = &text[1..];
        let found = match marks.map(|mark| mark.first().copied()) {
            [Some(a), Some(b), Some(c)] => memchr::memchr3(a, b, c, rest),
            [Some(a), Some(b), None] | [Some(a), None, Some(b)] => memchr::memchr2(a, b, rest),
            [Some(a), None, None] => memchr::memchr(a, rest),
            // Nothing sets fields apart: only the end counts.
            [None, b, c] => rest
                .iter()
                .position(|byte| b == Some(*byte) || c == Some(*byte)),
        };
        found.unwrap_or(rest.len()) + 1
    }
}
