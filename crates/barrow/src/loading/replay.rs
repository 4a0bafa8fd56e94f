//! Mends a load that was rolled back: the good records come from its files again, which must
//! be what they were, and the others from the folder of rejects, in one transaction.

use std::fs;
use std::path::{Path, PathBuf};

use barrow_core::source::SourceFile;
use barrow_core::visible::visible_path;
use barrow_targets::{Session, ledger};

use super::choose::{self, Choice, Chosen};
use super::note::{Note, Original, failed};
use super::{Loaded, Order, run_chosen_by};
use crate::failure::Failure;
use crate::view::summary::Mended;

/// A load that was rolled back, and its rejects.
pub struct Replay<'r> {
    /// The load, as it was to be.
    pub order: &'r Order<'r>,
    /// The note beside its rejects.
    pub note: &'r Note,
    /// The folder of its rejects.
    pub folder: &'r Path,
    /// Its files as they were.
    pub originals: &'r [Original],
    /// The files of its rejects.
    pub rejects: Vec<PathBuf>,
    /// Whether the database is new.
    pub is_new: bool,
}

impl Replay<'_> {
    /// Loads the files and the rejects, or only says what would come of it.
    ///
    /// # Errors
    /// A file has changed, or whatever keeps a load from being done.
    pub fn run(self, target: &mut dyn Session, rehearses: bool) -> Result<Loaded, Failure> {
        let open_before = self
            .originals
            .iter()
            .map(|original| original.rejected)
            .sum();
        let mut choice = self.choice(target)?;
        let rejects = self.rejects.iter().cloned().map(SourceFile::local);
        let rejects: Vec<Chosen> = rejects.map(choose::outlined).collect::<Result<_, _>>()?;
        let count = rejects.len();
        choice.files.extend(rejects);
        choice.files.iter_mut().for_each(|file| file.note = None);
        let mut loaded = run_chosen_by(self.order, target, choice, rehearses, |sink| {
            sink.replaying(self.originals.to_vec())
        })?;
        let summary = &mut loaded.summary;
        let from_rejects = summary.tally.files.iter().rev().take(count);
        let (mended, still_open) = from_rejects.fold((0, 0), |(mended, open), file| {
            (mended + file.loaded, open + file.rejected)
        });
        summary.mended = Some(Mended {
            run: self.note.run.clone(),
            open_before,
            mended: if summary.is_kept() { mended } else { 0 },
            still_open: if summary.is_kept() {
                still_open
            } else {
                open_before
            },
            given_up: match summary.is_kept() {
                true => open_before.saturating_sub(mended + still_open),
                false => 0,
            },
        });
        if self.is_new && summary.is_kept() && !rehearses {
            let made = format!("database {}: created", self.order.url);
            summary.made.insert(0, made);
        }
        if summary.is_kept() && !rehearses {
            // All of it is in the table, or in the folder of this run.
            if let Some(table) = &self.order.spec.plan.rejects.table {
                ledger::forget_rejects(target, table, &self.note.run)?;
            }
            fs::remove_dir_all(self.folder).map_err(|e| failed(self.folder, &e))?;
            loaded.done.retain(|done| {
                !done
                    .source
                    .path()
                    .is_some_and(|path| path.starts_with(self.folder))
            });
            loaded.dispose(self.order);
        }
        Ok(loaded)
    }

    /// The original files, none of which may be in the table.
    fn choice(&self, target: &mut dyn Session) -> Result<Choice, Failure> {
        for original in self.originals {
            if !original.path.is_file() {
                let name = visible_path(&original.path);
                return Err(Failure::wrong(
                    format!("{name} is not there, whose good records belong to these rejects"),
                    "put it back where it was",
                ));
            }
        }
        let sources = self
            .originals
            .iter()
            .map(|o| SourceFile::local(o.path.clone()));
        let choice = choose::choose(self.order, target, sources.collect())?;
        if let Some(skipped) = choice.skipped.first() {
            return Err(Failure::wrong(
                format!(
                    "{} is in the table since, by run {}",
                    skipped.file,
                    skipped.run.as_deref().unwrap_or("of this load")
                ),
                "mend the rejects of that run; those of this one are of no use any more",
            ));
        }
        Ok(Choice {
            going_on: None,
            ..choice
        })
    }
}
