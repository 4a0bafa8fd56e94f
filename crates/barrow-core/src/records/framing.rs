//! Finds the records of a file, as its layout frames them.

use super::delimited::judge::Judge;
use super::delimited::scan::{Progress, Scan};
use super::ending::{Byte, Bytes, FileEnding, Line};
use super::json;
use super::mark::Mark;
use super::rules::Rules;
use crate::format::{NO_MARKS, RecordFormat};
use crate::plan::Plan;
use crate::records::file_format::FileFormat;
use crate::words::{WhenBlank, WhenShort};

/// How many records a block holds at the most.
const MOST_RECORDS: usize = 4 << 10;

/// How many values a block holds at the most, unless its records have very many.
const MOST_VALUES: usize = 32 << 10;

/// The space of every EBCDIC page.
const EBCDIC_SPACE: u8 = 0x40;

/// What finds the records of one file.
pub struct Framing<'r> {
    scan: Scan<'r>,
    ending: &'r FileEnding,
}

impl<'r> Framing<'r> {
    /// For the records of a file. Quotes are judged by what its records look like.
    pub fn of_file(plan: &'r Plan, file: &'r FileFormat) -> Framing<'r> {
        // Record types have each their own number of fields.
        let fields = match file.shapes.as_slice() {
            [shape] if !plan.has_kinds() => Some(shape.fields),
            _ => None,
        };
        Framing {
            scan: Scan {
                judge: Judge::new(plan, file),
                ..scan(plan, &file.rules, fields)
            },
            ending: &file.ending,
        }
    }

    /// For a header, which is read whole or not at all: `longest` is how many bytes it has
    /// at the most.
    pub fn of_header(
        plan: &'r Plan,
        rules: &'r Rules,
        ending: &'r FileEnding,
        longest: usize,
    ) -> Framing<'r> {
        Framing {
            scan: Scan {
                keep_blank: false,
                join: false,
                longest,
                ..scan(plan, rules, None)
            },
            ending,
        }
    }

    /// Marks every record that `bytes` holds whole, from `progress` on. `whole`
    /// says that no bytes will follow. What is not marked stays for the next call.
    pub fn run(&self, bytes: &[u8], whole: bool, progress: &mut Progress, marks: &mut Vec<Mark>) {
        let scan = &self.scan;
        match self.ending {
            FileEnding::Line => scan.run(&Line, bytes, whole, progress, marks),
            FileEnding::Exactly(text) => match text.as_slice() {
                [byte] => scan.run(&Byte(*byte), bytes, whole, progress, marks),
                several => scan.run(&Bytes(several), bytes, whole, progress, marks),
            },
            FileEnding::Width(width) => scan.widths(*width, bytes, whole, progress, marks),
            FileEnding::Objects(frames) => {
                let limits = json::Limits {
                    longest: scan.longest,
                    most: scan.most,
                };
                json::frame(*frames, &limits, bytes, whole, progress, marks);
            }
        }
    }
}

/// Whether a record that is written, with its end, would be read as the one that it is. Text
/// over several lines may look like records of its own ([`super::delimited::judge`]).
pub fn reads_as_one(plan: &Plan, file: &FileFormat, record: &[u8]) -> bool {
    let mut marks = Vec::new();
    let mut progress = Progress::default();
    Framing::of_file(plan, file).run(record, true, &mut progress, &mut marks);
    matches!(marks.as_slice(), [mark] if mark.state.is_whole())
}

fn scan<'r>(plan: &Plan, rules: &'r Rules, fields: Option<usize>) -> Scan<'r> {
    let records = &plan.records;
    let (delimited, fields) = match &rules.format {
        RecordFormat::Delimited(delimited) => (delimited, fields),
        // No quote hides a record's end.
        RecordFormat::Fixed(_) | RecordFormat::Json => (&NO_MARKS, None),
    };
    Scan {
        delimited,
        comment: rules.comment.as_deref(),
        keep_blank: records.when_blank == WhenBlank::Reject,
        longest: records.longest,
        most: most_records(plan).saturating_add(records.trailer),
        judge: None,
        fields,
        join: records.when_short == WhenShort::Join,
        by_characters: rules.counts_characters(),
        space: match rules.charset.reads_as_ascii() {
            true => b' ',
            false => EBCDIC_SPACE,
        },
    }
}

/// How many records a block holds at the most. Records of a few bytes may all be wrong, and
/// a reject takes more room than they do: this keeps memory flat whatever is rejected.
fn most_records(plan: &Plan) -> usize {
    let columns = plan.record_types.iter().map(|kind| kind.read.len()).max();
    (MOST_VALUES / columns.unwrap_or(1).max(1)).clamp(256, MOST_RECORDS)
}
