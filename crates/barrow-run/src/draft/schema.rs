//! The schema of specs, in a file beside drafts or above them: editors complete and check specs
//! by it.

use std::path::{Path, PathBuf};

use barrow_core::spec::keys;

use super::relative;
use crate::atomic_file;
use crate::error::Error;
use crate::spec_file::settings::nearest;

/// The name of the file, which no glob such as `*.json` means.
const SCHEMA: &str = ".barrow.schema.json";

/// Where the schema is for specs of a folder.
pub struct Schema {
    /// The first line of such a spec.
    pub line: String,
    path: PathBuf,
}

impl Schema {
    /// The nearest one in the folder or above it, or one that is to be made in the folder.
    ///
    /// # Errors
    /// The folder's whole path is not known.
    pub fn of(folder: &Path) -> Result<Schema, Error> {
        let path = nearest(folder, SCHEMA).unwrap_or_else(|| folder.join(SCHEMA));
        let own = relative::files(&[path.to_string_lossy().into_owned()], folder)?;
        let own = own.into_iter().next().unwrap_or_default();
        let is_whole = own.starts_with("../") || own.starts_with('/');
        let start = if is_whole { "" } else { "./" };
        Ok(Schema {
            line: format!("#:schema {start}{own}\n"),
            path,
        })
    }

    /// Writes it, where it is not there; then says where.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn write(self) -> Result<Option<PathBuf>, Error> {
        if self.path.exists() {
            return Ok(None);
        }
        let text = serde_json::to_string_pretty(&keys::schema()).unwrap_or_default() + "\n";
        let written = atomic_file::write(&self.path, text.as_bytes(), false);
        written.map_err(|e| Error::file(&self.path, &e))?;
        Ok(Some(self.path))
    }
}
