//! Cuts files into blocks of whole records and numbers them.

use std::sync::Arc;

use super::block::{Block, FileEnd, LeftOut};
use super::checkpoint::{Checkpoint, Checkpoints};
use super::delimited::scan::Progress;
use super::framing::Framing;
use super::mark::{Mark, State};
use super::opening::{Start, Text, open, open_input};
use super::prologue::{PrologueReader, may_be_empty, too_short};
use super::rules::Rules;
use crate::error::Error;
use crate::escape::visible_path;
use crate::format::RecordFormat;
use crate::plan::Plan;
use crate::reason::has_reasons_beside;
use crate::records::file_format::FileFormat;
use crate::source::open::Input;
use crate::source::{Compression, SourceFile};
use crate::words::Header;

/// More bytes than this are never held for one block: they are addressed with 32
/// bits, and a record is at most 256 MiB.
const MOST_HELD: usize = 1 << 30;

/// Cuts the files of a plan, one after the other.
pub struct Splitter<'p> {
    plan: &'p Plan,
    files: std::iter::Enumerate<std::vec::IntoIter<SourceFile>>,
    block_size: usize,
    order: u64,
    current: Option<Open>,
    /// Whether the files are hashed on the way.
    hashes: bool,
    /// Where the first file's records are to be taken from.
    from: u64,
    /// Whether each block says what the file is like up to its end.
    checkpoints: bool,
    /// What the first file was like up to that place, where that is known.
    expected: Option<Checkpoint>,
    /// Whether it is known to be the same still.
    is_same: bool,
}

/// The file being read.
struct Open {
    text: Text,
    reading: Arc<FileFormat>,
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
    checkpoints: Option<Checkpoints>,
}

impl Open {
    /// Holds the block against what the file was like, and notes what it is like now, where
    /// that is asked for.
    fn check(&mut self, block: &mut Block) -> Result<(), Error> {
        let is_between = self.is_between_records();
        let next = is_between.then_some((self.line, self.record));
        if let Some(checkpoints) = &mut self.checkpoints {
            let (begins, raw) = (block.place(0), block.raw(0..block.bytes.len()));
            let passed = checkpoints.pass(begins, raw, block.last.is_some());
            passed.map_err(|at| changed(&self.reading.name, at))?;
            block.checkpoint = Some(checkpoints.here(next));
        }
        Ok(())
    }

    /// Whether what follows begins with a record, or with what stands between two.
    fn is_between_records(&self) -> bool {
        !self.progress.too_long && !self.progress.in_comment && self.held.is_empty()
    }
}

impl<'p> Splitter<'p> {
    /// Reads `files` by `plan`, in blocks of about `block_size` bytes.
    pub fn new(plan: &'p Plan, files: Vec<SourceFile>, block_size: usize) -> Splitter<'p> {
        Splitter {
            plan,
            files: files.into_iter().enumerate(),
            block_size: block_size.max(1),
            order: 0,
            current: None,
            hashes: false,
            from: 0,
            checkpoints: false,
            expected: None,
            is_same: false,
        }
    }

    /// Hashes every file on the way.
    pub fn hashing(self, hashes: bool) -> Splitter<'p> {
        Splitter { hashes, ..self }
    }

    /// Says with each block what the file is like up to its end.
    pub fn telling_checkpoints(self, checkpoints: bool) -> Splitter<'p> {
        Splitter {
            checkpoints,
            ..self
        }
    }

    /// Skips what the first file has before a place, 0-based, and compares it with what
    /// it had when that was committed. Where the file `is_same` still, it is not even read, as
    /// far as that can be.
    pub fn from(self, from: u64, expected: Option<Checkpoint>, is_same: bool) -> Splitter<'p> {
        Splitter {
            from,
            expected,
            is_same,
            ..self
        }
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
            open.check(block)?;
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
        let reader = PrologueReader {
            plan: self.plan,
            name: &name,
            rules: &rules,
        };
        let lead = reader.read(&start, &mut text, &mut carry, self.block_size)?;
        let lead_bytes = match &text.transcoder {
            None => carry[..lead.bytes].to_vec(),
            // The byte order mark is no part of the text.
            Some(coder) => [&start.bytes[..], coder.raw(0..lead.bytes)].concat(),
        };
        let mut notes = start.notes;
        notes.extend(lead.notes);
        let is_rejects = source.path().is_some_and(has_reasons_beside);
        if is_rejects && !self.plan.totals.is_empty() {
            notes.push(
                "it holds rejects, so the totals in it are not its own and not compared".into(),
            );
        }
        let reading = Arc::new(FileFormat {
            index,
            name,
            rules,
            ending: lead.ending,
            lead: lead_bytes,
            file_name: visible_path(&source.file_name()),
            is_rejects,
            from: if index == 0 { self.from } else { 0 },
            shapes: lead.shapes,
            notes,
        });
        let expected = self.expected.as_ref();
        let expected = expected.filter(|_| index == 0 && self.from > 0);
        if let Some(checkpoint) = expected.filter(|_| self.is_same)
            && let Some(next) = checkpoint.next.filter(|_| self.can_jump(&text))
        {
            return self.jumped(source, reading, text, checkpoint, next);
        }
        let expected = expected.map(|checkpoint| (self.from, checkpoint.hash.clone()));
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
            checkpoints: (self.checkpoints || expected.is_some())
                .then(|| Checkpoints::new(expected)),
        })
    }

    /// Whether what comes before a place need not be read: where bytes stand in the text as
    /// they do in the file, and no record asks for what was before it.
    fn can_jump(&self, text: &Text) -> bool {
        let plan = self.plan;
        text.input.packing() == Compression::None
            && text.transcoder.is_none()
            && plan.records.trailer == 0
            && plan.totals.is_empty()
            && !plan.carries()
            && !matches!(plan.records.format, RecordFormat::Json)
    }

    /// A file of which the start was read, and which goes on at a checkpoint.
    fn jumped(
        &self,
        source: &SourceFile,
        reading: Arc<FileFormat>,
        mut text: Text,
        checkpoint: &Checkpoint,
        (line, record): (u64, u64),
    ) -> Result<Open, Error> {
        text.input.jump(source, &checkpoint.pieces)?;
        text.whole = false;
        let mut before = Vec::new();
        let most = self.from.saturating_sub(checkpoint.pieces.bytes);
        text.input.fill(most as usize, &mut before)?;
        let checkpoints = Checkpoints::go_on(checkpoint, &before)
            .ok_or_else(|| changed(&reading.name, self.from))?;
        Ok(Open {
            text,
            reading,
            carry: Vec::new(),
            held: Vec::new(),
            progress: Progress::default(),
            offset: self.from,
            line,
            record,
            left_out: LeftOut::default(),
            checkpoints: Some(checkpoints),
        })
    }

    /// The names of a file's header, without asking whether they are the spec's;
    /// none where the spec reads no names.
    ///
    /// # Errors
    /// The file cannot be read, or has no header.
    pub fn header_names(&self, source: &SourceFile) -> Result<Option<Vec<String>>, Error> {
        if self.plan.records.header != Header::Names || self.plan.has_kinds() {
            return Ok(None);
        }
        let (start, mut text, mut carry) = open(self.plan, source, self.block_size)?;
        let name = source.name();
        let rules = Rules::new(self.plan, &start.charset, &name)?;
        let reader = PrologueReader {
            plan: self.plan,
            name: &name,
            rules: &rules,
        };
        let names = reader.header_names(&start, &mut text, &mut carry, self.block_size)?;
        Ok(Some(names))
    }

    /// Fills `block` from the file: whole records, at least one unless the file
    /// has none left.
    fn cut(&self, open: &mut Open, block: &mut Block) -> Result<(), Error> {
        let trailer = self.plan.records.trailer;
        let reading = open.reading.clone();
        let framing = Framing::of_file(self.plan, &reading);
        block.bytes.append(&mut open.carry);
        block.marks.append(&mut open.held);
        let mut want = self.block_size.saturating_sub(block.bytes.len()).max(1);
        loop {
            open.text.fill(want, &mut block.bytes)?;
            let whole = open.text.whole;
            let progress = &mut open.progress;
            framing.run(&block.bytes, whole, progress, &mut block.marks);
            if let Some((fault, line)) = progress.array.fault().filter(|_| !reading.is_rejects) {
                return Err(Error::BadArray {
                    file: reading.name.clone(),
                    line: open.line + u64::from(line),
                    fault: fault.says(),
                });
            }
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
        open.record = block.first_record + block.records();
        block.note_doubts();
        open.left_out.comments += std::mem::take(&mut open.progress.comments);
        open.left_out.blank += std::mem::take(&mut open.progress.blank);
        if is_last && open.record == 1 {
            may_be_empty(self.plan, &open.reading.name, false)?;
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

/// A file that is not what it was up to a place.
fn changed(file: &str, bytes: u64) -> Error {
    Error::Changed {
        file: file.into(),
        bytes,
    }
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
