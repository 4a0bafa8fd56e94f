//! `barrow convert`: from one format to another, without a database between.

use std::path::Path;
use std::process::ExitCode;
use std::time::{Duration, Instant};

use barrow_core::export::{Cells, Loose, RecordWriter, Typing, Written};
use barrow_core::flow::{self, Encoded, Rows, Sink};
use barrow_core::reason::Reject;
use barrow_core::rejects::Keeper;
use barrow_core::source::SourceFile;
use barrow_core::tally::Tally;
use barrow_core::types::Type;
use barrow_core::values::{Cell, shown};
use barrow_core::visible::visible;
use barrow_core::words::{Tolerance, WhenUnfit};

use super::export::{files, list, parting};
use super::job::{Spec, flow_options};
use crate::args::{Convert, Shared};
use crate::failure::{BEYOND_TOLERANCE, Failure};
use crate::loading::run_id;
use crate::outgoing::summary::{self, Exported};
use crate::outgoing::{Output, writer};
use crate::view::progress::Progress;
use crate::view::summary::{Outcome, Summary};

/// Converts, and says what came of it.
pub fn run(args: &Convert) -> Result<ExitCode, Failure> {
    let clock = Instant::now();
    let from = Spec::read(&args.spec, None, None)?;
    let to = Spec::read(&args.to, None, None)?;
    let sources = from.files(&args.files)?;
    let (writer, lines) = writer(&to.plan, args.out.split_by.as_deref())?;
    let mapping = Mapping::new(&from, &writer)?;
    let run = run_id();
    let shared = Shared {
        database: None,
        table: None,
        report: args.report,
        threads: args.threads,
        quiet: args.quiet,
    };
    let folder = match &args.rejects {
        Some(folder) => folder.clone(),
        None => from.base.join(&from.plan.rejects.folder),
    };
    let out_files = files(&args.out, &to.plan)?;
    let mut sink = ConvertSink {
        sources: &sources,
        output: Output::new(&to.plan, &writer, &lines, parting(&args.out), out_files),
        keeper: Keeper::new(folder.join(&run), from.plan.rejects.keep),
        tally: Tally::default(),
        progress: Progress::new(&sources, args.quiet),
        times: Vec::new(),
        clock,
    };
    let encode = |batch: &mut Encoded<Written>| mapping.encode(&writer, batch);
    let options = flow_options(&shared, &run);
    let flowed = flow::run(&from.plan, sources.clone(), options, &encode, &mut sink);
    sink.progress.end();
    match flowed {
        Ok(()) => {}
        Err(flow::Failure::Sink(Failure::ReaderGone)) => return Ok(ExitCode::SUCCESS),
        Err(flow::Failure::Sink(failure)) => return Err(failure),
        Err(flow::Failure::Source(error)) => return Err(error.into()),
    }
    let tolerance = args.max_rejects.unwrap_or(from.plan.rejects.tolerance);
    ended(args, &from, &to, tolerance, sink)
}

/// Keeps the files within the tolerance, and says what came of it.
fn ended(
    args: &Convert,
    from: &Spec,
    to: &Spec,
    tolerance: Tolerance,
    mut sink: ConvertSink<'_>,
) -> Result<ExitCode, Failure> {
    sink.keeper.finish()?;
    let elapsed = sink.clock.elapsed();
    let records = sink.tally.records();
    let unfit = sink.output.counts.unfit;
    let fits = to.plan.export.when_unfit == WhenUnfit::Stop
        || to
            .plan
            .rejects
            .tolerance
            .allows(unfit, sink.output.counts.rows + unfit);
    let kept = tolerance.allows(sink.tally.rejected(), records)
        && sink.tally.differences.is_empty()
        && fits;
    let (made, counts) = match kept {
        true => sink.output.finish()?,
        false => (Vec::new(), std::mem::take(&mut sink.output.counts)),
    };
    if kept {
        list(&args.out, &made)?;
    }
    let outcome = match (kept, sink.tally.differences.is_empty()) {
        (true, _) => Outcome::Kept,
        (false, false) => Outcome::TotalsDiffer {
            not_kept: sink.tally.loaded(),
        },
        (false, true) => Outcome::BeyondTolerance {
            not_kept: sink.tally.loaded(),
        },
    };
    let reading = Summary {
        spec: from.name(),
        into: to.name(),
        outcome,
        tolerance,
        rejects: sink.keeper.folder().map(Path::to_path_buf),
        times: sink.times,
        elapsed,
        tally: sink.tally,
        ..Summary::default()
    };
    let exported = Exported {
        from: from.name(),
        spec: to.name(),
        made,
        counts,
        elapsed,
        to_stdout: args.out.output == Path::new("-"),
        beyond: (!kept).then(|| "nothing is committed".to_string()),
        reading: Some(reading),
    };
    summary::print(&exported, args.report, args.quiet)?;
    Ok(match kept {
        true => ExitCode::SUCCESS,
        false if matches!(outcome, Outcome::TotalsDiffer { .. }) => ExitCode::FAILURE,
        false => ExitCode::from(BEYOND_TOLERANCE),
    })
}

/// Which column of the one format becomes which of the other.
struct Mapping {
    /// For each written column, the place of its cells, and their type.
    places: Vec<(usize, Type)>,
    typing: Typing,
}

impl Mapping {
    fn new(from: &Spec, writer: &RecordWriter<'_>) -> Result<Mapping, Failure> {
        let [kind] = from.plan.kinds.as_slice() else {
            return Err(Failure::wrong(
                "the spec has several record types, and one format writes one record type",
                "load them, and export each table",
            ));
        };
        let mut lacking = Vec::new();
        let places = writer.names().filter_map(|name| {
            let found = kind
                .loaded()
                .position(|c| c.name.eq_ignore_ascii_case(name));
            let ty = found.and_then(|at| kind.loaded().nth(at)).map(|c| c.ty);
            if found.is_none() {
                lacking.push(visible(name.as_bytes()));
            }
            found.zip(ty)
        });
        let places: Vec<(usize, Type)> = places.collect();
        if !lacking.is_empty() {
            return Err(Failure::wrong(
                format!("{} has no column {}", from.name(), lacking.join(", ")),
                "both specs name a column alike; `from` is its name in the header",
            ));
        }
        let types: Vec<Type> = writer.columns().map(|c| c.ty).collect();
        Ok(Mapping {
            places,
            typing: Typing::new(&types),
        })
    }

    /// Writes a batch's rows in the other format; done by the workers.
    fn encode(&self, writer: &RecordWriter<'_>, batch: &mut Encoded<Written>) {
        let Encoded {
            batch,
            encoded: written,
        } = batch;
        written.clear();
        if let Some(rows) = batch.parts.first() {
            let mut cells = Cells::default();
            self.typing.begin(&mut cells);
            for row in &rows.good {
                for (column, (place, ty)) in self.places.iter().enumerate() {
                    let cell = rows.cell(*place, *row as usize);
                    self.put(&mut cells, column, cell, *ty, rows, &batch.block.bytes);
                }
            }
            // A row is told by its record's number in its file.
            let number = |row: &u32| {
                batch
                    .block
                    .record_number(rows.marks[*row as usize] as usize)
            };
            let numbered = (0..).zip(rows.good.iter().map(number));
            writer.write(&cells, &[], numbered, written);
        }
    }

    fn put(
        &self,
        cells: &mut Cells,
        column: usize,
        cell: Cell,
        ty: Type,
        rows: &Rows,
        block: &[u8],
    ) {
        let text;
        let value = match cell {
            Cell::Null => Loose::Null,
            Cell::Int(n) => Loose::Int(n),
            Cell::Float(n) => Loose::Float(n),
            Cell::Text(piece) => match std::str::from_utf8(piece.of(block, &rows.store)) {
                Ok(text) => Loose::Text(text),
                Err(_) => Loose::Bytes(piece.of(block, &rows.store)),
            },
            Cell::Bytes(piece) => Loose::Bytes(piece.of(block, &rows.store)),
            Cell::LongDecimal(_) | Cell::Decimal(_) => {
                text = shown(cell, ty, block, &rows.store).unwrap_or_default();
                Loose::Text(&text)
            }
            other => Loose::Typed(other, ty),
        };
        self.typing.put(cells, column, value);
    }
}

struct ConvertSink<'c> {
    sources: &'c [SourceFile],
    output: Output<'c>,
    keeper: Keeper,
    tally: Tally,
    progress: Progress,
    times: Vec<Duration>,
    clock: Instant,
}

impl Sink for ConvertSink<'_> {
    type Encoded = Written;
    type Error = Failure;

    fn take(&mut self, batch: &mut Encoded<Written>) -> Result<(), Failure> {
        let Some(index) = batch.file().map(|file| file.index) else {
            return Ok(());
        };
        self.output.take(&batch.encoded)?;
        if let Some(file) = batch.file() {
            let rejects: Vec<&Reject> = batch.rejects.iter().collect();
            if !rejects.is_empty() {
                let name = self.sources[index].file_name();
                self.keeper.keep(file, &name, rejects)?;
            }
        }
        if let Some(end) = &batch.block.last {
            self.keeper.end_file(index, end)?;
            let before: Duration = self.times.iter().sum();
            self.times.push(self.clock.elapsed().saturating_sub(before));
        }
        self.tally.add(batch, batch.good() as u64, &[]);
        self.progress
            .advance(batch.block.taken, self.tally.records());
        Ok(())
    }
}
