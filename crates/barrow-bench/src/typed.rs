//! Reading and typing everything into a sink that only counts.

use std::convert::Infallible;
use std::path::Path;
use std::time::Instant;

use barrow_core::pipeline;
use barrow_core::pipeline::{Encoded, Options, Sink};
use barrow_core::plan::Plan;
use barrow_core::source;
use barrow_core::spec;

/// Counts rows.
struct Counter {
    rows: u64,
    rejects: u64,
}

impl Sink for Counter {
    type Encoded = ();
    type Error = Infallible;

    fn take(&mut self, batch: &mut Encoded<()>) -> Result<(), Infallible> {
        self.rows += batch.good() as u64;
        self.rejects += batch.rejects.len() as u64;
        Ok(())
    }
}

/// Reads a spec that is known to be right.
pub fn plan(path: &Path) -> Result<Plan, String> {
    let text = std::fs::read_to_string(path).map_err(|e| e.to_string())?;
    spec::read_plan(&text).map_err(|p| format!("{p:?}"))
}

/// Runs `sink` over the spec's files.
pub fn flow<S: Sink>(path: &Path, threads: usize, sink: &mut S) -> Result<(), String> {
    let plan = plan(path)?;
    let base = path.parent().unwrap_or(Path::new(""));
    let files = source::find(&plan.files, base, &source::Nowhere).map_err(|e| e.to_string())?;
    let options = Options {
        threads,
        ..Options::default()
    };
    pipeline::run(&plan, files, options, &|_| {}, sink).map_err(|_| "the flow failed".to_string())
}

/// Counts the rows of a spec's files.
pub fn count(path: &Path, threads: usize) -> Result<f64, String> {
    let clock = Instant::now();
    let mut counter = Counter {
        rows: 0,
        rejects: 0,
    };
    flow(path, threads, &mut counter)?;
    let seconds = clock.elapsed().as_secs_f64();
    eprintln!("{} rows, {} rejects", counter.rows, counter.rejects);
    Ok(seconds)
}
