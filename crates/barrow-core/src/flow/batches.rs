//! The batches as they come out of the flow, in the order of the files.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, RecvTimeoutError, Sender};

use super::totals::Totals;
use super::{Batch, Encode, Facts, Settler};
use crate::error::Error;
use crate::plan::Plan;

/// A batch with its place in the order, or what failed there.
pub(super) type Done = (u64, Result<Batch, Error>);

/// Batches, each after the one before it in the files, and none after a file that could
/// not be read. Dropping it ends the flow.
///
/// Only a set number goes round: whoever keeps more than [`super::Options::waiting`] of
/// them, and does not [give them back](Batches::give_back), waits for ever.
pub struct Batches<'o> {
    done: Receiver<Done>,
    free: Sender<Batch>,
    in_order: InOrder<'o>,
    /// Those that came before their turn.
    early: BTreeMap<u64, Result<Batch, Error>>,
    /// The place of the one whose turn it is.
    next: u64,
    /// Those that are to be used again.
    spare: Vec<Batch>,
    /// So many go back at a time. Where the sink is the slowest, each one given back
    /// alone would wake a thread that soon sleeps again.
    at_a_time: usize,
}

impl<'o> Batches<'o> {
    pub(super) fn new(
        plan: &'o Plan,
        facts: &'o Facts,
        encode: Encode<'o>,
        done: Receiver<Done>,
        free: Sender<Batch>,
    ) -> Batches<'o> {
        Batches {
            done,
            in_order: InOrder {
                plan,
                settler: plan.carries().then(|| Settler::new(plan, facts)),
                totals: Totals::default(),
                encode,
            },
            early: BTreeMap::new(),
            next: 0,
            spare: Vec::new(),
            at_a_time: (free.capacity().unwrap_or(0) / 2).clamp(1, 8),
            free,
        }
    }

    /// Takes back a batch whose room may be used again.
    pub fn give_back(&mut self, batch: Batch) {
        self.spare.push(batch);
        if self.spare.len() >= self.at_a_time {
            self.give_all_back();
        }
    }

    /// Whether the next one is not there yet after this time. It is not where there is no
    /// next one.
    pub fn is_late(&mut self, patience: Duration) -> bool {
        let until = Instant::now() + patience;
        while !self.early.contains_key(&self.next) {
            let received = self.done.try_recv().or_else(|_| {
                self.give_all_back();
                self.done.recv_deadline(until)
            });
            match received {
                Ok((order, result)) => self.early.insert(order, result),
                Err(RecvTimeoutError::Timeout) => return true,
                Err(RecvTimeoutError::Disconnected) => return false,
            };
        }
        false
    }

    fn give_all_back(&mut self) {
        for batch in self.spare.drain(..) {
            // Where nobody is left to use it, the files are at their end.
            let _ = self.free.send(batch);
        }
    }
}

impl Iterator for Batches<'_> {
    type Item = Result<Batch, Error>;

    fn next(&mut self) -> Option<Result<Batch, Error>> {
        loop {
            if let Some(mut result) = self.early.remove(&self.next) {
                self.next += 1;
                if let Ok(batch) = &mut result {
                    self.in_order.take(batch);
                }
                return Some(result);
            }
            let received = self.done.try_recv().or_else(|_| {
                self.give_all_back();
                self.done.recv()
            });
            let (order, result) = received.ok()?;
            self.early.insert(order, result);
        }
    }
}

/// What can be done only in the order of the files.
struct InOrder<'o> {
    plan: &'o Plan,
    /// Settles rows that carry values from records before them.
    settler: Option<Settler<'o>>,
    totals: Totals,
    encode: Encode<'o>,
}

impl InOrder<'_> {
    fn take(&mut self, batch: &mut Batch) {
        if let Some(settler) = &mut self.settler {
            settler.settle(batch);
            batch.pass_over();
            (self.encode)(batch);
        }
        self.totals.take(self.plan, batch);
    }
}
