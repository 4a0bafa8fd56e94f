//! Files by the names that somebody gave, on this machine or elsewhere.

use std::path::Path;

use barrow_core::source::{self, SourceFile};
use barrow_stores::Stores;
use barrow_targets::secret;

use crate::error::Error;

/// The files that are named. What of an address may be a key is shown by no message from then on.
///
/// # Errors
/// One is not there, or its place does not answer.
pub(crate) fn find(
    names: &[String],
    base: &Path,
    stores: &Stores,
) -> Result<Vec<SourceFile>, Error> {
    for name in names {
        secret::learn_of_a_file(name);
    }
    Ok(source::find(names, base, stores)?)
}
