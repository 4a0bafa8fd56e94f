//! From a block's records to typed rows and rejects.

use crate::columns::{Fault, Fields, Results};
use crate::error::Error;
use crate::escape::visible_short;
use crate::format::RecordFormat;
use crate::pipeline::batch::{Batch, Rows};
use crate::pipeline::encoding_hint;
use crate::pipeline::evaluate::RowEvaluator;
use crate::pipeline::malformed::{Shape, doubtful, too_long, unclosed};
use crate::pipeline::reasons::LONGEST_SHOWN;
use crate::pipeline::run_context::RunContext;
use crate::plan::{Plan, RecordTypePlan};
use crate::reason::{Code, Reject};
use crate::records::block::Block;
use crate::records::delimited::fields;
use crate::records::file_format::FileFormat;
use crate::records::fixed::cut::Cutter;
use crate::records::json::{QuickWay, object};
use crate::records::mark::{Mark, State};
use crate::records::record_types::kind_of;
use crate::records::span::Span;
use crate::repair::{Change, RepairKind};
use crate::source::Charset;
use crate::values::{Cell, ColumnReader};
use crate::words::{WhenLong, WhenNewColumn, WhenShort};

/// Types blocks. Each thread has its own.
pub struct Worker<'p> {
    plan: &'p Plan,
    /// The fields of each kind's records.
    spans: Vec<Vec<Span>>,
    evaluator: RowEvaluator<'p>,
    /// The file that the last hint was given for: one is enough.
    hinted: Option<usize>,
    /// The quick way through objects.
    quick: QuickWay,
    /// A key that the spec does not name, and its line, where that stops the load.
    new_key: Option<(u64, String)>,
}

impl<'p> Worker<'p> {
    /// A worker for `plan`, in a run of which `context` are known.
    pub fn new(plan: &'p Plan, context: &'p RunContext) -> Worker<'p> {
        Worker {
            plan,
            spans: plan.record_types.iter().map(|_| Vec::new()).collect(),
            evaluator: RowEvaluator::new(plan, context),
            hinted: None,
            quick: QuickWay::default(),
            new_key: None,
        }
    }

    /// Reads the records of `batch.block` into the batch's rows and rejects. Where
    /// values are carried from record to record, the rows are still to be settled
    /// in the order of the file.
    ///
    /// # Errors
    /// Bytes that do not decode, where the spec says to stop at them.
    pub fn work(&mut self, batch: &mut Batch) -> Result<(), Error> {
        batch.clear(self.plan.record_types.len());
        self.spans.iter_mut().for_each(Vec::clear);
        let Some(file) = batch.block.file.clone() else {
            return Ok(());
        };
        if self.plan.has_kinds() {
            self.split_by_kind(batch, &file);
        } else {
            self.split(batch, &file);
        }
        if let Some((line, key)) = self.new_key.take() {
            return Err(Error::NewKey {
                file: file.name.clone(),
                line,
                key: visible_short(key.as_bytes(), LONGEST_SHOWN),
            });
        }
        let block = &batch.block;
        let clean = is_clean(block, &file.rules.charset);
        for (number, rows) in batch.parts.iter_mut().enumerate() {
            rows.height = rows.marks.len();
            let kind = &self.plan.record_types[number];
            let cells = kind.read.len() * rows.height;
            if rows.cells.len() < cells {
                rows.cells.resize(cells, Cell::Null);
            }
            self.type_fields(number, block, &file, clean, rows);
            stop_at_bad_bytes(kind, block, &file, rows)?;
        }
        if !clean && self.hinted != Some(file.index) {
            batch.hint = encoding_hint::of(&block.bytes, &file.rules.charset);
            self.hinted = batch.hint.as_ref().map(|_| file.index);
        }
        if !self.plan.carries() {
            self.evaluator.settle(batch);
        }
        Ok(())
    }

    /// Types every field of a kind, each column in turn.
    fn type_fields(
        &self,
        number: usize,
        block: &Block,
        file: &FileFormat,
        clean: bool,
        rows: &mut Rows,
    ) {
        if rows.height == 0 {
            return;
        }
        let kind = &self.plan.record_types[number];
        let shape = &file.shapes[number];
        let input = Fields {
            bytes: &block.bytes,
            spans: &self.spans[number],
            per_record: shape.fields,
            clean,
            charset: &file.rules.charset,
            map: block.map.as_ref(),
            format: &self.plan.records.format,
        };
        let parts = rows.cells.chunks_exact_mut(rows.height);
        for ((slot, place), cells) in kind.read.iter().enumerate().zip(parts) {
            if let (Some(reader), Some(field)) =
                (&kind.columns[*place].reader, shape.binding[*place])
            {
                let out = Results {
                    column: slot as u32,
                    cells,
                    store: &mut rows.store,
                    faults: &mut rows.faults,
                    changes: &mut rows.changes,
                };
                reader.read(&input, field, out);
            }
        }
    }

    /// Splits every record; those of the wrong shape become rejects at once.
    fn split(&mut self, batch: &mut Batch, file: &FileFormat) {
        let Batch {
            block,
            parts,
            rejects,
            ..
        } = batch;
        let (Some(rows), Some(shape)) = (parts.first_mut(), file.shapes.first()) else {
            return;
        };
        // A record without quotes, set apart by one byte: nearly all of them.
        let simple = match &file.rules.format {
            RecordFormat::Delimited(delimited) => delimited.lone_byte(),
            RecordFormat::Fixed(_) | RecordFormat::Json => None,
        };
        if file.rules.format.names_fields() {
            self.split_objects(block, file, rows, rejects);
            return;
        }
        for (index, mark) in block.marks.iter().enumerate() {
            if let (Some(delimiter), State::Plain) = (simple, mark.state)
                && fields::exactly(
                    delimiter,
                    &block.bytes,
                    mark,
                    shape.fields,
                    &mut self.spans[0],
                )
            {
                rows.marks.push(index as u32);
                continue;
            }
            self.one(0, block, file, index, rows, rejects);
        }
    }

    /// The same where records name their fields.
    fn split_objects(
        &mut self,
        block: &Block,
        file: &FileFormat,
        rows: &mut Rows,
        rejects: &mut Vec<Reject>,
    ) {
        let text = simdutf8::basic::from_utf8(&block.bytes).ok();
        for (index, mark) in block.marks.iter().enumerate() {
            match mark.state {
                State::Plain => match self.object(0, block, text, mark) {
                    Ok(()) => rows.marks.push(index as u32),
                    Err(shape) => {
                        rows.misshapen.push(index as u32);
                        rejects.push(shape.reject(block, &file.rules.charset, index, mark));
                    }
                },
                _ => self.one(0, block, file, index, rows, rejects),
            }
        }
    }

    /// The same where records are of several kinds.
    fn split_by_kind(&mut self, batch: &mut Batch, file: &FileFormat) {
        let Batch {
            block,
            parts,
            rejects,
            unknown,
            ..
        } = batch;
        for (index, mark) in block.marks.iter().enumerate() {
            let whole = mark.state.is_whole();
            let kind = match whole {
                true => kind_of(
                    &self.plan.record_types,
                    &file.rules,
                    &block.bytes[mark.range()],
                ),
                // What is no whole record has a reason of its own.
                false => Ok(0),
            };
            match kind {
                Ok(kind) if whole => {
                    self.one(kind, block, file, index, &mut parts[kind], rejects);
                }
                Ok(_) => {
                    unknown.push(index as u32);
                    if let Err(shape) = self.shape(0, block, file, mark, 0, &mut Vec::new()) {
                        rejects.push(shape.reject(block, &file.rules.charset, index, mark));
                    }
                }
                Err(why) => {
                    unknown.push(index as u32);
                    let shape = self.no_kind(why);
                    rejects.push(shape.reject(block, &file.rules.charset, index, mark));
                }
            }
        }
    }

    fn no_kind(&self, why: Option<String>) -> Shape {
        let names = self
            .plan
            .record_types
            .iter()
            .filter_map(|kind| kind.name.as_deref());
        let names: Vec<&str> = names.collect();
        let expected = format!("a record of one of the record types {}", names.join(", "));
        let shape = Shape::new(Code::NoRecordType, &expected);
        match why {
            None => shape,
            Some(why) => Shape {
                says: format!("its record type is unknown: {why}"),
                ..shape
            },
        }
    }

    /// Splits one record with care; it becomes a row or a reject.
    fn one(
        &mut self,
        kind: usize,
        block: &Block,
        file: &FileFormat,
        index: usize,
        rows: &mut Rows,
        rejects: &mut Vec<Reject>,
    ) {
        let mark = &block.marks[index];
        let before = self.spans[kind].len();
        let changes = rows.changes.len();
        let row = rows.marks.len() as u32;
        match self.shape(kind, block, file, mark, row, &mut rows.changes) {
            Ok(()) => rows.marks.push(index as u32),
            Err(shape) => {
                self.spans[kind].truncate(before);
                rows.changes.truncate(changes);
                if shape.code.is_some() {
                    rows.misshapen.push(index as u32);
                }
                rejects.push(shape.reject(block, &file.rules.charset, index, mark));
            }
        }
    }

    /// What cuts records of a fixed layout.
    fn cutter(&self, kind: usize, file: &FileFormat) -> Option<Cutter<'p>> {
        let plan = self.plan;
        plan.record_types[kind].fixed.as_ref().map(|fixed| Cutter {
            fixed,
            when_short: plan.records.when_short,
            when_long: plan.records.when_long,
            by_characters: file.rules.counts_characters(),
        })
    }

    /// Brings a record, which will be `row`, into shape.
    fn shape(
        &mut self,
        kind: usize,
        block: &Block,
        file: &FileFormat,
        mark: &Mark,
        row: u32,
        changes: &mut Vec<Change>,
    ) -> Result<(), Shape> {
        let change = |what| Change {
            row,
            column: None,
            what,
        };
        match mark.state {
            State::Unclosed => Err(unclosed()),
            State::Doubtful(lines) => Err(doubtful(lines)),
            State::TooLong => Err(too_long(self.plan.records.longest)),
            State::TooLongRest => Err(Shape::rest()),
            State::Blank => Err(Shape::new(Code::BlankLine, "a record")),
            State::Plain | State::Quoted | State::Believed(_) | State::Joined => {
                let delimited = match &file.rules.format {
                    RecordFormat::Delimited(delimited) => delimited,
                    RecordFormat::Json => return self.object(kind, block, None, mark),
                    RecordFormat::Fixed(_) => {
                        let Some(cutter) = self.cutter(kind, file) else {
                            return Ok(());
                        };
                        let repaired = |what| changes.push(change(what));
                        let cut = cutter.cut(&block.bytes, mark, &mut self.spans[kind], repaired);
                        return cut.map_err(Shape::from);
                    }
                };
                if mark.state == State::Joined {
                    changes.push(change(RepairKind::Joined));
                }
                let before = self.spans[kind].len();
                let spans = &mut self.spans[kind];
                let split = fields::split(delimited, &block.bytes, mark, spans);
                self.fit(kind, split, before, file.shapes[kind].fields)
                    .map(|repair| {
                        changes.extend(repair.map(change));
                    })
            }
        }
    }

    /// Finds the fields of a record that names them.
    fn object(
        &mut self,
        kind: usize,
        block: &Block,
        text: Option<&str>,
        mark: &Mark,
    ) -> Result<(), Shape> {
        let Some(keys) = &self.plan.record_types[kind].keys else {
            return Ok(());
        };
        let spans = &mut self.spans[kind];
        let (bytes, range) = (&block.bytes, mark.range());
        let split = object::split_text(&mut self.quick, bytes, text, range, keys, spans);
        let split = split.map_err(Shape::from)?;
        let stops = self.plan.records.when_new_column == WhenNewColumn::Stop;
        if let (true, Some(key)) = (stops, split.new_key) {
            let line = block.first_line + u64::from(mark.line);
            self.new_key.get_or_insert((line, key));
        }
        Ok(())
    }

    /// Makes a record's fields as many as the file has, as far as the spec
    /// allows. Returns what was done to it.
    fn fit(
        &mut self,
        kind: usize,
        split: Result<(), usize>,
        before: usize,
        wanted: usize,
    ) -> Result<Option<RepairKind>, Shape> {
        let spans = &mut self.spans[kind];
        let found = spans.len() - before;
        let records = &self.plan.records;
        if let Err(bad) = split {
            return Err(Shape {
                field: Some((bad - before, spans[bad])),
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
            spans.resize(before + wanted, Span::MISSING);
            return Ok(Some(RepairKind::FilledUp));
        }
        if found > wanted && records.when_long == WhenLong::Drop {
            spans.truncate(before + wanted);
            return Ok(Some(RepairKind::SurplusDropped));
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
}

/// The first field whose bytes do not decode ends the load, if the spec says so.
fn stop_at_bad_bytes(
    kind: &RecordTypePlan,
    block: &Block,
    file: &FileFormat,
    rows: &Rows,
) -> Result<(), Error> {
    let stops = |fault: &&Fault| {
        let column = &kind.columns[kind.read[fault.column as usize]];
        let reader = column.reader.as_ref();
        fault.code == Code::BadBytes && reader.is_some_and(ColumnReader::stops_at_bad_bytes)
    };
    let first = rows
        .faults
        .iter()
        .filter(stops)
        .min_by_key(|fault| fault.span.start());
    let Some(fault) = first else {
        return Ok(());
    };
    let mark = &block.marks[rows.marks[fault.row as usize] as usize];
    Err(Error::Undecodable {
        file: file.name.clone(),
        line: block.first_line + u64::from(mark.line),
        value: visible_short(block.raw(fault.span.range()), LONGEST_SHOWN),
        encoding: file.rules.charset.name(),
    })
}

/// Whether a block's bytes are UTF-8 as they stand.
fn is_clean(block: &Block, charset: &Charset) -> bool {
    match (charset, &block.map) {
        (_, Some(map)) => map.is_clean(),
        (Charset::Utf8, _) => simdutf8::basic::from_utf8(&block.bytes).is_ok(),
        (charset, _) => charset.reads_as_ascii() && block.bytes.is_ascii(),
    }
}
