//! Finds where records end, with quotes in mind.
//!
//! A quote opens a field only where the field starts (RFC 4180, section 2,
//! rules 5 to 7); elsewhere it is ordinary text. So the scan jumps from quote to
//! quote and need not look at delimiters.
//!
//! A quote that nothing closes costs one line. It is known by one of: no closing quote by
//! the file's end; text after the closing quote although the field has run over a line end
//! (then the quote that "closed" it belongs to a later record); or no closing quote within
//! `max_record_size` bytes, all of whose lines look like records ([`super::judge`]).
//!
//! What is well-formed is one record, however long, and no part of it is ever read as
//! another ([`rest`]): it is believed, or it is doubtful and rejected whole.

mod doubt;
mod outcome;
mod rest;

pub use self::rest::Rest;

use self::outcome::{Careful, Quoted, Unquoted, count_lines};
use super::judge::Judge;
use crate::format::{DelimitedFormat, Escape, LONGEST_MARK};
use crate::records::ending::{Ending, Found, line_end};
use crate::records::json::array_marks::ArrayMarks;
use crate::records::mark::{Mark, State};

/// How many bytes past a place the scan wants to see before it judges the place:
/// more than the longest delimiter, quote or record end ([`LONGEST_MARK`]). So a
/// judgement never depends on where a block happens to end.
pub(super) const SIGHT: usize = 2 * LONGEST_MARK;

/// What is fixed for a file's scan.
#[derive(Debug)]
pub struct Scan<'p> {
    /// Quotes, escapes, delimiters.
    pub delimited: &'p DelimitedFormat,
    /// Lines that start so are comments.
    pub comment: Option<&'p [u8]>,
    /// Whether a blank line is a record (to be rejected) or left out.
    pub keep_blank: bool,
    /// The longest record, in bytes.
    pub longest: usize,
    /// No more marks than these are made at a time.
    pub most: usize,
    /// Tells lines that look like records, where quotes may be stray.
    pub judge: Option<Judge<'p>>,
    /// How many fields a record has, where that is known.
    pub fields: Option<usize>,
    /// Whether a record with too few fields is joined to the next lines.
    pub join: bool,
    /// The byte of a space.
    pub space: u8,
    /// Whether the widths of records without an end count characters.
    pub by_characters: bool,
}

/// Where a scan has got to.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub struct Progress {
    /// The byte at which the next record starts.
    pub at: usize,
    /// The line at which it starts, from the start of the bytes, 0-based.
    pub line: u32,
    /// Whether it is the rest of a record that is too long.
    pub too_long: bool,
    /// Where in that record it is, if its fields may be quoted.
    pub rest: Rest,
    /// What stands between the objects of an array.
    pub array: ArrayMarks,
    /// Whether it is the rest of a comment whose end was not in sight.
    pub in_comment: bool,
    /// Comment lines passed.
    pub comments: u64,
    /// Blank lines passed.
    pub blank: u64,
}

impl Scan<'_> {
    /// Marks every record that `bytes` holds whole, from `progress` on. `whole`
    /// says that no bytes will follow. What is not marked stays for the next call.
    pub fn run<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        whole: bool,
        progress: &mut Progress,
        marks: &mut Vec<Mark>,
    ) {
        let quote = self.delimited.quote.first().copied();
        let escape = match &self.delimited.escape {
            Escape::With(text) => text.first().copied(),
            Escape::Doubled => None,
        };
        while progress.at < bytes.len() && marks.len() < self.most {
            let start = progress.at;
            let rest = &bytes[start..];
            let is_comment = self.comment.is_some_and(|c| rest.starts_with(c));
            if progress.in_comment || (is_comment && !progress.too_long) {
                match self.pass_comment(ending, bytes, whole, progress) {
                    true => continue,
                    false => return,
                }
            }
            let first = match (quote, escape) {
                (Some(q), Some(e)) => memchr::memchr3(ending.first(), q, e, rest),
                (Some(q), None) => memchr::memchr2(ending.first(), q, rest),
                (None, Some(e)) => memchr::memchr2(ending.first(), e, rest),
                (None, None) => memchr::memchr(ending.first(), rest),
            };
            let plain = match first {
                Some(i) if rest[i] == ending.first() => ending.at(bytes, start, start + i, whole),
                Some(_) => Found::Text,
                None if whole => Found::End(bytes.len(), bytes.len()),
                None => Found::Unknown,
            };
            let done = match plain {
                Found::End(end, next)
                    if self.join && !progress.too_long && self.is_short(&bytes[start..end]) =>
                {
                    self.join(ending, bytes, (end, next, 1), whole, progress, marks)
                }
                Found::End(end, next) if end - start <= self.longest && !progress.too_long => {
                    let mark = Mark::new(start..end, next, progress.line, State::Plain);
                    self.mark(bytes, mark, progress, marks);
                    true
                }
                _ if progress.too_long => self.pass_rest(ending, bytes, whole, progress, marks),
                _ => self.careful(ending, bytes, whole, progress, marks),
            };
            if !done {
                return;
            }
        }
    }

    /// Goes past a comment, however long it is. False where its end is not in sight.
    fn pass_comment<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        whole: bool,
        progress: &mut Progress,
    ) -> bool {
        match line_end(ending, bytes, progress.at, whole) {
            Found::End(_, next) => {
                progress.at = next;
                progress.line += 1;
                progress.comments += 1;
                progress.in_comment = false;
                true
            }
            _ if bytes.len() - progress.at <= self.longest + SIGHT => false,
            // An end of several bytes may be cut in two here: leave it whole.
            _ => {
                progress.at = bytes.len() - LONGEST_MARK;
                progress.in_comment = true;
                false
            }
        }
    }

    /// Marks a record that is a line, unless it is blank.
    #[inline]
    fn mark(&self, bytes: &[u8], mark: Mark, progress: &mut Progress, marks: &mut Vec<Mark>) {
        progress.at = mark.next as usize;
        progress.line += 1;
        let text = &bytes[mark.range()];
        if text.first().is_none_or(|b| *b == self.space) && self.is_blank(text) {
            if self.keep_blank {
                marks.push(Mark {
                    state: State::Blank,
                    ..mark
                });
            } else {
                progress.blank += 1;
            }
            return;
        }
        marks.push(mark);
    }

    /// Whether a line is nothing or nothing but blanks.
    pub(super) fn is_blank(&self, text: &[u8]) -> bool {
        text.iter().all(|b| *b == self.space)
            && (text.is_empty() || self.delimited.delimiter != [self.space])
    }

    /// Marks a record that holds a quote or an escape, or that is too long.
    /// False where the bytes read so far do not tell.
    fn careful<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        whole: bool,
        progress: &mut Progress,
        marks: &mut Vec<Mark>,
    ) -> bool {
        let start = progress.at;
        let found = match self.delimited.span_lines {
            true => self.record(ending, bytes, start, whole),
            false => self.line_alone(ending, bytes, start, whole),
        };
        let (end, next, lines, state) = match found {
            Careful::Record {
                end,
                next,
                inner_lines,
            } if end - start <= self.longest => {
                let state = match inner_lines {
                    0 => State::Quoted,
                    _ => self.state_of_lines(ending, bytes, start..end, whole),
                };
                (end, next, inner_lines + 1, state)
            }
            Careful::Unclosed => match line_end(ending, bytes, start, whole) {
                Found::End(end, next) if end - start <= self.longest => {
                    (end, next, 1, State::Unclosed)
                }
                _ => return self.too_long(ending, bytes, whole, progress, marks),
            },
            Careful::Beyond if self.is_stray(ending, bytes, start, whole) => {
                match line_end(ending, bytes, start, whole) {
                    Found::End(end, next) => (end, next, 1, State::Unclosed),
                    _ => return false,
                }
            }
            _ => return self.too_long(ending, bytes, whole, progress, marks),
        };
        if self.join && state == State::Quoted && self.is_short(&bytes[start..end]) {
            return self.join(ending, bytes, (end, next, lines), whole, progress, marks);
        }
        marks.push(Mark::new(start..end, next, progress.line, state));
        progress.at = next;
        progress.line += lines;
        true
    }

    /// The record at `start` where every record is one line.
    fn line_alone<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        start: usize,
        whole: bool,
    ) -> Careful {
        let Found::End(end, next) = line_end(ending, bytes, start, whole) else {
            return Careful::Unknown;
        };
        match self.record(ending, &bytes[..end], start, true) {
            Careful::Unclosed if end - start <= self.longest => Careful::Unclosed,
            _ => Careful::Record {
                end,
                next,
                inner_lines: 0,
            },
        }
    }

    /// The end of the record at `start`, quotes in mind.
    fn record<E: Ending>(&self, ending: &E, bytes: &[u8], start: usize, whole: bool) -> Careful {
        let mut at = start;
        loop {
            match self.unquoted(ending, bytes, start, at, whole) {
                Unquoted::End(end, next) => {
                    let inner_lines = count_lines(ending, bytes, start, end, whole);
                    return Careful::Record {
                        end,
                        next,
                        inner_lines,
                    };
                }
                Unquoted::Unknown => return Careful::Unknown,
                Unquoted::Opens(inside) => match self.quoted(ending, bytes, start, inside, whole) {
                    Quoted::Closed { after } => at = after,
                    Quoted::Unclosed => return Careful::Unclosed,
                    Quoted::Beyond => return Careful::Beyond,
                    Quoted::Unknown => return Careful::Unknown,
                },
            }
        }
    }

    /// Goes on outside quotes from `at`, to the record's end or an opening quote.
    fn unquoted<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        start: usize,
        mut at: usize,
        whole: bool,
    ) -> Unquoted {
        let quote = &self.delimited.quote;
        let escape = self.delimited.escape_text();
        // No delimiter is looked for before this place: what stands there is
        // escaped, or ended by a quote.
        let mut floor = at;
        loop {
            let rest = &bytes[at..];
            let end = ending.first();
            let found = match (quote.first(), escape.first()) {
                (Some(q), Some(e)) => memchr::memchr3(end, *q, *e, rest),
                (Some(b), None) | (None, Some(b)) => memchr::memchr2(end, *b, rest),
                (None, None) => memchr::memchr(end, rest),
            };
            let Some(i) = found else {
                return if whole {
                    Unquoted::End(bytes.len(), bytes.len())
                } else {
                    Unquoted::Unknown
                };
            };
            let here = at + i;
            let text = &bytes[here..];
            if !escape.is_empty() && text.starts_with(escape) {
                match self.escaped(ending, bytes, start, here + escape.len(), whole) {
                    Some(after) => (at, floor) = (after, after),
                    None => return Unquoted::Unknown,
                }
            } else if text[0] == end {
                match ending.at(bytes, start, here, whole) {
                    Found::End(end, next) => return Unquoted::End(end, next),
                    Found::Unknown => return Unquoted::Unknown,
                    Found::Text => at = here + 1,
                }
            } else if !quote.is_empty() && text.starts_with(quote) {
                let opens = here == start || self.delimited.starts_field(bytes, floor, here);
                at = here + quote.len();
                floor = at;
                if opens {
                    return Unquoted::Opens(at);
                }
            } else {
                at = here + 1;
            }
        }
    }

    /// The place after an escape at `at - escape.len()` and what it escapes.
    /// `None` where the bytes read so far do not tell.
    fn escaped<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        start: usize,
        at: usize,
        whole: bool,
    ) -> Option<usize> {
        if !whole && bytes.len() - at < SIGHT {
            return None;
        }
        let rest = &bytes[at..];
        if rest.first() == Some(&ending.first())
            && let Found::End(_, next) = ending.at(bytes, start, at, whole)
        {
            return Some(next);
        }
        if rest.starts_with(b"\r\n") && ending.first() == b'\n' {
            return Some(at + 2);
        }
        Some(at + self.delimited.escapable(rest))
    }

    /// Goes on inside quotes from `at`, past the closing one.
    fn quoted<E: Ending>(
        &self,
        ending: &E,
        bytes: &[u8],
        start: usize,
        inside: usize,
        whole: bool,
    ) -> Quoted {
        let quote = self.delimited.quote.as_slice();
        let escape = self.delimited.escape_text();
        let mut at = inside;
        let out_of_sight = |at: usize| {
            if at - start > self.longest {
                Quoted::Beyond
            } else if whole {
                Quoted::Unclosed
            } else {
                Quoted::Unknown
            }
        };
        loop {
            let rest = &bytes[at..];
            let found = match escape.first() {
                Some(e) => memchr::memchr2(quote[0], *e, rest),
                None => memchr::memchr(quote[0], rest),
            };
            let Some(i) = found else {
                return out_of_sight(bytes.len());
            };
            let here = at + i;
            if here - start > self.longest {
                return Quoted::Beyond;
            }
            let text = &bytes[here..];
            if !escape.is_empty() && text.starts_with(escape) {
                match self.escaped(ending, bytes, start, here + escape.len(), whole) {
                    Some(after) => at = after,
                    None => return Quoted::Unknown,
                }
                continue;
            }
            if !text.starts_with(quote) {
                at = here + 1;
                continue;
            }
            let after = here + quote.len();
            let follows = &bytes[after..];
            if follows.len() < SIGHT && !whole {
                return Quoted::Unknown;
            }
            if escape.is_empty() && follows.starts_with(quote) {
                at = after + quote.len();
                continue;
            }
            let closes = follows.is_empty()
                || follows.starts_with(&self.delimited.delimiter)
                || (follows[0] == ending.first()
                    && ending.at(bytes, start, after, whole) != Found::Text)
                || (ending.first() == b'\n' && follows.starts_with(b"\r\n"));
            // The quote that closes this field belongs to a later record.
            if !closes && count_lines(ending, bytes, inside, here, whole) > 0 {
                return Quoted::Unclosed;
            }
            return Quoted::Closed { after };
        }
    }
}
