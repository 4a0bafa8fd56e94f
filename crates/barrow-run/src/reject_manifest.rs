//! The manifest beside a run's rejects, which says how to load them again.

use std::fs;
use std::path::{Path, PathBuf};

use barrow_core::rejects::MANIFEST;
use barrow_targets::Url;
use serde::{Deserialize, Serialize};

use crate::error::Error;
use crate::report::RejectedFile;
use crate::spec_file::Spec;

/// What the manifest says.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Manifest {
    /// The run.
    pub run: String,
    /// Its spec, from the root.
    pub spec: PathBuf,
    /// The database, where the command line named it; without a password.
    pub into: Option<String>,
    /// The table, where the command line named it.
    pub table: Option<String>,
    /// Files of rejects that are not to be loaded: nothing of their sources is.
    pub left_out_whole: Vec<String>,
    /// Where nothing of the run is in the table: its files, as they were.
    #[serde(default)]
    pub rolled_back: Option<Vec<Original>>,
}

/// A file of a load that was rolled back, as it was.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Original {
    /// Its path, from the root.
    pub path: PathBuf,
    /// The hash of its content.
    pub content: String,
    /// How many of its records were rejected.
    pub rejected: u64,
    /// The hash of their numbers.
    pub places: String,
}

impl Manifest {
    /// The manifest of a load.
    pub fn of(spec: &Spec, url: &Url, run: &str) -> Manifest {
        let overrides = &spec.overrides;
        Manifest {
            run: run.to_string(),
            spec: std::path::absolute(&spec.path).unwrap_or_else(|_| spec.path.clone()),
            into: overrides.database.as_ref().map(|_| url.for_a_spec()),
            table: overrides.table.clone(),
            left_out_whole: Vec::new(),
            rolled_back: None,
        }
    }

    /// The manifest of a load that was rolled back.
    pub fn rolled_back(self, originals: Vec<Original>) -> Manifest {
        Manifest {
            rolled_back: Some(originals),
            ..self
        }
    }

    /// The manifest of a load that rolled these files back.
    pub fn leaving_out(self, left: &[RejectedFile]) -> Manifest {
        Manifest {
            left_out_whole: left.iter().filter_map(|one| one.kept_in.clone()).collect(),
            ..self
        }
    }

    /// Writes it into the folder of the rejects.
    ///
    /// # Errors
    /// The folder cannot be written.
    pub fn write(&self, folder: &Path) -> Result<(), Error> {
        let path = folder.join(MANIFEST);
        let text = serde_json::to_string_pretty(self).map_err(|e| Error::file(&path, &e))?;
        fs::write(&path, text + "\n").map_err(|e| Error::file(&path, &e))
    }
}

/// Reads the one in a folder.
///
/// # Errors
/// There is none, or it cannot be read.
pub fn read(folder: &Path) -> Result<Manifest, Error> {
    let path = folder.join(MANIFEST);
    let text = fs::read_to_string(&path).map_err(|e| Error::file(&path, &e))?;
    serde_json::from_str(&text).map_err(|e| Error::file(&path, &e))
}
