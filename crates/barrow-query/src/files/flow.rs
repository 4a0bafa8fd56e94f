//! The flow of a load, driven by the reader: batches, one after the other, until there are
//! none or nobody asks any more.

use std::sync::Arc;
use std::thread;

use barrow_core::pipeline::{self, Encoded, Failure};
use barrow_core::plan::Plan;
use barrow_core::source::SourceFile;
use barrow_run::Error;
use crossbeam_channel::{Receiver, Sender, bounded};

/// How many batches may wait to be asked for.
const WAITING: usize = 8;

/// What the workers do to each batch.
pub type Work = Box<dyn Fn(&mut Encoded<u64>) + Send + Sync>;

/// Batches, in order. Dropping it ends the reading.
pub struct Batches {
    come: Receiver<Result<Encoded<u64>, Error>>,
    back: Sender<Encoded<u64>>,
}

/// Nobody asks any more.
struct Enough;

impl Batches {
    /// Reads files by a plan, on threads of its own. Each batch says how many good rows it had
    /// before `work`.
    pub fn read(
        plan: Arc<Plan>,
        files: Vec<SourceFile>,
        threads: Option<usize>,
        work: Work,
    ) -> Batches {
        let (give, come) = bounded(WAITING);
        let (back, returned) = bounded(WAITING * 2);
        let usual = pipeline::Options::default();
        let options = pipeline::Options {
            threads: threads.unwrap_or(usual.threads),
            waiting: WAITING * 2,
            ..usual
        };
        let reader = thread::Builder::new().name("files".into());
        let started = reader.spawn({
            let give = give.clone();
            move || {
                let flowed = pipeline::run_into(&plan, files, options, &*work, |batches| {
                    while let Some(batch) = batches.next() {
                        let batch = batch.map_err(Failure::Source)?;
                        give.send(Ok(batch)).map_err(|_| Failure::Sink(Enough))?;
                        returned.try_iter().for_each(|old| batches.give_back(old));
                    }
                    Ok(())
                });
                if let Err(Failure::Source(error)) = flowed {
                    // Where nobody asks, nobody needs to know.
                    let _ = give.send(Err(error.into()));
                }
            }
        });
        if let Err(error) = started {
            let _ = give.send(Err(Error::failed(format!(
                "no thread could be started: {error}"
            ))));
        }
        Batches { come, back }
    }

    /// Takes back a batch whose room may be used again.
    pub fn give_back(&self, batch: Encoded<u64>) {
        let _ = self.back.try_send(batch);
    }
}

impl Iterator for Batches {
    type Item = Result<Encoded<u64>, Error>;

    fn next(&mut self) -> Option<Self::Item> {
        self.come.recv().ok()
    }
}
