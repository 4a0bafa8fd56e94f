//! Mends a load that was rolled back: the good records come from its files again, which must
//! be what they were, and the others from the folder of rejects, in one transaction.

use std::fs;
use std::path::{Path, PathBuf};

use barrow_core::escape::visible_path;
use barrow_core::source::SourceFile;
use barrow_targets::{Session, ledger};

use crate::error::Error;
use crate::load::request::LoadRequest;
use crate::load::run::{Loaded, run_by};
use crate::load::select_files;
use crate::load::selection::{Selected, Selection};
use crate::reject_manifest::{Manifest, Original};
use crate::report::Mended;

/// A load that was rolled back, and its rejects.
pub(super) struct Replay<'r> {
    /// The load, as it was to be.
    pub request: &'r LoadRequest<'r>,
    /// The manifest beside its rejects.
    pub manifest: &'r Manifest,
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
    pub fn run(self, session: &mut dyn Session, rehearses: bool) -> Result<Loaded, Error> {
        let open_before = self
            .originals
            .iter()
            .map(|original| original.rejected)
            .sum();
        let mut selection = self.selection(session)?;
        let rejects = self.rejects.iter().cloned().map(SourceFile::local);
        let rejects = Selected::all(rejects)?;
        let count = rejects.len();
        selection.files.extend(rejects);
        selection.files.iter_mut().for_each(|file| file.note = None);
        let mut loaded = run_by(self.request, session, selection, rehearses, |sink| {
            sink.replaying(self.originals.to_vec())
        })?;
        let summary = &mut loaded.summary;
        let from_rejects = summary.tally.files.iter().rev().take(count);
        let (mended, still_open) = from_rejects.fold((0, 0), |(mended, open), file| {
            (mended + file.loaded, open + file.rejected)
        });
        summary.mended = Some(Mended {
            run: self.manifest.run.clone(),
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
            let made = format!("database {}: created", self.request.url);
            summary.made.insert(0, made);
        }
        if summary.is_kept() && !rehearses {
            // All of it is in the table, or in the folder of this run.
            if let Some(table) = &self.request.spec.plan.rejects.table {
                ledger::forget_rejects(session, table, &self.manifest.run)?;
            }
            fs::remove_dir_all(self.folder).map_err(|e| Error::file(self.folder, &e))?;
            loaded.done.retain(|done| {
                !done
                    .source
                    .path()
                    .is_some_and(|path| path.starts_with(self.folder))
            });
            loaded.dispose(self.request);
        }
        Ok(loaded)
    }

    /// The original files, none of which may be in the table.
    fn selection(&self, session: &mut dyn Session) -> Result<Selection, Error> {
        for original in self.originals {
            if !original.path.is_file() {
                let name = visible_path(&original.path);
                return Err(Error::request(
                    format!("{name} is not there, whose good records belong to these rejects"),
                    "put it back where it was",
                ));
            }
        }
        let sources = self
            .originals
            .iter()
            .map(|o| SourceFile::local(o.path.clone()));
        let selection = select_files::select(self.request, session, sources.collect())?;
        if let Some(skipped) = selection.skipped.first() {
            return Err(Error::request(
                format!(
                    "{} is in the table since, by run {}",
                    skipped.file,
                    skipped.run.as_deref().unwrap_or("of this load")
                ),
                "mend the rejects of that run; those of this one are of no use any more",
            ));
        }
        Ok(Selection {
            resumed: None,
            ..selection
        })
    }
}
