//! The start of a file as lines of text.

use crate::error::Error;
use crate::records::ending::{FileEnding, Found};
use crate::records::opening::{Start, open};
use crate::source::{Compression, SourceFile};
use crate::spec::read_plan;

/// How much of the first file is looked at, in bytes.
const SAMPLE: usize = 512 << 10;

/// The most that is looked at, where the first line is longer than that.
const LARGEST: usize = 256 << 20;

/// Lines that are looked at, at the most.
const LINES: usize = 3_000;

/// A spec that reads any file at all, line by line.
const ANY_FILE: &str = "[source]\nencoding = \"auto\"\n[records]\nheader = \"none\"\n\
    [delimited]\nquote = \"\"\n[columns]\nline = \"text\"\n";

/// The start of a file.
pub struct Sample {
    /// Its encoding, and why.
    pub start: Start,
    /// How it is packed.
    pub packing: Compression,
    /// Its first lines, without their ends.
    pub lines: Vec<String>,
}

/// Reads the start of a file, whose encoding is told by its first `told_by` bytes.
///
/// # Errors
/// It cannot be read, is empty, or its first line goes on for ever.
pub fn read(source: &SourceFile, told_by: u64) -> Result<Sample, Error> {
    let mut plan = read_plan(ANY_FILE)
        .map_err(|_| Error::Worker("the spec that reads any file is wrong".into()))?;
    plan.source.told_by = told_by;
    let mut size = SAMPLE;
    loop {
        let (start, text, bytes) = open(&plan, source, size)?;
        let ending = FileEnding::decide(&plan.records, &start.charset, &bytes, true)?;
        let mut decoded = Vec::new();
        let from = match text.transcoder {
            Some(_) => 0,
            None => start.mark,
        };
        let _ = start
            .charset
            .decode(&bytes[from..], Some("\u{FFFD}"), &mut decoded);
        let ending = ending.unwrap_or(FileEnding::Line);
        let lines = lines(&decoded, ending, text.whole);
        if !lines.is_empty() {
            return Ok(Sample {
                packing: text.input.packing(),
                start,
                lines,
            });
        }
        if text.whole {
            return Err(Error::NoFile(format!(
                "{} is empty, so there is nothing to draft",
                source.name()
            )));
        }
        if size >= LARGEST {
            return Err(Error::NoFile(format!(
                "the first line of {} goes on for more than {} MiB, so its format cannot be found",
                source.name(),
                LARGEST >> 20
            )));
        }
        size *= 8;
    }
}

/// The sample's lines without their ends; one that is cut off is left out.
fn lines(text: &[u8], ending: FileEnding, whole: bool) -> Vec<String> {
    // The text is decoded, so that line ends of one byte are characters by now.
    let ending = match ending {
        FileEnding::Exactly(end) if end.len() == 1 && end[0] >= 0x80 => FileEnding::Line,
        other => other,
    };
    let mut lines = Vec::new();
    let mut at = 0;
    while at < text.len() && lines.len() < LINES {
        let Found::End(end, next) = ending.line_end(text, at, whole) else {
            break;
        };
        lines.push(String::from_utf8_lossy(&text[at..end]).into_owned());
        at = next.max(at + 1);
    }
    lines
}
