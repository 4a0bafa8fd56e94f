//! Looking into files: records as the spec reads them, or lines as they are.

mod document;

use std::path::Path;

use barrow_core::inspect;
use barrow_core::inspect::{Line, RecordAt};
use barrow_core::pipeline;
use barrow_core::pipeline::{Batch, Encoded, Failure as Flow, Sink};
use barrow_core::plan::Plan;
use barrow_core::reason::Reject;
use barrow_core::records::block::LeftOut;
use barrow_core::source::SourceFile;
use barrow_core::spec::{SpecTexts, read_plan};
use barrow_core::types::Type;
use barrow_core::values::shown;

use crate::error::Error;
use crate::named_files;
use crate::spec_file::Spec;
use crate::spec_file::settings::Settings;
use crate::words::counted;

/// How many lines are shown before and after the one that is asked for.
const NEIGHBOURS: u64 = 3;

/// How many bytes tell the encoding of lines that are shown: a file may be of any size.
const TOLD_BY: u64 = 16 << 20;

/// A spec that reads any file at all, line by line.
const ANY_FILE: &str = "[source]\nencoding = \"auto\"\n[records]\nheader = \"none\"\n\
    [delimited]\nquote = \"\"\n[columns]\nline = \"text\"\n";

/// A look into files.
#[derive(Debug, Clone, Copy)]
pub struct Peek {
    /// The first record or line to show, 1-based.
    pub from: u64,
    /// How many.
    pub count: u64,
}

/// A record as it is shown.
pub struct Entry {
    /// The file.
    pub file: String,
    /// Its number in the file, 1-based.
    pub record: u64,
    /// Its first line, 1-based.
    pub line: u64,
    /// Its record type, as a place among those that are shown; meaningless for a reject.
    pub kind: usize,
    /// Each value, none for null; or the reject.
    pub values: Result<Vec<Option<String>>, Reject>,
}

/// A record type, with its columns.
pub struct RecordTypeColumns {
    /// Its name; none where the spec names none.
    pub name: Option<String>,
    /// Its columns with their types.
    pub columns: Vec<(String, Type)>,
}

/// Records of one or several files.
pub struct Records {
    /// Their record types.
    pub record_types: Vec<RecordTypeColumns>,
    /// The records, in order.
    pub entries: Vec<Entry>,
    /// What people should know.
    pub notes: Vec<String>,
}

/// Lines of a file.
pub struct Lines {
    /// The file.
    pub file: String,
    /// The line that was asked for, 1-based.
    pub at: Option<u64>,
    /// The lines.
    pub lines: Vec<Line>,
    /// The record that has it.
    pub record: Option<RecordAt>,
    /// Whether a spec reads the file.
    pub by_spec: bool,
    /// Whether fields have a set width, so that a ruler counts places.
    pub by_width: bool,
}

impl Peek {
    /// The first records as typed values. A look shows what there is: new columns and empty
    /// files stop nothing.
    ///
    /// # Errors
    /// A file cannot be read.
    pub fn records(&self, spec: &Spec, files: &[String]) -> Result<Records, Error> {
        self.head(&spec.plan_of_look()?, spec.files(files)?)
    }

    /// The first lines of each file as they are. `words` name the files.
    ///
    /// # Errors
    /// A file cannot be read.
    pub fn lines(&self, words: &[String]) -> Result<Vec<Lines>, Error> {
        let plan = any_file()?;
        let files = named(words)?;
        let raw = files.iter().map(|file| {
            let (lines, _) = inspect::lines(&plan, file, self.from, self.count)?;
            Ok(Lines {
                file: file.name(),
                at: None,
                lines,
                record: None,
                by_spec: false,
                by_width: false,
            })
        });
        raw.collect()
    }

    fn head(&self, plan: &Plan, files: Vec<SourceFile>) -> Result<Records, Error> {
        let record_types = plan.record_types.iter().map(|kind| RecordTypeColumns {
            name: kind.name.clone(),
            columns: kind.loaded().map(|c| (c.name.clone(), c.ty)).collect(),
        });
        let mut sink = Head {
            record_types: record_types.collect(),
            left_out: LeftOut::default(),
            from: self.from,
            left: self.count,
            passed: 0,
            entries: Vec::new(),
            notes: Vec::new(),
        };
        let options = pipeline::Options {
            threads: 1,
            ..pipeline::Options::default()
        };
        match pipeline::run(plan, files, options, &|_| {}, &mut sink) {
            Ok(()) | Err(Flow::Sink(Enough)) => {}
            Err(Flow::Source(error)) => return Err(error.into()),
        }
        sink.say_what_is_left_out();
        Ok(Records {
            record_types: sink.record_types,
            entries: sink.entries,
            notes: sink.notes,
        })
    }
}

/// A line of the first file with its neighbours, and what the spec makes of it.
///
/// # Errors
/// The file cannot be read, or has no such line.
pub fn line_by_spec(spec: &Spec, files: &[String], line: u64) -> Result<Lines, Error> {
    let files = spec.files(files)?;
    at(&spec.plan_of_look()?, &files[0], line, true)
}

/// A line of each file with its neighbours.
///
/// # Errors
/// As [`line_by_spec`].
pub fn line(words: &[String], line: u64) -> Result<Vec<Lines>, Error> {
    let plan = any_file()?;
    let files = named(words)?;
    files
        .iter()
        .map(|file| at(&plan, file, line, false))
        .collect()
}

/// The files that words name, by the settings of this folder.
fn named(words: &[String]) -> Result<Vec<SourceFile>, Error> {
    let folder = Path::new("");
    let stores = Settings::of(folder)?.stores()?;
    named_files::find(words, folder, &stores)
}

fn any_file() -> Result<Plan, Error> {
    let name = Path::new("the spec of any file");
    let wrong = |problems| Error::spec(&SpecTexts::new(name, ANY_FILE), problems);
    let plan = read_plan(ANY_FILE).map_err(wrong);
    let mut plan = plan?;
    plan.source.told_by = TOLD_BY;
    Ok(plan)
}

fn at(plan: &Plan, file: &SourceFile, line: u64, by_spec: bool) -> Result<Lines, Error> {
    if !file.is_repeatable() {
        return Err(Error::request(
            "--at reads a file twice, and standard input can be read only once",
            "write it to a file first",
        ));
    }
    let first = line.saturating_sub(NEIGHBOURS).max(1);
    let (lines, last) = inspect::lines(plan, file, first, line - first + NEIGHBOURS + 1)?;
    if let Some(last) = last.filter(|last| *last < line) {
        return Err(Error::request(
            format!("{} has {last} lines, and not {line}", file.name()),
            format!("name a line from 1 to {last}"),
        ));
    }
    Ok(Lines {
        file: file.name(),
        at: Some(line),
        lines,
        record: match by_spec {
            true => inspect::record_at(plan, file, line)?,
            false => None,
        },
        by_spec,
        by_width: plan.records.format.fixed().is_some(),
    })
}

/// There is no need to read on.
struct Enough;

/// Gathers records until there are enough.
struct Head {
    record_types: Vec<RecordTypeColumns>,
    /// Records that are not shown since the spec leaves them out.
    left_out: LeftOut,
    from: u64,
    left: u64,
    /// Records of the files before this block.
    passed: u64,
    entries: Vec<Entry>,
    notes: Vec<String>,
}

impl Sink for Head {
    type Encoded = ();
    type Error = Enough;

    fn take(&mut self, batch: &mut Encoded<()>) -> Result<(), Enough> {
        let Some(file) = batch.file() else {
            return Ok(());
        };
        let said = file
            .notes
            .iter()
            .chain(&batch.hint)
            .map(|note| format!("{}: {note}", file.name));
        let new: Vec<String> = said.filter(|note| !self.notes.contains(note)).collect();
        self.notes.extend(new);
        self.left_out.add(&batch.block.left_out);
        let parts = batch.parts.iter().enumerate();
        let rows = parts.flat_map(|(kind, rows)| rows.good.iter().map(move |row| (kind, *row)));
        let mut entries: Vec<Entry> = rows
            .map(|(kind, row)| self.entry(batch, kind, row))
            .collect();
        let told = batch
            .rejects
            .iter()
            .filter(|reject| !reject.reasons.is_empty());
        entries.extend(told.map(|reject| Entry {
            file: file.name.clone(),
            record: reject.record,
            line: reject.line,
            kind: 0,
            values: Err(reject.clone()),
        }));
        entries.sort_by_key(|entry| entry.record);
        for entry in entries {
            self.passed += 1;
            if self.passed >= self.from {
                if self.left == 0 {
                    return Err(Enough);
                }
                self.left -= 1;
                self.entries.push(entry);
            }
        }
        if self.left == 0 { Err(Enough) } else { Ok(()) }
    }
}

impl Head {
    fn say_what_is_left_out(&mut self) {
        let LeftOut {
            unmet, other_kinds, ..
        } = self.left_out;
        for (count, why) in [
            (unmet, "by keep_if"),
            (other_kinds, "as their record type is not loaded"),
        ] {
            if count > 0 {
                self.notes
                    .push(format!("{} skipped {why}", counted(count, "record")));
            }
        }
    }

    fn entry(&self, batch: &Batch, kind: usize, row: u32) -> Entry {
        let (block, rows) = (&batch.block, &batch.parts[kind]);
        let mark = rows.marks[row as usize] as usize;
        let value = |(column, (_, ty)): (usize, &(String, Type))| {
            shown(
                rows.cell(column, row as usize),
                *ty,
                &block.bytes,
                &rows.store,
            )
        };
        Entry {
            file: batch
                .file()
                .map(|file| file.name.clone())
                .unwrap_or_default(),
            record: block.record_number(mark),
            line: block.first_line + u64::from(block.marks[mark].line),
            kind,
            values: Ok(self.record_types[kind]
                .columns
                .iter()
                .enumerate()
                .map(value)
                .collect()),
        }
    }
}
