//! How a record ends.

use crate::error::Error;
use crate::format::RecordEnd;
use crate::plan::RecordPlan;
use crate::records::json::frames::Frames;
use crate::source::Charset;
use crate::source::detect::byte_order_mark;

/// What stands at a byte that could start a record's end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Found {
    /// An end: the record's text stops at the first place, the next record
    /// starts at the second.
    End(usize, usize),
    /// Ordinary text.
    Text,
    /// The bytes read so far do not tell.
    Unknown,
}

/// A kind of record end.
pub trait Ending {
    /// The byte to look for.
    fn first(&self) -> u8;

    /// What stands at `at`, which holds [`Ending::first`], in a record that
    /// starts at `start`. `whole` says that no bytes will follow `bytes`.
    fn at(&self, bytes: &[u8], start: usize, at: usize, whole: bool) -> Found;
}

/// A line feed, with or without a carriage return before it.
#[derive(Debug, Clone, Copy)]
pub struct Line;

impl Ending for Line {
    #[inline]
    fn first(&self) -> u8 {
        b'\n'
    }

    #[inline]
    fn at(&self, bytes: &[u8], start: usize, at: usize, _: bool) -> Found {
        let end = if at > start && bytes[at - 1] == b'\r' {
            at - 1
        } else {
            at
        };
        Found::End(end, at + 1)
    }
}

/// One byte and nothing else.
#[derive(Debug, Clone, Copy)]
pub struct Byte(pub u8);

impl Ending for Byte {
    #[inline]
    fn first(&self) -> u8 {
        self.0
    }

    #[inline]
    fn at(&self, _: &[u8], _: usize, at: usize, _: bool) -> Found {
        Found::End(at, at + 1)
    }
}

/// Several bytes.
#[derive(Debug, Clone, Copy)]
pub struct Bytes<'a>(pub &'a [u8]);

impl Ending for Bytes<'_> {
    fn first(&self) -> u8 {
        self.0[0]
    }

    fn at(&self, bytes: &[u8], _: usize, at: usize, whole: bool) -> Found {
        let rest = &bytes[at..];
        if rest.starts_with(self.0) {
            Found::End(at, at + self.0.len())
        } else if !whole && self.0.starts_with(rest) {
            Found::Unknown
        } else {
            Found::Text
        }
    }
}

/// The record end of one file, decided once.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FileEnding {
    /// A line feed, with or without a carriage return before it.
    Line,
    /// These bytes exactly.
    Exactly(Vec<u8>),
    /// None: every record is so wide.
    Width(usize),
    /// Objects end where they are closed.
    Objects(Frames),
}

impl FileEnding {
    /// Decides a file's record end from its first bytes. `whole` says that they
    /// are all it has. `None` where they do not tell yet.
    ///
    /// # Errors
    /// The encoding lacks a character of the spec's record end.
    pub fn decide(
        plan: &RecordPlan,
        charset: &Charset,
        bytes: &[u8],
        whole: bool,
    ) -> Result<Option<FileEnding>, Error> {
        if plan.format.names_fields() {
            let start = byte_order_mark(bytes).map_or(0, |(_, length)| length);
            return Ok(
                Frames::of(&bytes[start..], whole).map(|frames| match frames {
                    Frames::Lines => FileEnding::Line,
                    other => FileEnding::Objects(other),
                }),
            );
        }
        match &plan.ending {
            RecordEnd::Auto if !charset.reads_as_ascii() => Ok(decide_ebcdic(bytes, whole)),
            RecordEnd::Auto => Ok(decide_ascii(bytes, whole)),
            RecordEnd::None => {
                let width = plan.format.fixed().map_or(1, |fixed| fixed.width.max(1));
                Ok(Some(FileEnding::Width(width)))
            }
            // Page 037 and its kin have the line feed at 25 and a line end of
            // their own, next line, at 15.
            RecordEnd::Text(text) => match charset.bytes_of(text) {
                Some(bytes) => Ok(Some(FileEnding::Exactly(bytes))),
                None => Err(Error::Encoding(format!(
                    "{} lacks a character of the record end \"{text}\"",
                    charset.name()
                ))),
            },
        }
    }

    /// The end of the line that starts at `start`, quotes or no quotes.
    pub fn line_end(&self, bytes: &[u8], start: usize, whole: bool) -> Found {
        match self {
            FileEnding::Line | FileEnding::Objects(_) => line_end(&Line, bytes, start, whole),
            FileEnding::Exactly(text) => match text.as_slice() {
                [byte] => line_end(&Byte(*byte), bytes, start, whole),
                several => line_end(&Bytes(several), bytes, start, whole),
            },
            FileEnding::Width(width) => match start + width {
                end if end <= bytes.len() => Found::End(end, end),
                _ if whole => Found::End(bytes.len(), bytes.len()),
                _ => Found::Unknown,
            },
        }
    }
}

fn decide_ascii(bytes: &[u8], whole: bool) -> Option<FileEnding> {
    match memchr::memchr2(b'\r', b'\n', bytes) {
        Some(at) if bytes[at] == b'\n' => Some(FileEnding::Line),
        Some(at) => match bytes.get(at + 1) {
            Some(b'\n') => Some(FileEnding::Line),
            Some(_) => Some(FileEnding::Exactly(b"\r".to_vec())),
            None if whole => Some(FileEnding::Exactly(b"\r".to_vec())),
            None => None,
        },
        None if whole => Some(FileEnding::Line),
        None => None,
    }
}

fn decide_ebcdic(bytes: &[u8], whole: bool) -> Option<FileEnding> {
    const NEXT_LINE: u8 = 0x15;
    const LINE_FEED: u8 = 0x25;
    match memchr::memchr2(NEXT_LINE, LINE_FEED, bytes) {
        Some(at) if at > 0 && bytes[at] == LINE_FEED && bytes[at - 1] == b'\r' => {
            Some(FileEnding::Exactly(vec![b'\r', LINE_FEED]))
        }
        Some(at) => Some(FileEnding::Exactly(vec![bytes[at]])),
        None if whole => Some(FileEnding::Exactly(vec![NEXT_LINE])),
        None => None,
    }
}

/// The end of the line that starts at `start`, quotes or no quotes. A last line
/// without an end stops with the bytes.
pub fn line_end<E: Ending>(ending: &E, bytes: &[u8], start: usize, whole: bool) -> Found {
    let mut from = start;
    while let Some(i) = memchr::memchr(ending.first(), &bytes[from..]) {
        match ending.at(bytes, start, from + i, whole) {
            Found::Text => from += i + 1,
            found => return found,
        }
    }
    if whole {
        Found::End(bytes.len(), bytes.len())
    } else {
        Found::Unknown
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_ends_its_records_as_its_first_line_does() {
        let decide = |bytes: &[u8]| decide_ascii(bytes, true);
        assert_eq!(decide(b"a\nb"), Some(FileEnding::Line));
        assert_eq!(decide(b"a\r\nb"), Some(FileEnding::Line));
        assert_eq!(decide(b"a\rb\n"), Some(FileEnding::Exactly(b"\r".to_vec())));
        assert_eq!(decide(b"ab"), Some(FileEnding::Line));
        assert_eq!(decide_ascii(b"ab\r", false), None);
    }

    #[test]
    fn an_end_of_several_bytes_may_be_cut_by_the_end_of_the_bytes() {
        let end = Bytes(b"~|~");
        assert_eq!(line_end(&end, b"ab~|~c", 0, false), Found::End(2, 5));
        assert_eq!(line_end(&end, b"ab~|", 0, false), Found::Unknown);
        assert_eq!(line_end(&end, b"ab~|", 0, true), Found::End(4, 4));
        assert_eq!(line_end(&end, b"a~b~|~", 0, true), Found::End(3, 6));
    }
}
