//! The note beside a run's rejects that says how to load them again.

use std::fs;
use std::path::{Path, PathBuf};

use barrow_core::rejects::NOTE;
use barrow_core::visible::visible_path;
use serde::{Deserialize, Serialize};

use super::Order;
use crate::failure::Failure;
use crate::view::summary::LeftWhole;

/// What the note says.
#[derive(Debug, Serialize, Deserialize)]
pub struct Note {
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

impl Note {
    /// The note of a load.
    pub fn of(order: &Order<'_>, run: &str) -> Note {
        Note {
            run: run.to_string(),
            spec: std::path::absolute(&order.spec.path).unwrap_or_else(|_| order.spec.path.clone()),
            into: order
                .shared
                .database
                .as_ref()
                .map(|_| order.url.to_string()),
            table: order.shared.table.clone(),
            left_out_whole: Vec::new(),
            rolled_back: None,
        }
    }

    /// The note of a load that was rolled back.
    pub fn rolled_back(self, originals: Vec<Original>) -> Note {
        Note {
            rolled_back: Some(originals),
            ..self
        }
    }

    /// The note of a load that took these files back.
    pub fn leaving_out(self, left: &[LeftWhole]) -> Note {
        Note {
            left_out_whole: left.iter().filter_map(|one| one.kept_in.clone()).collect(),
            ..self
        }
    }

    /// Writes it into the folder of the rejects.
    ///
    /// # Errors
    /// The folder cannot be written.
    pub fn write(&self, folder: &Path) -> Result<(), Failure> {
        let path = folder.join(NOTE);
        let text = serde_json::to_string_pretty(self).map_err(|e| failed(&path, &e))?;
        fs::write(&path, text + "\n").map_err(|e| failed(&path, &e))
    }
}

/// Reads the one in a folder.
///
/// # Errors
/// There is none, or it cannot be read.
pub fn read(folder: &Path) -> Result<Note, Failure> {
    let path = folder.join(NOTE);
    let text = fs::read_to_string(&path).map_err(|e| failed(&path, &e))?;
    serde_json::from_str(&text).map_err(|e| failed(&path, &e))
}

/// A file that could not be written or read.
pub fn failed(path: &Path, error: &dyn std::fmt::Display) -> Failure {
    let shown = visible_path(path);
    Failure::not_done(format!("{shown}: {error}"))
}
