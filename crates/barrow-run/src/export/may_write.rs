//! Whether a file may be written.

use std::path::Path;

use barrow_core::escape::visible_path;

use crate::error::Error;

/// A file that is there is written over only if that is said; a device or a pipe is
/// written to as it is.
///
/// # Errors
/// It is there, or is a folder.
pub fn may_write(path: &Path, overwrites: bool) -> Result<(), Error> {
    match path.metadata() {
        Ok(found) if found.is_file() && !overwrites => Err(Error::request(
            format!("{} is there already", visible_path(path)),
            "name another file, or say --overwrite",
        )),
        Ok(found) if found.is_dir() => Err(Error::request(
            format!("{} is a folder", visible_path(path)),
            "name a file in it",
        )),
        _ => Ok(()),
    }
}
