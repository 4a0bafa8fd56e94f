//! The files of a load as they were, so that one that was rolled back can be mended: its good
//! records come from the same files again, and the others from the folder of rejects.

use std::path::PathBuf;

use barrow_core::pipeline::Batch;
use barrow_core::reason::Reject;

use barrow_core::escape::visible_path;

use super::selection::Selected;
use crate::error::Error;
use crate::reject_manifest::Original;

/// What was found of each file, and what it should be.
#[derive(Default)]
pub struct Originals {
    /// The files whose rejects come from elsewhere: the first ones of the load.
    replayed: Vec<Original>,
    found: Vec<Original>,
    /// Whether one cannot be read again.
    is_lost: bool,
    /// Rejected records of the file that comes now, and a hash of their numbers so far.
    rejected: u64,
    places: u64,
}

/// How many records the rejects count as: one that is too long comes in several parts, and
/// one whose quotes are doubtful may be several.
pub fn told(rejects: &[Reject]) -> u64 {
    rejects.iter().map(|reject| reject.records).sum()
}

impl Originals {
    /// For a load whose first files were loaded before, and rolled back.
    pub fn of(replayed: Vec<Original>) -> Originals {
        Originals {
            replayed,
            ..Originals::default()
        }
    }

    /// Whether the rejects of a file come from elsewhere.
    pub fn is_replayed(&self, index: usize) -> bool {
        index < self.replayed.len()
    }

    /// Whether all files can be read again.
    pub fn is_complete(&self) -> bool {
        !self.is_lost && self.replayed.is_empty()
    }

    /// What was found, if all files can be read again.
    pub fn found(&mut self) -> Option<Vec<Original>> {
        self.is_complete().then(|| std::mem::take(&mut self.found))
    }

    /// Takes up the rejects of a batch.
    pub fn note(&mut self, batch: &Batch, refused: &[Reject]) {
        let mut numbers: Vec<u64> = batch
            .rejects
            .iter()
            .chain(refused)
            .filter(|reject| !reject.reasons.is_empty())
            .map(|reject| reject.record)
            .collect();
        if numbers.is_empty() {
            return;
        }
        numbers.sort_unstable();
        self.rejected += told(&batch.rejects) + told(refused);
        // FNV-1a, of numbers in place of bytes: it does not depend on where a batch ends.
        for number in numbers {
            self.places = (self.places ^ number).wrapping_mul(0x0000_0100_0000_01b3);
        }
    }

    /// Ends a file: one that is replayed must be what it was.
    ///
    /// # Errors
    /// Its content is another, or other records of it are rejected.
    pub fn end_file(
        &mut self,
        batch: &Batch,
        index: usize,
        files: &[Selected],
    ) -> Result<(), Error> {
        let content = batch
            .block
            .last
            .as_ref()
            .and_then(|end| end.content.clone());
        let source = files.get(index).map(|file| &file.source);
        let path = match source.filter(|source| source.is_repeatable()) {
            Some(source) => source.identity(),
            None => {
                self.is_lost = true;
                PathBuf::new()
            }
        };
        let own = Original {
            path,
            content: content.map_or(String::new(), |content| content.hash),
            rejected: std::mem::take(&mut self.rejected),
            places: format!("{:016x}", std::mem::take(&mut self.places)),
        };
        if let Some(was) = self.replayed.get(index) {
            let name = visible_path(&own.path);
            if was.content != own.content {
                return Err(Error::request(
                    format!("{name} has changed since it was loaded, and the load was rolled back"),
                    "load it again: its rejects belong to what it was",
                ));
            }
            if (was.rejected, &was.places) != (own.rejected, &own.places) {
                return Err(Error::request(
                    format!(
                        "other records of {name} are rejected now ({}) than were then ({}), so those \
                         in the folder are not the ones that are missing",
                        own.rejected, was.rejected
                    ),
                    "has the spec changed, or the table? then load the file again",
                ));
            }
        }
        self.found.push(own);
        Ok(())
    }
}
