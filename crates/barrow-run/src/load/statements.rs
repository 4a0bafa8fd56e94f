//! SQL that a spec has run around its rows.

use barrow_targets::Session;

use crate::error::Error;

/// The savepoint that must outlive a statement: one that is gone says that the transaction is.
const SAVEPOINT: &str = "barrow_statement";

/// Why a statement failed.
pub(super) struct Failed {
    /// Why, in words.
    pub error: Error,
    /// Whether it ended the load's transaction, so that what came before it may be committed.
    pub has_ended: bool,
}

impl Failed {
    fn refused(error: Error) -> Failed {
        Failed {
            error,
            has_ended: false,
        }
    }
}

impl From<Failed> for Error {
    fn from(failed: Failed) -> Error {
        failed.error
    }
}

/// Runs statements of `[target] before` or `after`. Where they run in the load's transaction,
/// each must leave it open.
///
/// # Errors
/// The database refuses one, or one ends the transaction.
pub(super) fn run(
    session: &mut dyn Session,
    key: &str,
    statements: &[String],
) -> Result<(), Failed> {
    let is_within = session.dialect().has_transactional_ddl();
    for (place, statement) in statements.iter().enumerate() {
        let which = format!("statement {} of [target] {key}", place + 1);
        if is_within {
            let set = session.script(&format!("SAVEPOINT {SAVEPOINT};\n"));
            set.map_err(|error| Failed::refused(error.into()))?;
        }
        let run = session.script(&format!("{};\n", statement.trim().trim_end_matches(';')));
        run.map_err(|error| Failed::refused(Error::from(error).and(&format!("it was {which}"))))?;
        if is_within
            && session
                .script(&format!("RELEASE SAVEPOINT {SAVEPOINT};\n"))
                .is_err()
        {
            return Err(Failed {
                error: Error::request(
                    format!("{which} ended the load's own transaction"),
                    "leave out what commits or rolls back",
                ),
                has_ended: true,
            });
        }
    }
    Ok(())
}
