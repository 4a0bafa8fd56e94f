//! Cuts files into blocks of whole records and numbers them.

use std::sync::Arc;

use super::block::{Block, FileEnd, LeftOut, Mark, State};
use super::ending::{Byte, Bytes, FileEnding, Found, Line};
use super::file::{FileReading, ShapeReading};
use super::header::{self, Bound};
use super::judge::Judge;
use super::scan::{Progress, Scan};
use super::start::{Rules, Start, Text, open, open_input};
use crate::error::Error;
use crate::plan::{ColumnPlan, KindPlan, Place, Plan};
use crate::source::SourceFile;
use crate::source::open::Input;
use crate::visible::visible;
use crate::words::{Header, PreambleKey, WhenBlank, WhenEmpty, WhenNewColumn, WhenShort};

/// How many bytes a block holds unless one record needs more. Of 64, 128, 256
/// and 512 KiB, this was the fastest both for typing and for loading: a block and
/// its cells stay in a core's second-level cache.
pub const BLOCK: usize = 128 << 10;

/// How many records a block holds at the most.
const MOST_RECORDS: usize = 4 << 10;

/// How many values a block holds at the most, unless its records have very many.
const MOST_VALUES: usize = 32 << 10;

/// How far the end of the header is looked for.
const LONGEST_LEAD: usize = 16 << 20;

/// More bytes than this are never held for one block: they are addressed with 32
/// bits, and a record is at most 256 MiB.
const MOST_HELD: usize = 1 << 30;

/// How many lines at the most are looked through for the columns' names.
const MOST_PREAMBLE: u64 = 100;

/// The space of every EBCDIC page.
const EBCDIC_SPACE: u8 = 0x40;

/// Cuts the files of a plan, one after the other.
pub struct Splitter<'p> {
    plan: &'p Plan,
    files: std::iter::Enumerate<std::vec::IntoIter<SourceFile>>,
    block_size: usize,
    /// How many records a block holds at the most.
    most_records: usize,
    order: u64,
    current: Option<Open>,
    /// Whether the files are hashed on the way.
    hashes: bool,
    /// Where the first file's records are to be taken from.
    from: u64,
    /// Whether each block says what the file is like up to its end.
    prefixes: bool,
    /// What the first file was like up to that place, where that is known.
    expected: Option<String>,
}

/// The file being read.
struct Open {
    text: Text,
    reading: Arc<FileReading>,
    /// Bytes read and not yet handed on.
    carry: Vec<u8>,
    /// Records marked in `carry` and held back, since they may be the trailer.
    held: Vec<Mark>,
    /// Where the scan of `carry` goes on.
    progress: Progress,
    /// Where `carry` starts in the file.
    offset: u64,
    /// The line on which `carry` starts, 1-based.
    line: u64,
    /// The number of the next record, 1-based.
    record: u64,
    /// Lines set aside and not yet reported.
    left_out: LeftOut,
    /// Hashes the file's bytes, where that is asked for.
    hasher: Option<Box<blake3::Hasher>>,
    /// What the hash is to be at a place, if that is not passed yet.
    expected: Option<(u64, String)>,
}

impl<'p> Splitter<'p> {
    /// Reads `files` by `plan`, in blocks of about `block_size` bytes.
    pub fn new(plan: &'p Plan, files: Vec<SourceFile>, block_size: usize) -> Splitter<'p> {
        Splitter {
            plan,
            files: files.into_iter().enumerate(),
            block_size: block_size.max(1),
            most_records: most_records(plan),
            order: 0,
            current: None,
            hashes: false,
            from: 0,
            prefixes: false,
            expected: None,
        }
    }

    /// Hashes every file on the way.
    pub fn hashing(self, hashes: bool) -> Splitter<'p> {
        Splitter { hashes, ..self }
    }

    /// Says with each block what the file is like up to its end.
    pub fn telling_prefixes(self, prefixes: bool) -> Splitter<'p> {
        Splitter { prefixes, ..self }
    }

    /// Holds what the first file has before the place from which it is read against what
    /// it had when that was committed.
    pub fn expecting(self, expected: Option<String>) -> Splitter<'p> {
        Splitter { expected, ..self }
    }

    /// Passes over what the first file has before a place, 0-based.
    pub fn from(self, from: u64) -> Splitter<'p> {
        Splitter { from, ..self }
    }

    /// Fills `block` with the next records. False where there are no more.
    ///
    /// # Errors
    /// A file that cannot be read, or whose header is not the spec's.
    pub fn next(&mut self, block: &mut Block) -> Result<bool, Error> {
        block.clear();
        if self.current.is_none() {
            let Some((index, source)) = self.files.next() else {
                return Ok(false);
            };
            self.current = Some(self.open(index, &source)?);
        }
        if let Some(mut open) = self.current.take() {
            self.cut(&mut open, block)?;
            hash_prefix(&mut open, block)?;
            block.order = self.order;
            self.order += 1;
            // Where values are carried, records that are in the table may still be
            // asked for one; then they are passed over once it is taken up.
            if open.reading.from > block.offset && !self.plan.carries() {
                block.pass_over(open.reading.from);
            }
            if block.last.is_none() {
                self.current = Some(open);
            }
        }
        Ok(true)
    }

    fn open(&self, index: usize, source: &SourceFile) -> Result<Open, Error> {
        let packing = self.plan.source.packing;
        let input = match self.hashes {
            true => Input::open_hashed(source, packing)?,
            false => Input::open(source, packing)?,
        };
        let (start, text, carry) = open_input(self.plan, source, input, self.block_size)?;
        self.opened(index, source, start, text, carry)
    }

    /// Reads a file up to its first record.
    fn opened(
        &self,
        index: usize,
        source: &SourceFile,
        start: Start,
        mut text: Text,
        mut carry: Vec<u8>,
    ) -> Result<Open, Error> {
        let name = source.name();
        let rules = Rules::new(self.plan, &start.charset, &name)?;
        let mark = if text.transcoder.is_some() {
            0
        } else {
            start.mark
        };
        let lead = loop {
            if let Some(lead) = self.lead(&name, &rules, &carry, mark, text.whole)? {
                break lead;
            }
            if carry.len() > LONGEST_LEAD {
                return Err(Error::EndlessHeader {
                    file: name,
                    bytes: carry.len(),
                });
            }
            let want = carry.len().max(self.block_size);
            text.fill(want, &mut carry)?;
        };
        let lead_bytes = match &text.transcoder {
            None => carry[..lead.bytes].to_vec(),
            // The byte order mark is no part of the text.
            Some(coder) => [&start.bytes[..], coder.raw(0..lead.bytes)].concat(),
        };
        let mut notes = start.notes;
        notes.extend(lead.notes);
        let is_rejects = source.is_rejects();
        if is_rejects && !self.plan.totals.is_empty() {
            notes.push(
                "it holds rejects, so the totals in it are not its own and not compared".into(),
            );
        }
        let reading = Arc::new(FileReading {
            index,
            name,
            rules,
            ending: lead.ending,
            lead: lead_bytes,
            file_name: visible(source.file_name().as_os_str().as_encoded_bytes()),
            is_rejects,
            from: if index == 0 { self.from } else { 0 },
            shapes: lead.shapes,
            notes,
        });
        let expected = self
            .expected
            .clone()
            .filter(|_| index == 0 && self.from > 0);
        let expected = expected.map(|hash| (self.from, hash));
        Ok(Open {
            text,
            reading,
            held: Vec::new(),
            progress: Progress {
                at: lead.bytes,
                line: lead.lines,
                ..Progress::default()
            },
            carry,
            offset: 0,
            line: 1,
            record: 1,
            left_out: lead.left_out,
            hasher: (self.prefixes || expected.is_some()).then(Box::default),
            expected,
        })
    }

    /// The names of a file's header, without asking whether they are the spec's;
    /// none where the spec reads no names.
    ///
    /// # Errors
    /// The file cannot be read, or has no header.
    pub fn header_names(&self, source: &SourceFile) -> Result<Option<Vec<String>>, Error> {
        let plan = &self.plan.records;
        if plan.header != Header::Names || self.plan.has_kinds() {
            return Ok(None);
        }
        let (start, mut text, mut carry) = open(self.plan, source, self.block_size)?;
        let name = source.name();
        let rules = Rules::new(self.plan, &start.charset, &name)?;
        let mark = match text.transcoder {
            Some(_) => 0,
            None => start.mark,
        };
        loop {
            let found = self.names_in(&name, &rules, &carry, mark, text.whole)?;
            if found.is_some() {
                return Ok(found);
            }
            if text.whole {
                return Err(too_short(&name, "header", 0, 1));
            }
            if carry.len() > LONGEST_LEAD {
                return Err(Error::EndlessHeader {
                    file: name,
                    bytes: carry.len(),
                });
            }
            let want = carry.len().max(self.block_size);
            text.fill(want, &mut carry)?;
        }
    }

    /// Why a load stops at a header for what the spec does not name, if it does: then every
    /// column of the spec is there.
    pub fn new_columns(&self, file: &str, header: &[String]) -> Option<Error> {
        let when_new = self.plan.records.when_new_column;
        let bound = header::bind(file, self.columns(), header, when_new);
        let is_new = |error: &Error| match error {
            Error::Header { unbound, .. } => unbound.is_empty(),
            _ => false,
        };
        bound.err().filter(is_new)
    }

    /// The header's names, if they are within `bytes`.
    fn names_in(
        &self,
        name: &str,
        rules: &Rules,
        bytes: &[u8],
        mark: usize,
        whole: bool,
    ) -> Result<Option<Vec<String>>, Error> {
        let plan = &self.plan.records;
        let Some(ending) = FileEnding::decide(plan, &rules.charset, bytes, whole)? else {
            return Ok(None);
        };
        let mut lead = Lead::new(ending, mark);
        let lines = match plan.preamble {
            PreambleKey::Lines(lines) => lines,
            PreambleKey::Auto => match self.find_header(name, rules, &lead, bytes, whole)? {
                Some(lines) => lines,
                None => return Ok(None),
            },
        };
        for _ in 0..lines {
            if !lead.pass_line(bytes, whole) {
                return Ok(None);
            }
        }
        Ok(self.header(rules, &mut lead, bytes, whole))
    }

    /// What stands before the first record; `None` where more bytes are needed.
    fn lead(
        &self,
        name: &str,
        rules: &Rules,
        bytes: &[u8],
        mark: usize,
        whole: bool,
    ) -> Result<Option<Lead>, Error> {
        let plan = &self.plan.records;
        let Some(ending) = FileEnding::decide(plan, &rules.charset, bytes, whole)? else {
            return Ok(None);
        };
        let mut lead = Lead::new(ending, mark);
        if whole && bytes.len() == mark {
            self.may_be_empty(name, true)?;
            lead.shapes = self.shapes_by_place();
            return Ok(Some(lead));
        }
        let lines = match plan.preamble {
            PreambleKey::Lines(lines) => lines,
            PreambleKey::Auto => match self.find_header(name, rules, &lead, bytes, whole)? {
                Some(lines) => lines,
                None => return Ok(None),
            },
        };
        for passed in 0..lines {
            if whole && lead.bytes == bytes.len() {
                return Err(too_short(name, "preamble", passed, lines));
            }
            if !lead.pass_line(bytes, whole) {
                return Ok(None);
            }
        }
        if plan.header == Header::None {
            lead.shapes = self.shapes_by_place();
            return Ok(Some(lead));
        }
        let Some(header) = self.header(rules, &mut lead, bytes, whole) else {
            return if whole {
                Err(too_short(name, "header", 0, 1))
            } else {
                Ok(None)
            };
        };
        // A header that is only read past need not name every field, and may end in a
        // delimiter that no record has.
        let named = header.iter().rposition(|name| !name.trim().is_empty());
        let is_covered =
            plan.header == Header::Skip && self.places() >= named.map_or(0, |last| last + 1);
        if plan.measure.is_some() || self.plan.has_kinds() || is_covered {
            lead.shapes = self.shapes_by_place();
            return Ok(Some(lead));
        }
        let Bound { binding, notes } =
            header::bind(name, self.columns(), &header, plan.when_new_column)?;
        lead.shapes = vec![ShapeReading {
            fields: header.len(),
            binding,
        }];
        lead.notes = notes;
        Ok(Some(lead))
    }

    /// How many fields the columns take that are found by place.
    fn places(&self) -> usize {
        let place = |column: &ColumnPlan| match column.place {
            Place::Field(field) => field + 1,
            Place::Named(_) | Place::Computed => 0,
        };
        self.columns().iter().map(place).max().unwrap_or(0)
    }

    /// A file without a record stops the load, unless the spec says to skip it.
    fn may_be_empty(&self, file: &str, is_blank: bool) -> Result<(), Error> {
        match self.plan.source.when_empty {
            WhenEmpty::Stop => Err(Error::Empty {
                file: file.into(),
                is_blank,
            }),
            WhenEmpty::Skip => Ok(()),
        }
    }

    /// How many lines come before the one that has the columns' names.
    fn find_header(
        &self,
        name: &str,
        rules: &Rules,
        lead: &Lead,
        bytes: &[u8],
        whole: bool,
    ) -> Result<Option<u64>, Error> {
        let mut line = Lead::new(lead.ending.clone(), lead.bytes);
        for lines in 0..MOST_PREAMBLE {
            if whole && line.bytes == bytes.len() {
                break;
            }
            let Found::End(end, _) = line.ending.line_end(bytes, line.bytes, whole) else {
                return Ok(None);
            };
            let mark = Mark::new(line.bytes..end, end, 0, State::Quoted);
            let names = rules.names(bytes, &mark);
            if header::bind(name, self.columns(), &names, WhenNewColumn::Ignore).is_ok() {
                return Ok(Some(lines));
            }
            line.pass_line(bytes, whole);
        }
        let wanted = self.columns().iter().filter_map(|c| match &c.place {
            Place::Named(named) => Some(named.as_str()),
            Place::Field(_) => Some(c.name.as_str()),
            Place::Computed => None,
        });
        let wanted: Vec<&str> = wanted.collect();
        Err(Error::NoHeader {
            file: name.into(),
            lines: MOST_PREAMBLE,
            wanted: wanted.join(", "),
        })
    }

    /// Reads the header's names and goes past it.
    fn header(
        &self,
        rules: &Rules,
        lead: &mut Lead,
        bytes: &[u8],
        whole: bool,
    ) -> Option<Vec<String>> {
        let scan = Scan {
            fields: None,
            keep_blank: false,
            join: false,
            // A header is read whole or not at all, however long records may be.
            longest: LONGEST_LEAD,
            ..self.scan(rules, None)
        };
        let start = Progress {
            at: lead.bytes,
            line: lead.lines,
            ..Progress::default()
        };
        let mut marks = Vec::new();
        Self::run(
            &scan,
            &lead.ending,
            bytes,
            whole,
            &mut start.clone(),
            &mut marks,
        );
        let mark = *marks.first()?;
        // Once more over the header alone, for the comments before it.
        let mut progress = start;
        let upto = &bytes[..mark.next as usize];
        Self::run(
            &scan,
            &lead.ending,
            upto,
            true,
            &mut progress,
            &mut Vec::new(),
        );
        lead.bytes = progress.at;
        lead.lines = progress.line;
        lead.left_out.header = 1;
        lead.left_out.comments += progress.comments;
        lead.left_out.blank += progress.blank;
        Some(rules.names(bytes, &mark))
    }

    /// The columns where there is one kind of record.
    fn columns(&self) -> &[ColumnPlan] {
        self.plan.kinds.first().map_or(&[], |kind| &kind.columns)
    }

    /// The fields of every kind, where columns are found by place.
    fn shapes_by_place(&self) -> Vec<ShapeReading> {
        let place = |place: &Place| match place {
            Place::Field(field) => Some(*field),
            Place::Named(_) => Some(0),
            Place::Computed => None,
        };
        let shape = |kind: &KindPlan| ShapeReading {
            fields: kind.fields(),
            binding: kind.columns.iter().map(|c| place(&c.place)).collect(),
        };
        self.plan.kinds.iter().map(shape).collect()
    }

    fn scan<'r>(&self, rules: &'r Rules, fields: Option<usize>) -> Scan<'r> {
        let plan = &self.plan.records;
        Scan {
            delimited: &rules.delimited,
            comment: rules.comment.as_deref(),
            keep_blank: plan.when_blank == WhenBlank::Reject,
            longest: plan.longest,
            most: self.most_records.saturating_add(plan.trailer),
            judge: None,
            fields: fields.filter(|_| plan.measure.is_none()),
            join: plan.when_short == WhenShort::Join,
            by_characters: self.plan.by_characters(&rules.charset),
            space: if rules.charset.reads_as_ascii() {
                b' '
            } else {
                EBCDIC_SPACE
            },
        }
    }

    fn run(
        scan: &Scan<'_>,
        ending: &FileEnding,
        bytes: &[u8],
        whole: bool,
        progress: &mut Progress,
        marks: &mut Vec<Mark>,
    ) {
        match ending {
            FileEnding::Line => scan.run(&Line, bytes, whole, progress, marks),
            FileEnding::Exactly(text) => match text.as_slice() {
                [byte] => scan.run(&Byte(*byte), bytes, whole, progress, marks),
                several => scan.run(&Bytes(several), bytes, whole, progress, marks),
            },
            FileEnding::Width(width) => scan.widths(*width, bytes, whole, progress, marks),
        }
    }

    /// Fills `block` from the file: whole records, at least one unless the file
    /// has none left.
    fn cut(&self, open: &mut Open, block: &mut Block) -> Result<(), Error> {
        let trailer = self.plan.records.trailer;
        let reading = open.reading.clone();
        // Kinds of record have each their own number of fields.
        let fields = match reading.shapes.as_slice() {
            [shape] if !self.plan.has_kinds() => Some(shape.fields),
            _ => None,
        };
        let scan = Scan {
            judge: Judge::new(self.plan, &reading),
            ..self.scan(&reading.rules, fields)
        };
        block.bytes.append(&mut open.carry);
        block.marks.append(&mut open.held);
        let mut want = self.block_size.saturating_sub(block.bytes.len()).max(1);
        loop {
            open.text.fill(want, &mut block.bytes)?;
            let whole = open.text.whole;
            let progress = &mut open.progress;
            Self::run(
                &scan,
                &reading.ending,
                &block.bytes,
                whole,
                progress,
                &mut block.marks,
            );
            // The pieces of one record count as one, or a few bytes would be read at a time.
            join_rests(&mut block.marks);
            // Comments and blanks alone are handed on too, as far as nothing is held.
            let held = block
                .marks
                .first()
                .map_or(progress.at, |m| m.start as usize);
            if whole || block.marks.len() > trailer || held > self.block_size {
                break;
            }
            if block.bytes.len() > MOST_HELD {
                return Err(Error::NoRecord {
                    file: reading.name.clone(),
                    line: open.line,
                    bytes: block.bytes.len(),
                });
            }
            want = block.bytes.len().max(self.block_size);
        }
        self.hand_on(open, block, trailer)
    }

    /// Parts what the block keeps from what is carried to the next one.
    fn hand_on(&self, open: &mut Open, block: &mut Block, trailer: usize) -> Result<(), Error> {
        // The bytes may hold more records than a block does.
        let is_last = open.text.whole && open.progress.at == block.bytes.len();
        if is_last && block.marks.len() < trailer {
            let found = block.marks.len() as u64;
            return Err(too_short(
                &open.reading.name,
                "trailer",
                found,
                trailer as u64,
            ));
        }
        let kept = block.marks.len().saturating_sub(trailer);
        let held = block.marks.split_off(kept);
        let (cut, lines) = match held.first() {
            Some(mark) => (mark.start as usize, mark.line),
            None => (open.progress.at, open.progress.line),
        };
        block.file = Some(open.reading.clone());
        block.offset = open.offset;
        block.first_line = open.line;
        block.first_record = open.record;
        if block
            .marks
            .first()
            .is_some_and(|m| m.state == State::TooLongRest)
        {
            block.first_record -= 1;
        }
        open.record = block.first_record + block.marks.len() as u64;
        open.left_out.comments += std::mem::take(&mut open.progress.comments);
        open.left_out.blank += std::mem::take(&mut open.progress.blank);
        if is_last && open.record == 1 {
            self.may_be_empty(&open.reading.name, false)?;
        }
        if is_last {
            open.left_out.trailer = held.len() as u64;
            let trailer = if held.is_empty() {
                cut..cut
            } else {
                cut..block.bytes.len()
            };
            let (trailer, length) = match &open.text.transcoder {
                None => (block.bytes[trailer].to_vec(), block.bytes.len()),
                Some(coder) => (coder.raw(trailer).to_vec(), coder.raw_length()),
            };
            block.last = Some(FileEnd {
                trailer,
                bytes: open.offset + length as u64,
                content: open.text.input.content(),
            });
        } else {
            open.carry.extend_from_slice(&block.bytes[cut..]);
            open.held.extend(held.into_iter().map(|mark| Mark {
                start: mark.start - cut as u32,
                end: mark.end - cut as u32,
                next: mark.next - cut as u32,
                line: mark.line - lines,
                state: mark.state,
            }));
            open.progress.at -= cut;
            open.progress.line -= lines;
            if open.text.transcoder.is_none() {
                open.offset += cut as u64;
            }
            open.line += u64::from(lines);
        }
        if let Some(coder) = &mut open.text.transcoder {
            let before = coder.raw_length();
            block.map = Some(coder.hand_on(cut));
            open.offset += (before - coder.raw_length()) as u64;
        }
        block.bytes.truncate(cut);
        block.left_out = std::mem::take(&mut open.left_out);
        block.taken = open.text.input.taken();
        Ok(())
    }
}

/// What stands before a file's first record.
struct Lead {
    ending: FileEnding,
    bytes: usize,
    lines: u32,
    shapes: Vec<ShapeReading>,
    notes: Vec<String>,
    left_out: LeftOut,
}

impl Lead {
    fn new(ending: FileEnding, bytes: usize) -> Lead {
        Lead {
            ending,
            bytes,
            lines: 0,
            shapes: Vec::new(),
            notes: Vec::new(),
            left_out: LeftOut::default(),
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

/// Takes a block's bytes into the hash of its file, and holds that against what it should
/// be where a place is passed.
fn hash_prefix(open: &mut Open, block: &mut Block) -> Result<(), Error> {
    let Some(hasher) = &mut open.hasher else {
        return Ok(());
    };
    let raw = block.raw(0..block.bytes.len());
    // A byte order mark is no part of the text.
    let begins = block.place(0);
    let until = open.expected.as_ref().map(|(at, _)| *at);
    match (
        until,
        open.expected
            .take_if(|(at, _)| *at <= begins + raw.len() as u64),
    ) {
        (_, Some((at, expected))) => {
            let (before, after) = raw.split_at(at.saturating_sub(begins) as usize);
            hasher.update(before);
            if short_hash(hasher) != expected {
                return Err(Error::Changed {
                    file: open.reading.name.clone(),
                    bytes: at,
                });
            }
            hasher.update(after);
        }
        (Some(at), None) if block.last.is_some() => {
            return Err(Error::Changed {
                file: open.reading.name.clone(),
                bytes: at,
            });
        }
        _ => {
            hasher.update(raw);
        }
    }
    block.prefix = Some(short_hash(hasher));
    Ok(())
}

/// The first 128 bits, as hexadecimal digits.
fn short_hash(hasher: &blake3::Hasher) -> String {
    hasher.finalize().to_hex()[..32].to_string()
}

/// Whether a record that is written, with its end, would be read as the one that it is. Text
/// over several lines may look like records of its own ([`super::judge`]).
pub fn reads_as_one(plan: &Plan, file: &FileReading, record: &[u8]) -> bool {
    let splitter = Splitter::new(plan, Vec::new(), BLOCK);
    let scan = Scan {
        judge: Judge::new(plan, file),
        ..splitter.scan(&file.rules, file.shapes.first().map(|shape| shape.fields))
    };
    let mut marks = Vec::new();
    let mut progress = Progress::default();
    Splitter::run(&scan, &file.ending, record, true, &mut progress, &mut marks);
    matches!(marks.as_slice(), [mark] if matches!(mark.state, State::Plain | State::Quoted))
}

/// How many records a block holds at the most. Records of a few bytes may all be wrong, and
/// a reject takes more room than they do: this keeps memory flat whatever is rejected.
fn most_records(plan: &Plan) -> usize {
    let columns = plan.kinds.iter().map(|kind| kind.read.len()).max();
    (MOST_VALUES / columns.unwrap_or(1).max(1)).clamp(256, MOST_RECORDS)
}

/// Puts the later parts of a record that is too long to its first, where both are here.
fn join_rests(marks: &mut Vec<Mark>) {
    if marks.iter().skip(1).any(|m| m.state == State::TooLongRest) {
        marks.dedup_by(|later, first| {
            let joins = later.state == State::TooLongRest
                && matches!(first.state, State::TooLong | State::TooLongRest);
            if joins {
                (first.end, first.next) = (later.end, later.next);
            }
            joins
        });
    }
}

fn too_short(file: &str, part: &'static str, found: u64, wanted: u64) -> Error {
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
