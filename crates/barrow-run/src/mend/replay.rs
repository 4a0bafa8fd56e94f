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
use crate::named_files;
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
        let place = &self.request.rejects;
        let rejects = self.rejects.iter().map(|file| place.source(file));
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

    /// A file by what it was known as: on this machine, elsewhere, or in an archive.
    fn find(&self, path: &Path) -> Option<SourceFile> {
        if path.is_file() {
            return Some(SourceFile::local(path));
        }
        let name = path.to_str()?.to_string();
        let stores = self.request.spec.stores().ok()?;
        let found = named_files::find(&[name], Path::new(""), &stores).ok()?;
        found.into_iter().find(|file| file.identity() == path)
    }

    /// The original files, none of which may be in the table.
    fn selection(&self, session: &mut dyn Session) -> Result<Selection, Error> {
        let sources = self.originals.iter().map(|original| {
            self.find(&original.path).ok_or_else(|| {
                let name = visible_path(&original.path);
                Error::request(
                    format!("{name} is not there, whose good records belong to these rejects"),
                    "put it back where it was",
                )
            })
        });
        let sources = sources.collect::<Result<Vec<_>, _>>()?;
        let selection = select_files::select(self.request, session, sources)?;
        if let Some(skipped) = selection.skipped.first() {
            return Err(Error::request(
                format!(
                    "{} is in the table since, by run {}",
                    skipped.file,
                    skipped.run.as_deref().unwrap_or("of this load")
                ),
                "mend the rejects of that run; those of this one are no longer needed",
            ));
        }
        Ok(Selection {
            resumed: None,
            ..selection
        })
    }
}
