//! Cuts files into blocks of whole records and numbers them.

use std::sync::Arc;

use super::block::{Block, FileEnd, LeftOut, Mark, State};
use super::ending::{Byte, Bytes, FileEnding, Found, Line};
use super::fields;
use super::file::FileReading;
use super::header::{self, Bound};
use super::scan::{Progress, Scan};
use crate::error::Error;
use crate::source::SourceFile;
use crate::source::open::Input;
use crate::spec::plan::{Header, Place, Plan, WhenBlank};

/// How many bytes a block holds unless one record needs more. A block and its
/// cells should stay in a core's second-level cache: measured, loads took 1.1
/// times as long with 256 KiB as with 128, and 1.5 times with 512.
pub const BLOCK: usize = 128 << 10;

/// How far the end of the header is looked for.
const LONGEST_LEAD: usize = 16 << 20;

/// The byte order mark of UTF-8 (Unicode Standard, section 2.6).
const BYTE_ORDER_MARK: &[u8] = b"\xEF\xBB\xBF";

/// Cuts the files of a plan, one after the other.
pub struct Splitter<'p> {
    plan: &'p Plan,
    files: std::iter::Enumerate<std::vec::IntoIter<SourceFile>>,
    block_size: usize,
    order: u64,
    current: Option<Open>,
}

/// The file being read.
struct Open {
    input: Input,
    reading: Arc<FileReading>,
    /// Bytes read and not yet handed on.
    carry: Vec<u8>,
    /// Records marked in `carry` and held back, since they may be the trailer.
    held: Vec<Mark>,
    /// Where the scan of `carry` goes on.
    progress: Progress,
    /// No bytes follow `carry`.
    whole: bool,
    /// Where `carry` starts in the file.
    offset: u64,
    /// The line on which `carry` starts, 1-based.
    line: u64,
    /// The number of the next record, 1-based.
    record: u64,
    /// Lines set aside and not yet reported.
    left_out: LeftOut,
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
            block.order = self.order;
            self.order += 1;
            if block.last.is_none() {
                self.current = Some(open);
            }
        }
        Ok(true)
    }

    fn open(&self, index: usize, source: &SourceFile) -> Result<Open, Error> {
        let input = Input::open(source)?;
        self.begin(index, source.name(), input)
    }

    /// Reads a file up to its first record.
    fn begin(&self, index: usize, name: String, mut input: Input) -> Result<Open, Error> {
        let mut carry = Vec::with_capacity(self.block_size);
        let mut want = self.block_size;
        loop {
            let read = input.fill(want, &mut carry).map_err(|source| Error::Read {
                file: name.clone(),
                source,
            })?;
            let whole = read < want;
            if let Some(lead) = self.lead(&name, &carry, whole)? {
                return Ok(self.opened(index, name, input, carry, whole, lead));
            }
            if carry.len() > LONGEST_LEAD {
                return Err(Error::EndlessHeader {
                    file: name,
                    bytes: carry.len(),
                });
            }
            want = carry.len().max(self.block_size);
        }
    }

    fn opened(
        &self,
        index: usize,
        name: String,
        input: Input,
        carry: Vec<u8>,
        whole: bool,
        lead: Lead,
    ) -> Open {
        let reading = Arc::new(FileReading {
            index,
            name,
            ending: lead.ending,
            lead: carry[..lead.bytes].to_vec(),
            fields: lead.fields,
            binding: lead.bound.binding,
            notes: lead.bound.notes,
        });
        Open {
            input,
            reading,
            held: Vec::new(),
            progress: Progress {
                at: lead.bytes,
                line: lead.lines,
                ..Progress::default()
            },
            carry,
            whole,
            offset: 0,
            line: 1,
            record: 1,
            left_out: lead.left_out,
        }
    }

    /// What stands before the first record; `None` where more bytes are needed.
    fn lead(&self, name: &str, bytes: &[u8], whole: bool) -> Result<Option<Lead>, Error> {
        let plan = &self.plan.records;
        let Some(ending) = FileEnding::decide(&plan.ending, bytes, whole) else {
            return Ok(None);
        };
        let mark = if bytes.starts_with(BYTE_ORDER_MARK) {
            BYTE_ORDER_MARK.len()
        } else {
            0
        };
        let mut lead = Lead::new(ending, mark);
        if whole && bytes.len() == mark {
            lead.bound = Bound {
                binding: vec![0; self.plan.columns.len()],
                notes: Vec::new(),
            };
            return Ok(Some(lead));
        }
        for passed in 0..plan.preamble {
            if whole && lead.bytes == bytes.len() {
                return Err(too_short(name, "preamble", passed, plan.preamble));
            }
            match lead.ending.line_end(bytes, lead.bytes, whole) {
                Found::End(_, next) => lead.bytes = next,
                _ => return Ok(None),
            }
            lead.lines += 1;
            lead.left_out.preamble += 1;
        }
        if plan.header == Header::None {
            lead.fields = self.highest_field() + 1;
            lead.bound.binding = self.places();
            return Ok(Some(lead));
        }
        let Some(header) = self.header(&mut lead, bytes, whole) else {
            return if whole {
                Err(too_short(name, "header", 0, 1))
            } else {
                Ok(None)
            };
        };
        lead.fields = header.len();
        lead.bound = header::bind(name, &self.plan.columns, &header)?;
        Ok(Some(lead))
    }

    /// Reads the header's names and goes past it.
    fn header(&self, lead: &mut Lead, bytes: &[u8], whole: bool) -> Option<Vec<String>> {
        let scan = Scan {
            fields: None,
            keep_blank: false,
            ..self.scan(0)
        };
        let start = Progress {
            at: lead.bytes,
            line: lead.lines,
            ..Progress::default()
        };
        let mut marks = Vec::new();
        run(
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
        run(
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
        let mut spans = Vec::new();
        let _ = fields::split(scan.delimited, bytes, &mark, &mut spans);
        Some(
            spans
                .into_iter()
                .map(|span| self.name_of(bytes, span))
                .collect(),
        )
    }

    fn name_of(&self, bytes: &[u8], span: fields::Span) -> String {
        let field = &bytes[span.range()];
        let mut text = Vec::new();
        if span.is_escaped() {
            fields::unescape(
                &self.plan.records.delimited,
                span.is_quoted(),
                field,
                &mut text,
            );
        } else {
            text.extend_from_slice(field);
        }
        String::from_utf8_lossy(&text).into_owned()
    }

    fn places(&self) -> Vec<usize> {
        let place = |place: &Place| match place {
            Place::Field(field) => *field,
            Place::Named(_) => 0,
        };
        self.plan.columns.iter().map(|c| place(&c.place)).collect()
    }

    fn highest_field(&self) -> usize {
        self.places().into_iter().max().unwrap_or(0)
    }

    fn scan(&self, fields: usize) -> Scan<'p> {
        let plan = &self.plan.records;
        Scan {
            delimited: &plan.delimited,
            comment: plan.comment.as_deref(),
            keep_blank: plan.when_blank == WhenBlank::Reject,
            longest: plan.longest,
            fields: Some(fields),
        }
    }

    /// Fills `block` from the file: whole records, at least one unless the file
    /// has none left.
    fn cut(&self, open: &mut Open, block: &mut Block) -> Result<(), Error> {
        let trailer = self.plan.records.trailer;
        let scan = self.scan(open.reading.fields);
        block.bytes.append(&mut open.carry);
        block.marks.append(&mut open.held);
        let mut want = self.block_size.saturating_sub(block.bytes.len()).max(1);
        loop {
            if !open.whole {
                let read =
                    open.input
                        .fill(want, &mut block.bytes)
                        .map_err(|source| Error::Read {
                            file: open.reading.name.clone(),
                            source,
                        })?;
                open.whole = read < want;
            }
            let ending = &open.reading.ending;
            run(
                &scan,
                ending,
                &block.bytes,
                open.whole,
                &mut open.progress,
                &mut block.marks,
            );
            if open.whole || block.marks.len() > trailer {
                break;
            }
            want = block.bytes.len().max(self.block_size);
        }
        self.hand_on(open, block, trailer)
    }

    /// Parts what the block keeps from what is carried to the next one.
    fn hand_on(&self, open: &mut Open, block: &mut Block, trailer: usize) -> Result<(), Error> {
        if open.whole && block.marks.len() < trailer {
            let found = block.marks.len() as u64;
            return Err(too_short(
                &open.reading.name,
                "trailer",
                found,
                trailer as u64,
            ));
        }
        let kept = block.marks.len() - trailer;
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
        if open.whole {
            open.left_out.trailer = held.len() as u64;
            block.last = Some(FileEnd {
                trailer: if held.is_empty() {
                    Vec::new()
                } else {
                    block.bytes[cut..].to_vec()
                },
                bytes: open.offset + block.bytes.len() as u64,
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
            open.offset += cut as u64;
            open.line += u64::from(lines);
        }
        block.bytes.truncate(cut);
        block.left_out = std::mem::take(&mut open.left_out);
        block.taken = open.input.taken();
        Ok(())
    }
}

/// What stands before a file's first record.
struct Lead {
    ending: FileEnding,
    bytes: usize,
    lines: u32,
    fields: usize,
    bound: Bound,
    left_out: LeftOut,
}

impl Lead {
    fn new(ending: FileEnding, bytes: usize) -> Lead {
        Lead {
            ending,
            bytes,
            lines: 0,
            fields: 0,
            bound: Bound {
                binding: Vec::new(),
                notes: Vec::new(),
            },
            left_out: LeftOut::default(),
        }
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
    }
}
