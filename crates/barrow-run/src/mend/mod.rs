//! Mending: loads a run's rejects again, once they are corrected.

mod mending;
mod replay;

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use barrow_core::escape::{escape_for_display, visible_path};
use barrow_core::rejects::MANIFEST;
use barrow_core::source::files::is_address;
use barrow_core::words::{Every, Mode, Per, WhenChanged, WhenEmpty};
use barrow_targets::Job;
use barrow_targets::ledger::{self, Outcome};

use self::mending::Mending;
use self::replay::Replay;
use crate::error::Error;
use crate::ledger::find;
use crate::load::PATIENCE;
use crate::load::locks::lock_of;
use crate::load::request::LoadRequest;
use crate::observer::{Observer, Watcher};
use crate::reject_manifest::{self, Manifest};
use crate::rejects_place::RejectsPlace;
use crate::report::Summary;
use crate::spec_file::settings::Settings;
use crate::spec_file::{Overrides, Spec};

/// A mend that is to be done.
pub struct Mend<'m> {
    run: String,
    database: Option<String>,
    rejects: Option<PathBuf>,
    rehearses: bool,
    patience: Duration,
    observer: Option<&'m mut dyn Observer>,
}

impl<'m> Mend<'m> {
    /// The mend of a run: its id, or the first characters of it, or the folder of its
    /// rejects.
    pub fn new(run: impl Into<String>) -> Mend<'m> {
        Mend {
            run: run.into(),
            database: None,
            rejects: None,
            rehearses: false,
            patience: PATIENCE,
            observer: None,
        }
    }

    /// The database; that of the run unless said.
    pub fn database(self, database: Option<String>) -> Mend<'m> {
        Mend { database, ..self }
    }

    /// The folder that has a folder of rejects for each run: that of the settings of this
    /// folder, or `rejects`, unless said.
    pub fn rejects(self, rejects: Option<PathBuf>) -> Mend<'m> {
        Mend { rejects, ..self }
    }

    /// Only says what would come of it.
    pub fn rehearse(self, rehearses: bool) -> Mend<'m> {
        Mend { rehearses, ..self }
    }

    /// How long to wait for another session's lock.
    pub fn patience(self, patience: Duration) -> Mend<'m> {
        Mend { patience, ..self }
    }

    /// Tells an observer what happens on the way.
    pub fn observe(self, observer: &'m mut dyn Observer) -> Mend<'m> {
        Mend {
            observer: Some(observer),
            ..self
        }
    }

    /// Loads what was corrected. What is still wrong stays in the folder, with new reasons.
    ///
    /// # Errors
    /// The run has no open rejects, is not in the table, or whatever keeps a load from being
    /// done.
    pub fn run(self) -> Result<Summary, Error> {
        let (place, folder) = self.place()?;
        let manifest = reject_manifest::read(&folder)?;
        let spec = spec(&self, &manifest)?;
        let watch = Watcher::new(self.observer);
        let usual = LoadRequest::new(&spec, Some(folder.clone()), &watch)?;
        let request = LoadRequest {
            job: Job {
                create: usual.job.create && manifest.rolled_back.is_some(),
                ..usual.job
            },
            // What is still wrong of a load that was rolled back has a folder of its own.
            rejects: RejectsPlace {
                folder: match (&manifest.rolled_back, folder.parent()) {
                    (Some(_), Some(parent)) => parent.to_path_buf(),
                    _ => folder.clone(),
                },
                mirror: place.mirror.clone(),
            },
            patience: self.patience,
            ..usual
        };
        let mut summary = mend(&request, &folder, &manifest, self.rehearses)?;
        if let Some(mirror) = place.mirror.as_ref().filter(|_| !self.rehearses) {
            mirror.push(&folder)?;
        }
        summary.rejects = summary.rejects.map(|folder| place.shown(&folder));
        Ok(summary)
    }

    /// The place of the rejects, and the run's folder in it.
    fn place(&self) -> Result<(RejectsPlace, PathBuf), Error> {
        let settings = Settings::of(Path::new(""))?;
        let stores = || settings.stores();
        if !is_address(&self.run) {
            let usual = || {
                settings
                    .rejects()
                    .unwrap_or_else(|| PathBuf::from("rejects"))
            };
            let place = self.rejects.clone().unwrap_or_else(usual);
            let place = RejectsPlace::new(place, stores)?;
            let is_plain = self.run.chars().all(|c| c.is_ascii_alphanumeric());
            if let Some(mirror) = place.mirror.as_ref().filter(|_| is_plain) {
                mirror.pull(&self.run)?;
            }
            let folder = folder(&self.run, &place.folder)?;
            return Ok((place, folder));
        }
        let address = self.run.trim_end_matches('/');
        let (parent, run) = address.rsplit_once('/').unwrap_or((address, ""));
        let place = RejectsPlace::new(PathBuf::from(parent), stores)?;
        if let Some(mirror) = &place.mirror {
            mirror.pull(&format!("{run}/"))?;
        }
        let folder = place.folder.join(run);
        match folder.join(MANIFEST).is_file() {
            true => Ok((place, folder)),
            false => Err(Error::request(
                format!(
                    "there are no rejects at {}",
                    escape_for_display(address.as_bytes())
                ),
                "name the folder that has them: the load said it, and barrow ledger RUN does",
            )),
        }
    }
}

fn mend(
    request: &LoadRequest<'_>,
    folder: &Path,
    manifest: &Manifest,
    rehearses: bool,
) -> Result<Summary, Error> {
    let is_new = !request.url.is_there();
    let mut session = request.open()?;
    // One mend of a run at a time.
    session.lock(lock_of(&format!("mend {}", manifest.run), ""), true)?;
    if let Some(originals) = &manifest.rolled_back {
        let replay = Replay {
            request,
            manifest,
            folder,
            originals,
            rejects: Mending::files_of(folder, manifest)?,
            is_new,
        };
        return Ok(replay.run(session.as_mut(), rehearses)?.summary);
    }
    if !manifest.left_out_whole.is_empty() && Mending::files_of(folder, manifest)?.is_empty() {
        return Err(Error::request(
            format!(
                "nothing of the files of these rejects is in the table: each was skipped whole by run {}",
                manifest.run
            ),
            "correct the files themselves, and load them again",
        ));
    }
    let run = find(session.as_mut(), &request.url, &manifest.run)?;
    if run.outcome != Outcome::Kept {
        return Err(Error::request(
            format!(
                "run {} is not in the table whole: it is {}",
                run.run,
                run.outcome.word()
            ),
            "correct its files, and load them",
        ));
    }
    let files = ledger::files_of(session.as_mut(), &run.run)?;
    if files.iter().all(|file| file.outcome == Outcome::Emptied) {
        return Err(Error::request(
            format!(
                "the table was emptied since run {}, and nothing of it is there",
                run.run
            ),
            "its rejects belong to rows that are gone; load the file of rejects alone if they \
             are wanted anyway",
        ));
    }
    let mending = Mending {
        request,
        folder,
        manifest,
        run,
    };
    mending.recover(session.as_mut())?;
    match rehearses {
        true => mending.rehearse(session.as_mut()),
        false => mending.mend(session.as_mut()),
    }
}

/// The folder of the run's rejects.
fn folder(run: &str, rejects: &Path) -> Result<PathBuf, Error> {
    let given = Path::new(run);
    if given.join(MANIFEST).is_file() {
        return Ok(given.to_path_buf());
    }
    let is_plain = !run.is_empty() && run.chars().all(|c| c.is_ascii_alphanumeric());
    let found: Vec<PathBuf> = match fs::read_dir(rejects) {
        Ok(folders) if is_plain => folders
            .filter_map(|entry| Some(entry.ok()?.path()))
            .filter(|path| {
                let name = path.file_name().unwrap_or_default().to_string_lossy();
                name.starts_with(run) && path.join(MANIFEST).is_file()
            })
            .collect(),
        _ => Vec::new(),
    };
    match found.as_slice() {
        [one] => Ok(one.clone()),
        [] => Err(Error::request(
            format!(
                "there are no rejects of a run {} in {}/",
                escape_for_display(run.as_bytes()),
                visible_path(rejects)
            ),
            "name the folder that has them: the load said it, and barrow ledger RUN does; a run \
             without open rejects has none",
        )),
        _ => Err(Error::request(
            format!(
                "{} may be any of several runs",
                escape_for_display(run.as_bytes())
            ),
            "say more of its id",
        )),
    }
}

/// The run's spec, for rejects alone: whatever it does to the table's other rows, a mend
/// only adds to them.
fn spec(mend: &Mend<'_>, manifest: &Manifest) -> Result<Spec, Error> {
    let overrides = Overrides {
        database: mend.database.clone().or_else(|| manifest.into.clone()),
        table: manifest.table.clone(),
        ..Overrides::default()
    };
    // As people would name it from here.
    let here = std::env::current_dir().unwrap_or_default();
    let path = manifest.spec.strip_prefix(&here).unwrap_or(&manifest.spec);
    let mut spec = Spec::open(path, &overrides)?;
    let plan = &mut spec.plan;
    if !plan.target.ledger {
        return Err(Error::request(
            "the spec does without a ledger, which a mend needs so as to load nothing twice",
            "load the file of rejects with the same spec, and delete it then",
        ));
    }
    // Records that were given up leave a file without any, and people correct files in place.
    plan.source.when_empty = WhenEmpty::Skip;
    plan.source.when_changed = WhenChanged::Load;
    if manifest.rolled_back.is_some() {
        // Nothing of it is in the table: it is loaded as it was to be.
        return Ok(spec);
    }
    if plan.target.mode != Mode::Merge {
        plan.target.mode = Mode::Append;
    }
    plan.target.every = Every::All;
    plan.rejects.per = Per::Run;
    Ok(spec)
}
