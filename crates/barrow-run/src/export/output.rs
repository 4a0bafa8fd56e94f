//! Written records into their files.

use std::collections::HashMap;

use barrow_core::export::{Lines, RecordWriter, Unfit, Written};
use barrow_core::plan::Plan;
use barrow_core::repair::Repairs;
use barrow_core::words::{Header, WhenUnfit};
use jiff::Timestamp;

use super::files::{Files, Made, Part};
use crate::error::Error;

/// An export is parted by at most this many values: each has a file that stays open.
const MOST_PARTS: usize = 500;

/// How many unfit rows are reported one by one.
const MOST_TOLD: usize = 1000;

/// How an export is parted into files.
#[derive(Debug, Clone, Default)]
pub struct Parting {
    /// After so many rows.
    pub rows: Option<u64>,
    /// Before so many bytes, before they are packed.
    pub size: Option<u64>,
    /// By this column's values.
    pub by: Option<String>,
}

impl Parting {
    /// Whether there may be several files.
    pub fn is_parted(&self) -> bool {
        self.rows.is_some() || self.size.is_some() || self.by.is_some()
    }
}

/// A format's writer and the lines around its records.
///
/// # Errors
/// Everything that keeps the format from being written.
pub fn writer<'p>(plan: &'p Plan, by: Option<&str>) -> Result<(RecordWriter<'p>, Lines), Error> {
    let cannot = |problems: Vec<String>| {
        Error::request(
            problems.join("\n"),
            "the spec reads such files, and has to say more to write one; docs/spec.md has [export]",
        )
    };
    let writer = RecordWriter::new(plan).map_err(cannot)?;
    let lines = Lines::new(plan, writer.columns()).map_err(cannot)?;
    let writer = writer.summing(lines.summed().to_vec());
    let writer = match by {
        Some(name) => writer
            .parting_by(name)
            .map_err(|e| Error::request(e, "name a column as the table has it"))?,
        None => writer,
    };
    Ok((writer, lines))
}

/// Takes written records into their files.
pub struct Output<'o> {
    plan: &'o Plan,
    writer: &'o RecordWriter<'o>,
    lines: &'o Lines,
    parting: Parting,
    files: Files,
    open: HashMap<String, Part>,
    now: String,
    /// What was counted.
    pub counts: Counts,
}

/// What an export counted.
#[derive(Debug, Default)]
pub struct Counts {
    /// Rows that were written.
    pub rows: u64,
    /// Rows that could not be.
    pub unfit: u64,
    /// The first of those.
    pub told: Vec<Unfit>,
    /// What the spec's policies changed.
    pub repairs: Repairs,
    /// Characters that were replaced by the stand-in.
    pub replaced: u64,
}

impl<'o> Output<'o> {
    /// For files of a format.
    pub fn new(
        plan: &'o Plan,
        writer: &'o RecordWriter<'o>,
        lines: &'o Lines,
        parting: Parting,
        files: Files,
    ) -> Output<'o> {
        Output {
            plan,
            writer,
            lines,
            parting,
            files,
            open: HashMap::new(),
            now: Timestamp::now().strftime("%Y-%m-%d %H:%M:%SZ").to_string(),
            counts: Counts::default(),
        }
    }

    /// Takes records in their order.
    ///
    /// # Errors
    /// A row that cannot be written, where the spec does not say to leave it out; a file
    /// that cannot be written.
    pub fn take(&mut self, written: &Written) -> Result<(), Error> {
        self.counts.unfit += written.unfit.len() as u64;
        if let (Some(first), WhenUnfit::Stop) = (written.unfit.first(), self.plan.export.when_unfit)
        {
            return Err(unfit(first, self.files.is_stdout()));
        }
        let room = MOST_TOLD.saturating_sub(self.counts.told.len());
        let told = written.unfit.iter().take(room);
        self.counts.told.extend(told.cloned());
        self.counts.repairs.add(&written.repairs, "");
        self.counts.replaced += written.replaced;
        self.counts.rows += written.ends.len() as u64;
        match self.parting.is_parted() {
            false => self.all(written),
            true => self.one_by_one(written),
        }
    }

    /// All records go to the one file.
    fn all(&mut self, written: &Written) -> Result<(), Error> {
        let width = self.lines.summed().len();
        let part = self.part("")?;
        part.write(&written.bytes)?;
        part.told.rows += written.ends.len() as u64;
        if width > 0 {
            written.summed.chunks(width).for_each(|row| part.add(row));
        }
        Ok(())
    }

    /// Each record goes to its file.
    fn one_by_one(&mut self, written: &Written) -> Result<(), Error> {
        let width = self.lines.summed().len();
        let mut from = 0;
        for (at, end) in written.ends.iter().enumerate() {
            let record = &written.bytes[from..*end as usize];
            from = *end as usize;
            let key = written.keys.get(at).map_or("", String::as_str);
            if self.is_full(key, record.len()) {
                self.close(key)?;
            }
            let part = self.part(key)?;
            part.write(record)?;
            part.told.rows += 1;
            part.add(&written.summed[at * width..(at + 1) * width]);
        }
        Ok(())
    }

    fn is_full(&self, key: &str, more: usize) -> bool {
        let Some(part) = self.open.get(key) else {
            return false;
        };
        let rows = self.parting.rows.is_some_and(|most| part.told.rows >= most);
        let bytes = part.bytes() + more as u64;
        rows || (part.told.rows > 0 && self.parting.size.is_some_and(|most| bytes > most))
    }

    /// The open file of a key, begun with its titles and header.
    fn part(&mut self, key: &str) -> Result<&mut Part, Error> {
        if !self.open.contains_key(key) {
            if self.open.len() >= MOST_PARTS {
                return Err(Error::request(
                    format!("the column has more than {MOST_PARTS} values, each with a file"),
                    "part by another column, or by rows",
                ));
            }
            let mut part = self.files.begin(key)?;
            part.told.now.clone_from(&self.now);
            part.told.sums = vec![Some(0); self.lines.summed().len()];
            self.head(&mut part)?;
            self.open.insert(key.to_string(), part);
        }
        self.open
            .get_mut(key)
            .ok_or_else(|| Error::failed("a file was closed too soon"))
    }

    fn head(&self, part: &mut Part) -> Result<(), Error> {
        if self.plan.export.byte_order_mark {
            part.write(&self.writer.byte_order_mark().map_err(in_words)?)?;
        }
        for line in self.lines.preamble(&part.told) {
            part.write(&self.line(&line)?)?;
        }
        if self.plan.records.header != Header::None {
            let header = self.writer.header().map_err(in_words)?;
            part.write(&header.unwrap_or_default())?;
        }
        Ok(())
    }

    fn line(&self, text: &str) -> Result<Vec<u8>, Error> {
        self.writer.line(text).map_err(in_words)
    }

    /// Ends a key's file with its last lines.
    fn close(&mut self, key: &str) -> Result<(), Error> {
        let Some(mut part) = self.open.remove(key) else {
            return Ok(());
        };
        let trailer = self.lines.trailer(&part.told).map_err(Error::failed)?;
        for line in trailer {
            part.write(&self.line(&line)?)?;
        }
        self.files.end(part)
    }

    /// Ends all files, and gives them their names. An export without rows has one file,
    /// with what stands around the rows.
    ///
    /// # Errors
    /// A file cannot be written.
    pub fn finish(mut self) -> Result<(Vec<Made>, Counts), Error> {
        if self.files.is_untouched() && self.open.is_empty() && self.parting.by.is_none() {
            self.part("")?;
        }
        let mut keys: Vec<String> = self.open.keys().cloned().collect();
        keys.sort();
        for key in keys {
            self.close(&key)?;
        }
        Ok((self.files.finish()?, self.counts))
    }
}

/// Words that stand around the records and cannot be written so.
fn in_words(says: String) -> Error {
    Error::request(
        says,
        "choose another encoding or other marks, or other words",
    )
}

/// The failure of an export that stops at a row.
fn unfit(first: &Unfit, to_stdout: bool) -> Error {
    let left = match to_stdout {
        true => "the rows before it are written already",
        false => "nothing is left of this export",
    };
    let column = first
        .column
        .as_ref()
        .map_or(String::new(), |name| format!(", column {name}"));
    let value = match first.why.value.as_str() {
        "" => String::new(),
        value => format!(": \"{value}\""),
    };
    Error::failed(format!(
        "row {}{column}{value}: {}\n{left}",
        crate::words::number(first.row),
        first.why.says
    ))
    .advised(
        "correct it in the table, widen the format, or leave such rows out: [export] when_unfit = \
         \"reject\"",
    )
}
