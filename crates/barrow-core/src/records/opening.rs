//! The start of a file: its encoding, and its first bytes.

use crate::error::Error;
use crate::plan::Plan;
use crate::source::detect::{byte_order_mark, detect};
use crate::source::dos::Rival;
use crate::source::open::Input;
use crate::source::transcode::Transcoder;
use crate::source::{Charset, Compression, SourceFile};
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
    let found = Compression::of(first);
    if found != Compression::None && plan.source.packing == Compression::None {
        notes.push(format!(
            "it looks packed with {}, and the spec says it is not",
            found.word()
        ));
    }
    let charset = match &plan.source.charset {
        None => {
            let fixed = plan.records.format.fixed();
            let counts_bytes = fixed.is_some_and(|fixed| fixed.counts_bytes());
            let detected = detect(source, plan.source.packing, first, plan.source.told_by)?;
            let charset = Charset::new(detected.label, counts_bytes)
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
            Some((marked, _)) if marked != said.name() && said.reads_as_ascii() => {
                return Err(Error::Encoding(format!(
                    "{} starts with the byte order mark of {}, and the spec says {}",
                    source.name(),
                    marked,
                    said.name()
                )));
            }
            _ => said.clone(),
        },
    };
    let mark = match marked {
        Some((marked, length)) if marked == charset.name() => length,
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
    if input.packing() == Compression::None
        && !matches!(said, Compression::Auto | Compression::None)
    {
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
    if let Charset::Whole(coding) = start.charset {
        let mut transcoder = Transcoder::new(coding, &carry[..start.mark]);
        let raw = std::mem::take(&mut carry);
        transcoder.decode(&raw[start.mark..], whole, &mut carry);
        text.transcoder = Some(transcoder);
    }
    Ok((start, text, carry))
}
