//! Decodes a file before it is split, and remembers where its bytes were.
//!
//! Line, record and byte offset always speak of the file as it is, and rejects
//! are the file's own bytes; so beside the decoded text the raw bytes are kept,
//! with anchors from one to the other.

use encoding_rs::DecoderResult;

use super::coding::{Coding, CodingDecoder};
use crate::utf8::count_characters;

/// About how many raw bytes lie between two anchors. A place between them is
/// found by decoding from the one before, a byte at a time.
const APART: usize = 256;

/// What an escape sequence begins with (ECMA-35).
const ESCAPE: u8 = 0x1B;

/// What stands in the text where bytes did not decode.
const MARK: &str = "\u{FFFD}";

/// Where a piece of decoded text was in the file.
#[derive(Debug, Default)]
pub struct TextMap {
    /// The bytes as they came.
    raw: Vec<u8>,
    /// Places in the text and in `raw` that belong together, both on a
    /// character's border, in order.
    anchors: Vec<(u32, u32)>,
    /// Places in the text of marks for bytes that did not decode.
    bad: Vec<u32>,
    coding: Option<Coding>,
    /// The escape sequence that is in force where `raw` starts, in an encoding with a state.
    state: Vec<u8>,
}

impl TextMap {
    /// Whether everything decoded.
    pub fn is_clean(&self) -> bool {
        self.bad.is_empty()
    }

    /// The marks in a range of the text, each as its place in that range.
    pub fn bad_in(&self, range: std::ops::Range<usize>) -> impl Iterator<Item = usize> {
        let first = self.bad.partition_point(|b| (*b as usize) < range.start);
        let inside = self.bad[first..].iter().map(|b| *b as usize);
        inside
            .take_while(move |b| *b < range.end)
            .map(move |b| b - range.start)
    }

    /// The raw bytes of a range of the text.
    pub fn raw(&self, range: std::ops::Range<usize>) -> &[u8] {
        &self.raw[self.place(range.start)..self.place(range.end)]
    }

    /// The place in the raw bytes of a place in the text.
    pub fn place(&self, text: usize) -> usize {
        let after = self.anchors.partition_point(|(t, _)| *t as usize <= text);
        let (from, raw) = match after.checked_sub(1).and_then(|i| self.anchors.get(i)) {
            Some((from, raw)) => (*from as usize, *raw as usize),
            None => (0, 0),
        };
        let Some(coding) = self.coding else {
            return text;
        };
        let mut decoder = coding.decoder();
        let (mut at, mut place) = (from, raw);
        let mut out = [0; 64];
        // An escape sequence is no text by itself.
        let _ = decoder.decode(self.state_at(raw), &mut out, false);
        while at < text && place < self.raw.len() {
            let mut byte = &self.raw[place..=place];
            loop {
                let (result, read, written) = decoder.decode(byte, &mut out, false);
                place += read;
                at += written;
                byte = &byte[read..];
                // Characters kept back at bad bytes come out with the one after
                // them; each of these is a byte.
                if at > text && at - text <= written {
                    let beyond = &out[written - (at - text)..written];
                    return place - count_characters(beyond);
                }
                match result {
                    DecoderResult::InputEmpty => break,
                    DecoderResult::OutputFull => {}
                    // Bytes after the bad ones may be taken in already; they are
                    // text of their own, which comes out next.
                    DecoderResult::Malformed(_, after) => {
                        at += MARK.len();
                        if at >= text {
                            return place - usize::from(after);
                        }
                    }
                }
            }
        }
        place
    }

    /// The escape sequence that is in force at a place in the raw bytes: the last one before
    /// it. Only ISO-2022-JP has a state, which RFC 1468 sets by `ESC ( B`, `ESC ( J`,
    /// `ESC $ @` and `ESC $ B`.
    fn state_at(&self, raw: usize) -> &[u8] {
        // Two sequences with no text between them are an error, so none goes before another
        // (the Encoding Standard, "ISO-2022-JP decoder").
        let has_state = self.coding.is_some_and(Coding::has_state);
        if !has_state || self.raw.get(raw) == Some(&ESCAPE) {
            return &[];
        }
        match memchr::memrchr(ESCAPE, &self.raw[..raw]) {
            Some(at) => self.raw.get(at..at + 3).unwrap_or_default(),
            None => &self.state,
        }
    }

    /// Takes off what belongs to the text from `cut` on.
    fn split_off(&mut self, cut: usize) -> TextMap {
        let place = self.place(cut);
        let state = self.state_at(place).to_vec();
        let raw = self.raw.split_off(place);
        let rebased = |(t, r): &(u32, u32)| (*t - cut as u32, *r - place as u32);
        let anchors = self
            .anchors
            .iter()
            .filter(|(t, _)| *t as usize >= cut)
            .map(rebased);
        let mut rest = TextMap {
            raw,
            coding: self.coding,
            state,
            ..TextMap::default()
        };
        rest.anchors.push((0, 0));
        rest.anchors.extend(anchors);
        rest.bad.extend(
            self.bad
                .iter()
                .filter(|b| **b as usize >= cut)
                .map(|b| b - cut as u32),
        );
        self.anchors.retain(|(t, _)| *t as usize <= cut);
        self.bad.retain(|b| (*b as usize) < cut);
        rest
    }
}

/// Decodes one file as it is read.
pub struct Transcoder {
    decoder: CodingDecoder,
    map: TextMap,
}

impl Transcoder {
    /// For a file in `coding` that begins with `mark`, its byte order mark.
    pub fn new(coding: Coding, mark: &[u8]) -> Transcoder {
        let map = TextMap {
            raw: mark.to_vec(),
            anchors: vec![(0, mark.len() as u32)],
            bad: Vec::new(),
            coding: Some(coding),
            state: Vec::new(),
        };
        Transcoder {
            decoder: coding.decoder(),
            map,
        }
    }

    /// Adds the text of `raw` to `text`. `last` says that no bytes follow.
    pub fn decode(&mut self, raw: &[u8], last: bool, text: &mut Vec<u8>) {
        let mut rest = raw;
        while !rest.is_empty() {
            let (piece, after) = rest.split_at(rest.len().min(APART));
            self.push(piece, false, text);
            rest = after;
            // A byte at a time to a character's border, where an anchor may stand.
            while let Some((byte, after)) = rest.split_first() {
                let before = text.len();
                self.push(std::slice::from_ref(byte), false, text);
                rest = after;
                if text.len() > before && !text.ends_with(MARK.as_bytes()) {
                    self.map
                        .anchors
                        .push((text.len() as u32, self.map.raw.len() as u32));
                    break;
                }
            }
        }
        if last {
            self.push(&[], true, text);
        }
    }

    fn push(&mut self, piece: &[u8], last: bool, text: &mut Vec<u8>) {
        self.map.raw.extend_from_slice(piece);
        let mut input = piece;
        let mut out = [0; APART * 4];
        loop {
            let (result, read, written) = self.decoder.decode(input, &mut out, last);
            text.extend_from_slice(&out[..written]);
            input = &input[read..];
            match result {
                DecoderResult::InputEmpty => return,
                DecoderResult::OutputFull => {}
                DecoderResult::Malformed(..) => {
                    self.map.bad.push(text.len() as u32);
                    text.extend_from_slice(MARK.as_bytes());
                }
            }
        }
    }

    /// The raw place of a place in the text so far.
    pub fn place(&self, text: usize) -> usize {
        self.map.place(text)
    }

    /// The raw bytes of a range of the text so far.
    pub fn raw(&self, range: std::ops::Range<usize>) -> &[u8] {
        self.map.raw(range)
    }

    /// Hands on the map of the text up to `cut`; the rest is the start of the next.
    pub fn hand_on(&mut self, cut: usize) -> TextMap {
        let rest = self.map.split_off(cut);
        std::mem::replace(&mut self.map, rest)
    }

    /// How many raw bytes are not handed on yet.
    pub fn raw_length(&self) -> usize {
        self.map.raw.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use encoding_rs::{ISO_2022_JP, SHIFT_JIS, UTF_16LE};

    #[test]
    fn every_place_in_the_text_is_found_in_the_raw_bytes() {
        let text: String = (0..4_000)
            .map(|i| if i % 7 == 0 { 'ポ' } else { 'a' })
            .collect();
        let (raw, _, _) = SHIFT_JIS.encode(&text);
        let mut coder = Transcoder::new(Coding::Standard(SHIFT_JIS), b"");
        let mut out = Vec::new();
        for piece in raw.chunks(97) {
            coder.decode(piece, false, &mut out);
        }
        assert_eq!(out, text.as_bytes());
        let first = coder.hand_on(text[..].char_indices().nth(1_234).unwrap().0);
        let (mut at, mut place) = (0, 0);
        for c in text.chars().take(1_234) {
            assert_eq!(first.place(at), place);
            at += c.len_utf8();
            place += if c == 'ポ' { 2 } else { 1 };
        }
        assert_eq!(
            coder.place(3),
            if text.chars().nth(1_234) == Some('ポ') {
                2
            } else {
                3
            }
        );
    }

    #[test]
    fn four_bytes_a_character_have_their_places_too() {
        let text: String = "kale,ポ,\u{1F955}\n".repeat(300);
        let units = text.chars().map(u32::from);
        let raw: Vec<u8> = units.flat_map(u32::to_le_bytes).collect();
        let mut coder = Transcoder::new(Coding::Utf32 { big: false }, b"");
        let mut out = Vec::new();
        for piece in raw.chunks(61) {
            coder.decode(piece, false, &mut out);
        }
        assert_eq!(out, text.as_bytes());
        let (mut at, mut place) = (0, 0);
        for c in text.chars() {
            assert_eq!(coder.place(at), place);
            at += c.len_utf8();
            place += 4;
        }
    }

    #[test]
    fn an_anchor_may_stand_before_an_escape_sequence() {
        let lines: Vec<String> = (0..600)
            .map(|i| format!("x{i},{}\n", "語b日本a".repeat(i % 9 + 1)))
            .collect();
        let whole = lines.concat();
        let (raw, _, _) = ISO_2022_JP.encode(&whole);
        let mut coder = Transcoder::new(Coding::Standard(ISO_2022_JP), b"");
        let mut out = Vec::new();
        coder.decode(&raw, true, &mut out);
        let (mut at, raw_lines) = (0, raw.split_inclusive(|b| *b == b'\n'));
        for (line, raw_line) in lines.iter().zip(raw_lines) {
            assert_eq!(coder.raw(at..at + line.len()), raw_line, "{line}");
            at += line.len();
        }
    }

    #[test]
    fn an_encoding_with_a_state_has_its_places_too() {
        let text = "x0,日本かな\n".repeat(400);
        let (raw, _, _) = ISO_2022_JP.encode(&text);
        let mut coder = Transcoder::new(Coding::Standard(ISO_2022_JP), b"");
        let mut out = Vec::new();
        for piece in raw.chunks(61) {
            coder.decode(piece, false, &mut out);
        }
        assert_eq!(out, text.as_bytes());
        let line = "x0,日本かな\n".len();
        let raw_line = raw.iter().position(|b| *b == b'\n').unwrap() + 1;
        // The map is parted within kanji, where a state is in force.
        let first = coder.hand_on(200 * line + "x0,日".len());
        for number in 0..200 {
            assert_eq!(
                first.raw(number * line..(number + 1) * line),
                &raw[..raw_line]
            );
        }
        let rest = "本かな\n".len();
        for number in 0..199 {
            let start = rest + number * line;
            assert_eq!(coder.raw(start..start + line), &raw[..raw_line], "{number}");
        }
    }

    #[test]
    fn bytes_that_do_not_decode_leave_a_mark_and_keep_their_place() {
        // A lone surrogate between two letters.
        let mut coder = Transcoder::new(Coding::Standard(UTF_16LE), b"\xFF\xFE");
        let mut out = Vec::new();
        coder.decode(b"a\0\x00\xD8b\0", true, &mut out);
        assert_eq!(out, "a\u{FFFD}b".as_bytes());
        let map = coder.hand_on(out.len());
        assert_eq!(map.bad_in(0..5).collect::<Vec<_>>(), [1]);
        assert_eq!((map.place(0), map.place(1)), (2, 4));
        assert_eq!(map.raw(0..5), b"\xFF\xFEa\0\x00\xD8b\0"[2..].to_vec());
    }
}
