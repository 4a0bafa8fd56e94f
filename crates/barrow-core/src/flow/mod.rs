//! The way through: splitter → workers → in order → a sink.
//!
//! Memory stays flat: a set number of batches goes round, and whoever has none
//! to work on waits.

mod batch;
mod batches;
mod carry;
mod compute;
mod facts;
mod hint;
mod reasons;
mod settle;
mod shape;
mod totals;
mod worker;

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::thread;

use crossbeam_channel::{Receiver, Sender, bounded};

use batches::Done;

pub use batch::{Batch, Difference, Rows};
pub use batches::Batches;
pub use facts::Facts;
pub use settle::Settler;
pub use worker::Worker;

use crate::error::Error;
use crate::plan::Plan;
use crate::records::block::BLOCK;
use crate::records::splitter::Splitter;
use crate::source::SourceFile;

/// How a flow is run.
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
    /// What the first file was like up to that place, as a block's prefix said it.
    pub expected: Option<String>,
    /// Whether each block says what its file is like up to its end.
    pub prefixes: bool,
    /// What computed values may say of the run.
    pub facts: Facts,
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
            prefixes: false,
            facts: Facts::default(),
        }
    }
}

/// The end of the way: takes batches in the order of the files.
pub trait Sink {
    /// What can go wrong in it.
    type Error;

    /// Takes a batch.
    ///
    /// # Errors
    /// Whatever ends the flow.
    fn take(&mut self, batch: &mut Batch) -> Result<(), Self::Error>;
}

/// How a flow ended before its end.
#[derive(Debug)]
pub enum Failure<E> {
    /// A file could not be read.
    Source(Error),
    /// The sink gave up.
    Sink(E),
}

/// Puts rows into a target's own form, in the workers.
pub type Encode<'e> = &'e (dyn Fn(&mut Batch) + Sync);

/// Reads `files` by `plan` and gives `sink` every batch, in order.
///
/// # Errors
/// The first failure of a file or of the sink.
pub fn run<S: Sink>(
    plan: &Plan,
    files: Vec<SourceFile>,
    options: Options,
    encode: Encode<'_>,
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
pub fn run_into<E>(
    plan: &Plan,
    files: Vec<SourceFile>,
    options: Options,
    encode: Encode<'_>,
    take: impl FnOnce(&mut Batches<'_>) -> Result<(), Failure<E>>,
) -> Result<(), Failure<E>> {
    let workers = options.threads.max(1);
    // Some for each worker, and some that wait for the sink.
    let batches = workers * 2 + options.waiting.max(1);
    let (give_free, free) = bounded::<Batch>(batches);
    let (give_cut, cut) = bounded::<Batch>(batches);
    let (give_done, done) = bounded::<Done>(batches);
    let facts = &options.facts;
    for _ in 0..batches {
        let _ = give_free.send(Batch::default());
    }
    let Options {
        block_size,
        hashes,
        from,
        prefixes,
        ref expected,
        ..
    } = options;
    let expected = expected.clone();
    // The ends of the channels move in: where the sink gives up, they are dropped, so
    // that the threads which wait at the other ends go home.
    thread::scope(move |scope| {
        let splitter = Splitter::new(plan, files, block_size)
            .hashing(hashes)
            .telling_prefixes(prefixes)
            .expecting(expected)
            .from(from);
        let failed = give_done.clone();
        let named = |name: &str| thread::Builder::new().name(name.into());
        let spawned = named("splitter")
            .spawn_scoped(scope, move || split(splitter, &free, &give_cut, &failed));
        started(spawned)?;
        for _ in 0..workers {
            let (cut, give_done) = (cut.clone(), give_done.clone());
            let spawned = named("worker").spawn_scoped(scope, move || {
                type_blocks(plan, facts, &cut, &give_done, encode)
            });
            started(spawned)?;
        }
        drop((cut, give_done));
        take(&mut Batches::new(plan, facts, encode, done, give_free))
    })
}

fn started<T, E>(spawned: std::io::Result<T>) -> Result<(), Failure<E>> {
    let failed = |e| Failure::Source(Error::Worker(format!("no thread could be started: {e}")));
    spawned.map(drop).map_err(failed)
}

fn split(
    mut splitter: Splitter<'_>,
    free: &Receiver<Batch>,
    cut: &Sender<Batch>,
    failed: &Sender<Done>,
) {
    let mut order = 0;
    while let Ok(mut batch) = free.recv() {
        let next = catch(|| splitter.next(&mut batch.block));
        match next {
            Ok(true) => {
                order = batch.block.order + 1;
                if cut.send(batch).is_err() {
                    return;
                }
            }
            Ok(false) => return,
            Err(error) => {
                let _ = failed.send((order, Err(error)));
                return;
            }
        }
    }
}

fn type_blocks(
    plan: &Plan,
    facts: &Facts,
    cut: &Receiver<Batch>,
    done: &Sender<Done>,
    encode: Encode<'_>,
) {
    let mut worker = Worker::new(plan, facts);
    let settled = !plan.carries();
    while let Ok(mut batch) = cut.recv() {
        let order = batch.block.order;
        let typed = catch(|| {
            worker.work(&mut batch)?;
            if settled {
                encode(&mut batch);
            }
            Ok(batch)
        });
        let failed = typed.is_err();
        if done.send((order, typed)).is_err() || failed {
            return;
        }
    }
}

/// A panic in a thread becomes an error, so that the flow ends and nobody waits.
fn catch<T>(work: impl FnOnce() -> Result<T, Error>) -> Result<T, Error> {
    catch_unwind(AssertUnwindSafe(work)).unwrap_or_else(|panic| {
        let words = panic.downcast_ref::<String>().cloned();
        let words = words.or_else(|| panic.downcast_ref::<&str>().map(|s| (*s).to_string()));
        Err(Error::Worker(words.unwrap_or_else(|| "no words".into())))
    })
}
