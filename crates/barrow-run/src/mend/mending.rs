//! Loads the rejects of a run that is in the table.
//!
//! What is still wrong is written to a folder beside the rejects before anything is
//! committed, and takes their place after that. A mend that is killed in between is
//! finished by the next one: the ledger says whether its rows are in the table.

use std::fs;
use std::path::{Path, PathBuf};

use barrow_core::counts::RunCounts;
use barrow_core::reason::REASONS;
use barrow_core::rejects::{MANIFEST, RejectWriter};
use barrow_targets::Session;
use barrow_targets::ledger::{self, Outcome, Run, Wanted};
use serde::{Deserialize, Serialize};

use crate::account::RunAccount;
use crate::error::Error;
use crate::load::request::LoadRequest;
use crate::load::run::{Start, run_pipeline, summed_up};
use crate::load::run_recorder::{RunRecorder, mended};
use crate::load::select_files;
use crate::load::selection::{Selected, Selection};
use crate::load::sink::LoadSink;
use crate::reject_manifest::Manifest;
use crate::report::{Mended, Summary};
use crate::run_id::run_id;

/// The folder of what is still wrong begins so, and ends in the mend's own run.
const PENDING: &str = ".mending-";

/// The list of what takes whose place, in that folder. No source has this name.
const SWAP: &str = ".swap";

/// Which files of rejects are written anew, and which are gone, for nothing in them is
/// wrong any more. It is written before the rows are committed.
#[derive(Serialize, Deserialize)]
struct Swap {
    anew: Vec<PathBuf>,
    gone: Vec<PathBuf>,
}

impl Swap {
    fn of(pending: &Path, files: &[PathBuf]) -> Swap {
        let names = files.iter().filter_map(|file| file.file_name());
        let names = names.map(PathBuf::from).chain([PathBuf::from(REASONS)]);
        let (anew, gone) = names.partition(|name| pending.join(name).exists());
        Swap { anew, gone }
    }

    fn write(&self, pending: &Path) -> Result<(), Error> {
        let path = pending.join(SWAP);
        let text = serde_json::to_string(self).map_err(|e| Error::file(&path, &e))?;
        fs::write(&path, text).map_err(|e| Error::file(&path, &e))
    }
}

/// What is in a folder: all of it, or it is not known.
fn entries(folder: &Path) -> Result<Vec<PathBuf>, Error> {
    let found = fs::read_dir(folder).map_err(|e| Error::file(folder, &e))?;
    let path = |entry: std::io::Result<fs::DirEntry>| entry.map(|entry| entry.path());
    found
        .map(path)
        .collect::<Result<_, _>>()
        .map_err(|e| Error::file(folder, &e))
}

pub(super) struct Mending<'m> {
    pub request: &'m LoadRequest<'m>,
    pub folder: &'m Path,
    pub manifest: &'m Manifest,
    pub run: Run,
}

impl Mending<'_> {
    /// The files of rejects that are there.
    fn files(&self) -> Result<Vec<PathBuf>, Error> {
        Mending::files_of(self.folder, self.manifest)
    }

    /// The files of rejects in a folder.
    pub fn files_of(folder: &Path, manifest: &Manifest) -> Result<Vec<PathBuf>, Error> {
        let is_ours = |path: &Path| {
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            name == MANIFEST
                || name == REASONS
                || manifest.left_out_whole.iter().any(|left| *left == name)
        };
        let mut files: Vec<PathBuf> = entries(folder)?
            .into_iter()
            .filter(|path| path.is_file() && !is_ours(path))
            .collect();
        files.sort();
        Ok(files)
    }

    /// Finishes, or clears away, what a mend left that was killed.
    pub fn recover(&self, session: &mut dyn Session) -> Result<(), Error> {
        for path in entries(self.folder)? {
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            let Some(id) = name.strip_prefix(PENDING) else {
                continue;
            };
            let wanted = Wanted {
                run: Some(id.to_string()),
                ..Wanted::default()
            };
            let is_kept = ledger::runs(session, &wanted)?
                .iter()
                .any(|run| run.outcome == Outcome::Kept);
            match is_kept {
                true => self.put_in_place(&path)?,
                false => fs::remove_dir_all(&path).map_err(|e| Error::file(&path, &e))?,
            }
        }
        Ok(())
    }

    /// What is still wrong takes the place of the rejects as they were. It may have been
    /// begun before.
    fn put_in_place(&self, pending: &Path) -> Result<(), Error> {
        let path = pending.join(SWAP);
        let text = fs::read_to_string(&path).map_err(|e| Error::file(&path, &e))?;
        let swap: Swap = serde_json::from_str(&text).map_err(|e| Error::file(&path, &e))?;
        for name in &swap.gone {
            let old = self.folder.join(name);
            if old.exists() {
                fs::remove_file(&old).map_err(|e| Error::file(&old, &e))?;
            }
        }
        for name in &swap.anew {
            let (new, old) = (pending.join(name), self.folder.join(name));
            if new.exists() {
                fs::rename(&new, &old).map_err(|e| Error::file(&old, &e))?;
            }
        }
        fs::remove_dir_all(pending).map_err(|e| Error::file(pending, &e))
    }

    /// The files to load.
    ///
    /// # Errors
    /// One was loaded as it is: what is wrong in it was kept elsewhere then.
    fn chosen(&self, session: &mut dyn Session, files: &[PathBuf]) -> Result<Selection, Error> {
        let place = &self.request.rejects;
        let sources = files.iter().map(|file| place.source(file)).collect();
        let mut selection = select_files::select(self.request, session, sources)?;
        if let Some(skipped) = selection.skipped.first() {
            let run = skipped.run.as_deref().unwrap_or("this one");
            return Err(Error::request(
                format!(
                    "{} was loaded as it is already, in run {run} ({})",
                    skipped.file, skipped.when
                ),
                "take it out of the folder if nothing in it is left to mend, or change it",
            ));
        }
        selection.resumed = None;
        selection.files.iter_mut().for_each(|file| file.note = None);
        Ok(selection)
    }

    pub fn mend(&self, session: &mut dyn Session) -> Result<Summary, Error> {
        let files = self.files()?;
        let selection = self.chosen(session, &files)?;
        let id = run_id();
        let pending = self.folder.join(format!("{PENDING}{id}"));
        let mut recorder =
            RunRecorder::open(self.request, session, &id, selection.table_key, None)?;
        recorder.mends(&self.run);
        fs::create_dir(&pending).map_err(|e| Error::file(&pending, &e))?;
        // What a mend that fails leaves there is cleared away, or put in place, by the next
        // one: only the ledger knows whether a commit was done that was never answered.
        let mut summary = self.load(session, &id, &selection.files, &pending, Some(recorder))?;
        self.put_in_place(&pending)?;
        summary.rejects = self.clear_away()?;
        Ok(summary)
    }

    pub fn rehearse(&self, session: &mut dyn Session) -> Result<Summary, Error> {
        let files = self.files()?;
        let selection = self.chosen(session, &files)?;
        let pending = tempfile::tempdir().map_err(|e| Error::file(self.folder, &e))?;
        let into = pending.path().join("rejects");
        let mut summary = self.load(session, &run_id(), &selection.files, &into, None)?;
        summary.rejects = None;
        Ok(summary)
    }

    /// Loads the files; without recorder, only to see what would come of it.
    fn load(
        &self,
        session: &mut dyn Session,
        id: &str,
        files: &[Selected],
        pending: &Path,
        recorder: Option<RunRecorder>,
    ) -> Result<Summary, Error> {
        let rehearsal = recorder.is_none();
        let mut load = session.begin(&self.request.job).map_err(|n| n.error)?;
        let before = load.rows_before().to_vec();
        if let Some(table) = &self.request.spec.plan.rejects.table
            && load.session().describe(table)?.is_some()
        {
            ledger::forget_rejects(load.session(), table, &self.run.run)?;
        }
        load.keep_so_far()?;
        let keep = self.request.spec.plan.rejects.keep;
        let writer = RejectWriter::new(pending.to_path_buf(), keep);
        let sources = files.iter().map(|file| file.source.clone()).collect();
        let account = RunAccount::open(
            sources,
            RunCounts::default(),
            Some(writer),
            self.request.watch,
        );
        let sink = LoadSink::new(self.request, load, files, &self.run.run, account, recorder)?;
        let sink = sink.tolerating_all();
        let mut sink = match rehearsal {
            true => sink.rehearsing(),
            false => {
                let all = self.files()?;
                let mirror = self.request.rejects.mirror.clone();
                sink.before_commit(Box::new(move |_, _| {
                    Swap::of(pending, &all).write(pending)?;
                    match mirror {
                        Some(mirror) => mirror.push(pending),
                        None => Ok(()),
                    }
                }))
            }
        };
        let flowed = run_pipeline(self.request, id, files, Start::default(), &mut sink);
        let finished = sink.finish(flowed)?;
        let mut summary = summed_up(
            self.request,
            id.to_string(),
            &self.request.job,
            &before,
            finished,
        );
        let (loaded, rejected) = (summary.loaded(), summary.rejected());
        let after = mended(&self.run, loaded, rejected);
        summary.mended = Some(Mended {
            run: self.run.run.clone(),
            open_before: self.run.still_open,
            mended: loaded,
            still_open: rejected,
            given_up: after.given_up - self.run.given_up,
        });
        Ok(summary)
    }

    /// Removes the folder once nothing is left in it; returns it otherwise.
    fn clear_away(&self) -> Result<Option<PathBuf>, Error> {
        if !self.files()?.is_empty() || !self.manifest.left_out_whole.is_empty() {
            return Ok(Some(self.folder.to_path_buf()));
        }
        fs::remove_dir_all(self.folder).map_err(|e| Error::file(self.folder, &e))?;
        Ok(None)
    }
}
