//! What sets a file's fields apart, as the bytes of the file's encoding.

use crate::error::Error;
use crate::format::{DelimitedFormat, Escape, RecordFormat};
use crate::plan::Plan;
use crate::source::Charset;

/// A file's layout, with every mark as the bytes that are split.
#[derive(Debug, PartialEq, Eq)]
pub struct Rules {
    /// The file's encoding.
    pub charset: Charset,
    /// The layout.
    pub format: RecordFormat,
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
        let format = match &plan.records.format {
            RecordFormat::Fixed(fixed) => RecordFormat::Fixed(*fixed),
            RecordFormat::Json => RecordFormat::Json,
            RecordFormat::Delimited(d) => RecordFormat::Delimited(DelimitedFormat {
                delimiter: bytes("delimiter", &d.delimiter)?,
                quote: bytes("quote", &d.quote)?,
                escape: match &d.escape {
                    Escape::Doubled => Escape::Doubled,
                    Escape::With(text) => Escape::With(bytes("escape", text)?),
                },
                ending: bytes("record end", &d.ending)?,
                space: bytes("space", &d.space)?,
                when_doubtful: d.when_doubtful,
                span_lines: d.span_lines,
            }),
        };
        let comment = plan.records.comment.as_ref();
        let comment = comment.map(|c| bytes("comment", c.as_bytes()));
        Ok(Rules {
            charset: charset.clone(),
            format,
            comment: comment.transpose()?,
        })
    }

    /// Whether widths must be counted character by character in what is split.
    pub fn counts_characters(&self) -> bool {
        let several = !matches!(self.charset, Charset::Single(_));
        matches!(&self.format, RecordFormat::Fixed(fixed) if several && !fixed.counts_bytes())
    }
}
