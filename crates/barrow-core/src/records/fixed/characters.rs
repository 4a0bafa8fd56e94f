//! Widths that count characters of UTF-8.

use crate::utf8::starts_character;

/// How many bytes the first `count` characters of UTF-8 take, if all are there.
pub fn place_of(text: &[u8], count: usize) -> Option<usize> {
    let starts = || borders(text);
    match starts().nth(count) {
        Some(at) => Some(at),
        None => (starts().count() == count)
            .then_some(text.len())
            .filter(|_| text.last().is_none_or(u8::is_ascii)),
    }
}

/// Where each character of UTF-8 starts, 0-based. The first byte starts one, also where
/// it continues none: every byte belongs to a character, and nothing is lost.
pub fn borders(text: &[u8]) -> impl Iterator<Item = usize> + '_ {
    let starts = |at: &usize| *at == 0 || starts_character(text[*at]);
    (0..text.len()).filter(starts)
}
