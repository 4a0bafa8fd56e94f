//! Assembles records: fields set apart and quoted, or at their widths.

mod conditions;
mod delimited;
mod fixed;
mod json;
mod written;

use self::conditions::Conditions;
use self::json::Json;
pub use self::written::{Unfit, Written};
use super::column::{Changed, ColumnWriter, Field};
use super::encode::{Encode, Lacking};
use super::fixed::Fixed;
use super::marks::Marks;
use super::refusal::{Refusal, refusal};
use crate::export::row_typer::{Misfit, RowBatch};

use crate::format::{DelimitedFormat, RecordEnd, RecordFormat};
use crate::plan::{Place, Plan, RecordTypePlan};
use crate::reason::Code;
use crate::records::ending::FileEnding;
use crate::records::file_format::{FieldBinding, FileFormat};
use crate::records::framing::reads_as_one;
use crate::records::rules::Rules;
use crate::source::Charset;
use crate::values::{Cell, Valued};
use crate::words::{Header, QuoteWhen, WhenUnencodable};

/// Writes the records of a format.
pub struct RecordWriter<'p> {
    plan: &'p Plan,
    columns: Vec<ColumnWriter<'p>>,
    /// For each field of a record, the column that it is, if it is one's.
    fields: Vec<Option<usize>>,
    layout: Layout,
    encode: Encode,
    charset: Charset,
    ending: Vec<u8>,
    /// A record's end as text.
    ending_text: String,
    /// The first character of a record's end.
    ends_with: Option<char>,
    /// Whether the first record's end tells that of all others.
    is_told_by_first: bool,
    /// The written columns that are summed.
    summed: Vec<usize>,
    /// The written column that parts records from others.
    parted_by: Option<usize>,
    /// What must hold for a record, or it would not be loaded again.
    conditions: Conditions<'p>,
    /// How a delimited file is read again, in UTF-8.
    reread: Option<FileFormat>,
}

enum Layout {
    Delimited(Marks),
    Fixed(Fixed),
    Json(Json),
}

impl<'p> RecordWriter<'p> {
    /// For the format of a checked spec.
    ///
    /// # Errors
    /// Everything that keeps the format from being written.
    pub fn new(plan: &'p Plan) -> Result<RecordWriter<'p>, Vec<String>> {
        let [kind] = plan.record_types.as_slice() else {
            return Err(vec![
                "the spec has several record types, and one export writes one record type".into(),
            ]);
        };
        let mut problems = Vec::new();
        if plan.has_kinds() {
            problems.push("the spec tells record types apart, which an export cannot write".into());
        }
        let charset = plan.source.charset.clone().unwrap_or(Charset::Utf8);
        let columns = columns(kind, plan, &mut problems);
        let stand_in = (plan.export.when_unencodable == WhenUnencodable::Replace)
            .then(|| plan.export.stand_in.clone());
        let encode = Encode::new(&charset, stand_in);
        let ending = match &plan.records.ending {
            RecordEnd::Auto => "\n".to_string(),
            RecordEnd::Text(text) => text.clone(),
            RecordEnd::None => String::new(),
        };
        let mut bytes = Vec::new();
        if encode.write(&ending, &mut bytes).is_err() {
            problems.push("the encoding lacks a character of the record's end".into());
        }
        let layout = match &plan.records.format {
            RecordFormat::Delimited(format) => Layout::Delimited(Marks::new(plan, format, &ending)),
            RecordFormat::Fixed(format) => {
                let written = Fixed::new(plan, kind, *format, &encode, &ending, &mut problems);
                Layout::Fixed(written)
            }
            RecordFormat::Json => {
                let nulls = plan.export.nulls;
                Layout::Json(Json::new(kind, &fields(kind), nulls, &mut problems))
            }
        };
        let reread = reread(plan, kind, &ending);
        let writer = RecordWriter {
            layout,
            ends_with: ending.chars().next(),
            fields: fields(kind),
            columns,
            encode,
            charset,
            ending: bytes,
            ending_text: ending,
            is_told_by_first: plan.records.ending == RecordEnd::Auto
                && plan.records.header == Header::None
                && plan.export.preamble.is_empty(),
            plan,
            summed: Vec::new(),
            parted_by: None,
            conditions: Conditions::of(kind),
            reread,
        };
        match problems.is_empty() {
            true => Ok(writer),
            false => Err(problems),
        }
    }

    /// Sums these written columns.
    pub fn summing(self, summed: Vec<usize>) -> RecordWriter<'p> {
        RecordWriter { summed, ..self }
    }

    /// Parts records by a written column.
    ///
    /// # Errors
    /// No column that is written has the name.
    pub fn parting_by(self, name: &str) -> Result<RecordWriter<'p>, String> {
        let at = self.names().position(|own| own == name);
        let at = at.ok_or_else(|| format!("{name} is not a column that is written"))?;
        Ok(RecordWriter {
            parted_by: Some(at),
            ..self
        })
    }

    /// The names of the columns that are written, as the table has them.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.columns.iter().map(|column| column.plan.name.as_str())
    }

    /// The columns that are written.
    pub fn columns(&self) -> impl Iterator<Item = &crate::plan::ColumnPlan> {
        self.columns.iter().map(|column| column.plan)
    }

    /// A line that is no record, such as a title.
    ///
    /// # Errors
    /// The encoding lacks a character of it.
    pub fn line(&self, text: &str) -> Result<Vec<u8>, String> {
        let mut bytes = Vec::new();
        self.encode.write(text, &mut bytes).map_err(|Lacking(c)| {
            format!(
                "{} lacks the character {c:?} of a title or a column's name",
                self.charset.name()
            )
        })?;
        bytes.extend_from_slice(&self.ending);
        Ok(bytes)
    }

    /// The byte order mark of the encoding.
    ///
    /// # Errors
    /// The encoding has none.
    pub fn byte_order_mark(&self) -> Result<Vec<u8>, String> {
        let mut bytes = Vec::new();
        let written = self.encode.write("\u{FEFF}", &mut bytes);
        match written {
            Ok(0) => Ok(bytes),
            _ => Err(format!("{} has no byte order mark", self.charset.name())),
        }
    }

    /// The header's line; none where the format has no header.
    ///
    /// # Errors
    /// A name that would not be read as one.
    pub fn header(&self) -> Result<Option<Vec<u8>>, String> {
        if self.plan.records.header == Header::None {
            return Ok(None);
        }
        let name = |field: &Option<usize>| match field.map(|at| self.columns[at].plan) {
            Some(column) => match &column.place {
                Place::Named(name) => name.clone(),
                _ => column.name.clone(),
            },
            None => String::new(),
        };
        let names: Vec<String> = self.fields.iter().map(name).collect();
        let line = match &self.layout {
            Layout::Delimited(marks) => delimited::header(marks, &names)?,
            Layout::Fixed(fixed) => self.fixed_header(fixed, &names)?,
            // Each record names its fields.
            Layout::Json(_) => return Ok(None),
        };
        self.line(&line).map(Some)
    }

    /// Whether a character may end a record.
    fn breaks(&self, c: char) -> bool {
        !self.ending.is_empty() && (c == '\n' || c == '\r' || Some(c) == self.ends_with)
    }

    /// Writes all rows, which are numbered from `first` on for people. `text` is what
    /// [`RawValue::Placed`](super::RawValue::Placed) values stand in.
    pub fn write_all(&self, cells: &RowBatch, text: &[u8], first: u64, out: &mut Written) {
        let numbered = (0..cells.height() as u32).zip(first..);
        self.write(cells, text, numbered, out);
    }

    /// Writes rows: each with its place among the cells, and its number for people. `text`
    /// is what [`RawValue::Placed`](super::RawValue::Placed) values stand in.
    pub(super) fn write(
        &self,
        cells: &RowBatch,
        text: &[u8],
        rows: impl Iterator<Item = (u32, u64)>,
        out: &mut Written,
    ) {
        let mut scratch = Scratch::default();
        let mut misfits = cells.misfits.as_slice();
        for (row, number) in rows {
            let passed = misfits.partition_point(|m| m.row < row);
            misfits = &misfits[passed..];
            let own = misfits.partition_point(|m| m.row == row);
            let start = out.bytes.len();
            let line = Line {
                cells: cells.row(row as usize),
                text,
                store: &cells.store,
                misfits: &misfits[..own],
            };
            scratch.changes.clear();
            scratch.replaced = 0;
            match self.record(&line, &mut scratch, &mut out.bytes) {
                Ok(()) => {
                    self.note(&line, number, &scratch, out);
                    out.ends.push(out.bytes.len() as u32);
                }
                Err((column, why)) => {
                    out.bytes.truncate(start);
                    out.unfit.push(Unfit {
                        row: number,
                        column: column.map(|at| self.columns[at].plan.name.clone()),
                        why,
                    });
                }
            }
        }
    }

    /// Notes what was changed, and what the lines around the records, or the files, ask for.
    fn note(&self, line: &Line<'_>, number: u64, scratch: &Scratch, out: &mut Written) {
        out.replaced += scratch.replaced;
        for (column, changed) in &scratch.changes {
            if let Some(what) = changed.what {
                let name = &self.columns[*column].plan.name;
                out.repairs.note(what, Some(name), number);
            }
        }
        for column in &self.summed {
            let value = scratch.written(line, *column);
            out.summed.push(match value.cell {
                Cell::Int(n) => i128::from(n),
                _ => value.decimal().unwrap_or(0),
            });
        }
        if let Some(column) = self.parted_by {
            let value = scratch.written(line, column);
            let ty = self.columns[column].plan.ty;
            let key = crate::values::shown(value.cell, ty, value.block, value.store);
            out.keys.push(key.unwrap_or_default());
        }
    }

    fn record(
        &self,
        line: &Line<'_>,
        scratch: &mut Scratch,
        out: &mut Vec<u8>,
    ) -> Result<(), Unwritten> {
        if let Some(why) = self.conditions.unmet(line) {
            return Err((None, why));
        }
        let start = out.len();
        match &self.layout {
            Layout::Delimited(marks) => self.delimited(marks, line, scratch, out)?,
            Layout::Fixed(fixed) => self.fixed(fixed, line, scratch, out)?,
            Layout::Json(json) => self.json(json, line, scratch, out)?,
        }
        if self.is_told_by_first && out[start..].contains(&b'\r') {
            let says = "holds a carriage return, by which the records' end would be told if it came \
                        first: say [records] ending";
            return Err((None, refusal(Code::NotAllowed, says, "")));
        }
        let length = out.len() - start;
        if length > self.plan.records.longest {
            let says = format!("a record of {length} bytes, longer than [records] max_record_size");
            return Err((None, refusal(Code::RecordTooLong, says, "")));
        }
        out.extend_from_slice(&self.ending);
        Ok(())
    }

    /// A record over several lines that would be taken for several records.
    fn is_one_record(&self, record: &[u8]) -> Result<(), Refusal> {
        let Some(file) = &self.reread else {
            return Ok(());
        };
        let ending = self.ending_text.as_bytes();
        let is_of_lines = memchr::memchr2(b'\n', b'\r', record).is_some()
            || memchr::memmem::find(record, ending).is_some();
        if !is_of_lines {
            return Ok(());
        }
        let whole = [record, ending].concat();
        match reads_as_one(self.plan, file, &whole) {
            true => Ok(()),
            false => {
                let spans_lines = |d: &DelimitedFormat| d.span_lines;
                let says = match self.plan.export.quote_when {
                    _ if !self.plan.records.format.delimited().is_none_or(spans_lines) => {
                        "holds a line end, and [delimited] span_lines is false"
                    }
                    QuoteWhen::Always => {
                        "has lines that look like records, and a null without quotes, so a reader \
                         would take a quote for a stray one"
                    }
                    _ => {
                        "has lines that look like records, so a reader would take a quote for a \
                         stray one: say [delimited] quote_when = \"always\""
                    }
                };
                Err(refusal(
                    Code::NotAllowed,
                    says,
                    &String::from_utf8_lossy(record),
                ))
            }
        }
    }

    /// Writes one field, unquoted and in UTF-8 or in bytes of its own.
    fn field(
        &self,
        line: &Line<'_>,
        place: usize,
        out: &mut Vec<u8>,
        scratch: &mut Scratch,
    ) -> Result<Field, Unwritten> {
        let writer = &self.columns[place];
        let mut change = |changed| scratch.changes.push((place, changed));
        let misfit = line.misfits.iter().find(|m| m.column as usize == place);
        let written = match misfit {
            Some(misfit) => writer.write_misfit(misfit, out, &mut change),
            None => writer.write(line.value(place), out, &mut change),
        };
        written.map_err(|why| (Some(place), why))
    }

    fn encoded(&self, text: &str, out: &mut Vec<u8>) -> Result<u64, Refusal> {
        self.encode.write(text, out).map_err(|Lacking(c)| {
            let says = format!("{} lacks the character {c:?}", self.charset.name());
            refusal(Code::BadBytes, says, text)
        })
    }
}

/// How a delimited file is read again, in UTF-8.
fn reread(plan: &Plan, kind: &RecordTypePlan, ending: &str) -> Option<FileFormat> {
    plan.records.format.delimited()?;
    let fields = fields(kind);
    let mut loaded = 0;
    let binding = kind.columns.iter().map(|column| {
        let at = (column.load && column.place != Place::Computed).then_some(loaded);
        loaded += usize::from(at.is_some());
        fields
            .iter()
            .position(|field| field.is_some() && *field == at)
    });
    let binding = binding.collect();
    Some(FileFormat {
        index: 0,
        name: String::new(),
        rules: Rules::new(plan, &Charset::Utf8, "").ok()?,
        ending: match ending {
            "\n" => FileEnding::Line,
            other => FileEnding::Exactly(other.as_bytes().to_vec()),
        },
        lead: Vec::new(),
        file_name: String::new(),
        is_rejects: false,
        from: 0,
        shapes: vec![FieldBinding {
            fields: fields.len(),
            binding,
        }],
        notes: Vec::new(),
    })
}

fn blank() -> Refusal {
    let says = "the record would be a blank line, which is not a record";
    refusal(Code::BlankLine, says, "")
}

/// Text that was written in UTF-8.
fn text_of(place: Option<usize>, bytes: &[u8]) -> Result<&str, Unwritten> {
    let says = "bytes that are not text";
    std::str::from_utf8(bytes).map_err(|_| (place, refusal(Code::BadBytes, says, "")))
}

/// Why a record was not written, and the written column that it is about, if one.
type Unwritten = (Option<usize>, Refusal);

/// A row of cells.
struct Line<'l> {
    cells: &'l [Cell],
    text: &'l [u8],
    store: &'l [u8],
    misfits: &'l [Misfit],
}

impl<'l> Line<'l> {
    fn value(&self, column: usize) -> Valued<'l> {
        Valued {
            cell: self.cells[column],
            block: self.text,
            store: self.store,
        }
    }
}

/// Room that is used again and again, and what is known of the record so far.
#[derive(Default)]
struct Scratch {
    field: String,
    raw: Vec<u8>,
    bytes: Vec<u8>,
    /// Values of the record that are written otherwise than the cell says.
    changes: Vec<(usize, Changed)>,
    /// Characters of it that were replaced by the stand-in.
    replaced: u64,
}

impl Scratch {
    /// A column's value as it was written.
    fn written<'w>(&'w self, line: &Line<'w>, column: usize) -> Valued<'w> {
        let changed = self.changes.iter().find(|(at, _)| *at == column);
        changed.map_or_else(|| line.value(column), |(_, changed)| changed.value())
    }
}

fn columns<'p>(
    kind: &'p RecordTypePlan,
    plan: &Plan,
    problems: &mut Vec<String>,
) -> Vec<ColumnWriter<'p>> {
    let width = |place: &Place| match (place, &kind.fixed) {
        (Place::Field(field), Some(fixed)) => fixed.slices.get(*field).map(|(_, wide)| *wide),
        _ => None,
    };
    let delimited = plan.records.format.delimited();
    let can_quote = plan.records.format.names_fields()
        || delimited.is_some_and(|delimited| !delimited.quote.is_empty());
    let written = kind.loaded().filter(|c| c.place != Place::Computed);
    written
        .filter_map(|column| {
            let writer = ColumnWriter::new(column, width(&column.place), can_quote);
            writer.map_err(|problem| problems.push(problem)).ok()
        })
        .collect()
}

/// For each field of a record, the written column that it is.
fn fields(kind: &RecordTypePlan) -> Vec<Option<usize>> {
    let mut fields: Vec<Option<usize>> = Vec::new();
    let mut written = 0;
    for column in &kind.columns {
        let own = column.load.then_some(written);
        match column.place {
            Place::Computed => continue,
            Place::Named(_) | Place::Key(_) => fields.push(own),
            Place::Field(at) => {
                if fields.len() <= at {
                    fields.resize(at + 1, None);
                }
                fields[at] = own;
            }
        }
        written += usize::from(column.load);
    }
    fields
}
