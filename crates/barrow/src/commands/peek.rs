//! `barrow peek`: shows records as the spec reads them, or lines as they are.

use std::path::Path;
use std::process::ExitCode;

use barrow_core::flow::{self, Batch, Encoded, Failure as Flow, Sink};
use barrow_core::look::{self, RecordAt};
use barrow_core::plan::Plan;
use barrow_core::records::block::LeftOut;
use barrow_core::source::{self, SourceFile};
use barrow_core::spec::read_plan;
use barrow_core::types::Type;
use barrow_core::values::shown;
use barrow_core::words::{WhenEmpty, WhenNewColumn};

use super::job::Spec;
use crate::args::{Peek, Report};
use crate::failure::Failure;
use crate::view::counted;
use crate::view::lines::{self, LinesView};
use crate::view::records::{self, Entry, KindView, RecordsView};

/// How many lines are shown before and after the one that is asked for.
const NEIGHBOURS: u64 = 3;

/// How many bytes tell the encoding of lines that are shown: a file may be of any size.
const TOLD_BY: u64 = 16 << 20;

/// A spec that reads any file at all, line by line.
const ANY_FILE: &str = "[source]\nencoding = \"auto\"\n[records]\nheader = \"none\"\n\
    [delimited]\nquote = \"\"\n[columns]\nline = \"text\"\n";

/// Shows a look into files.
pub fn run(args: &Peek) -> Result<ExitCode, Failure> {
    let is_spec = args.spec.extension().is_some_and(|ending| ending == "toml");
    if is_spec {
        let mut spec = Spec::read(&args.spec, None, None)?;
        // A look shows what there is.
        spec.plan.records.when_new_column = WhenNewColumn::Ignore;
        spec.plan.source.when_empty = WhenEmpty::Skip;
        let files = spec.files(&args.files)?;
        match args.at {
            Some(line) => at(&spec.plan, &files[0], line, true, args.report)?,
            None => head(&spec.plan, files, args)?,
        }
        return Ok(ExitCode::SUCCESS);
    }
    let mut plan = read_plan(ANY_FILE).map_err(|problems| Failure::Spec {
        path: args.spec.clone(),
        text: ANY_FILE.into(),
        problems,
    })?;
    plan.source.told_by = TOLD_BY;
    let name = args.spec.to_string_lossy().into_owned();
    let words: Vec<String> = std::iter::once(name)
        .chain(args.files.iter().cloned())
        .collect();
    for file in source::find(&words, Path::new(""))? {
        match args.at {
            Some(line) => at(&plan, &file, line, false, args.report)?,
            None => raw(&plan, &file, args)?,
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// A line with its neighbours, and what the spec makes of it.
fn at(
    plan: &Plan,
    file: &SourceFile,
    line: u64,
    by_spec: bool,
    report: Report,
) -> Result<(), Failure> {
    if !file.is_repeatable() {
        return Err(Failure::wrong(
            "--at reads a file twice, and standard input can be read only once",
            "write it to a file first",
        ));
    }
    let first = line.saturating_sub(NEIGHBOURS).max(1);
    let (found, last) = look::lines(plan, file, first, line - first + NEIGHBOURS + 1)?;
    if let Some(last) = last.filter(|last| *last < line) {
        return Err(Failure::wrong(
            format!("{} has {last} lines, and not {line}", file.name()),
            format!("name a line from 1 to {last}"),
        ));
    }
    let record: Option<RecordAt> = match by_spec {
        true => look::record_at(plan, file, line)?,
        false => None,
    };
    let by_width = plan.records.format.fixed().is_some();
    let view = LinesView {
        file: file.name(),
        at: Some(line),
        lines: found,
        record,
        by_spec,
        by_width,
    };
    lines::print(&view, report)
}

/// The first lines as they are.
fn raw(plan: &Plan, file: &SourceFile, args: &Peek) -> Result<(), Failure> {
    let (found, _) = look::lines(plan, file, args.from, args.records)?;
    let view = LinesView {
        file: file.name(),
        at: None,
        lines: found,
        record: None,
        by_spec: false,
        by_width: false,
    };
    lines::print(&view, args.report)
}

/// The first records as typed values.
fn head(plan: &Plan, files: Vec<SourceFile>, args: &Peek) -> Result<(), Failure> {
    let kinds = plan.kinds.iter().map(|kind| KindView {
        name: kind.name.clone(),
        columns: kind.loaded().map(|c| (c.name.clone(), c.ty)).collect(),
    });
    let mut sink = Head {
        kinds: kinds.collect(),
        left_out: LeftOut::default(),
        from: args.from,
        left: args.records,
        passed: 0,
        entries: Vec::new(),
        notes: Vec::new(),
    };
    let options = flow::Options {
        threads: 1,
        ..flow::Options::default()
    };
    match flow::run(plan, files, options, &|_| {}, &mut sink) {
        Ok(()) | Err(Flow::Sink(Enough)) => {}
        Err(Flow::Source(error)) => return Err(error.into()),
    }
    sink.say_what_is_left_out();
    let view = RecordsView {
        kinds: sink.kinds,
        entries: sink.entries,
        notes: sink.notes,
    };
    records::print(&view, args.report)
}

/// There is no need to read on.
struct Enough;

/// Gathers records until there are enough.
struct Head {
    kinds: Vec<KindView>,
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
            values: Ok(self.kinds[kind]
                .columns
                .iter()
                .enumerate()
                .map(value)
                .collect()),
        }
    }
}
