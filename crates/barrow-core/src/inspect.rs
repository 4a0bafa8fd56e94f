//! Looks at single lines of a file, as they are and as the spec splits them.

use crate::error::Error;
use crate::escape::escape_for_display;
use crate::pipeline::{Batch, RowEvaluator, RunContext, Worker};
use crate::plan::Plan;
use crate::reason::Reason;
use crate::records::block::{BLOCK, Block};
use crate::records::ending::Found;
use crate::records::layout::field_ranges;
use crate::records::lines::Physical;
use crate::records::mark::Mark;
use crate::records::record_types::kind_of;
use crate::records::splitter::Splitter;
use crate::source::{Charset, SourceFile};
use crate::utf8::starts_character;

/// At most so many bytes of a line are shown.
const LONGEST_SHOWN: usize = 8_000;

/// A physical line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// Its number, 1-based.
    pub number: u64,
    /// Its text with its end, everything invisible written out.
    pub shown: String,
}

/// A field of a line: where it stands in what is shown, in characters.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// The field's number in its record, 1-based.
    pub field: usize,
    /// The column that it is, if the spec has one for it.
    pub column: Option<String>,
    /// Where it starts, 0-based.
    pub start: usize,
    /// How long it is.
    pub length: usize,
    /// What is wrong with it.
    pub troubles: Vec<String>,
}

/// The record that a line is part of.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct RecordAt {
    /// Its number, 1-based.
    pub record: u64,
    /// Its first line.
    pub first_line: u64,
    /// Its fields that start in the line.
    pub fields: Vec<Place>,
    /// What is wrong with the record as a whole.
    pub troubles: Vec<String>,
}

/// The physical lines from `first` on, at most `count`, and the file's last line
/// number where that comes first.
///
/// # Errors
/// The file cannot be read.
pub fn lines(
    plan: &Plan,
    source: &SourceFile,
    first: u64,
    count: u64,
) -> Result<(Vec<Line>, Option<u64>), Error> {
    let mut physical = Physical::open(plan, source, BLOCK)?;
    let mut found = Vec::new();
    let mut number = 0;
    while number + 1 < first + count {
        let Some(range) = physical.next_line()? else {
            return Ok((found, Some(number)));
        };
        number += 1;
        if number >= first {
            let text = &physical.text[range];
            let cut = if text.len() > LONGEST_SHOWN {
                "…"
            } else {
                ""
            };
            let shown = format!("{}{cut}", shown(&physical.charset, text));
            found.push(Line { number, shown });
        }
    }
    Ok((found, None))
}

/// The record that has the physical line `line`, if a record has it.
///
/// # Errors
/// The file cannot be read.
pub fn record_at(plan: &Plan, source: &SourceFile, line: u64) -> Result<Option<RecordAt>, Error> {
    let mut splitter = Splitter::new(plan, vec![source.clone()], BLOCK);
    let context = RunContext::default();
    let mut worker = Worker::new(plan, &context);
    let mut evaluator = plan.carries().then(|| RowEvaluator::new(plan, &context));
    let mut batch = Batch::default();
    while splitter.next(&mut batch.block)? {
        // Values that are carried come from the records before.
        if let Some(evaluator) = &mut evaluator {
            worker.work(&mut batch)?;
            evaluator.settle(&mut batch);
        }
        let block = &batch.block;
        let next = block
            .marks
            .iter()
            .rposition(|mark| first_line(block, mark) <= line);
        let here = next.filter(|index| {
            line < first_line(block, &block.marks[*index]) + lines_of(block, *index)
        });
        if let Some(index) = here {
            if evaluator.is_none() {
                worker.work(&mut batch)?;
            }
            return Ok(Some(annotated(plan, &batch, index, line)));
        }
        if block.first_line > line {
            return Ok(None);
        }
    }
    Ok(None)
}

fn first_line(block: &Block, mark: &Mark) -> u64 {
    block.first_line + u64::from(mark.line)
}

fn lines_of(block: &Block, index: usize) -> u64 {
    let mark = &block.marks[index];
    line_starts(block, mark).len() as u64
}

/// Where each physical line of a record starts in the block.
fn line_starts(block: &Block, mark: &Mark) -> Vec<usize> {
    let Some(file) = &block.file else {
        return Vec::new();
    };
    let mut starts = vec![mark.start as usize];
    let end = mark.next as usize;
    while let Some(last) = starts.last() {
        match file.ending.line_end(&block.bytes[..end], *last, true) {
            Found::End(_, next) if next < end => starts.push(next),
            _ => break,
        }
    }
    starts
}

fn annotated(plan: &Plan, batch: &Batch, index: usize, line: u64) -> RecordAt {
    let block = &batch.block;
    let mark = &block.marks[index];
    let record = block.record_number(index);
    let mut at = RecordAt {
        record,
        first_line: first_line(block, mark),
        ..RecordAt::default()
    };
    let Some(file) = &block.file else { return at };
    let starts = line_starts(block, mark);
    let nth = (line - at.first_line) as usize;
    let from = starts[nth];
    let to = starts.get(nth + 1).copied().unwrap_or(mark.next as usize);
    let column = |place: usize| {
        let before = shown(&file.rules.charset, &block.bytes[from..place.min(to)]);
        before.chars().count()
    };
    let rejects = batch.rejects.iter().filter(|r| r.record == record);
    let reasons: Vec<&Reason> = rejects.flat_map(|r| &r.reasons).collect();
    let kind = match plan.has_kinds() {
        true => kind_of(&plan.record_types, &file.rules, &block.bytes[mark.range()]).unwrap_or(0),
        false => 0,
    };
    let ranges = field_ranges(&file.rules, &plan.record_types[kind], &block.bytes, mark);
    for (number, range) in ranges.into_iter().enumerate() {
        if range.start < from || range.start > to || (range.start == to && to != from) {
            continue;
        }
        let mine = reasons
            .iter()
            .filter(|r| r.field == Some(number as u32 + 1));
        let troubles: Vec<String> = mine.map(|r| r.says.to_string()).collect();
        if range.start - from > LONGEST_SHOWN {
            let far = |says: String| format!("field {}, beyond what is shown: {says}", number + 1);
            at.troubles.extend(troubles.into_iter().map(far));
            continue;
        }
        let mut binding = file.shapes[kind].binding.iter();
        let bound = binding.position(|field| *field == Some(number));
        let start = column(range.start);
        at.fields.push(Place {
            field: number + 1,
            column: bound.map(|place| plan.record_types[kind].columns[place].name.clone()),
            start,
            length: column(range.end).saturating_sub(start),
            troubles,
        });
    }
    let whole = reasons.iter().filter(|r| r.field.is_none());
    at.troubles.extend(whole.map(|r| r.says.to_string()));
    at
}

/// A piece of a file as people read it.
fn shown(charset: &Charset, text: &[u8]) -> String {
    let mut end = text.len().min(LONGEST_SHOWN);
    // Not in the middle of a character of UTF-8, where it is that.
    let is_utf8 = matches!(charset, Charset::Utf8 | Charset::Whole(_));
    while is_utf8 && end < text.len() && end > 0 && !starts_character(text[end]) {
        end -= 1;
    }
    let short = &text[..end];
    let mut out = Vec::new();
    match charset.decode(short, None, &mut out) {
        Ok(_) => escape_for_display(&out),
        Err(_) if charset.reads_as_ascii() => escape_for_display(short),
        Err(_) => {
            // A byte that means nothing does not hide the others.
            let one = |byte: &u8| {
                let mut out = Vec::new();
                match charset.decode(std::slice::from_ref(byte), None, &mut out) {
                    Ok(_) => escape_for_display(&out),
                    Err(_) => format!("\\x{byte:02X}"),
                }
            };
            short.iter().map(one).collect()
        }
    }
}
