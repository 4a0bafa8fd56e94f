//! Characters of UTF-8 text, counted without decoding it.

/// Whether a byte is a character's first one. The others continue a character: their two
/// highest bits are `10` (RFC 3629, section 3).
///
/// ```
/// use barrow_core::utf8::starts_character;
/// assert!(starts_character("é".as_bytes()[0]));
/// assert!(!starts_character("é".as_bytes()[1]));
/// ```
#[inline]
pub fn starts_character(byte: u8) -> bool {
    (byte as i8) >= -0x40
}

/// How many characters UTF-8 text has. Of bytes that are no UTF-8 it is the number of
/// those that would start a character.
///
/// ```
/// use barrow_core::utf8::count_characters;
/// assert_eq!(count_characters("Grüße €".as_bytes()), 7);
/// ```
#[inline]
pub fn count_characters(text: &[u8]) -> usize {
    text.iter().filter(|byte| starts_character(**byte)).count()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_text_has_as_many_characters_as_the_standard_library_counts(text: String) {
            prop_assert_eq!(count_characters(text.as_bytes()), text.chars().count());
        }
    }
}
