//! From a record's bytes to its fields.

use crate::format::DelimitedFormat;
use crate::records::mark::Mark;
use crate::records::span::Span;

/// Splits a record and adds its fields to `fields`.
///
/// # Errors
/// The place in `fields` of the first field that has text after its closing
/// quote. All fields are there all the same; such a one keeps its quotes.
#[inline]
pub fn split(
    plan: &DelimitedFormat,
    bytes: &[u8],
    mark: &Mark,
    fields: &mut Vec<Span>,
) -> Result<(), usize> {
    split_range(plan, bytes, mark.range(), fields)
}

/// The same for a record that stands at `range` of `bytes`.
///
/// # Errors
/// As [`split`].
#[inline]
pub fn split_range(
    plan: &DelimitedFormat,
    bytes: &[u8],
    range: std::ops::Range<usize>,
    fields: &mut Vec<Span>,
) -> Result<(), usize> {
    let before = fields.len();
    careful(plan, bytes, range, |span| fields.push(span)).map_err(|bad| before + bad)
}

/// Splits a record without quotes or escapes at each `delimiter`, and adds its
/// fields to `fields`. False, and nothing is added, unless there are `wanted`.
#[inline]
pub fn exactly(
    delimiter: u8,
    bytes: &[u8],
    mark: &Mark,
    wanted: usize,
    fields: &mut Vec<Span>,
) -> bool {
    let (start, end) = (mark.start as usize, mark.end as usize);
    let before = fields.len();
    fields.resize(before + wanted, Span::MISSING);
    let mut slots = fields[before..].iter_mut();
    let mut from = start;
    let mut fits = true;
    let mut cut = |at: usize| {
        match slots.next() {
            Some(slot) => *slot = Span::plain(from, at),
            None => fits = false,
        }
        from = at + 1;
    };
    let (words, rest) = bytes[start..end].as_chunks::<8>();
    for (number, word) in words.iter().enumerate() {
        let mut found = places(*word, delimiter);
        while found != 0 {
            cut(start + number * 8 + found.trailing_zeros() as usize / 8);
            found &= found - 1;
        }
    }
    for (number, byte) in rest.iter().enumerate() {
        if *byte == delimiter {
            cut(start + words.len() * 8 + number);
        }
    }
    match slots.next() {
        Some(last) => *last = Span::plain(from, end),
        None => fits = false,
    }
    fits &= slots.next().is_none();
    if !fits {
        fields.truncate(before);
    }
    fits
}

/// The highest bit of each of eight bytes, the first one lowest, that is `wanted`.
///
/// A byte less itself is zero; added to 0x7F, any other seven bits carry into the
/// eighth (Warren, Hacker's Delight, 6-1). Fields are mostly shorter than what a
/// search by SIMD needs to get going: typing the bench file took 1.05 times as long
/// with one, the median of fifteen pairs.
#[inline]
fn places(bytes: [u8; 8], wanted: u8) -> u64 {
    const LOW: u64 = 0x7F7F_7F7F_7F7F_7F7F;
    let differs = u64::from_le_bytes(bytes) ^ u64::from_le_bytes([wanted; 8]);
    !(((differs & LOW) + LOW) | differs | LOW)
}

/// How many fields a record's text has.
///
/// # Errors
/// The number, from 0, of the first field that has text after its closing quote,
/// or no closing quote.
pub fn count(plan: &DelimitedFormat, text: &[u8]) -> Result<usize, usize> {
    let mut count = 0;
    careful(plan, text, 0..text.len(), |_| count += 1)?;
    Ok(count)
}

/// Gives each field of the record at `range`.
fn careful(
    plan: &DelimitedFormat,
    bytes: &[u8],
    range: std::ops::Range<usize>,
    mut give: impl FnMut(Span),
) -> Result<(), usize> {
    let end = range.end;
    let bytes = &bytes[..end];
    let mut result: Result<(), usize> = Ok(());
    let mut at = range.start;
    for number in 0.. {
        let quoted = starts_with(&bytes[at..], &plan.quote);
        let stop = if quoted {
            let inside = at + plan.quote.len();
            let (close, escaped) = closing(plan, bytes, inside);
            let after = close.map_or(end, |close| close + plan.quote.len());
            let field = Span::plain(inside, close.unwrap_or(end)).with(true, escaped);
            if close.is_some() && (after == end || starts_with(&bytes[after..], &plan.delimiter)) {
                give(field);
                after
            } else {
                let (stop, _) = delimiter(plan, bytes, after);
                result = result.and(Err(number));
                give(Span::plain(at, stop));
                stop
            }
        } else {
            let (stop, escaped) = delimiter(plan, bytes, at);
            give(Span::plain(at, stop).with(false, escaped));
            stop
        };
        if stop == end {
            break;
        }
        at = plan.field_start(bytes, stop + plan.delimiter.len());
    }
    result
}

/// Where the next delimiter starts (or the record ends), and whether an escape
/// was passed.
fn delimiter(plan: &DelimitedFormat, bytes: &[u8], from: usize) -> (usize, bool) {
    let escape = plan.escape_text();
    let mut at = from;
    let mut escaped = false;
    loop {
        let next = find(&bytes[at..], &plan.delimiter).map(|i| at + i);
        let stop = next.unwrap_or(bytes.len());
        if escape.is_empty() {
            return (stop, false);
        }
        match find(&bytes[at..stop], escape) {
            None => return (stop, escaped),
            Some(i) => {
                let after = at + i + escape.len();
                let length = escaped_length(plan, &bytes[after..]);
                escaped |= length > 0;
                at = after + length;
            }
        }
    }
}

/// Where the quote that closes a field starts, and whether an escape was passed.
fn closing(plan: &DelimitedFormat, bytes: &[u8], inside: usize) -> (Option<usize>, bool) {
    let quote = plan.quote.as_slice();
    let escape = plan.escape_text();
    let mut at = inside;
    let mut escaped = false;
    loop {
        let Some(i) = find(&bytes[at..], quote) else {
            return (None, escaped);
        };
        let here = at + i;
        if escape.is_empty() {
            let after = here + quote.len();
            if !starts_with(&bytes[after..], quote) {
                return (Some(here), escaped);
            }
            escaped = true;
            at = after + quote.len();
            continue;
        }
        match find(&bytes[at..here], escape) {
            None => return (Some(here), escaped),
            Some(i) => {
                let after = at + i + escape.len();
                let length = escaped_length(plan, &bytes[after..]);
                escaped |= length > 0;
                at = after + length;
            }
        }
    }
}

/// Whether `text` starts with `mark`. An empty mark is nowhere.
#[inline]
fn starts_with(text: &[u8], mark: &[u8]) -> bool {
    match mark {
        [byte] => text.first() == Some(byte),
        _ => !mark.is_empty() && text.starts_with(mark),
    }
}

/// Where `mark` first stands in `text`. Most marks are one byte.
#[inline]
fn find(text: &[u8], mark: &[u8]) -> Option<usize> {
    match mark {
        [byte] => memchr::memchr(*byte, text),
        _ => memchr::memmem::find(text, mark),
    }
}

/// How many bytes after an escape it makes ordinary: a delimiter, a quote, an
/// escape, or a line end.
fn escaped_length(plan: &DelimitedFormat, rest: &[u8]) -> usize {
    match plan.escapable(rest) {
        0 if rest.starts_with(b"\r\n") => 2,
        0 if rest.starts_with(b"\n") || rest.starts_with(b"\r") => 1,
        length => length,
    }
}

/// Writes a field's text without its escapes.
pub fn unescape(plan: &DelimitedFormat, quoted: bool, field: &[u8], out: &mut Vec<u8>) {
    let doubled = plan.escape_text().is_empty();
    let escape = if doubled {
        plan.quote.as_slice()
    } else {
        plan.escape_text()
    };
    if escape.is_empty() || (doubled && !quoted) {
        out.extend_from_slice(field);
        return;
    }
    let mut at = 0;
    while let Some(i) = find(&field[at..], escape) {
        let after = at + i + escape.len();
        let length = if doubled {
            plan.quote.len().min(field.len() - after)
        } else {
            escaped_length(plan, &field[after..])
        };
        let literal = if length == 0 { after } else { at + i };
        out.extend_from_slice(&field[at..literal]);
        out.extend_from_slice(&field[after..after + length]);
        at = after + length;
    }
    out.extend_from_slice(&field[at..]);
}
