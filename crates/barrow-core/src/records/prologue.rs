//! What stands before a file's first record: preamble and header.

use super::block::LeftOut;
use super::delimited::scan::Progress;
use super::ending::{FileEnding, Found};
use super::framing::Framing;
use super::header::{self, Bound};
use super::json::frames::Frames;
use super::layout::header_names;
use super::mark::{Mark, State};
use super::opening::{Start, Text};
use super::rules::Rules;
use crate::error::Error;
use crate::format::RecordFormat;
use crate::plan::{ColumnPlan, Place, Plan, RecordTypePlan};
use crate::records::file_format::FieldBinding;
use crate::words::{Header, PreambleKey, WhenEmpty, WhenNewColumn};

/// How far the end of the header is looked for.
const LONGEST: usize = 16 << 20;

/// How many lines at the most are looked through for the columns' names.
const MOST_PREAMBLE: u64 = 100;

/// What stands before a file's first record.
pub struct Prologue {
    /// How the file's records end.
    pub ending: FileEnding,
    /// Its bytes.
    pub bytes: usize,
    /// Its lines.
    pub lines: u32,
    /// For each record type, its fields.
    pub shapes: Vec<FieldBinding>,
    /// What people should know.
    pub notes: Vec<String>,
    /// Its lines, told apart.
    pub left_out: LeftOut,
}

impl Prologue {
    fn new(ending: FileEnding, bytes: usize) -> Prologue {
        Prologue {
            ending,
            bytes,
            lines: 0,
            shapes: Vec::new(),
            notes: Vec::new(),
            left_out: LeftOut::default(),
        }
    }

    /// Goes past the bracket that opens an array: it stands before every file of its rejects.
    fn pass_bracket(&mut self, bytes: &[u8]) {
        if let Some(at) = memchr::memchr(b'[', &bytes[self.bytes..]) {
            let passed = &bytes[self.bytes..self.bytes + at + 1];
            self.lines += memchr::memchr_iter(b'\n', passed).count() as u32;
            self.bytes += at + 1;
        }
    }

    /// Goes past a line of the preamble, if it is there whole.
    fn pass_line(&mut self, bytes: &[u8], whole: bool) -> bool {
        let Found::End(_, next) = self.ending.line_end(bytes, self.bytes, whole) else {
            return false;
        };
        self.bytes = next;
        self.lines += 1;
        self.left_out.preamble += 1;
        true
    }
}

/// Reads prologues of one file.
pub struct PrologueReader<'f> {
    /// The spec.
    pub plan: &'f Plan,
    /// The file as people named it.
    pub name: &'f str,
    /// Its marks.
    pub rules: &'f Rules,
}

impl PrologueReader<'_> {
    /// Reads on until the prologue is whole. `text` holds the file's first bytes in `carry`;
    /// about `block_size` more are read at a time.
    ///
    /// # Errors
    /// The file ends too soon, cannot be read, or has not the spec's columns.
    pub fn read(
        &self,
        start: &Start,
        text: &mut Text,
        carry: &mut Vec<u8>,
        block_size: usize,
    ) -> Result<Prologue, Error> {
        self.read_until(start, text, carry, block_size, |bytes, mark, whole| {
            self.prologue(bytes, mark, whole)
        })
    }

    /// The names of the file's header, without asking whether they are the spec's.
    ///
    /// # Errors
    /// The file cannot be read, or has no header.
    pub fn header_names(
        &self,
        start: &Start,
        text: &mut Text,
        carry: &mut Vec<u8>,
        block_size: usize,
    ) -> Result<Vec<String>, Error> {
        self.read_until(
            start,
            text,
            carry,
            block_size,
            |bytes, mark, whole| match self.names(bytes, mark, whole)? {
                None if whole => Err(too_short(self.name, "header", 0, 1)),
                found => Ok(found),
            },
        )
    }

    fn read_until<T>(
        &self,
        start: &Start,
        text: &mut Text,
        carry: &mut Vec<u8>,
        block_size: usize,
        find: impl Fn(&[u8], usize, bool) -> Result<Option<T>, Error>,
    ) -> Result<T, Error> {
        // A byte order mark that was decoded is no part of the text.
        let mark = match text.transcoder {
            Some(_) => 0,
            None => start.mark,
        };
        loop {
            if let Some(found) = find(carry, mark, text.whole)? {
                return Ok(found);
            }
            if carry.len() > LONGEST {
                return Err(Error::EndlessHeader {
                    file: self.name.into(),
                    bytes: carry.len(),
                });
            }
            let want = carry.len().max(block_size);
            text.fill(want, carry)?;
        }
    }

    /// The header's names, if they are within `bytes`.
    fn names(&self, bytes: &[u8], mark: usize, whole: bool) -> Result<Option<Vec<String>>, Error> {
        let records = &self.plan.records;
        let Some(ending) = FileEnding::decide(records, &self.rules.charset, bytes, whole)? else {
            return Ok(None);
        };
        let mut prologue = Prologue::new(ending, mark);
        let Some(lines) = self.preamble_lines(&prologue, bytes, whole)? else {
            return Ok(None);
        };
        for _ in 0..lines {
            if !prologue.pass_line(bytes, whole) {
                return Ok(None);
            }
        }
        Ok(self.header(&mut prologue, bytes, whole))
    }

    /// The prologue, if it is within `bytes`; `None` where more bytes are needed.
    fn prologue(&self, bytes: &[u8], mark: usize, whole: bool) -> Result<Option<Prologue>, Error> {
        let records = &self.plan.records;
        let Some(ending) = FileEnding::decide(records, &self.rules.charset, bytes, whole)? else {
            return Ok(None);
        };
        let mut prologue = Prologue::new(ending, mark);
        if whole && bytes.len() == mark {
            may_be_empty(self.plan, self.name, true)?;
            prologue.shapes = shapes_by_place(self.plan);
            return Ok(Some(prologue));
        }
        let Some(lines) = self.preamble_lines(&prologue, bytes, whole)? else {
            return Ok(None);
        };
        for passed in 0..lines {
            if whole && prologue.bytes == bytes.len() {
                return Err(too_short(self.name, "preamble", passed, lines));
            }
            if !prologue.pass_line(bytes, whole) {
                return Ok(None);
            }
        }
        if records.header == Header::None {
            if prologue.ending == FileEnding::Objects(Frames::Array) {
                prologue.pass_bracket(bytes);
            }
            prologue.shapes = shapes_by_place(self.plan);
            return Ok(Some(prologue));
        }
        let Some(header) = self.header(&mut prologue, bytes, whole) else {
            return match whole {
                true => Err(too_short(self.name, "header", 0, 1)),
                false => Ok(None),
            };
        };
        self.bind(&header, &mut prologue)?;
        Ok(Some(prologue))
    }

    /// Finds the columns among the header's names, or by their places.
    fn bind(&self, header: &[String], prologue: &mut Prologue) -> Result<(), Error> {
        let records = &self.plan.records;
        // A header that is only read past need not name every field, and may end in a
        // delimiter that no record has.
        let named = header.iter().rposition(|name| !name.trim().is_empty());
        let is_covered =
            records.header == Header::Skip && self.places() >= named.map_or(0, |last| last + 1);
        let is_fixed = matches!(records.format, RecordFormat::Fixed(_));
        if is_fixed || self.plan.has_kinds() || is_covered {
            prologue.shapes = shapes_by_place(self.plan);
            return Ok(());
        }
        let Bound { binding, notes } = header::bind(
            self.name,
            columns(self.plan),
            header,
            records.when_new_column,
        )?;
        prologue.shapes = vec![FieldBinding {
            fields: header.len(),
            binding,
        }];
        prologue.notes = notes;
        Ok(())
    }

    /// How many fields the columns take that are found by place.
    fn places(&self) -> usize {
        let place = |column: &ColumnPlan| match column.place {
            Place::Field(field) => field + 1,
            Place::Named(_) | Place::Key(_) | Place::Computed => 0,
        };
        columns(self.plan).iter().map(place).max().unwrap_or(0)
    }

    /// How many lines come before the header; `None` where more bytes are needed.
    fn preamble_lines(
        &self,
        prologue: &Prologue,
        bytes: &[u8],
        whole: bool,
    ) -> Result<Option<u64>, Error> {
        match self.plan.records.preamble {
            PreambleKey::Lines(lines) => Ok(Some(lines)),
            PreambleKey::Auto => self.find_header(prologue, bytes, whole),
        }
    }

    /// How many lines come before the one that has the columns' names.
    fn find_header(
        &self,
        prologue: &Prologue,
        bytes: &[u8],
        whole: bool,
    ) -> Result<Option<u64>, Error> {
        let mut line = Prologue::new(prologue.ending.clone(), prologue.bytes);
        for lines in 0..MOST_PREAMBLE {
            if whole && line.bytes == bytes.len() {
                break;
            }
            let Found::End(end, _) = line.ending.line_end(bytes, line.bytes, whole) else {
                return Ok(None);
            };
            let mark = Mark::new(line.bytes..end, end, 0, State::Quoted);
            let names = header_names(self.rules, bytes, &mark);
            let bound = header::bind(self.name, columns(self.plan), &names, WhenNewColumn::Ignore);
            if bound.is_ok() {
                return Ok(Some(lines));
            }
            line.pass_line(bytes, whole);
        }
        let wanted = columns(self.plan).iter().filter_map(|c| match &c.place {
            Place::Named(named) => Some(named.as_str()),
            Place::Field(_) => Some(c.name.as_str()),
            Place::Key(_) | Place::Computed => None,
        });
        let wanted: Vec<&str> = wanted.collect();
        Err(Error::NoHeader {
            file: self.name.into(),
            lines: MOST_PREAMBLE,
            wanted: wanted.join(", "),
        })
    }

    /// Reads the header's names and goes past it.
    fn header(&self, prologue: &mut Prologue, bytes: &[u8], whole: bool) -> Option<Vec<String>> {
        let framing = Framing::of_header(self.plan, self.rules, &prologue.ending, LONGEST);
        let start = Progress {
            at: prologue.bytes,
            line: prologue.lines,
            ..Progress::default()
        };
        let mut marks = Vec::new();
        framing.run(bytes, whole, &mut start.clone(), &mut marks);
        let mark = *marks.first()?;
        // Once more over the header alone, for the comments before it.
        let mut progress = start;
        let upto = &bytes[..mark.next as usize];
        framing.run(upto, true, &mut progress, &mut Vec::new());
        prologue.bytes = progress.at;
        prologue.lines = progress.line;
        prologue.left_out.header = 1;
        prologue.left_out.comments += progress.comments;
        prologue.left_out.blank += progress.blank;
        Some(header_names(self.rules, bytes, &mark))
    }
}

/// Why a load stops at a header for what the spec does not name, if it does: then every
/// column of the spec is there.
pub fn new_columns(plan: &Plan, file: &str, header: &[String]) -> Option<Error> {
    let bound = header::bind(file, columns(plan), header, plan.records.when_new_column);
    let is_new = |error: &Error| match error {
        Error::Header { unbound, .. } => unbound.is_empty(),
        _ => false,
    };
    bound.err().filter(is_new)
}

/// A file without a record stops the load, unless the spec says to skip it.
///
/// # Errors
/// `[source] when_empty` is "stop".
pub fn may_be_empty(plan: &Plan, file: &str, is_blank: bool) -> Result<(), Error> {
    match plan.source.when_empty {
        WhenEmpty::Stop => Err(Error::Empty {
            file: file.into(),
            is_blank,
        }),
        WhenEmpty::Skip => Ok(()),
    }
}

/// The columns where there is one record type.
fn columns(plan: &Plan) -> &[ColumnPlan] {
    plan.record_types.first().map_or(&[], |kind| &kind.columns)
}

/// The fields of every record type, where columns are found by place.
fn shapes_by_place(plan: &Plan) -> Vec<FieldBinding> {
    let place = |place: &Place| match place {
        Place::Field(field) | Place::Key(field) => Some(*field),
        Place::Named(_) => Some(0),
        Place::Computed => None,
    };
    let shape = |kind: &RecordTypePlan| FieldBinding {
        fields: kind.fields(),
        binding: kind.columns.iter().map(|c| place(&c.place)).collect(),
    };
    plan.record_types.iter().map(shape).collect()
}

/// A part of a file that ends too soon: `found` of `wanted` lines.
pub fn too_short(file: &str, part: &'static str, found: u64, wanted: u64) -> Error {
    let lines = |n: u64| {
        if n == 1 {
            "1 line".to_string()
        } else {
            format!("{n} lines")
        }
    };
    Error::TooShort {
        file: file.into(),
        part,
        trouble: format!(
            "the spec says {}, and there are only {found}",
            lines(wanted)
        ),
    }
}
