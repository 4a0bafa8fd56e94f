//! Text as a file's encoding writes it: the way back of [`crate::source::Charset`].

use std::collections::HashMap;

use encoding_rs::{EncoderResult, Encoding, UTF_16BE, UTF_16LE};

use crate::source::Charset;
use crate::source::coding::Coding;

/// Writes text in an encoding.
pub struct Encode {
    way: Way,
    /// What stands in for a character that the encoding lacks, if anything.
    stand_in: Option<String>,
}

enum Way {
    /// UTF-8 is written as it is.
    AsItIs,
    /// A byte for each character.
    Single {
        bytes: HashMap<char, u8>,
        ascii: bool,
    },
    /// Two bytes or four for each.
    Utf16 { big: bool },
    /// Four bytes for each.
    Utf32 { big: bool },
    /// By the standard's own encoder.
    Several(&'static Encoding),
}

/// A character that the encoding lacks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lacking(pub char);

impl Encode {
    /// For files in `charset`.
    pub fn new(charset: &Charset, stand_in: Option<String>) -> Encode {
        let way = match charset {
            Charset::Utf8 => Way::AsItIs,
            Charset::Single(single) => Way::Single {
                bytes: single.characters().collect(),
                ascii: charset.reads_as_ascii(),
            },
            Charset::Whole(Coding::Utf32 { big }) => Way::Utf32 { big: *big },
            Charset::Whole(Coding::Standard(encoding)) | Charset::Fields(encoding) => {
                match *encoding {
                    found if found == UTF_16LE => Way::Utf16 { big: false },
                    found if found == UTF_16BE => Way::Utf16 { big: true },
                    found => Way::Several(found),
                }
            }
        };
        Encode { way, stand_in }
    }

    /// Whether text is written as it is.
    pub fn is_plain(&self) -> bool {
        matches!(self.way, Way::AsItIs)
    }

    /// Writes text. Returns how many characters were replaced by the stand-in.
    ///
    /// # Errors
    /// The first character that the encoding lacks, where nothing stands in.
    pub fn write(&self, text: &str, out: &mut Vec<u8>) -> Result<u64, Lacking> {
        let mut replaced = 0;
        match &self.way {
            Way::AsItIs => out.extend_from_slice(text.as_bytes()),
            Way::Single { ascii: true, .. } if text.is_ascii() => {
                out.extend_from_slice(text.as_bytes());
            }
            Way::Single { bytes, .. } => {
                for c in text.chars() {
                    match bytes.get(&c) {
                        Some(byte) => out.push(*byte),
                        None => replaced += self.lack(c, out)?,
                    }
                }
            }
            Way::Utf16 { big } => out.extend(text.encode_utf16().flat_map(|unit| match big {
                true => unit.to_be_bytes(),
                false => unit.to_le_bytes(),
            })),
            Way::Utf32 { big } => out.extend(text.chars().flat_map(|c| match big {
                true => u32::from(c).to_be_bytes(),
                false => u32::from(c).to_le_bytes(),
            })),
            Way::Several(encoding) => replaced = self.several(encoding, text, out)?,
        }
        Ok(replaced)
    }

    /// Writes the stand-in.
    fn lack(&self, c: char, out: &mut Vec<u8>) -> Result<u64, Lacking> {
        let stand_in = self.stand_in.as_deref().ok_or(Lacking(c))?;
        // A stand-in that the encoding lacks itself would be asked for without end.
        if stand_in.contains(c) {
            return Err(Lacking(c));
        }
        self.write(stand_in, out)?;
        Ok(1)
    }

    fn several(
        &self,
        encoding: &'static Encoding,
        text: &str,
        out: &mut Vec<u8>,
    ) -> Result<u64, Lacking> {
        let mut replaced = 0;
        let mut encoder = encoding.new_encoder();
        let mut rest = text;
        loop {
            let room = encoder
                .max_buffer_length_from_utf8_without_replacement(rest.len())
                .unwrap_or(rest.len() * 8 + 64);
            out.reserve(room);
            let (result, read) =
                encoder.encode_from_utf8_to_vec_without_replacement(rest, out, true);
            rest = &rest[read..];
            match result {
                EncoderResult::InputEmpty => return Ok(replaced),
                EncoderResult::OutputFull => {}
                EncoderResult::Unmappable(c) => {
                    replaced += self.lack(c, out)?;
                    encoder = encoding.new_encoder();
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(label: &str, stand_in: Option<&str>, text: &str) -> Result<Vec<u8>, Lacking> {
        let charset = Charset::new(label, false).unwrap();
        let mut out = Vec::new();
        Encode::new(&charset, stand_in.map(String::from))
            .write(text, &mut out)
            .map(|_| out)
    }

    #[test]
    fn text_is_written_in_its_encoding() {
        assert_eq!(
            written("windows-1252", None, "Zoë €"),
            Ok(b"Zo\xEB \x80".to_vec())
        );
        assert_eq!(written("utf-16le", None, "é"), Ok(vec![0xE9, 0]));
        assert_eq!(written("utf-16be", None, "é"), Ok(vec![0, 0xE9]));
        assert_eq!(written("shift_jis", None, "梅"), Ok(vec![0x94, 0x7E]));
        assert_eq!(written("ebcdic-037", None, "A1"), Ok(vec![0xC1, 0xF1]));
    }

    #[test]
    fn what_an_encoding_lacks_is_told_or_replaced() {
        assert_eq!(written("windows-1252", None, "a梅"), Err(Lacking('梅')));
        assert_eq!(
            written("windows-1252", Some("?"), "a梅b"),
            Ok(b"a?b".to_vec())
        );
        assert_eq!(written("shift_jis", Some("?"), "aëb"), Ok(b"a?b".to_vec()));
        assert_eq!(
            written("windows-1252", Some("梅"), "a梅"),
            Err(Lacking('梅'))
        );
    }
}
