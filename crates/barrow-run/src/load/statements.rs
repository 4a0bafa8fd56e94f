//! SQL that a spec has run around its rows.

use barrow_targets::Session;

use crate::error::Error;

/// Runs statements of `[target] before` or `after`.
///
/// # Errors
/// The database refuses one.
pub(super) fn run(
    session: &mut dyn Session,
    key: &str,
    statements: &[String],
) -> Result<(), Error> {
    for (place, statement) in statements.iter().enumerate() {
        let run = session.script(&format!("{};\n", statement.trim().trim_end_matches(';')));
        run.map_err(|error| {
            let which = format!("statement {} of [target] {key}", place + 1);
            Error::from(error).and(&format!("it was {which}"))
        })?;
    }
    Ok(())
}
