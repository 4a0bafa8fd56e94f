//! Runs that were interrupted: what the ledger says of them is made true before the next
//! load of the same tables looks into it.

use barrow_targets::ledger::{self, Outcome, Run, Wanted};
use barrow_targets::{Session, Swap};

use super::state::State;
use crate::error::Error;
use crate::load::locks::{run_lock, table_lock};
use crate::load::run_recorder;

/// Said of a run of which nothing was committed.
const NOTHING: &str = "it was interrupted before anything of it was committed";

/// Said of one whose new table never took the old one's place.
const NOT_SWAPPED: &str =
    "it was interrupted before its table took the old one's place, and was rolled back";

/// Settles the runs into some tables that are in progress and whose process is gone. One that has
/// committed a part of its files goes on by itself.
///
/// # Errors
/// The ledger cannot be read or written.
pub fn recover(session: &mut dyn Session, table_key: &str) -> Result<(), Error> {
    let wanted = Wanted {
        going_into: Some(table_key.to_string()),
        ..Wanted::default()
    };
    for run in ledger::runs(session, &wanted)? {
        let State { swaps, beside, .. } = match &run.state {
            None => State::default(),
            Some(state) => match serde_json::from_str::<State>(state) {
                Ok(state) if !(state.swaps.is_empty() && state.beside.is_empty()) => state,
                _ => continue,
            },
        };
        let has_tables = !(swaps.is_empty() && beside.is_empty());
        let is_alive = !session.lock(run_lock(&run.run), false)?
            || (has_tables && !session.lock(table_lock(table_key), false)?);
        // It may have ended since it was listed: then its own last word counts.
        if is_alive || has_ended(session, &run)? {
            continue;
        }
        for table in &beside {
            drop_table(session, table)?;
        }
        match swaps.is_empty() {
            true => end(session, run, Outcome::Failed, Some(NOTHING))?,
            false => settle(session, run, table_key, &swaps)?,
        }
    }
    Ok(())
}

fn has_ended(session: &mut dyn Session, run: &Run) -> Result<bool, Error> {
    let wanted = Wanted {
        run: Some(run.run.clone()),
        ..Wanted::default()
    };
    let now = ledger::runs(session, &wanted)?.pop();
    Ok(now.is_none_or(|now| now.outcome != Outcome::Going || now.state != run.state))
}

/// A run whose rows are committed in tables beside those that they are for: either all of
/// these are in their places, or none is.
fn settle(
    session: &mut dyn Session,
    run: Run,
    table_key: &str,
    swaps: &[Swap],
) -> Result<(), Error> {
    let mut is_beside = false;
    for swap in swaps {
        is_beside |= session.describe(&swap.beside)?.is_some();
    }
    if !is_beside {
        for swap in swaps {
            drop_table(session, &swap.old)?;
        }
        ledger::emptied(session, table_key, &[&run.run])?;
        return end(session, run, Outcome::Kept, None);
    }
    for swap in swaps {
        drop_table(session, &swap.beside)?;
    }
    end(session, run, Outcome::Failed, Some(NOT_SWAPPED))
}

/// Whether a table is named as those that a load makes beside its own.
fn is_ours(name: &str) -> bool {
    name.contains("_barrow_")
}

/// Drops a table of ours. Names come from the ledger, which others may write: one that is
/// not made as ours are is left alone.
fn drop_table(session: &mut dyn Session, name: &str) -> Result<(), Error> {
    if !is_ours(name) {
        return Err(Error::failed(format!(
            "the ledger names {} as a table of an interrupted load, and it is none",
            barrow_core::escape::escape_for_display(name.as_bytes())
        )));
    }
    let sql = format!("DROP TABLE IF EXISTS {}", session.dialect().table(name));
    session.execute(&sql, &[], "clearing away what an interrupted load left")?;
    Ok(())
}

/// Writes what became of a run and its files; the run last, so that all of it is done again
/// if this is interrupted too.
fn end(
    session: &mut dyn Session,
    run: Run,
    outcome: Outcome,
    message: Option<&str>,
) -> Result<(), Error> {
    for mut file in ledger::files_of(session, &run.run)? {
        file.outcome = outcome;
        file.once = outcome == Outcome::Kept;
        if outcome != Outcome::Kept {
            file.counts.rolled_back += std::mem::take(&mut file.counts.loaded);
            file.committed_to = 0;
        }
        ledger::write_file(session, &file, false)?;
    }
    // The statements after the commit, if it had any, were not run.
    let owing = run.state.as_deref().and_then(|state| {
        let state: State = serde_json::from_str(state).ok()?;
        state
            .owes_after
            .then(|| serde_json::to_string(&State::owing()).ok())?
    });
    let mut run = Run {
        outcome,
        state: owing.filter(|_| outcome == Outcome::Kept),
        message: message.map(str::to_string),
        ended_at: run_recorder::now(),
        ..run
    };
    if outcome != Outcome::Kept {
        run.counts.rolled_back += std::mem::take(&mut run.counts.loaded);
        run.still_open = 0;
    }
    Ok(ledger::write_run(session, &run, false)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_tables_that_a_load_made_beside_are_ours() {
        assert!(is_ours("deliveries_barrow_1a2b3c4d"));
        assert!(is_ours("deliveries_barrow_old"));
        for other in ["deliveries", "barrow", "ledger", ""] {
            assert!(!is_ours(other), "{other}");
        }
    }
}
