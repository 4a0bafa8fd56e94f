//! Encodings of several bytes a character that are decoded before a file is split: those of the
//! WHATWG Encoding Standard, and UTF-32, which it does not have.

use encoding_rs::{Decoder, DecoderResult, Encoding, ISO_2022_JP};

/// An encoding of several bytes a character.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Coding {
    /// One of the WHATWG Encoding Standard.
    Standard(&'static Encoding),
    /// Four bytes a character (the Unicode Standard, section 3.10, D99 to D101).
    Utf32 {
        /// Whether the most significant byte comes first.
        big: bool,
    },
}

/// UTF-32 by its labels. Without a word for the order of bytes it is little-endian, as the
/// labels of UTF-16 are in the Encoding Standard.
const LABELS: [(&str, bool); 3] = [("utf-32", false), ("utf-32le", false), ("utf-32be", true)];

/// The marks that a file in UTF-32 may begin with: U+FEFF in four bytes.
const MARKS: [([u8; 4], bool); 2] = [([0xFF, 0xFE, 0, 0], false), ([0, 0, 0xFE, 0xFF], true)];

impl Coding {
    /// UTF-32, where a label means it.
    pub fn of_label(label: &str) -> Option<Coding> {
        let found = LABELS.iter().find(|(known, _)| *known == label);
        found.map(|(_, big)| Coding::Utf32 { big: *big })
    }

    /// The byte order mark of UTF-32 that some bytes start with.
    pub fn of_mark(first: &[u8]) -> Option<Coding> {
        let found = MARKS.iter().find(|(mark, _)| first.starts_with(mark));
        found.map(|(_, big)| Coding::Utf32 { big: *big })
    }

    /// Its name for people.
    pub fn name(self) -> &'static str {
        match self {
            Coding::Standard(encoding) => encoding.name(),
            Coding::Utf32 { big: false } => "UTF-32LE",
            Coding::Utf32 { big: true } => "UTF-32BE",
        }
    }

    /// Whether what bytes mean depends on an escape sequence before them.
    pub fn has_state(self) -> bool {
        self == Coding::Standard(ISO_2022_JP)
    }

    /// A decoder, at the start of a text and after its byte order mark.
    pub fn decoder(self) -> CodingDecoder {
        match self {
            Coding::Standard(encoding) => {
                CodingDecoder::Standard(encoding.new_decoder_without_bom_handling())
            }
            Coding::Utf32 { big } => CodingDecoder::Utf32(Utf32 {
                big,
                unit: [0; 4],
                held: 0,
            }),
        }
    }

    /// Bytes as text, whatever of them does not decode.
    pub fn text(self, raw: &[u8]) -> String {
        match self {
            Coding::Standard(encoding) => encoding.decode(raw).0.into_owned(),
            Coding::Utf32 { big } => {
                let units = raw.chunks(4).map(|unit| character(unit, big));
                let text: String = units.map(|c| c.unwrap_or('\u{FFFD}')).collect();
                text.strip_prefix('\u{FEFF}').unwrap_or(&text).to_string()
            }
        }
    }
}

/// The character of four bytes; none for fewer, for surrogates, and beyond U+10FFFF.
fn character(unit: &[u8], big: bool) -> Option<char> {
    let unit: [u8; 4] = unit.try_into().ok()?;
    char::from_u32(match big {
        true => u32::from_be_bytes(unit),
        false => u32::from_le_bytes(unit),
    })
}

/// What decodes bytes as they come.
pub enum CodingDecoder {
    /// By the Encoding Standard.
    Standard(Decoder),
    /// By four bytes.
    Utf32(Utf32),
}

/// Four bytes a character, of which some may be still to come.
pub struct Utf32 {
    big: bool,
    unit: [u8; 4],
    held: usize,
}

impl CodingDecoder {
    /// Decodes into `out`, up to the first bytes that mean nothing; returns why it stopped, and
    /// how many bytes were read and written. `last` says that none follow.
    pub fn decode(
        &mut self,
        input: &[u8],
        out: &mut [u8],
        last: bool,
    ) -> (DecoderResult, usize, usize) {
        match self {
            CodingDecoder::Standard(decoder) => {
                decoder.decode_to_utf8_without_replacement(input, out, last)
            }
            CodingDecoder::Utf32(units) => units.decode(input, out, last),
        }
    }
}

impl Utf32 {
    fn decode(
        &mut self,
        input: &[u8],
        out: &mut [u8],
        last: bool,
    ) -> (DecoderResult, usize, usize) {
        let (mut read, mut written) = (0, 0);
        while read < input.len() {
            // A character takes four bytes of UTF-8 at most.
            if out.len() - written < 4 {
                return (DecoderResult::OutputFull, read, written);
            }
            let more = (4 - self.held).min(input.len() - read);
            self.unit[self.held..self.held + more].copy_from_slice(&input[read..read + more]);
            self.held += more;
            read += more;
            if self.held < 4 {
                break;
            }
            self.held = 0;
            match character(&self.unit, self.big) {
                Some(c) => written += c.encode_utf8(&mut out[written..]).len(),
                None => return (DecoderResult::Malformed(4, 0), read, written),
            }
        }
        match (last, std::mem::take(&mut self.held)) {
            (true, held @ 1..) => (DecoderResult::Malformed(held as u8, 0), read, written),
            (_, held) => {
                self.held = held;
                (DecoderResult::InputEmpty, read, written)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(text: &str, big: bool) -> Vec<u8> {
        let units = text.chars().map(u32::from);
        units
            .flat_map(|unit| match big {
                true => unit.to_be_bytes(),
                false => unit.to_le_bytes(),
            })
            .collect()
    }

    /// What pieces of a text come to, with `?` for what does not decode.
    fn decoded(raw: &[u8], piece: usize, room: usize, big: bool) -> String {
        let mut decoder = Coding::Utf32 { big }.decoder();
        let mut text = String::new();
        let mut pieces = raw.chunks(piece).peekable();
        while let Some(mut piece) = pieces.next() {
            loop {
                let mut out = vec![0; room];
                let last = pieces.peek().is_none();
                let (result, read, written) = decoder.decode(piece, &mut out, last);
                text += std::str::from_utf8(&out[..written]).expect("text");
                piece = &piece[read..];
                match result {
                    DecoderResult::InputEmpty => break,
                    DecoderResult::OutputFull => {}
                    DecoderResult::Malformed(..) => text.push('?'),
                }
            }
        }
        text
    }

    #[test]
    fn characters_come_whole_however_the_bytes_come() {
        let text = "kale, é, ポテ, \u{1F955}\n";
        for big in [false, true] {
            let raw = written(text, big);
            for (piece, room) in [(1, 4), (3, 5), (7, 16), (4, 64), (1000, 1000)] {
                assert_eq!(decoded(&raw, piece, room, big), text, "{piece} {room}");
            }
            assert_eq!(Coding::Utf32 { big }.text(&raw), text);
        }
    }

    #[test]
    fn what_is_no_character_is_told_and_the_next_one_is_read() {
        // A surrogate, and a number beyond the last character.
        for unit in [0xD800_u32, 0x0011_0000] {
            let mut raw = written("a", false);
            raw.extend(unit.to_le_bytes());
            raw.extend(written("b", false));
            for piece in [1, 3, 4, 100] {
                assert_eq!(decoded(&raw, piece, 16, false), "a?b");
            }
        }
        assert_eq!(decoded(b"a\0\0\0b\0", 3, 16, false), "a?");
    }

    #[test]
    fn labels_and_marks() {
        assert_eq!(
            Coding::of_label("utf-32be").map(Coding::name),
            Some("UTF-32BE")
        );
        assert_eq!(Coding::of_label("utf-16le"), None);
        assert_eq!(
            Coding::of_mark(b"\xFF\xFE\0\0a").map(Coding::name),
            Some("UTF-32LE")
        );
        assert_eq!(Coding::of_mark(b"\xFF\xFEa\0"), None);
    }
}
