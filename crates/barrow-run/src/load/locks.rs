//! Waiting for others: loads of the same files or into the same tables, and sessions that
//! hold a lock. While it lasts, it is said.

use std::time::{Duration, Instant};

use barrow_core::source::content::hash_of;
use barrow_targets::{ErrorKind, Job, Load, NotBegun, Session};

use super::request::LoadRequest;
use crate::error::Error;
use crate::observer::Watch;

/// How many locks keep loads of the same files apart. Two files may share one: then one
/// load waits for the other without need, which is all.
const LOCKS: u64 = 1024;

/// The lock of a file with this sample.
pub(crate) fn lock_of(table_key: &str, sample: &str) -> i64 {
    let place = number_of(sample) % LOCKS;
    let table = number_of(&hash_of(table_key.as_bytes()));
    ((table & !(LOCKS - 1)) | place) as i64
}

fn number_of(hash: &str) -> u64 {
    hash.get(..16)
        .and_then(|digits| u64::from_str_radix(digits, 16).ok())
        .unwrap_or(0)
}

/// How long one try lasts; in between it is said that a lock is waited for.
const TRY: Duration = Duration::from_secs(1);

/// The lock of loads that empty or make the tables which a key of the ledger stands for.
pub(crate) fn table_lock(table_key: &str) -> i64 {
    lock_of(&format!("table {table_key}"), "")
}

/// The lock that a run holds while it is alive.
pub(crate) fn run_lock(run: &str) -> i64 {
    lock_of(&format!("run {run}"), "")
}

/// Takes a lock, and says so where another load has it: that one may take as long as it
/// likes.
pub(crate) fn take(
    watch: &dyn Watch,
    session: &mut dyn Session,
    lock: i64,
    what: &str,
) -> Result<(), Error> {
    if !session.lock(lock, false)? {
        watch.waiting(what);
        session.lock(lock, true)?;
    }
    Ok(())
}

/// Begins the load, and waits for locks of others as long as the command says.
pub(crate) fn begin<'s>(
    request: &LoadRequest<'_>,
    mut session: &'s mut dyn Session,
    job: &Job,
) -> Result<Box<dyn Load<'s> + 's>, (&'s mut dyn Session, Error)> {
    let since = Instant::now();
    let mut is_told = false;
    loop {
        let left = request.patience.saturating_sub(since.elapsed());
        if let Err(error) = session.set_patience(left.min(TRY)) {
            return Err((session, error.into()));
        }
        match session.begin(job) {
            Ok(mut load) => match load.session().set_patience(request.patience) {
                Ok(()) => return Ok(load),
                Err(error) => {
                    let (session, _) = load.roll_back();
                    return Err((session, error.into()));
                }
            },
            Err(NotBegun {
                session: back,
                error,
            }) if error.kind == ErrorKind::Locked && !left.is_zero() => {
                session = back;
                if !is_told {
                    request.watch.waiting(
                        "another session, which holds a lock on the table (--lock-wait says how long)",
                    );
                    is_told = true;
                }
            }
            Err(NotBegun { session, error }) => return Err((session, error.into())),
        }
    }
}
