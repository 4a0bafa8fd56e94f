//! Assembles records: fields set apart and quoted, or at their widths.

use std::ops::Range;

use super::column::{ColumnWriter, Field};
use super::encode::{Encode, Lacking};
use crate::rejects::Code;
use crate::source::Charset;
use crate::spec::plan::{
    Align, EndingPlan, Escape, Header, KindPlan, Measure, Place, Plan, QuoteWhen, QuotedEmpty,
    WhenBlank, WhenUnencodable,
};
use crate::tally::Repairs;
use crate::values::{Cell, Valued, What};
use crate::visible::visible_short;

/// Why a value cannot be written so that it is read back the same.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// The reason's code.
    pub code: Code,
    /// In plain words.
    pub says: String,
    /// The value.
    pub value: String,
}

/// A row that cannot be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unfit {
    /// The row, among those that were to be written.
    pub row: u64,
    /// The column, where it is about one.
    pub column: Option<String>,
    /// Why.
    pub why: Refusal,
}

/// Typed rows to write, column by column.
#[derive(Debug, Clone, Copy)]
pub struct Grid<'g> {
    /// All cells of the first column, then of the second, and so on.
    pub cells: &'g [Cell],
    /// How many cells each column has.
    pub height: usize,
    /// For each column that is written, its place among those of the cells.
    pub columns: &'g [usize],
    /// The block that pieces are of.
    pub block: &'g [u8],
    /// The store that pieces are of.
    pub store: &'g [u8],
    /// Values that are none of their column's type, in the order of their rows.
    pub misfits: &'g [Misfit],
}

/// A value of a database that is none of its column's type in the spec.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Misfit {
    /// Its row in the grid.
    pub row: u32,
    /// Its column, as a place among those of the cells.
    pub column: u32,
    /// It, in the standard notation.
    pub text: String,
    /// Whether it is bytes that no text stands for.
    pub is_bytes: bool,
}

/// Records as they were written.
#[derive(Debug, Default)]
pub struct Written {
    /// Their bytes.
    pub bytes: Vec<u8>,
    /// Where each ends.
    pub ends: Vec<u32>,
    /// The rows that could not be written, in order.
    pub unfit: Vec<Unfit>,
    /// What the policies changed.
    pub repairs: Repairs,
    /// Characters that gave way to the stand-in.
    pub replaced: u64,
    /// For each record, the values of the columns that are summed, times ten to the power
    /// of their scales.
    pub summed: Vec<i128>,
    /// For each record, the value of the column that parts it from others, if one does.
    pub keys: Vec<String>,
}

impl Written {
    /// Makes room for other records.
    pub fn clear(&mut self) {
        self.bytes.clear();
        self.ends.clear();
        self.unfit.clear();
        self.repairs.clear();
        self.replaced = 0;
        self.summed.clear();
        self.keys.clear();
    }
}

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
    /// Whether the first record's end tells that of all others.
    is_told_by_first: bool,
    /// The written columns that are summed.
    summed: Vec<usize>,
    /// The written column that parts records from others.
    parted_by: Option<usize>,
}

enum Layout {
    Delimited(Marks),
    Fixed(Vec<Slot>, usize),
}

/// What sets fields apart.
struct Marks {
    delimiter: String,
    quote: Option<char>,
    /// What an escape is, where quotes are not doubled.
    escape: Option<String>,
    comment: Option<String>,
    /// The record's end as text.
    ending: String,
    when: QuoteWhen,
    is_blank_skipped: bool,
    /// The bytes for which text may have to be quoted.
    special: Box<[bool; 256]>,
    /// Whether a field that has none of them is never quoted.
    is_quick: bool,
}

/// A field of a fixed layout.
struct Slot {
    field: usize,
    place: Range<usize>,
    align: Align,
    pad: char,
}

impl<'p> RecordWriter<'p> {
    /// For the format of a checked spec.
    ///
    /// # Errors
    /// Everything that keeps the format from being written.
    pub fn new(plan: &'p Plan) -> Result<RecordWriter<'p>, Vec<String>> {
        let [kind] = plan.kinds.as_slice() else {
            return Err(vec![
                "the spec has several kinds of record, and one export writes one kind".into(),
            ]);
        };
        let mut problems = Vec::new();
        if plan.has_kinds() {
            problems
                .push("the spec tells kinds of record apart, which an export cannot write".into());
        }
        let charset = plan.source.charset.clone().unwrap_or(Charset::Utf8);
        let columns = columns(kind, plan, &mut problems);
        let stand_in = (plan.export.when_unencodable == WhenUnencodable::Replace)
            .then(|| plan.export.stand_in.clone());
        let encode = Encode::new(&charset, stand_in);
        let ending = match &plan.records.ending {
            EndingPlan::Auto => "\n".to_string(),
            EndingPlan::Text(text) => text.clone(),
            EndingPlan::None => String::new(),
        };
        let mut bytes = Vec::new();
        if encode.write(&ending, &mut bytes).is_err() {
            problems.push("the encoding lacks a character of the record's end".into());
        }
        let writer = RecordWriter {
            layout: layout(plan, kind, ending),
            fields: fields(kind),
            columns,
            encode,
            charset,
            ending: bytes,
            is_told_by_first: plan.records.ending == EndingPlan::Auto
                && plan.records.header == Header::None
                && plan.export.preamble.is_empty(),
            plan,
            summed: Vec::new(),
            parted_by: None,
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
        let at = at.ok_or_else(|| format!("{name} is no column that is written"))?;
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
    pub fn columns(&self) -> impl Iterator<Item = &crate::spec::plan::ColumnPlan> {
        self.columns.iter().map(|column| column.plan)
    }

    /// A line that is no record, such as a title.
    ///
    /// # Errors
    /// The first character that the encoding lacks.
    pub fn line(&self, text: &str) -> Result<Vec<u8>, Lacking> {
        let mut bytes = Vec::new();
        self.encode.write(text, &mut bytes)?;
        bytes.extend_from_slice(&self.ending);
        Ok(bytes)
    }

    /// The byte order mark of the encoding.
    pub fn byte_order_mark(&self) -> Vec<u8> {
        let mut bytes = Vec::new();
        // An encoding without one lacks the character.
        let _ = self.encode.write("\u{FEFF}", &mut bytes);
        bytes
    }

    /// The header's line; none where the format has no header.
    ///
    /// # Errors
    /// The first character that the encoding lacks.
    pub fn header(&self, plan: &Plan) -> Result<Option<Vec<u8>>, Lacking> {
        if plan.records.header == Header::None {
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
        let mut line = String::new();
        match &self.layout {
            Layout::Delimited(marks) => {
                for (at, name) in names.iter().enumerate() {
                    if at > 0 {
                        line.push_str(&marks.delimiter);
                    }
                    let quoted = marks.when != QuoteWhen::Needed || marks.must_quote(name, at == 0);
                    marks.put(name, quoted, &mut line);
                }
            }
            Layout::Fixed(slots, width) => {
                for slot in slots {
                    pad_to(&mut line, slot.place.start);
                    let name = names.get(slot.field).map_or("", String::as_str);
                    line.extend(name.chars().take(slot.place.len()));
                }
                pad_to(&mut line, *width);
            }
        }
        self.line(&line).map(Some)
    }

    /// Writes rows of a grid. `first` is the number of the first of them.
    pub fn write(
        &self,
        grid: &Grid<'_>,
        rows: impl Iterator<Item = u32>,
        first: u64,
        out: &mut Written,
    ) {
        let mut scratch = Scratch::default();
        let mut misfits = grid.misfits;
        for (at, row) in rows.enumerate() {
            let passed = misfits.partition_point(|m| m.row < row);
            misfits = &misfits[passed..];
            let own = misfits.partition_point(|m| m.row == row);
            let start = out.bytes.len();
            let line = Line {
                grid,
                row: row as usize,
                misfits: &misfits[..own],
                number: first + at as u64,
            };
            match self.record(&line, &mut scratch, out) {
                Ok(()) => {
                    self.note(&line, out);
                    out.ends.push(out.bytes.len() as u32);
                }
                Err((column, why)) => {
                    out.bytes.truncate(start);
                    out.unfit.push(Unfit {
                        row: line.number,
                        column: column.map(|at| self.columns[at].plan.name.clone()),
                        why,
                    });
                }
            }
        }
    }

    /// Notes what the lines around the records, or the files, ask for.
    fn note(&self, line: &Line<'_>, out: &mut Written) {
        for column in &self.summed {
            let value = line.value(line.grid.columns[*column]);
            out.summed.push(match value.cell {
                Cell::Int(n) => i128::from(n),
                _ => value.decimal().unwrap_or(0),
            });
        }
        if let Some(column) = self.parted_by {
            let value = line.value(line.grid.columns[column]);
            let ty = self.columns[column].plan.ty;
            let key = crate::values::shown(value.cell, ty, value.block, value.store);
            out.keys.push(key.unwrap_or_default());
        }
    }

    fn record(
        &self,
        line: &Line<'_>,
        scratch: &mut Scratch,
        out: &mut Written,
    ) -> Result<(), (Option<usize>, Refusal)> {
        let start = out.bytes.len();
        match &self.layout {
            Layout::Delimited(marks) => self.delimited(marks, line, scratch, out)?,
            Layout::Fixed(slots, width) => self.fixed(slots, *width, line, scratch, out)?,
        }
        if self.is_told_by_first && out.bytes[start..].contains(&b'\r') {
            let says = "holds a carriage return, by which the records' end would be told if it came \
                        first: say [records] ending";
            return Err((None, refusal(Code::NotAllowed, says, "")));
        }
        let length = out.bytes.len() - start;
        if length > self.plan.records.longest {
            let says = format!("a record of {length} bytes, longer than [records] longest");
            return Err((None, refusal(Code::RecordTooLong, says, "")));
        }
        out.bytes.extend_from_slice(&self.ending);
        Ok(())
    }

    fn delimited(
        &self,
        marks: &Marks,
        line: &Line<'_>,
        scratch: &mut Scratch,
        out: &mut Written,
    ) -> Result<(), (Option<usize>, Refusal)> {
        let plain = self.encode.is_plain();
        // A misfit's cell is null, and not its value.
        let quick = plain && marks.is_quick && line.misfits.is_empty();
        let start = out.bytes.len();
        scratch.line.clear();
        for (at, column) in self.fields.iter().enumerate() {
            if at > 0 {
                match plain {
                    true => out.bytes.extend_from_slice(marks.delimiter.as_bytes()),
                    false => scratch.line.push_str(&marks.delimiter),
                }
            }
            let Some(place) = *column else { continue };
            let writer = &self.columns[place];
            let quickly = quick && (at > 0 || marks.comment.is_none()) && {
                let value = line.value(line.grid.columns[place]);
                writer.write_quickly(value, &marks.special, &mut out.bytes)
            };
            if quickly {
                continue;
            }
            let from = out.bytes.len();
            let field = self.field(line, place, &mut out.bytes, &mut out.repairs)?;
            // Nothing between two quotes may be read as null.
            let loses = field.is_empty_text && !writer.keeps_empty();
            let always = match marks.when {
                _ if loses => false,
                QuoteWhen::Needed => false,
                QuoteWhen::Text => writer.plan.ty.is_text() && !field.is_null,
                QuoteWhen::Always => !field.is_null,
            };
            if plain && !field.is_free && !always {
                continue;
            }
            // What comes here may have to be quoted, or encoded.
            scratch.text.clear();
            scratch
                .text
                .push_str(&String::from_utf8_lossy(&out.bytes[from..]));
            let must = (field.is_empty_text && writer.keeps_empty())
                || marks.must_quote(&scratch.text, at == 0);
            if plain && !must && !always {
                continue;
            }
            out.bytes.truncate(from);
            if must && marks.quote.is_none() {
                marks.escapes(&scratch.text, at == 0).map_err(|says| {
                    (Some(place), refusal(Code::NotAllowed, says, &scratch.text))
                })?;
            }
            scratch.field.clear();
            marks.put(&scratch.text, must || always, &mut scratch.field);
            match plain {
                true => out.bytes.extend_from_slice(scratch.field.as_bytes()),
                false => scratch.line.push_str(&scratch.field),
            }
        }
        let blank = match plain {
            true => is_blank(&out.bytes[start..]),
            false => is_blank(scratch.line.as_bytes()),
        };
        if blank && marks.is_blank_skipped {
            if plain {
                scratch.line = String::from_utf8_lossy(&out.bytes[start..]).into_owned();
                out.bytes.truncate(start);
            }
            scratch.line = self.unblanked(marks, line, &scratch.line)?;
            if plain {
                out.bytes.extend_from_slice(scratch.line.as_bytes());
            }
        }
        if !plain {
            out.replaced += self
                .encoded(&scratch.line, &mut out.bytes)
                .map_err(|e| (None, e))?;
        }
        Ok(())
    }

    /// A record that would be a blank line, with its only field in quotes.
    fn unblanked(
        &self,
        marks: &Marks,
        line: &Line<'_>,
        text: &str,
    ) -> Result<String, (Option<usize>, Refusal)> {
        let only = match self.fields.as_slice() {
            [Some(only)] => Some(&self.columns[*only]),
            _ => None,
        };
        let reads_null = |column: &ColumnWriter<'_>| {
            let options = column.plan.reader.as_ref().map(|reader| reader.options());
            !column.plan.ty.is_text()
                || options.is_some_and(|o| o.quoted_empty == QuotedEmpty::Null)
        };
        let is_null = only.is_some() && line.value(line.grid.columns[0]).cell == Cell::Null;
        match (only, marks.quote) {
            (Some(column), Some(quote))
                if (!is_null && (!text.is_empty() || column.keeps_empty()))
                    || (is_null && text.is_empty() && reads_null(column)) =>
            {
                Ok(format!("{quote}{text}{quote}"))
            }
            _ => {
                let says = "the record would be a blank line, which is read past";
                Err((None, refusal(Code::BlankLine, says, "")))
            }
        }
    }

    fn fixed(
        &self,
        slots: &[Slot],
        width: usize,
        line: &Line<'_>,
        scratch: &mut Scratch,
        out: &mut Written,
    ) -> Result<(), (Option<usize>, Refusal)> {
        let start = out.bytes.len();
        let by_bytes = self.plan.records.measure == Some(Measure::Bytes);
        let space = self.space();
        // How much of the width is filled, in what the layout counts.
        let mut filled = 0;
        for slot in slots {
            fill(slot.place.start - filled, &space, by_bytes, &mut out.bytes)
                .map_err(|e| (None, e))?;
            filled = slot.place.end;
            let wide = slot.place.len();
            let Some(place) = self.fields.get(slot.field).copied().flatten() else {
                fill(wide, &space, by_bytes, &mut out.bytes).map_err(|e| (None, e))?;
                continue;
            };
            scratch.raw.clear();
            let field = self.field(line, place, &mut scratch.raw, &mut out.repairs)?;
            if self.columns[place].is_bytes() {
                out.bytes.extend_from_slice(&scratch.raw);
                continue;
            }
            let text = std::str::from_utf8(&scratch.raw).unwrap_or_default();
            let breaks = |c: char| c == '\n' || c == '\r';
            if field.is_free && !self.ending.is_empty() && text.contains(breaks) {
                let says = "holds a line end, which would end the record";
                return Err((Some(place), refusal(Code::NotAllowed, says, text)));
            }
            scratch.bytes.clear();
            out.replaced += self
                .encoded(text, &mut scratch.bytes)
                .map_err(|e| (Some(place), e))?;
            let taken = match by_bytes {
                true => scratch.bytes.len(),
                false => text.chars().count(),
            };
            if taken > wide {
                let says = format!("{taken} wide, and its field is {wide}");
                return Err((Some(place), refusal(Code::TooLong, says, text)));
            }
            let pad = if field.is_null { ' ' } else { slot.pad };
            scratch.pad.clear();
            let mut one = [0; 4];
            self.encoded(pad.encode_utf8(&mut one), &mut scratch.pad)
                .map_err(|e| (Some(place), e))?;
            if slot.align == Align::Left {
                out.bytes.extend_from_slice(&scratch.bytes);
            }
            fill(wide - taken, &scratch.pad, by_bytes, &mut out.bytes)
                .map_err(|e| (Some(place), e))?;
            if slot.align == Align::Right {
                out.bytes.extend_from_slice(&scratch.bytes);
            }
        }
        fill(
            width.saturating_sub(filled),
            &space,
            by_bytes,
            &mut out.bytes,
        )
        .map_err(|e| (None, e))?;
        if !self.ending.is_empty() {
            self.is_a_line(&out.bytes[start..]).map_err(|e| (None, e))?;
        }
        Ok(())
    }

    /// A record of a fixed layout that would be read past as a blank line or a comment.
    fn is_a_line(&self, record: &[u8]) -> Result<(), Refusal> {
        let text = self.charset.text_of_raw(record);
        if is_blank(text.as_bytes()) && self.plan.records.when_blank == WhenBlank::Skip {
            let says = "the record would be a blank line, which is read past";
            return Err(refusal(Code::BlankLine, says, ""));
        }
        match &self.plan.records.comment {
            Some(comment) if text.starts_with(comment.as_str()) => {
                let says = "the record would be read past as a comment";
                Err(refusal(Code::NotAllowed, says, &text))
            }
            _ => Ok(()),
        }
    }

    fn space(&self) -> Vec<u8> {
        let mut space = Vec::new();
        let _ = self.encode.write(" ", &mut space);
        space
    }

    /// Writes one field, unquoted and in UTF-8 or in bytes of its own.
    fn field(
        &self,
        line: &Line<'_>,
        place: usize,
        out: &mut Vec<u8>,
        repairs: &mut Repairs,
    ) -> Result<Field, (Option<usize>, Refusal)> {
        let writer = &self.columns[place];
        let column = line.grid.columns[place];
        let mut note = |what: What| repairs.note(what, Some(&writer.plan.name), line.number);
        let misfit = line.misfits.iter().find(|m| m.column as usize == column);
        let written = match misfit {
            Some(misfit) if misfit.is_bytes => Err(refusal(
                Code::BadBytes,
                "bytes, where the column has text or a number",
                &misfit.text,
            )),
            Some(misfit) => writer.write_misfit(&misfit.text, out, &mut note),
            None => writer.write(line.value(column), out, &mut note),
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

fn refusal(code: Code, says: impl Into<String>, value: &str) -> Refusal {
    Refusal {
        code,
        says: says.into(),
        value: visible_short(value.as_bytes(), 60),
    }
}

/// Fills so many characters, or bytes, with a character that is given in its encoding.
fn fill(count: usize, pad: &[u8], by_bytes: bool, out: &mut Vec<u8>) -> Result<(), Refusal> {
    let size = if by_bytes { pad.len().max(1) } else { 1 };
    if !count.is_multiple_of(size) {
        let says = format!("{count} bytes are left, which its padding of {size} does not fill");
        return Err(refusal(Code::TooLong, says, ""));
    }
    (0..count / size).for_each(|_| out.extend_from_slice(pad));
    Ok(())
}

/// A row of a grid.
struct Line<'l> {
    grid: &'l Grid<'l>,
    row: usize,
    misfits: &'l [Misfit],
    number: u64,
}

impl<'l> Line<'l> {
    fn value(&self, column: usize) -> Valued<'l> {
        Valued {
            cell: self.grid.cells[column * self.grid.height + self.row],
            block: self.grid.block,
            store: self.grid.store,
        }
    }
}

/// Room that is used again and again.
#[derive(Default)]
struct Scratch {
    line: String,
    text: String,
    field: String,
    raw: Vec<u8>,
    bytes: Vec<u8>,
    pad: Vec<u8>,
}

impl Marks {
    /// Whether a field would be read otherwise unless it is quoted.
    fn must_quote(&self, text: &str, is_first: bool) -> bool {
        let bytes = text.as_bytes();
        // One byte each, but for a delimiter of several characters.
        let special = |b: &u8| *b == b'\n' || *b == b'\r';
        bytes.iter().any(special)
            || text.contains(self.delimiter.as_str())
            || self.ends_in_delimiter(text)
            || self.quote.is_some_and(|quote| text.contains(quote))
            || self
                .escape
                .as_ref()
                .is_some_and(|e| text.contains(e.as_str()))
            || self.ending.chars().next().is_some_and(|c| text.contains(c))
            || (is_first
                && self
                    .comment
                    .as_ref()
                    .is_some_and(|c| text.starts_with(c.as_str())))
    }

    /// Whether the delimiter would be found too early behind the text: `a|` before `||`.
    fn ends_in_delimiter(&self, text: &str) -> bool {
        let several = self.delimiter.chars().count() > 1;
        several && {
            let whole = format!("{text}{}", self.delimiter);
            whole.find(self.delimiter.as_str()) != Some(text.len())
        }
    }

    /// Whether escapes alone will do, where nothing quotes.
    fn escapes(&self, text: &str, is_first: bool) -> Result<(), String> {
        if text.contains(['\n', '\r'])
            || self.ending.chars().next().is_some_and(|c| text.contains(c))
        {
            return Err("holds a record's end, and the format has no quotes".into());
        }
        if is_first
            && self
                .comment
                .as_ref()
                .is_some_and(|c| text.starts_with(c.as_str()))
        {
            return Err("starts as a comment does, and the format has no quotes".into());
        }
        if self.ends_in_delimiter(text) {
            return Err("ends in half a delimiter, and the format has no quotes".into());
        }
        if self.escape.is_none() {
            return Err("holds the delimiter, and the format has no quotes".into());
        }
        Ok(())
    }

    /// Puts a field, in quotes or with escapes where it must be.
    fn put(&self, text: &str, quoted: bool, out: &mut String) {
        match (self.quote, &self.escape) {
            (Some(quote), escape) if quoted => {
                let before = escape.clone().unwrap_or_else(|| quote.to_string());
                out.push(quote);
                self.escaped(text, &before, escape.is_some(), out);
                out.push(quote);
            }
            (None, Some(escape)) => self.escaped(text, escape, true, out),
            _ => out.push_str(text),
        }
    }

    /// Puts an escape before each quote and, where it is a character of its own, before
    /// itself and before delimiters.
    fn escaped(&self, text: &str, escape: &str, is_own: bool, out: &mut String) {
        let mut rest = text;
        while let Some(c) = rest.chars().next() {
            let is_quote = Some(c) == self.quote;
            let is_escape = is_own && rest.starts_with(escape);
            let is_delimiter =
                is_own && self.quote.is_none() && rest.starts_with(self.delimiter.as_str());
            if is_quote || is_escape || is_delimiter {
                out.push_str(escape);
            }
            let taken = match is_delimiter {
                true => self.delimiter.len(),
                false => c.len_utf8(),
            };
            out.push_str(&rest[..taken]);
            rest = &rest[taken..];
        }
    }
}

/// Whether a mark starts with what a number, a date or a word may have.
fn firsts_are_words(plan: &Plan, ending: &str) -> bool {
    let d = &plan.records.delimited;
    let marks = [
        d.delimiter.as_slice(),
        &d.quote,
        d.escape_text(),
        ending.as_bytes(),
    ];
    let mut firsts = marks.into_iter().filter_map(<[u8]>::first);
    firsts.any(|b| b.is_ascii_alphanumeric() || b"+-.: ".contains(b))
}

fn is_blank(line: &[u8]) -> bool {
    // Nearly every line is told by its first byte.
    if line.first().is_some_and(|b| *b > b' ' && b.is_ascii()) {
        return false;
    }
    line.iter().all(|b| matches!(b, b' ' | b'\t'))
        || std::str::from_utf8(line).is_ok_and(|text| text.trim().is_empty())
}

fn pad_to(line: &mut String, width: usize) {
    let has = line.chars().count();
    line.extend(std::iter::repeat_n(' ', width.saturating_sub(has)));
}

fn columns<'p>(
    kind: &'p KindPlan,
    plan: &Plan,
    problems: &mut Vec<String>,
) -> Vec<ColumnWriter<'p>> {
    let width = |place: &Place| match (place, &kind.fixed) {
        (Place::Field(field), Some(fixed)) => fixed.slices.get(*field).map(|(_, wide)| *wide),
        _ => None,
    };
    let can_quote = kind.fixed.is_none() && !plan.records.delimited.quote.is_empty();
    let written = kind.loaded().filter(|c| c.place != Place::Computed);
    written
        .filter_map(|column| {
            let writer = ColumnWriter::new(column, width(&column.place), can_quote);
            writer.map_err(|problem| problems.push(problem)).ok()
        })
        .collect()
}

/// For each field of a record, the written column that it is.
fn fields(kind: &KindPlan) -> Vec<Option<usize>> {
    let mut fields: Vec<Option<usize>> = Vec::new();
    let mut written = 0;
    for column in &kind.columns {
        let own = column.load.then_some(written);
        match column.place {
            Place::Computed => continue,
            Place::Named(_) => fields.push(own),
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

fn layout(plan: &Plan, kind: &KindPlan, ending: String) -> Layout {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let d = &plan.records.delimited;
    let firsts = [
        d.delimiter.as_slice(),
        &d.quote,
        d.escape_text(),
        ending.as_bytes(),
        b"\n",
        b"\r",
    ];
    let mut special = Box::new([false; 256]);
    for first in firsts.into_iter().filter_map(<[u8]>::first) {
        special[usize::from(*first)] = true;
    }
    match &kind.fixed {
        None => Layout::Delimited(Marks {
            special,
            // Letters and digits stand in numbers and dates, which are not looked at.
            is_quick: plan.export.quote_when == QuoteWhen::Needed
                && !firsts_are_words(plan, &ending),
            delimiter: text(&d.delimiter),
            quote: text(&d.quote).chars().next(),
            escape: match &d.escape {
                Escape::Doubled => None,
                Escape::With(escape) => Some(text(escape)),
            },
            comment: plan.records.comment.clone(),
            ending,
            when: plan.export.quote_when,
            is_blank_skipped: plan.records.when_blank == WhenBlank::Skip,
        }),
        Some(fixed) => {
            let mut slots: Vec<Slot> = Vec::new();
            for column in &kind.columns {
                let Place::Field(field) = column.place else {
                    continue;
                };
                let (start, wide) = fixed.slices[field];
                let is_number = column.ty.is_number();
                slots.push(Slot {
                    field,
                    place: start..start + wide,
                    align: column.align.unwrap_or(match is_number {
                        true => Align::Right,
                        false => Align::Left,
                    }),
                    // Zeros stand between a number and its sign, and are put there.
                    pad: column
                        .pad
                        .filter(|pad| *pad != '0' || !is_number)
                        .unwrap_or(' '),
                });
            }
            slots.sort_by_key(|slot| slot.place.start);
            Layout::Fixed(slots, fixed.width)
        }
    }
}
