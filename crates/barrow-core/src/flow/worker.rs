//! From a block's records to typed rows and rejects.

use super::batch::{Batch, Rows};
use crate::records::block::{Block, Mark, State};
use crate::records::fields::{self, Span};
use crate::records::file::FileReading;
use crate::rejects::{Code, Reason, Reject};
use crate::spec::plan::{ColumnPlan, Plan, WhenLong, WhenShort};
use crate::tally::Repairs;
use crate::values::{Cell, Fault, Fields};
use crate::visible::visible_short;

/// A value in a reason is cut after so many characters; the reject's own bytes
/// are whole.
const LONGEST_SHOWN: usize = 200;

/// So many records are typed at once, column by column: their bytes and spans
/// stay in a core's first-level cache. Measured: the whole block at once takes
/// 1.1 times as long.
const AT_ONCE: usize = 256;

/// Types blocks. Each thread has its own.
pub struct Worker<'p> {
    plan: &'p Plan,
    /// The loaded columns, each with its place in the plan.
    columns: Vec<(usize, &'p ColumnPlan)>,
    spans: Vec<Span>,
    faults: Vec<Fault>,
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
        }
    }

    /// Reads the records of `batch.block` into the batch's rows and rejects.
    pub fn work(&mut self, batch: &mut Batch) {
        let Batch {
            block,
            rows,
            rejects,
            repairs,
            ..
        } = batch;
        rows.clear();
        rejects.clear();
        repairs.clear();
        self.spans.clear();
        self.faults.clear();
        let Some(file) = block.file.clone() else {
            return;
        };
        self.split(block, &file, &mut rows.marks, rejects, repairs);
        rows.height = rows.marks.len();
        let cells = self.columns.len() * rows.height;
        if rows.cells.len() < cells {
            rows.cells.resize(cells, Cell::Null);
        }
        self.type_fields(block, &file, rows);
        self.part_good_from_bad(block, &file, &rows.marks, &mut rows.good, rejects);
    }

    /// Types every field, some records at a time and each column in turn.
    fn type_fields(&mut self, block: &Block, file: &FileReading, rows: &mut Rows) {
        if rows.height == 0 {
            return;
        }
        let mut input = Fields {
            bytes: &block.bytes,
            spans: &[],
            per_record: file.fields,
            first_row: 0,
            clean: simdutf8::basic::from_utf8(&block.bytes).is_ok(),
            delimited: &self.plan.records.delimited,
        };
        for spans in self.spans.chunks(file.fields * AT_ONCE) {
            input.spans = spans;
            let first = input.first_row as usize;
            let last = first + spans.len() / file.fields;
            let parts = rows.cells.chunks_exact_mut(rows.height);
            for (number, ((place, column), cells)) in self.columns.iter().zip(parts).enumerate() {
                if let Some(reader) = &column.reader {
                    let (cells, field) = (&mut cells[first..last], file.binding[*place]);
                    let (store, faults) = (&mut rows.store, &mut self.faults);
                    reader.read(&input, field, number as u32, cells, store, faults);
                }
            }
            input.first_row = last as u32;
        }
    }

    /// Splits every record; those of the wrong shape become rejects at once.
    fn split(
        &mut self,
        block: &Block,
        file: &FileReading,
        marks: &mut Vec<u32>,
        rejects: &mut Vec<Reject>,
        repairs: &mut Repairs,
    ) {
        for (index, mark) in block.marks.iter().enumerate() {
            let before = self.spans.len();
            let shape = match mark.state {
                State::Plain | State::Quoted => {
                    let split = fields::split(
                        &self.plan.records.delimited,
                        &block.bytes,
                        mark,
                        &mut self.spans,
                    );
                    self.fit(split, before, file.fields, |what| {
                        repairs.note(what, None, block.first_line + u64::from(mark.line));
                    })
                }
                State::Unclosed => Err(unclosed()),
                State::TooLong => Err(too_long(self.plan.records.longest)),
                State::TooLongRest => Err(Shape::rest()),
                State::Blank => Err(Shape::new(Code::BlankLine, "a record")),
            };
            match shape {
                Ok(()) => marks.push(index as u32),
                Err(shape) => {
                    self.spans.truncate(before);
                    rejects.push(shape.reject(block, index, mark));
                }
            }
        }
    }

    /// Makes a record's fields as many as the file has, as far as the spec allows.
    #[inline]
    fn fit(
        &mut self,
        split: Result<(), usize>,
        before: usize,
        wanted: usize,
        repaired: impl FnOnce(&'static str),
    ) -> Result<(), Shape> {
        let found = self.spans.len() - before;
        if split.is_ok() && found == wanted {
            return Ok(());
        }
        self.misfit(split, before, found, wanted, repaired)
    }

    #[cold]
    fn misfit(
        &mut self,
        split: Result<(), usize>,
        before: usize,
        found: usize,
        wanted: usize,
        repaired: impl FnOnce(&'static str),
    ) -> Result<(), Shape> {
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
        if found < wanted && records.when_short == WhenShort::Null {
            repaired("too few fields, filled up with nulls");
            self.spans.resize(before + wanted, Span::MISSING);
            return Ok(());
        }
        if found > wanted && records.when_long == WhenLong::Drop {
            repaired("too many fields, the surplus dropped");
            self.spans.truncate(before + wanted);
            return Ok(());
        }
        let code = if found < wanted {
            Code::TooFewFields
        } else {
            Code::TooManyFields
        };
        Err(Shape {
            code: Some(code),
            says: format!("{}: {found} of {wanted}", code.words()),
            expected: format!("{wanted} fields"),
            field: None,
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
                .map(|fault| self.reason(block, file, fault))
                .collect();
            rejects.push(Batch::reject(block, marks[row as usize] as usize, reasons));
        }
        good.extend(next..marks.len() as u32);
        rejects.sort_by_key(|reject| reject.offset);
    }

    fn reason(&self, block: &Block, file: &FileReading, fault: &Fault) -> Reason {
        let (place, column) = self.columns[fault.column as usize];
        let value = &block.bytes[fault.span.range()];
        let mut code = fault.code;
        // What a number or a date makes of broken bytes is beside the point.
        if code != Code::Required && std::str::from_utf8(value).is_err() {
            code = Code::BadBytes;
        }
        let (says, expected) = match &column.reader {
            Some(reader) => (reader.sentence(code), reader.expected(code)),
            None => (code.words().to_string(), String::new()),
        };
        Reason {
            code,
            column: Some(column.name.clone()),
            field: Some(file.binding[place] as u32 + 1),
            offset: block.offset
                + if fault.span.is_missing() {
                    0
                } else {
                    fault.span.start() as u64
                },
            value: (!fault.span.is_missing()).then(|| visible_short(value, LONGEST_SHOWN)),
            says,
            expected,
        }
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

    fn reject(self, block: &Block, index: usize, mark: &Mark) -> Reject {
        let text = self.field.map_or(mark.range(), |(_, span)| span.range());
        let reasons = self.code.map(|code| Reason {
            code,
            column: None,
            field: self.field.map(|(field, _)| field as u32 + 1),
            offset: block.offset + text.start as u64,
            value: Some(visible_short(&block.bytes[text], LONGEST_SHOWN)),
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
