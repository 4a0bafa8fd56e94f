//! The encodings of files: what a byte means, and how blocks are split safely.

use encoding_rs::{DecoderResult, Encoding, UTF_8};

use super::coding::Coding;
use super::dos::PAGES;
use super::ebcdic::{PAGE_037, PAGE_500, PAGE_1047, Page};
use crate::nearest::did_you_mean;

/// An encoding, by how its files are read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Charset {
    /// UTF-8: split as bytes, kept as they are.
    Utf8,
    /// A byte is a character: split as bytes, fields decoded by a table.
    Single(Box<Single>),
    /// Several bytes may be a character, and a later one may look like a
    /// delimiter: the file is decoded before it is split.
    Whole(Coding),
    /// The same, with fields of a set number of bytes: cut as bytes, each
    /// field decoded by itself.
    Fields(&'static Encoding),
}

/// An encoding in which every byte is a character.
#[derive(Clone, PartialEq, Eq)]
pub struct Single {
    name: &'static str,
    /// Each byte's character; none where the byte means nothing.
    characters: [Option<char>; 256],
}

impl std::fmt::Debug for Single {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}

/// Labels of the EBCDIC pages, which the WHATWG standard does not have.
const EBCDIC: [(&str, &str, &Page); 3] = [
    ("ebcdic-037", "ibm037", &PAGE_037),
    ("ebcdic-500", "ibm500", &PAGE_500),
    ("ebcdic-1047", "ibm1047", &PAGE_1047),
];

/// Labels that a slip of the hand is compared with.
const USUAL: [&str; 16] = [
    "utf-8",
    "windows-1252",
    "windows-1250",
    "windows-1251",
    "iso-8859-1",
    "iso-8859-15",
    "utf-16le",
    "utf-16be",
    "utf-32le",
    "utf-32be",
    "shift_jis",
    "gbk",
    "gb18030",
    "big5",
    "euc-jp",
    "euc-kr",
];

/// Bytes that mean nothing in an encoding.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BadBytes;

impl Charset {
    /// The encoding of a label of the WHATWG Encoding Standard, or of an EBCDIC or DOS
    /// page. `bytes` says that fields are cut by bytes.
    ///
    /// # Errors
    /// A plain sentence, and the nearest label.
    pub fn new(label: &str, bytes: bool) -> Result<Charset, (String, Option<String>)> {
        let lower = label.trim().to_ascii_lowercase();
        if let Some((name, _, page)) = EBCDIC.iter().find(|(a, b, _)| *a == lower || *b == lower) {
            let characters = page.map(|c| Some(char::from(c)));
            return Ok(Charset::Single(Box::new(Single { name, characters })));
        }
        if let Some((name, _, page)) = PAGES
            .iter()
            .find(|(name, others, _)| *name == lower || others.contains(&lower.as_str()))
        {
            let characters = std::array::from_fn(|byte| match byte.checked_sub(0x80) {
                Some(place) => Some(page[place]),
                None => Some(char::from(byte as u8)),
            });
            return Ok(Charset::Single(Box::new(Single { name, characters })));
        }
        if let Some(coding) = Coding::of_label(&lower) {
            return match bytes {
                true => Err((not_by_bytes(coding.name()), None)),
                false => Ok(Charset::Whole(coding)),
            };
        }
        match Encoding::for_label_no_replacement(label.as_bytes()) {
            Some(encoding) => Ok(Charset::of(encoding, bytes)),
            None => {
                let pages = PAGES.iter().map(|page| page.0);
                let ebcdic = EBCDIC.map(|(name, ..)| name);
                let known = USUAL.into_iter().chain(ebcdic).chain(pages);
                let near = did_you_mean(label, known);
                Err((format!("\"{label}\" is not the name of an encoding"), near))
            }
        }
    }

    /// How files in this encoding are read.
    pub fn of(encoding: &'static Encoding, bytes: bool) -> Charset {
        if encoding == UTF_8 {
            Charset::Utf8
        } else if encoding.is_single_byte() {
            let characters = std::array::from_fn(|byte| {
                let byte = [byte as u8];
                let text = encoding.decode_without_bom_handling_and_without_replacement(&byte);
                text.and_then(|text| text.chars().next())
            });
            Charset::Single(Box::new(Single {
                name: encoding.name(),
                characters,
            }))
        } else if bytes {
            Charset::Fields(encoding)
        } else {
            Charset::Whole(Coding::Standard(encoding))
        }
    }

    /// The encoding's name for people.
    pub fn name(&self) -> &'static str {
        match self {
            Charset::Utf8 => "UTF-8",
            Charset::Single(single) => single.name,
            Charset::Whole(coding) => coding.name(),
            Charset::Fields(encoding) => encoding.name(),
        }
    }

    /// Whether a field of nothing but bytes below 0x80 is ASCII as it stands.
    pub fn reads_as_ascii(&self) -> bool {
        match self {
            Charset::Single(single) => single.characters[usize::from(b'A')] == Some('A'),
            _ => true,
        }
    }

    /// Why fields of a set number of bytes mean nothing in this encoding, if they do not: a
    /// line end or a space is found by its byte, and what bytes mean may depend on those
    /// before them.
    pub fn cannot_be_cut(&self) -> Option<String> {
        match self {
            Charset::Fields(encoding) if !encoding.is_ascii_compatible() => {
                Some(not_by_bytes(encoding.name()))
            }
            _ => None,
        }
    }

    /// Text as the bytes that the splitter meets. `None` where the encoding
    /// lacks a character of it.
    pub fn bytes_of(&self, text: &str) -> Option<Vec<u8>> {
        match self {
            Charset::Utf8 | Charset::Whole(_) => Some(text.as_bytes().to_vec()),
            Charset::Single(single) => text.chars().map(|c| single.byte(c)).collect(),
            Charset::Fields(encoding) => {
                let (bytes, _, lacking) = encoding.encode(text);
                (!lacking).then(|| bytes.into_owned())
            }
        }
    }

    /// Whole lines of a file as text, whatever of them does not decode.
    pub fn text_of_raw(&self, raw: &[u8]) -> String {
        match self {
            Charset::Whole(coding) => coding.text(raw),
            Charset::Fields(encoding) => encoding.decode(raw).0.into_owned(),
            other => {
                let mut text = Vec::new();
                let _ = other.decode(raw, Some("\u{FFFD}"), &mut text);
                let text = String::from_utf8_lossy(&text);
                text.strip_prefix('\u{FEFF}').unwrap_or(&text).to_string()
            }
        }
    }

    /// Decodes a field into `out`. With a stand-in, bytes that mean nothing are
    /// replaced; returns whether any were.
    ///
    /// # Errors
    /// Bytes that mean nothing, where nothing stands in.
    pub fn decode(
        &self,
        field: &[u8],
        stand_in: Option<&str>,
        out: &mut Vec<u8>,
    ) -> Result<bool, BadBytes> {
        let mut replaced = false;
        let mut bad = |out: &mut Vec<u8>| match stand_in {
            Some(text) => {
                out.extend_from_slice(text.as_bytes());
                replaced = true;
                Ok(())
            }
            None => Err(BadBytes),
        };
        match self {
            Charset::Utf8 | Charset::Whole(_) => {
                for chunk in field.utf8_chunks() {
                    out.extend_from_slice(chunk.valid().as_bytes());
                    if !chunk.invalid().is_empty() {
                        bad(out)?;
                    }
                }
            }
            Charset::Single(single) => {
                let ascii = self.reads_as_ascii();
                for byte in field {
                    match single.characters[usize::from(*byte)] {
                        _ if ascii && byte.is_ascii() => out.push(*byte),
                        Some(c) => out.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes()),
                        None => bad(out)?,
                    }
                }
            }
            Charset::Fields(encoding) => decode_several(encoding, field, out, bad)?,
        }
        Ok(replaced)
    }
}

fn not_by_bytes(name: &str) -> String {
    format!("{name} cannot be cut by bytes: its fields are counted in characters")
}

fn decode_several(
    encoding: &'static Encoding,
    mut field: &[u8],
    out: &mut Vec<u8>,
    mut bad: impl FnMut(&mut Vec<u8>) -> Result<(), BadBytes>,
) -> Result<(), BadBytes> {
    let mut decoder = encoding.new_decoder_without_bom_handling();
    loop {
        let most = decoder.max_utf8_buffer_length_without_replacement(field.len());
        let mut text = vec![0; most.unwrap_or(field.len() * 4 + 16)];
        let (result, read, written) =
            decoder.decode_to_utf8_without_replacement(field, &mut text, true);
        out.extend_from_slice(&text[..written]);
        field = &field[read..];
        match result {
            DecoderResult::InputEmpty => return Ok(()),
            DecoderResult::OutputFull => {}
            DecoderResult::Malformed(..) => bad(out)?,
        }
    }
}

impl Single {
    /// Each character with its byte; of two bytes for one character, the first.
    pub fn characters(&self) -> impl Iterator<Item = (char, u8)> {
        let all = self.characters.iter().enumerate().rev();
        all.filter_map(|(byte, c)| Some(((*c)?, byte as u8)))
    }

    fn byte(&self, wanted: char) -> Option<u8> {
        self.characters
            .iter()
            .position(|c| *c == Some(wanted))
            .map(|byte| byte as u8)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn decode(label: &str, bytes: &[u8], stand_in: Option<&str>) -> Result<String, BadBytes> {
        let mut out = Vec::new();
        Charset::new(label, true)
            .unwrap()
            .decode(bytes, stand_in, &mut out)?;
        Ok(String::from_utf8(out).unwrap())
    }

    #[test]
    fn fields_decode_by_their_encoding() {
        let cases: [(&str, &[u8], &str); 11] = [
            ("windows-1252", b"Zo\xEB \x80", "Zoë €"),
            ("latin1", b"\x80", "€"),
            ("iso-8859-15", b"\xA4", "€"),
            ("windows-1251", b"\xCC\xEE\xF0", "Мор"),
            ("shift_jis", b"\x83\x7C\x83\x65", "ポテ"),
            ("gb18030", b"\xC2\xDC\xB2\xB7", "萝卜"),
            ("ebcdic-037", b"\xE3\x81\x95\xA2\xA8", "Tansy"),
            ("ibm437", b"M\x84rz \xE3", "März π"),
            ("cp850", b"M\x84rz \xE3", "März Ò"),
            ("dos-852", b"\xA5\x88", "ął"),
            ("ibm866", b"\x8C\xAE\xE0", "Мор"),
        ];
        for (label, bytes, text) in cases {
            assert_eq!(decode(label, bytes, None).as_deref(), Ok(text), "{label}");
        }
    }

    #[test]
    fn what_does_not_decode_is_told_or_replaced() {
        for (label, bytes) in [
            ("utf-8", &b"a\xFFb"[..]),
            ("windows-1253", b"a\xAAb"),
            ("shift_jis", b"a\xFFb"),
        ] {
            assert_eq!(decode(label, bytes, None), Err(BadBytes), "{label}");
            assert_eq!(
                decode(label, bytes, Some("?")).as_deref(),
                Ok("a?b"),
                "{label}"
            );
        }
    }

    #[test]
    fn an_unknown_label_names_the_nearest() {
        let (message, near) = Charset::new("windows1252x", false).unwrap_err();
        assert!(message.contains("windows1252x") && near.unwrap().contains("windows-1252"));
    }
}
