//! Threads that work on items side by side, and hand them on in their order.
//!
//! A set number of items goes round: a [`Feeder`] fills them one after the other,
//! [`Worker`]s work on them at once, and [`Ordered`] gives them out in the order in which
//! they were filled, and takes them back to be filled again. So memory stays flat, and what
//! comes out does not depend on which thread was faster. A panic in any of them comes out as
//! an error in its item's place.
//!
//! ```
//! let (mut feeder, worker, ordered) = barrow_core::pool::pool::<Vec<u32>>(4);
//! std::thread::scope(|scope| {
//!     for _ in 0..2 {
//!         let worker = worker.clone();
//!         scope.spawn(move || worker.run(|item| Ok(item.push(item[0] * 10))));
//!     }
//!     drop(worker);
//!     scope.spawn(move || (0..3).all(|n| feeder.feed(|item| Ok(item.splice(.., [n]).count() < 9))));
//!     let all: Vec<Vec<u32>> = ordered.map(Result::unwrap).collect();
//!     assert_eq!(all, [[0, 0], [1, 10], [2, 20]]);
//! });
//! ```

use std::collections::BTreeMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, bounded};

use crate::error::Error;

/// An item with its place in the order, or what failed there.
type Done<T> = (u64, Result<T, Error>);

/// A pool in which `size` items go round. Its workers are clones of the one that is
/// returned; the original is to be dropped, or the items never end.
pub fn pool<T: Default>(size: usize) -> (Feeder<T>, Worker<T>, Ordered<T>) {
    let (give_free, free) = bounded(size);
    let (give_filled, filled) = bounded(size);
    let (give_done, done) = bounded(size);
    for _ in 0..size {
        let _ = give_free.send(T::default());
    }
    let feeder = Feeder {
        free,
        filled: give_filled,
        failed: give_done.clone(),
        order: 0,
    };
    let worker = Worker {
        filled,
        done: give_done,
    };
    (feeder, worker, Ordered::new(done, give_free))
}

/// Fills items, one after the other.
pub struct Feeder<T> {
    free: Receiver<T>,
    filled: Sender<(u64, T)>,
    failed: Sender<Done<T>>,
    order: u64,
}

impl<T> Feeder<T> {
    /// Fills the next item, once one is free. False where no more are wanted: `fill` said
    /// that there are none, or failed, or nobody takes them any more.
    pub fn feed(&mut self, fill: impl FnOnce(&mut T) -> Result<bool, Error>) -> bool {
        let Ok(mut item) = self.free.recv() else {
            return false;
        };
        match catch(|| fill(&mut item)) {
            Ok(true) => {
                self.order += 1;
                self.filled.send((self.order - 1, item)).is_ok()
            }
            Ok(false) => false,
            Err(error) => {
                let _ = self.failed.send((self.order, Err(error)));
                false
            }
        }
    }
}

/// Works on items; each thread has its own.
pub struct Worker<T> {
    filled: Receiver<(u64, T)>,
    done: Sender<Done<T>>,
}

impl<T> Clone for Worker<T> {
    fn clone(&self) -> Worker<T> {
        Worker {
            filled: self.filled.clone(),
            done: self.done.clone(),
        }
    }
}

impl<T> Worker<T> {
    /// Works until there are no more items, or one fails.
    pub fn run(self, mut work: impl FnMut(&mut T) -> Result<(), Error>) {
        while let Ok((order, mut item)) = self.filled.recv() {
            let worked = catch(|| work(&mut item)).map(|()| item);
            let failed = worked.is_err();
            if self.done.send((order, worked)).is_err() || failed {
                return;
            }
        }
    }
}

/// A panic becomes an error, so that all threads end and nobody waits.
fn catch<T>(work: impl FnOnce() -> Result<T, Error>) -> Result<T, Error> {
    catch_unwind(AssertUnwindSafe(work)).unwrap_or_else(|panic| {
        let words = panic.downcast_ref::<String>().cloned();
        let words = words.or_else(|| panic.downcast_ref::<&str>().map(|s| (*s).to_string()));
        Err(Error::Worker(words.unwrap_or_else(|| "no words".into())))
    })
}

/// Items in the order in which they were filled. Dropping it ends the pool.
///
/// Whoever keeps all items that go round, and does not [give them back](Ordered::give_back),
/// waits for ever for the next.
pub struct Ordered<T> {
    done: Receiver<Done<T>>,
    free: Sender<T>,
    /// Those that came before their turn.
    early: BTreeMap<u64, Result<T, Error>>,
    /// The place of the one whose turn it is.
    next: u64,
    /// Those that are to be used again.
    spare: Vec<T>,
    /// How many go back at a time. Where the taker is the slowest, each one given back
    /// alone would wake a thread that soon sleeps again.
    at_a_time: usize,
}

impl<T> Ordered<T> {
    fn new(done: Receiver<Done<T>>, free: Sender<T>) -> Ordered<T> {
        Ordered {
            done,
            early: BTreeMap::new(),
            next: 0,
            spare: Vec::new(),
            at_a_time: (free.capacity().unwrap_or(0) / 2).clamp(1, 8),
            free,
        }
    }

    /// Takes back an item whose room may be used again.
    pub fn give_back(&mut self, item: T) {
        self.spare.push(item);
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
        for item in self.spare.drain(..) {
            // Where nobody is left to use it, all is done.
            let _ = self.free.send(item);
        }
    }
}

impl<T> Iterator for Ordered<T> {
    type Item = Result<T, Error>;

    fn next(&mut self) -> Option<Result<T, Error>> {
        loop {
            if let Some(result) = self.early.remove(&self.next) {
                self.next += 1;
                return Some(result);
            }
            let received = self.done.try_recv().or_else(|_| {
                self.give_all_back();
                self.done.recv()
            });
            match received {
                Ok((order, result)) => self.early.insert(order, result),
                Err(_) if self.early.is_empty() => return None,
                Err(_) => {
                    // A thread is gone with an item, and those after it are not whole.
                    self.early.clear();
                    return Some(Err(Error::Worker("an item is missing".into())));
                }
            };
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What comes out of a pool of two workers that is fed with the numbers below `count`.
    fn worked(
        count: u64,
        work: impl Fn(u64) -> Result<u64, Error> + Sync,
    ) -> Vec<Result<u64, String>> {
        let (mut feeder, worker, mut ordered) = pool::<u64>(5);
        let mut all = Vec::new();
        std::thread::scope(|scope| {
            for _ in 0..2 {
                let (worker, work) = (worker.clone(), &work);
                scope.spawn(move || {
                    worker.run(|item| {
                        *item = work(*item)?;
                        Ok(())
                    });
                });
            }
            drop(worker);
            scope.spawn(move || {
                let mut next = 0;
                while feeder.feed(|item| {
                    *item = next;
                    next += 1;
                    Ok(next <= count)
                }) {}
            });
            while let Some(item) = ordered.next() {
                all.push(item.as_ref().map(|n| *n).map_err(ToString::to_string));
                match item {
                    Ok(item) => ordered.give_back(item),
                    Err(_) => break,
                }
            }
            drop(ordered);
        });
        all
    }

    #[test]
    fn items_come_out_in_their_order() {
        let slow_where_even = |n: u64| {
            if n.is_multiple_of(2) {
                std::thread::sleep(Duration::from_millis(1));
            }
            Ok(n * 10)
        };
        let wanted: Vec<_> = (0..50).map(|n| Ok(n * 10)).collect();
        assert_eq!(worked(50, slow_where_even), wanted);
    }

    #[test]
    fn a_panic_is_an_error_in_its_place() {
        let found = worked(50, |n| match n {
            7 => panic!("seven"),
            n => Ok(n),
        });
        assert_eq!(found.len(), 8);
        assert!(found[..7].iter().all(Result::is_ok));
        assert!(
            found[7]
                .as_ref()
                .is_err_and(|words| words.contains("seven"))
        );
    }

    #[test]
    fn an_item_that_never_comes_is_an_error_and_no_end() {
        let (give, done) = bounded(4);
        let (free, _keep) = bounded(4);
        give.send((0, Ok(1))).unwrap();
        give.send((2, Ok(3))).unwrap();
        drop(give);
        let mut ordered: Ordered<u64> = Ordered::new(done, free);
        assert_eq!(ordered.next().unwrap().unwrap(), 1);
        assert!(ordered.next().unwrap().is_err());
        assert!(ordered.next().is_none());
    }
}
