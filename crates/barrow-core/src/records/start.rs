//! The start of a file: its encoding, and the spec's marks as its bytes.

use super::block::Mark;
use super::ending::{FileEnding, Found};
use super::fields;
use super::splitter::BLOCK;
use crate::error::Error;
use crate::format::{DelimitedPlan, Escape};
use crate::plan::Plan;
use crate::source::detect::{byte_order_mark, detect};
use crate::source::dos::Rival;
use crate::source::open::Input;
use crate::source::transcode::Transcoder;
use crate::source::{Charset, Packing, SourceFile};
use crate::words::Measure;
use crate::words::Word;

/// A file's bytes on their way to the splitter, decoded where they must be.
pub struct Text {
    /// The file, unpacked.
    pub input: Input,
    /// Decodes what cannot be split as it is.
    pub transcoder: Option<Transcoder>,
    /// No bytes follow.
    pub whole: bool,
    /// Room for bytes before they are decoded.
    pub raw: Vec<u8>,
}

impl Text {
    /// Adds the text of up to `want` more bytes to `out`.
    ///
    /// # Errors
    /// The file cannot be read.
    pub fn fill(&mut self, want: usize, out: &mut Vec<u8>) -> Result<(), Error> {
        if self.whole {
            return Ok(());
        }
        match &mut self.transcoder {
            None => self.whole = self.input.fill(want, out)? < want,
            Some(transcoder) => {
                self.raw.clear();
                self.whole = self.input.fill(want, &mut self.raw)? < want;
                transcoder.decode(&self.raw, self.whole, out);
            }
        }
        Ok(())
    }
}

/// What a file's first bytes tell.
pub struct Start {
    /// Its encoding.
    pub charset: Charset,
    /// How long its byte order mark is.
    pub mark: usize,
    /// The byte order mark.
    pub bytes: Vec<u8>,
    /// What people should know.
    pub notes: Vec<String>,
    /// Another encoding that is as likely, where it was told by the content.
    pub rival: Option<Rival>,
    /// Whether all of it is ASCII, where it was told by the content.
    pub is_ascii: bool,
}

/// Looks at a file's first bytes.
///
/// # Errors
/// They say another encoding than the spec does, or the file cannot be read.
fn begin(plan: &Plan, source: &SourceFile, first: &[u8]) -> Result<Start, Error> {
    let marked = byte_order_mark(first);
    let mut notes = Vec::new();
    let mut rival = None;
    let mut is_ascii = false;
    let found = Packing::of(first);
    if found != Packing::None && plan.source.packing == Packing::None {
        notes.push(format!(
            "it looks packed with {}, and the spec says it is not",
            found.word()
        ));
    }
    let charset = match &plan.source.charset {
        None => {
            let detected = detect(source, plan.source.packing, first, plan.source.told_by)?;
            let charset = Charset::new(detected.label, plan.by_bytes())
                .map_err(|(message, _)| Error::Encoding(message))?;
            notes.push(format!("read as {}: {}", charset.name(), detected.why));
            rival = detected.rival;
            is_ascii = detected.is_ascii;
            if let Some(why) = charset.cannot_be_cut() {
                return Err(Error::Encoding(format!("{}: {why}", source.name())));
            }
            charset
        }
        Some(said) => match marked {
            Some((encoding, _)) if encoding.name() != said.name() && said.reads_as_ascii() => {
                return Err(Error::Encoding(format!(
                    "{} starts with the byte order mark of {}, and the spec says {}",
                    source.name(),
                    encoding.name(),
                    said.name()
                )));
            }
            _ => said.clone(),
        },
    };
    let mark = match marked {
        Some((encoding, length)) if encoding.name() == charset.name() => length,
        _ => 0,
    };
    Ok(Start {
        charset,
        mark,
        bytes: first[..mark].to_vec(),
        notes,
        rival,
        is_ascii,
    })
}

/// Opens a file: its start, its text, and as much of that as a block holds.
///
/// # Errors
/// The file cannot be read, or is in another encoding than the spec says.
pub fn open(
    plan: &Plan,
    source: &SourceFile,
    block_size: usize,
) -> Result<(Start, Text, Vec<u8>), Error> {
    open_input(
        plan,
        source,
        Input::open(source, plan.source.packing)?,
        block_size,
    )
}

/// The same for a source that is opened already.
///
/// # Errors
/// As [`open`].
pub fn open_input(
    plan: &Plan,
    source: &SourceFile,
    mut input: Input,
    block_size: usize,
) -> Result<(Start, Text, Vec<u8>), Error> {
    let mut carry = Vec::with_capacity(block_size);
    let whole = input.fill(block_size, &mut carry)? < block_size;
    let mut start = begin(plan, source, &carry)?;
    let said = plan.source.packing;
    if input.packing() == Packing::None && !matches!(said, Packing::Auto | Packing::None) {
        start.notes.push(format!(
            "it is not packed, though the spec says {}",
            said.word()
        ));
    }
    let mut text = Text {
        input,
        transcoder: None,
        whole,
        raw: Vec::new(),
    };
    if let Charset::Whole(encoding) = start.charset {
        let mut transcoder = Transcoder::new(encoding, &carry[..start.mark]);
        let raw = std::mem::take(&mut carry);
        transcoder.decode(&raw[start.mark..], whole, &mut carry);
        text.transcoder = Some(transcoder);
    }
    Ok((start, text, carry))
}

/// The physical lines of a file, one after the other.
pub struct Physical {
    /// The file's encoding.
    pub charset: Charset,
    /// The text that is held; a line is a range of it.
    pub text: Vec<u8>,
    source: Text,
    ending: FileEnding,
    at: usize,
}

impl Physical {
    /// Opens a file.
    ///
    /// # Errors
    /// As [`open`].
    pub fn open(plan: &Plan, source: &SourceFile, block_size: usize) -> Result<Physical, Error> {
        let (start, mut source, mut text) = open(plan, source, block_size)?;
        let ending = loop {
            let decided = FileEnding::decide(&plan.records, &start.charset, &text, source.whole)?;
            match decided {
                Some(ending) => break ending,
                None => source.fill(block_size, &mut text)?,
            }
        };
        Ok(Physical {
            charset: start.charset,
            text,
            source,
            ending,
            at: 0,
        })
    }

    /// The next line with its end; none after the last.
    ///
    /// # Errors
    /// The file cannot be read.
    pub fn next_line(&mut self) -> Result<Option<std::ops::Range<usize>>, Error> {
        loop {
            if self.at < self.text.len()
                && let Found::End(_, next) =
                    self.ending.line_end(&self.text, self.at, self.source.whole)
            {
                let line = self.at..next;
                self.at = next;
                return Ok(Some(line));
            }
            if self.source.whole {
                return Ok(None);
            }
            self.text.drain(..self.at);
            if let Some(transcoder) = &mut self.source.transcoder {
                transcoder.hand_on(self.at);
            }
            self.at = 0;
            let want = self.text.len().max(BLOCK);
            self.source.fill(want, &mut self.text)?;
        }
    }
}

/// The spec's marks as the bytes that are split.
#[derive(Debug, PartialEq, Eq)]
pub struct Rules {
    /// The file's encoding.
    pub charset: Charset,
    /// Delimiter, quote, escape.
    pub delimited: DelimitedPlan,
    /// What a comment line starts with.
    pub comment: Option<Vec<u8>>,
}

impl Rules {
    /// For files in `charset`.
    ///
    /// # Errors
    /// The encoding lacks a character of a mark.
    pub fn new(plan: &Plan, charset: &Charset, file: &str) -> Result<Rules, Error> {
        let bytes = |what: &str, text: &[u8]| {
            let text = String::from_utf8_lossy(text);
            charset.bytes_of(&text).ok_or_else(|| {
                Error::Encoding(format!(
                    "{file} is read as {}, which has no character for the {what} \"{text}\"",
                    charset.name()
                ))
            })
        };
        let d = &plan.records.delimited;
        let escape = match &d.escape {
            Escape::Doubled => Escape::Doubled,
            Escape::With(text) => Escape::With(bytes("escape", text)?),
        };
        let comment = plan
            .records
            .comment
            .as_ref()
            .map(|c| bytes("comment", c.as_bytes()));
        Ok(Rules {
            charset: charset.clone(),
            delimited: DelimitedPlan {
                delimiter: bytes("delimiter", &d.delimiter)?,
                quote: bytes("quote", &d.quote)?,
                escape,
                ending: bytes("record end", &d.ending)?,
                space: bytes("space", &d.space)?,
            },
            comment: comment.transpose()?,
        })
    }

    /// A header record's names; none in a fixed layout, where nothing sets them apart.
    pub fn names(&self, bytes: &[u8], mark: &Mark) -> Vec<String> {
        if self.delimited.delimiter.is_empty() {
            return Vec::new();
        }
        let mut spans = Vec::new();
        let _ = fields::split(&self.delimited, bytes, mark, &mut spans);
        spans
            .into_iter()
            .map(|span| self.name(bytes, span))
            .collect()
    }

    fn name(&self, bytes: &[u8], span: fields::Span) -> String {
        let mut field = bytes[span.range()].to_vec();
        if span.is_escaped() {
            let escaped = std::mem::take(&mut field);
            fields::unescape(&self.delimited, span.is_quoted(), &escaped, &mut field);
        }
        let mut text = Vec::new();
        // A name with bytes that mean nothing fits no column, which is told.
        let _ = self.charset.decode(&field, Some("\u{FFFD}"), &mut text);
        String::from_utf8_lossy(&text).into_owned()
    }
}

impl Plan {
    /// Whether widths of a fixed layout count bytes of the file.
    pub fn by_bytes(&self) -> bool {
        self.records.measure == Some(Measure::Bytes)
    }

    /// Whether widths must be counted character by character in what is split.
    pub fn by_characters(&self, charset: &Charset) -> bool {
        let several = !matches!(charset, Charset::Single(_));
        self.records.measure.is_some() && several && !self.by_bytes()
    }
}
