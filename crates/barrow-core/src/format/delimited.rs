//! Fields set apart by a delimiter.

use crate::words::WhenDoubtful;

/// What sets fields apart: as text in a plan, as bytes in the reading of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DelimitedFormat {
    /// Between two fields.
    pub delimiter: Vec<u8>,
    /// Around a field; empty where nothing quotes.
    pub quote: Vec<u8>,
    /// How a quote stands inside quotes.
    pub escape: Escape,
    /// The record's end, where the spec says it: an escape makes it ordinary text too.
    pub ending: Vec<u8>,
    /// A space, where those between a delimiter and its field are skipped; else empty.
    pub space: Vec<u8>,
    /// What is done with a well-formed record whose lines look like records themselves.
    pub when_doubtful: WhenDoubtful,
    /// Whether a field in quotes may hold a record's end.
    pub span_lines: bool,
}

/// Nothing sets fields apart, and nothing quotes.
pub static NO_MARKS: DelimitedFormat = DelimitedFormat {
    delimiter: Vec::new(),
    quote: Vec::new(),
    escape: Escape::Doubled,
    ending: Vec::new(),
    space: Vec::new(),
    when_doubtful: WhenDoubtful::Reject,
    span_lines: true,
};

impl DelimitedFormat {
    /// The delimiter, where it is one byte and all there is to look for in a record without
    /// a quote or an escape.
    pub fn lone_byte(&self) -> Option<u8> {
        match self.delimiter.as_slice() {
            [byte] if self.space.is_empty() => Some(*byte),
            _ => None,
        }
    }

    /// The escape character's bytes; empty where quotes are doubled.
    pub fn escape_text(&self) -> &[u8] {
        match &self.escape {
            Escape::Doubled => &[],
            Escape::With(text) => text,
        }
    }

    /// How many bytes at the start of `rest`, which follows an escape, are
    /// escaped by it. Zero means that the escape is ordinary text.
    pub fn escapable(&self, rest: &[u8]) -> usize {
        [
            self.escape_text(),
            &self.quote,
            &self.delimiter,
            &self.ending,
        ]
        .into_iter()
        .find(|text| !text.is_empty() && rest.starts_with(text))
        .map_or(0, <[u8]>::len)
    }

    /// Where the field behind a delimiter starts: at `at`, or after the spaces there.
    pub fn field_start(&self, bytes: &[u8], mut at: usize) -> usize {
        if let [space] = self.space.as_slice() {
            while bytes.get(at) == Some(space) {
                at += 1;
            }
        }
        at
    }

    /// Whether a field starts at `at`, looking at no byte before `floor`: behind a
    /// delimiter, and the spaces after it where they are skipped. Delimiters are found
    /// from the left, as fields are split.
    pub fn starts_field(&self, bytes: &[u8], floor: usize, mut at: usize) -> bool {
        if let [space] = self.space.as_slice() {
            while at > floor && bytes[at - 1] == *space {
                at -= 1;
            }
        }
        let delimiter = self.delimiter.as_slice();
        if let [byte] = delimiter {
            return at > floor && bytes[at - 1] == *byte;
        }
        let mut from = floor;
        while let Some(i) = memchr::memmem::find(&bytes[from..at], delimiter) {
            from += i + delimiter.len();
        }
        from == at && at > floor
    }
}

/// How a quote stands inside a quoted field.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Escape {
    /// Twice.
    Doubled,
    /// After this character, which makes a delimiter, a quote, a line end or
    /// itself ordinary text, inside quotes and outside.
    With(Vec<u8>),
}
