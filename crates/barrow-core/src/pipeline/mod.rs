//! The way through: splitter → workers → in order → a sink.
//!
//! Memory stays flat: a set number of batches goes round, and whoever has none
//! to work on waits.

mod batch;
mod batches;
mod compute;
mod encoding_hint;
mod evaluate;
mod malformed;
mod parent_values;
mod reasons;
mod run_context;
mod totals;
mod worker;

use std::thread;

pub use batch::{Batch, Difference, Encoded, Rows};
pub use batches::Batches;
pub use evaluate::RowEvaluator;
pub use run_context::RunContext;
pub use worker::Worker;

use crate::error::Error;
use crate::plan::Plan;
use crate::pool::pool;
use crate::records::block::BLOCK;
use crate::records::checkpoint::Checkpoint;
use crate::records::splitter::Splitter;
use crate::source::SourceFile;

/// How a pipeline is run.
#[derive(Debug, Clone)]
pub struct Options {
    /// Threads that type records, besides the one that reads and splits.
    pub threads: usize,
    /// How many bytes a block holds unless one record needs more.
    pub block_size: usize,
    /// How many typed batches may wait for the sink, or be kept by it.
    pub waiting: usize,
    /// Whether the files are hashed on the way.
    pub hashes: bool,
    /// Where the first file's records are to be taken from, 0-based: those before
    /// are in the table.
    pub from: u64,
    /// What the first file was like up to that place, as a block's checkpoint said it.
    pub expected: Option<Checkpoint>,
    /// Whether that file is known to be the same still, so that what comes before the place
    /// need not be read.
    pub is_same: bool,
    /// Whether each block says what its file is like up to its end.
    pub checkpoints: bool,
    /// What computed values may say of the run.
    pub context: RunContext,
}

impl Default for Options {
    fn default() -> Options {
        let threads = thread::available_parallelism().map_or(1, usize::from);
        Options {
            threads,
            block_size: BLOCK,
            waiting: 12,
            hashes: false,
            from: 0,
            expected: None,
            is_same: false,
            checkpoints: false,
            context: RunContext::default(),
        }
    }
}

/// The end of the way: takes batches in the order of the files.
pub trait Sink {
    /// What the workers make of a batch's rows for this sink; `()` where it needs nothing
    /// but the typed rows.
    type Encoded: Default + Send;

    /// What can go wrong in it.
    type Error;

    /// Takes a batch.
    ///
    /// # Errors
    /// The sink cannot go on; the pipeline ends, and its error is returned.
    fn take(&mut self, batch: &mut Encoded<Self::Encoded>) -> Result<(), Self::Error>;
}

/// How a pipeline ended before its end.
#[derive(Debug)]
pub enum Failure<E> {
    /// A file could not be read.
    Source(Error),
    /// The sink gave up.
    Sink(E),
}

/// Makes of a batch's rows what the sink needs, in the workers.
pub type Encode<'e, X> = &'e (dyn Fn(&mut Encoded<X>) + Sync);

/// Reads `files` by `plan` and gives `sink` every batch, in order.
///
/// # Errors
/// The first failure of a file or of the sink.
pub fn run<S: Sink>(
    plan: &Plan,
    files: Vec<SourceFile>,
    options: Options,
    encode: Encode<'_, S::Encoded>,
    sink: &mut S,
) -> Result<(), Failure<S::Error>> {
    run_into(plan, files, options, encode, |batches| {
        while let Some(batch) = batches.next() {
            let mut batch = batch.map_err(Failure::Source)?;
            sink.take(&mut batch).map_err(Failure::Sink)?;
            batches.give_back(batch);
        }
        Ok(())
    })
}

/// The same, for a sink that asks for the batches itself.
///
/// # Errors
/// The first failure of a file, or what `take` fails with.
pub fn run_into<X: Default + Send, E>(
    plan: &Plan,
    files: Vec<SourceFile>,
    options: Options,
    encode: Encode<'_, X>,
    take: impl FnOnce(&mut Batches<'_, X>) -> Result<(), Failure<E>>,
) -> Result<(), Failure<E>> {
    let workers = options.threads.max(1);
    // Some for each worker, and some that wait for the sink.
    let (mut feeder, worker, ordered) = pool(workers * 2 + options.waiting.max(1));
    let context = &options.context;
    let splitter = Splitter::new(plan, files, options.block_size)
        .hashing(options.hashes)
        .telling_checkpoints(options.checkpoints)
        .from(options.from, options.expected.clone(), options.is_same);
    // The ends of the pool move in: where the sink gives up, they are dropped, so that the
    // threads which wait at the other ends see it and end.
    thread::scope(move |scope| {
        let named = |name: &str| thread::Builder::new().name(name.into());
        let mut splitter = splitter;
        let spawned = named("splitter").spawn_scoped(scope, move || {
            while feeder.feed(|batch: &mut Encoded<X>| splitter.next(&mut batch.block)) {}
        });
        started(spawned)?;
        for _ in 0..workers {
            let worker = worker.clone();
            let spawned = named("worker").spawn_scoped(scope, move || {
                let mut typing = Worker::new(plan, context);
                let settled = !plan.carries();
                worker.run(|batch| {
                    typing.work(batch)?;
                    if settled {
                        encode(batch);
                    }
                    Ok(())
                });
            });
            started(spawned)?;
        }
        drop(worker);
        take(&mut Batches::new(plan, context, encode, ordered))
    })
}

fn started<T, E>(spawned: std::io::Result<T>) -> Result<(), Failure<E>> {
    let failed = |e| Failure::Source(Error::Worker(format!("no thread could be started: {e}")));
    spawned.map(drop).map_err(failed)
}
