//! Waiting for others: loads of the same files or into the same tables, and sessions that
//! hold a lock. While it lasts, it is said.

use std::time::{Duration, Instant};

use barrow_targets::{ErrorKind, Job, Session, Load, NotBegun};

use super::Order;
use super::choose::lock_of;
use crate::failure::Failure;

/// How long one try lasts; in between it is said that a lock is waited for.
const TRY: Duration = Duration::from_secs(1);

/// The lock of loads that empty or make the tables which a key of the ledger stands for.
pub fn table_lock(table_key: &str) -> i64 {
    lock_of(&format!("table {table_key}"), "")
}

/// The lock that a run has as long as it is alive.
pub fn run_lock(run: &str) -> i64 {
    lock_of(&format!("run {run}"), "")
}

/// Says that something is waited for.
pub fn say(quiet: bool, what: &str) {
    if !quiet {
        anstream::eprintln!("waiting for {what}");
    }
}

/// Takes a lock, and says so where another load has it: that one may take as long as it
/// likes.
pub fn claim(target: &mut dyn Session, lock: i64, what: &str, quiet: bool) -> Result<(), Failure> {
    if !target.lock(lock, false)? {
        say(quiet, what);
        target.lock(lock, true)?;
    }
    Ok(())
}

/// Begins the load, and waits for locks of others as long as the command says.
pub fn begin<'s>(
    order: &Order<'_>,
    target: &'s mut dyn Session,
    job: &Job,
) -> Result<Box<dyn Load<'s> + 's>, (&'s mut dyn Session, Failure)> {
    let since = Instant::now();
    let mut is_told = false;
    let mut target = target;
    loop {
        let left = order.patience.saturating_sub(since.elapsed());
        if let Err(error) = target.set_patience(left.min(TRY)) {
            return Err((target, error.into()));
        }
        match target.begin(job) {
            Ok(mut load) => match load.session().set_patience(order.patience) {
                Ok(()) => return Ok(load),
                Err(error) => {
                    let (target, _) = load.roll_back();
                    return Err((target, error.into()));
                }
            },
            Err(NotBegun { session, error })
                if error.kind == ErrorKind::Locked && !left.is_zero() =>
            {
                target = session;
                if !is_told {
                    say(
                        order.shared.quiet,
                        "another session, which holds a lock on the table (--lock-wait says how long)",
                    );
                    is_told = true;
                }
            }
            Err(NotBegun { session, error }) => return Err((session, error.into())),
        }
    }
}

/// Says that the ledger could not be told: the load failed before the ledger did.
pub fn could_not_note(failure: &Failure) {
    anstream::eprintln!("note: the ledger could not be told: {}", failure.message());
}
