//! Converting: from one format to another, without a database between.

use std::path::PathBuf;

use barrow_core::counts::RunCounts;
use barrow_core::escape::escape_for_display;
use barrow_core::export::{ColumnMapping, RecordWriter, Written};
use barrow_core::pipeline;
use barrow_core::pipeline::{Encoded, Sink};
use barrow_core::rejects::RejectWriter;
use barrow_core::types::Type;
use barrow_core::words::{Tolerance, WhenUnfit};

use crate::account::RunAccount;
use crate::error::{Error, ErrorKind};
use crate::export::files::Destination;
use crate::export::output::{Output, writer};
use crate::export::{Exported, Out};
use crate::observer::{Observer, Watcher};
use crate::rejects_place::RejectsPlace;
use crate::report::{Outcome, Summary};
use crate::run_id::run_id;
use crate::spec_file::{Spec, pipeline_options};

/// A conversion that is to be done.
pub struct Convert<'c> {
    from: &'c Spec,
    to: &'c Spec,
    out: Out,
    files: Vec<String>,
    rejects: Option<PathBuf>,
    threads: Option<usize>,
    observer: Option<&'c mut dyn Observer>,
}

/// What came of a conversion.
pub struct Converted {
    /// What people read.
    pub exported: Exported,
    /// What became of it.
    pub outcome: Outcome,
}

impl<'c> Convert<'c> {
    /// A conversion of the files that one spec reads to the format of another. Columns are
    /// found by name.
    pub fn new(from: &'c Spec, to: &'c Spec, out: Out) -> Convert<'c> {
        Convert {
            from,
            to,
            out,
            files: Vec::new(),
            rejects: None,
            threads: None,
            observer: None,
        }
    }

    /// Reads these files, and not the spec's.
    pub fn files(self, files: Vec<String>) -> Convert<'c> {
        Convert { files, ..self }
    }

    /// The folder that gets a folder of rejects; the spec's unless said.
    pub fn rejects(self, rejects: Option<PathBuf>) -> Convert<'c> {
        Convert { rejects, ..self }
    }

    /// How many threads read and write values; as many as the machine has unless said.
    pub fn threads(self, threads: Option<usize>) -> Convert<'c> {
        Convert { threads, ..self }
    }

    /// Tells an observer what happens on the way.
    pub fn observe(self, observer: &'c mut dyn Observer) -> Convert<'c> {
        Convert {
            observer: Some(observer),
            ..self
        }
    }

    /// Converts. None where whoever reads standard output has had enough.
    ///
    /// # Errors
    /// The formats do not have the same columns, a file cannot be read or written.
    pub fn run(self) -> Result<Option<Converted>, Error> {
        let watch = Watcher::new(self.observer);
        let (from, to) = (self.from, self.to);
        let sources = from.files(&self.files)?;
        let (writer, lines) = writer(&to.plan, self.out.parting.by.as_deref())?;
        let mapping = mapping(from, &writer)?;
        let run = run_id();
        let place = from.rejects_place(self.rejects)?;
        let remote = self.out.remote(Some(to))?;
        let files = self.out.files(&to.plan, &remote)?;
        let rejects = RejectWriter::new(place.folder.join(&run), from.plan.rejects.keep);
        let parting = self.out.parting.clone();
        let mut sink = ConvertSink {
            output: Output::new(&to.plan, &writer, &lines, parting, files),
            account: RunAccount::open(sources.clone(), RunCounts::default(), Some(rejects), &watch),
        };
        let encode = |batch: &mut Encoded<Written>| {
            mapping.write(&writer, &batch.batch, &mut batch.encoded);
        };
        let options = pipeline_options(self.threads, &run);
        let flowed = pipeline::run(&from.plan, sources, options, &encode, &mut sink);
        sink.account.end();
        match flowed.map_err(Error::from) {
            Err(error) if error.kind() == ErrorKind::OutputClosed => Ok(None),
            Err(error) => Err(error),
            Ok(()) => ended(from, to, &self.out, &place, sink).map(Some),
        }
    }
}

/// Gives the files their names, if there are no more rejects than may be.
fn ended(
    from: &Spec,
    to: &Spec,
    out: &Out,
    place: &RejectsPlace,
    mut sink: ConvertSink<'_>,
) -> Result<Converted, Error> {
    sink.account.finish_rejects()?;
    if let (Some(mirror), Some(folder)) = (&place.mirror, sink.account.rejects_folder()) {
        mirror.push(&folder)?;
    }
    let elapsed = sink.account.elapsed();
    let most = from.plan.rejects.tolerance;
    let outcome = outcome(most, to, &sink);
    let kept = outcome == Outcome::Kept;
    let rejects = sink.account.rejects_folder();
    let rejects = rejects.map(|folder| place.shown(&folder));
    let (made, counts) = match kept {
        true => sink.output.finish()?,
        false => (Vec::new(), sink.output.counts),
    };
    if kept {
        out.write_list(&made, &out.remote(Some(to))?)?;
    }
    let reading = Summary {
        spec: from.name(),
        into: to.name(),
        outcome,
        tolerance: most,
        rejects,
        times: sink.account.times,
        elapsed,
        tally: sink.account.tally,
        ..Summary::default()
    };
    let exported = Exported {
        from: from.name(),
        spec: to.name(),
        made,
        counts,
        elapsed,
        to_stdout: out.destination == Destination::Stdout,
        beyond: (!kept).then(|| "nothing is written".to_string()),
        reading: Some(reading),
    };
    Ok(Converted { exported, outcome })
}

fn outcome(most: Tolerance, to: &Spec, sink: &ConvertSink<'_>) -> Outcome {
    let (tally, counts) = (&sink.account.tally, &sink.output.counts);
    let not_kept = tally.loaded();
    let fits = to.plan.export.when_unfit == WhenUnfit::Stop
        || to
            .plan
            .rejects
            .tolerance
            .allows(counts.unfit, counts.rows + counts.unfit);
    match (
        tally.differences.is_empty(),
        most.allows(tally.rejected(), tally.records()) && fits,
    ) {
        (false, _) => Outcome::TotalsDiffer { not_kept },
        (true, false) => Outcome::BeyondTolerance { not_kept },
        (true, true) => Outcome::Kept,
    }
}

/// Which column of the one format becomes which of the other, found by name.
fn mapping(from: &Spec, writer: &RecordWriter<'_>) -> Result<ColumnMapping, Error> {
    let [kind] = from.plan.record_types.as_slice() else {
        return Err(Error::request(
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
            lacking.push(escape_for_display(name.as_bytes()));
        }
        found.zip(ty)
    });
    let places: Vec<(usize, Type)> = places.collect();
    if !lacking.is_empty() {
        return Err(Error::request(
            format!("{} has no column {}", from.name(), lacking.join(", ")),
            "both specs name a column alike; `from` is its name in the header",
        ));
    }
    let types: Vec<Type> = writer.columns().map(|c| c.ty).collect();
    Ok(ColumnMapping::new(places, &types))
}

struct ConvertSink<'c> {
    output: Output<'c>,
    account: RunAccount<'c>,
}

impl Sink for ConvertSink<'_> {
    type Encoded = Written;
    type Error = Error;

    fn take(&mut self, batch: &mut Encoded<Written>) -> Result<(), Error> {
        if batch.file().is_none() {
            return Ok(());
        }
        self.output.take(&batch.encoded)?;
        let good = batch.good() as u64;
        self.account.batch(batch, good, &[])?;
        self.account.advance(batch);
        Ok(())
    }
}
