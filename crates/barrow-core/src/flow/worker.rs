//! From a block's records to typed rows and rejects.

use std::collections::HashSet;

use super::batch::{Batch, Rows};
use super::hint;
use crate::error::Error;
use crate::records::block::{Block, Mark, State};
use crate::records::fields::{self, Span};
use crate::records::file::FileReading;
use crate::records::fixed::{Cutter, Misfit};
use crate::rejects::{Code, Reason, Reject};
use crate::source::Charset;
use crate::spec::plan::{ColumnPlan, Plan, WhenLong, WhenShort};
use crate::tally::Repairs;
use crate::values::{Cell, Change, ColumnReader, Fault, Fields, Results};
use crate::visible::visible_short;

/// A value in a reason is cut after so many characters; the reject's own bytes
/// are whole.
const LONGEST_SHOWN: usize = 200;

/// Types blocks. Each thread has its own.
pub struct Worker<'p> {
    plan: &'p Plan,
    /// The loaded columns, each with its place in the plan.
    columns: Vec<(usize, &'p ColumnPlan)>,
    spans: Vec<Span>,
    faults: Vec<Fault>,
    changes: Vec<Change>,
    /// The file that the last hint was given for: one is enough.
    hinted: Option<usize>,
}

impl<'p> Worker<'p> {
    /// A worker for `plan`.
    pub fn new(plan: &'p Plan) -> Worker<'p> {
        let columns = plan
            .columns
            .iter()
            .enumerate()
            .filter(|(_, c)| c.reader.is_some());
        Worker {
            plan,
            columns: columns.collect(),
            spans: Vec::new(),
            faults: Vec::new(),
            changes: Vec::new(),
            hinted: None,
        }
    }

    /// Reads the records of `batch.block` into the batch's rows and rejects.
    ///
    /// # Errors
    /// Bytes that do not decode, where the spec says to stop at them.
    pub fn work(&mut self, batch: &mut Batch) -> Result<(), Error> {
        let Batch {
            block,
            rows,
            rejects,
            repairs,
            hint,
            ..
        } = batch;
        rows.clear();
        rejects.clear();
        repairs.clear();
        self.spans.clear();
        self.faults.clear();
        self.changes.clear();
        *hint = None;
        let Some(file) = block.file.clone() else {
            return Ok(());
        };
        self.split(block, &file, &mut rows.marks, rejects);
        rows.height = rows.marks.len();
        let cells = self.columns.len() * rows.height;
        if rows.cells.len() < cells {
            rows.cells.resize(cells, Cell::Null);
        }
        let clean = is_clean(block, &file.rules.charset);
        self.type_fields(block, &file, clean, rows);
        if !clean && self.hinted != Some(file.index) {
            *hint = hint::of(&block.bytes, &file.rules.charset);
            self.hinted = hint.as_ref().map(|_| file.index);
        }
        self.note_changes(block, &rows.marks, repairs);
        self.stop_at_bad_bytes(block, &file, &rows.marks)?;
        self.part_good_from_bad(block, &file, &rows.marks, &mut rows.good, rejects);
        Ok(())
    }

    /// Changes of rows that load are repairs; those of rejects are not.
    fn note_changes(&mut self, block: &Block, marks: &[u32], repairs: &mut Repairs) {
        if self.changes.is_empty() {
            return;
        }
        let bad: HashSet<u32> = self.faults.iter().map(|fault| fault.row).collect();
        self.changes
            .sort_by_key(|change| (change.row, change.column));
        for change in self
            .changes
            .iter()
            .filter(|change| !bad.contains(&change.row))
        {
            let column = change
                .column
                .map(|column| self.columns[column as usize].1.name.as_str());
            let mark = &block.marks[marks[change.row as usize] as usize];
            repairs.note(change.what, column, block.first_line + u64::from(mark.line));
        }
    }

    /// The first field whose bytes do not decode ends the load, if the spec says so.
    fn stop_at_bad_bytes(
        &self,
        block: &Block,
        file: &FileReading,
        marks: &[u32],
    ) -> Result<(), Error> {
        let stops = |fault: &&Fault| {
            let reader = self.columns[fault.column as usize].1.reader.as_ref();
            fault.code == Code::BadBytes && reader.is_some_and(ColumnReader::stops_at_bad_bytes)
        };
        let first = self
            .faults
            .iter()
            .filter(stops)
            .min_by_key(|fault| fault.span.start());
        let Some(fault) = first else {
            return Ok(());
        };
        let mark = &block.marks[marks[fault.row as usize] as usize];
        Err(Error::Undecodable {
            file: file.name.clone(),
            line: block.first_line + u64::from(mark.line),
            value: visible_short(block.raw(fault.span.range()), LONGEST_SHOWN),
            encoding: file.rules.charset.name(),
        })
    }

    /// Types every field, each column in turn.
    fn type_fields(&mut self, block: &Block, file: &FileReading, clean: bool, rows: &mut Rows) {
        if rows.height == 0 {
            return;
        }
        let input = Fields {
            bytes: &block.bytes,
            spans: &self.spans,
            per_record: file.fields,
            clean,
            charset: &file.rules.charset,
            map: block.map.as_ref(),
            delimited: &self.plan.records.delimited,
        };
        let parts = rows.cells.chunks_exact_mut(rows.height);
        for (number, ((place, column), cells)) in self.columns.iter().zip(parts).enumerate() {
            if let Some(reader) = &column.reader {
                let out = Results {
                    column: number as u32,
                    cells,
                    store: &mut rows.store,
                    faults: &mut self.faults,
                    changes: &mut self.changes,
                };
                reader.read(&input, file.binding[*place], out);
            }
        }
    }

    /// Splits every record; those of the wrong shape become rejects at once.
    fn split(
        &mut self,
        block: &Block,
        file: &FileReading,
        marks: &mut Vec<u32>,
        rejects: &mut Vec<Reject>,
    ) {
        let cutter = self.cutter(file);
        // A record without quotes, set apart by one byte: nearly all of them.
        let simple = match file.rules.delimited.delimiter.as_slice() {
            [delimiter] => Some(*delimiter),
            _ => None,
        };
        for (index, mark) in block.marks.iter().enumerate() {
            if let (Some(delimiter), State::Plain) = (simple, mark.state)
                && fields::exactly(delimiter, &block.bytes, mark, file.fields, &mut self.spans)
            {
                marks.push(index as u32);
                continue;
            }
            let before = self.spans.len();
            let changes = self.changes.len();
            match self.shape(block, file, mark, cutter.as_ref(), marks.len() as u32) {
                Ok(()) => marks.push(index as u32),
                Err(shape) => {
                    self.spans.truncate(before);
                    self.changes.truncate(changes);
                    rejects.push(shape.reject(block, &file.rules.charset, index, mark));
                }
            }
        }
    }

    /// What cuts records of a fixed layout, if the layout is one.
    fn cutter(&self, file: &FileReading) -> Option<Cutter<'p>> {
        let plan = self.plan;
        plan.records.fixed.as_ref().map(|fixed| Cutter {
            fixed,
            columns: &plan.columns,
            when_short: plan.records.when_short,
            when_long: plan.records.when_long,
            by_characters: plan.by_characters(&file.rules.charset),
        })
    }

    /// Brings a record, which will be `row`, into shape.
    fn shape(
        &mut self,
        block: &Block,
        file: &FileReading,
        mark: &Mark,
        cutter: Option<&Cutter<'_>>,
        row: u32,
    ) -> Result<(), Shape> {
        let change = |what| Change {
            row,
            column: None,
            what,
        };
        match mark.state {
            State::Unclosed => Err(unclosed()),
            State::TooLong => Err(too_long(self.plan.records.longest)),
            State::TooLongRest => Err(Shape::rest()),
            State::Blank => Err(Shape::new(Code::BlankLine, "a record")),
            State::Plain | State::Quoted | State::Joined => {
                if let Some(cutter) = cutter {
                    let repaired = |what| self.changes.push(change(what));
                    let cut = cutter.cut(&block.bytes, mark, &mut self.spans, repaired);
                    return cut.map_err(Shape::from);
                }
                if mark.state == State::Joined {
                    self.changes.push(change("lines joined to one record"));
                }
                let before = self.spans.len();
                let split =
                    fields::split(&file.rules.delimited, &block.bytes, mark, &mut self.spans);
                self.fit(split, before, file.fields).map(|repair| {
                    self.changes.extend(repair.map(change));
                })
            }
        }
    }

    /// Makes a record's fields as many as the file has, as far as the spec
    /// allows. Returns what was done to it.
    fn fit(
        &mut self,
        split: Result<(), usize>,
        before: usize,
        wanted: usize,
    ) -> Result<Option<&'static str>, Shape> {
        let found = self.spans.len() - before;
        let records = &self.plan.records;
        if let Err(bad) = split {
            return Err(Shape {
                field: Some((bad - before, self.spans[bad])),
                ..Shape::new(
                    Code::TextAfterQuote,
                    "a delimiter or the record's end after the quote",
                )
            });
        }
        if found == wanted {
            return Ok(None);
        }
        if found < wanted && records.when_short == WhenShort::Null {
            self.spans.resize(before + wanted, Span::MISSING);
            return Ok(Some("too few fields, filled up with nulls"));
        }
        if found > wanted && records.when_long == WhenLong::Drop {
            self.spans.truncate(before + wanted);
            return Ok(Some("too many fields, the surplus dropped"));
        }
        let code = if found < wanted {
            Code::TooFewFields
        } else {
            Code::TooManyFields
        };
        Err(Shape {
            says: format!("{}: {found} of {wanted}", code.words()),
            ..Shape::new(code, &format!("{wanted} fields"))
        })
    }

    /// Rows with faults become rejects, each with all its reasons.
    fn part_good_from_bad(
        &mut self,
        block: &Block,
        file: &FileReading,
        marks: &[u32],
        good: &mut Vec<u32>,
        rejects: &mut Vec<Reject>,
    ) {
        if self.faults.is_empty() {
            good.extend(0..marks.len() as u32);
            return;
        }
        self.faults.sort_by_key(|fault| (fault.row, fault.column));
        let mut next = 0;
        for faults in self.faults.chunk_by(|a, b| a.row == b.row) {
            let row = faults[0].row;
            good.extend(next..row);
            next = row + 1;
            let reasons = faults
                .iter()
                .map(|fault| self.reason(block, file, marks, fault))
                .collect();
            rejects.push(Batch::reject(block, marks[row as usize] as usize, reasons));
        }
        good.extend(next..marks.len() as u32);
        rejects.sort_by_key(|reject| reject.offset);
    }

    fn reason(&self, block: &Block, file: &FileReading, marks: &[u32], fault: &Fault) -> Reason {
        let (place, column) = self.columns[fault.column as usize];
        let (says, expected) = match &column.reader {
            Some(reader) => (reader.sentence(fault.code), reader.expected(fault.code)),
            None => (fault.code.words().to_string(), String::new()),
        };
        let says = match fault.code {
            Code::BadBytes => format!("bytes that do not decode as {}", file.rules.charset.name()),
            _ => says,
        };
        // A field that is missing is told at the place of its record.
        let present = !fault.span.is_missing();
        let at = match present {
            true => fault.span.start(),
            false => block.marks[marks[fault.row as usize] as usize].start as usize,
        };
        Reason {
            code: fault.code,
            column: Some(column.name.clone()),
            field: Some(file.binding[place] as u32 + 1),
            offset: block.place(at),
            value: present.then(|| shown(block, file, column, fault)),
            says,
            expected,
        }
    }
}

/// A value as people read it; bytes that do not decode, and numbers that are
/// bytes, stand in hexadecimal.
fn shown(block: &Block, file: &FileReading, column: &ColumnPlan, fault: &Fault) -> String {
    let raw = block.raw(fault.span.range());
    if column
        .reader
        .as_ref()
        .is_some_and(ColumnReader::reads_bytes)
    {
        return hexadecimal(raw);
    }
    match fault.code {
        Code::BadBytes if block.map.is_some() => visible_short(raw, LONGEST_SHOWN),
        _ => readable(&file.rules.charset, &block.bytes[fault.span.range()]),
    }
}

fn hexadecimal(bytes: &[u8]) -> String {
    let shown = bytes.iter().take(LONGEST_SHOWN / 4);
    shown.map(|b| format!("\\x{b:02X}")).collect()
}

/// A field's text, or its bytes in hexadecimal where they mean nothing.
fn readable(charset: &Charset, value: &[u8]) -> String {
    let mut text = Vec::new();
    match charset.decode(
        &value[..value.len().min(LONGEST_SHOWN * 4)],
        None,
        &mut text,
    ) {
        Ok(_) => visible_short(&text, LONGEST_SHOWN),
        Err(_) if charset.reads_as_ascii() => visible_short(value, LONGEST_SHOWN),
        Err(_) => hexadecimal(value),
    }
}

/// Whether a block's bytes are UTF-8 as they stand.
fn is_clean(block: &Block, charset: &Charset) -> bool {
    match (charset, &block.map) {
        (_, Some(map)) => map.is_clean(),
        (Charset::Utf8, _) => simdutf8::basic::from_utf8(&block.bytes).is_ok(),
        (charset, _) => charset.reads_as_ascii() && block.bytes.is_ascii(),
    }
}

/// What is wrong with the shape of a record.
struct Shape {
    /// None for a later part of a record that has been told already.
    code: Option<Code>,
    says: String,
    expected: String,
    /// The field it is about, 0-based, and where that stands.
    field: Option<(usize, Span)>,
}

impl From<Misfit> for Shape {
    fn from(misfit: Misfit) -> Shape {
        Shape {
            says: misfit.says,
            ..Shape::new(misfit.code, &misfit.expected)
        }
    }
}

impl Shape {
    fn new(code: Code, expected: &str) -> Shape {
        Shape {
            code: Some(code),
            says: code.words().into(),
            expected: expected.into(),
            field: None,
        }
    }

    fn rest() -> Shape {
        Shape {
            code: None,
            says: String::new(),
            expected: String::new(),
            field: None,
        }
    }

    fn reject(self, block: &Block, charset: &Charset, index: usize, mark: &Mark) -> Reject {
        let text = self.field.map_or(mark.range(), |(_, span)| span.range());
        let reasons = self.code.map(|code| Reason {
            code,
            column: None,
            field: self.field.map(|(field, _)| field as u32 + 1),
            offset: block.place(text.start),
            value: Some(readable(charset, &block.bytes[text])),
            says: self.says,
            expected: self.expected,
        });
        Batch::reject(block, index, reasons.into_iter().collect())
    }
}

fn unclosed() -> Shape {
    Shape::new(
        Code::UnclosedQuote,
        "a closing quote before the record's end",
    )
}

fn too_long(longest: usize) -> Shape {
    Shape {
        says: format!("the record is longer than {longest} bytes"),
        ..Shape::new(
            Code::RecordTooLong,
            &format!("at most {longest} bytes, as [records] longest says"),
        )
    }
}
