//! Statements that run after a commit, and failed: the next load of the table runs them first.

use barrow_targets::Session;
use barrow_targets::ledger::{self, Run, Wanted};

use super::request::LoadRequest;
use super::state::State;
use super::statements;
use crate::error::Error;

/// Runs the statements of `[target] after` that earlier runs into the table still owe. They
/// are those of the spec as it is now: of the ledger nothing is run.
///
/// # Errors
/// One fails again, or the ledger cannot be read or written.
pub fn pay(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    table_key: &str,
) -> Result<(), Error> {
    if session.dialect().has_transactional_ddl() {
        return Ok(());
    }
    let wanted = Wanted {
        owing_in: Some(table_key.to_string()),
        ..Wanted::default()
    };
    let owes = |run: &Run| {
        let state = run.state.as_deref().unwrap_or_default();
        serde_json::from_str(state).is_ok_and(|state: State| state.owes_after)
    };
    let owing: Vec<Run> = ledger::runs(session, &wanted)?
        .into_iter()
        .filter(owes)
        .collect();
    let Some(first) = owing.last() else {
        return Ok(());
    };
    let after = &request.spec.plan.target.after;
    statements::run(session, "after", after).map_err(|failed| {
        failed.error.and(&format!(
            "run {} is committed, and still owes it",
            first.run
        ))
    })?;
    for run in owing {
        let paid = Run { state: None, ..run };
        ledger::write_run(session, &paid, false)?;
    }
    request
        .watch
        .warning("statements of [target] after that an earlier run owed were run now");
    Ok(())
}
