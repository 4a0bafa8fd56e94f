//! What a field or a record came to.

use crate::records::ending::{Ending, Found};

/// A record's end as the careful look finds it.
pub(super) enum Careful {
    /// Its text stops, the next record starts, so many line ends are inside it.
    Record {
        end: usize,
        next: usize,
        inner_lines: u32,
    },
    /// The first line opens a quote that nothing closes.
    Unclosed,
    /// A quote is not closed within the longest record.
    Beyond,
    /// The bytes read so far do not tell.
    Unknown,
}

/// What comes next outside quotes.
pub(super) enum Unquoted {
    /// The record's end.
    End(usize, usize),
    /// A quote opens; its text starts here.
    Opens(usize),
    /// The bytes read so far do not tell.
    Unknown,
}

/// How a quoted field ends.
pub(super) enum Quoted {
    /// It is closed, and goes on here.
    Closed { after: usize },
    /// Nothing closes it.
    Unclosed,
    /// Nothing closes it within the longest record.
    Beyond,
    /// The bytes read so far do not tell.
    Unknown,
}

/// How many line ends stand between two places.
pub(super) fn count_lines<E: Ending>(
    ending: &E,
    bytes: &[u8],
    from: usize,
    to: usize,
    whole: bool,
) -> u32 {
    let mut count = 0;
    let mut at = from;
    while let Some(i) = memchr::memchr(ending.first(), &bytes[at..to]) {
        let here = at + i;
        match ending.at(bytes, from, here, whole) {
            Found::End(_, next) => {
                count += 1;
                at = next.min(to);
            }
            _ => at = here + 1,
        }
    }
    count
}
