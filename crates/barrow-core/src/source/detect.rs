//! Which encoding a file is in, where the spec leaves it to the content.

use chardetng::{EncodingDetector, Iso2022JpDetection, Utf8Detection};
use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE};

use super::coding::Coding;
use super::dos::{Rival, Words};
use super::file::SourceFile;
use super::open::Input;
use crate::error::Error;
use crate::source::compression::Compression;

/// How much of a file is held at once.
const PIECE: usize = 1 << 20;

/// An encoding, and why it was taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Detected {
    /// The encoding's label, as a spec has it.
    pub label: &'static str,
    /// Why, in a few words.
    pub why: &'static str,
    /// An encoding that is as likely, with a word of the file in each.
    pub rival: Option<Rival>,
    /// Whether every byte that was looked at is ASCII, so that most encodings say the same.
    pub is_ascii: bool,
}

impl Detected {
    fn surely(label: &'static str, why: &'static str) -> Detected {
        Detected {
            label,
            why,
            rival: None,
            is_ascii: false,
        }
    }
}

/// The byte order mark that `first` starts with: its encoding's name, and its length in bytes.
pub fn byte_order_mark(first: &[u8]) -> Option<(&'static str, usize)> {
    // That of UTF-32 begins as that of UTF-16 does.
    if let Some(coding) = Coding::of_mark(first) {
        return Some((coding.name(), 4));
    }
    let (encoding, length) = Encoding::for_bom(first)?;
    Some((encoding.name(), length))
}

/// Decides by the whole of a file: a byte order mark, then valid UTF-8, then
/// what its bytes are like. Standard input cannot be read twice, so of it only
/// `first`, what has been read, is looked at.
///
/// # Errors
/// The file cannot be read.
pub fn detect(
    source: &SourceFile,
    packing: Compression,
    first: &[u8],
    most: u64,
) -> Result<Detected, Error> {
    if let Some((label, _)) = byte_order_mark(first) {
        return Ok(Detected::surely(label, "by its byte order mark"));
    }
    let mut look = Look::new();
    if !source.is_repeatable() {
        look.at(first, false);
        return Ok(look.verdict());
    }
    let mut input = Input::open(source, packing)?;
    let mut piece = Vec::with_capacity(PIECE);
    let mut looked = 0;
    loop {
        piece.clear();
        let read = input.fill(PIECE, &mut piece)?;
        look.at(&piece, read < PIECE);
        looked += read as u64;
        if read < PIECE || looked >= most {
            return Ok(look.verdict());
        }
    }
}

/// The encoding that some bytes look like.
pub fn guess(bytes: &[u8]) -> &'static Encoding {
    let mut detector = EncodingDetector::new(Iso2022JpDetection::Allow);
    detector.feed(bytes, true);
    detector.guess(None, Utf8Detection::Allow)
}

/// What has been seen of a file.
struct Look {
    detector: EncodingDetector,
    is_utf8: bool,
    /// The start of a character that the last piece ended in.
    cut: Vec<u8>,
    /// NUL bytes at each place of four: every second byte of Latin text in UTF-16, three of
    /// four in UTF-32.
    zeros: [u64; 4],
    bytes: u64,
    /// Words with bytes beyond ASCII.
    words: Words,
    is_ascii: bool,
}

impl Look {
    fn new() -> Look {
        Look {
            detector: EncodingDetector::new(Iso2022JpDetection::Allow),
            is_utf8: true,
            cut: Vec::new(),
            zeros: [0; 4],
            bytes: 0,
            words: Words::default(),
            is_ascii: true,
        }
    }

    fn at(&mut self, piece: &[u8], last: bool) {
        // What is ASCII says nothing of an encoding, and is most of most files: to
        // feed it to the detector took longer than all the rest of a draft.
        let is_ascii = piece.is_ascii();
        if !is_ascii || last {
            self.detector.feed(piece, last);
        }
        for place in memchr::memchr_iter(0, piece) {
            self.zeros[(self.bytes as usize + place) % 4] += 1;
        }
        self.bytes += piece.len() as u64;
        if !is_ascii {
            self.is_ascii = false;
            self.words.take(piece);
        }
        if !self.is_utf8 || (is_ascii && self.cut.is_empty()) {
            return;
        }
        let mut joined = std::mem::take(&mut self.cut);
        joined.extend_from_slice(piece);
        if let Err(error) = std::str::from_utf8(&joined) {
            match error.error_len() {
                None if !last => self.cut = joined[error.valid_up_to()..].to_vec(),
                _ => self.is_utf8 = false,
            }
        }
    }

    /// Four bytes a character or two, by the places of bytes that are zero.
    fn by_zeros(&self) -> Option<Detected> {
        let [a, b, c, d] = self.zeros;
        let quarter = self.bytes / 4;
        let (most, few) = (
            |zeros: u64| zeros * 10 > quarter * 9,
            |zeros: u64| zeros * 10 < quarter,
        );
        let three = "three of four bytes are zero";
        if quarter > 0 && most(c) && most(d) && few(a) {
            return Some(Detected::surely("UTF-32LE", three));
        }
        if quarter > 0 && most(a) && most(b) && few(d) {
            return Some(Detected::surely("UTF-32BE", three));
        }
        let (even, odd, half) = (a + c, b + d, self.bytes / 2);
        let second = "every second byte is zero";
        if odd * 10 > half * 4 && even * 10 < half {
            return Some(Detected::surely(UTF_16LE.name(), second));
        }
        if even * 10 > half * 4 && odd * 10 < half {
            return Some(Detected::surely(UTF_16BE.name(), second));
        }
        None
    }

    fn verdict(self) -> Detected {
        if let Some(detected) = self.by_zeros() {
            return detected;
        }
        if self.is_utf8 {
            return Detected {
                is_ascii: self.is_ascii,
                ..Detected::surely(UTF_8.name(), "all of it is valid UTF-8")
            };
        }
        let encoding = self.detector.guess(None, Utf8Detection::Deny);
        let (page, rival) = self.words.judge(encoding);
        Detected {
            label: page.unwrap_or(encoding.name()),
            why: match page {
                Some(_) => "it is not UTF-8, and so its words have letters within",
                None => "it is not UTF-8, and its bytes look so",
            },
            rival,
            is_ascii: false,
        }
    }
}
