//! Which encoding a file is in, where the spec leaves it to the content.

use chardetng::{EncodingDetector, Iso2022JpDetection, Utf8Detection};
use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE};

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
    fn surely(encoding: &'static Encoding, why: &'static str) -> Detected {
        Detected {
            label: encoding.name(),
            why,
            rival: None,
            is_ascii: false,
        }
    }
}

/// The byte order mark that `first` starts with, and its encoding.
pub fn byte_order_mark(first: &[u8]) -> Option<(&'static Encoding, usize)> {
    Encoding::for_bom(first)
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
    if let Some((encoding, _)) = byte_order_mark(first) {
        return Ok(Detected::surely(encoding, "by its byte order mark"));
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
    /// NUL bytes at even and at odd places: every second byte of Latin text in UTF-16.
    zeros: [u64; 2],
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
            zeros: [0; 2],
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
            self.zeros[(self.bytes as usize + place) % 2] += 1;
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

    fn verdict(self) -> Detected {
        let half = self.bytes / 2;
        if self.zeros[1] * 10 > half * 4 && self.zeros[0] * 10 < half {
            return Detected::surely(UTF_16LE, "every second byte is zero");
        }
        if self.zeros[0] * 10 > half * 4 && self.zeros[1] * 10 < half {
            return Detected::surely(UTF_16BE, "every second byte is zero");
        }
        if self.is_utf8 {
            return Detected {
                is_ascii: self.is_ascii,
                ..Detected::surely(UTF_8, "all of it is valid UTF-8")
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
