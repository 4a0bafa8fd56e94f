//! `barrow mend`: loads a run's rejects again, once they are corrected.
//!
//! What is still wrong is written to a folder beside the rejects before anything is
//! committed, and takes their place after that. A mend that is killed in between is
//! finished by the next one: the ledger says whether its rows are in the table.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;

use barrow_core::reason::REASONS;
use barrow_core::rejects::{Keeper, NOTE};
use barrow_core::source::SourceFile;
use barrow_core::tally::Tally;
use barrow_core::visible::{visible, visible_path};
use barrow_core::words::{Every, Mode, Per, WhenChanged, WhenEmpty};
use barrow_targets::ledger::{self, Outcome, Run, Wanted};
use barrow_targets::{Dialect, Job, Session};
use serde::{Deserialize, Serialize};

use super::job::Spec;
use super::ledger::find;
use super::load::code;
use crate::args::{Mend, Report, Shared};
use crate::failure::Failure;
use crate::loading::books::{Books, mended};
use crate::loading::choose::{self, Chosen, lock_of};
use crate::loading::note::{self, Note, failed};
use crate::loading::sink::LoadSink;
use crate::loading::{Order, Start, flow_through, replay, run_id, summed_up};
use crate::view::summary::{self, Mended, Summary};

/// The folder of what is still wrong begins so, and ends in the mend's own run.
const PENDING: &str = ".mending-";

/// The list of what takes whose place, in that folder. No source has this name.
const SWAP: &str = ".swap";

/// Loads what was corrected, and says what is left.
pub fn run(args: &Mend) -> Result<ExitCode, Failure> {
    let folder = folder(args)?;
    let note = note::read(&folder)?;
    let spec = spec(args, &note)?;
    let shared = Shared {
        database: args.database.clone().or_else(|| note.into.clone()),
        table: note.table.clone(),
        report: args.report,
        threads: None,
        quiet: args.quiet,
    };
    let url = spec.url(shared.database.as_deref())?;
    let order = Order {
        job: job(&spec, &shared, &note, url.dialect())?,
        url: &url,
        // What is still wrong of a load that was rolled back has a folder of its own.
        rejects: match (&note.rolled_back, folder.parent()) {
            (Some(_), Some(parent)) => parent.to_path_buf(),
            _ => folder.clone(),
        },
        again: false,
        patience: Duration::from_secs(args.lock_wait.into()),
        shared: &shared,
        spec: &spec,
    };
    let is_new = !order.url.is_there();
    let mut target = order.open()?;
    // One mend of a run at a time.
    target.lock(lock_of(&format!("mend {}", note.run), ""), true)?;
    if let Some(originals) = &note.rolled_back {
        let rejects = Mending::files_of(&folder, &note)?;
        let replay = replay::Replay {
            order: &order,
            note: &note,
            folder: &folder,
            originals,
            rejects,
            is_new,
        };
        let loaded = replay.run(target.as_mut(), args.check)?;
        return told(&loaded.summary, args.report);
    }
    if !note.left_out_whole.is_empty() && Mending::files_of(&folder, &note)?.is_empty() {
        return Err(Failure::wrong(
            format!(
                "nothing of the files of these rejects is in the table: each was skipped whole by run {}",
                note.run
            ),
            "correct the files themselves, and load them again",
        ));
    }
    let run = find(target.as_mut(), order.url, &note.run)?;
    if run.outcome != Outcome::Kept {
        return Err(Failure::wrong(
            format!(
                "run {} is not in the table whole: it is {}",
                run.run,
                run.outcome.word()
            ),
            "correct its files, and load them",
        ));
    }
    let files = ledger::files_of(target.as_mut(), &run.run)?;
    if files.iter().all(|file| file.outcome == Outcome::Emptied) {
        return Err(Failure::wrong(
            format!(
                "the table was emptied since run {}, and nothing of it is there",
                run.run
            ),
            "its rejects belong to rows that are gone; load the file of rejects by itself if they \
             are wanted all the same",
        ));
    }
    let mending = Mending {
        order: &order,
        folder: &folder,
        note: &note,
        run,
    };
    mending.recover(target.as_mut())?;
    let summary = match args.check {
        true => mending.rehearse(target.as_mut())?,
        false => mending.mend(target.as_mut())?,
    };
    told(&summary, args.report)
}

fn told(summary: &Summary, report: Report) -> Result<ExitCode, Failure> {
    match report {
        Report::Text => summary::print_text(summary)?,
        Report::Json => summary::print_json(summary)?,
    }
    Ok(code(summary))
}

/// The folder of the run's rejects.
fn folder(args: &Mend) -> Result<PathBuf, Failure> {
    let given = Path::new(&args.run);
    if given.join(NOTE).is_file() {
        return Ok(given.to_path_buf());
    }
    let is_plain = !args.run.is_empty() && args.run.chars().all(|c| c.is_ascii_alphanumeric());
    let found: Vec<PathBuf> = match fs::read_dir(&args.rejects) {
        Ok(folders) if is_plain => folders
            .filter_map(|entry| Some(entry.ok()?.path()))
            .filter(|path| {
                let name = path.file_name().unwrap_or_default().to_string_lossy();
                name.starts_with(&args.run) && path.join(NOTE).is_file()
            })
            .collect(),
        _ => Vec::new(),
    };
    match found.as_slice() {
        [one] => Ok(one.clone()),
        [] => Err(Failure::wrong(
            format!(
                "there are no rejects of a run {} in {}/",
                visible(args.run.as_bytes()),
                visible_path(&args.rejects)
            ),
            "name the folder that has them: the load said it, and barrow ledger RUN does; a run \
             without open rejects has none",
        )),
        _ => Err(Failure::wrong(
            format!(
                "{} may be any of several runs",
                visible(args.run.as_bytes())
            ),
            "say more of its id",
        )),
    }
}

/// The run's spec, for rejects alone: whatever it does to the table's other rows, a mend
/// only adds to them.
fn spec(args: &Mend, note: &Note) -> Result<Spec, Failure> {
    let into = args.database.as_deref().or(note.into.as_deref());
    // As people would name it from here.
    let here = std::env::current_dir().unwrap_or_default();
    let path = note.spec.strip_prefix(&here).unwrap_or(&note.spec);
    let mut spec = Spec::read(path, into, note.table.as_deref())?;
    let plan = &mut spec.plan;
    if !plan.target.ledger {
        return Err(Failure::wrong(
            "the spec does without a ledger, which a mend needs so as to load nothing twice",
            "load the file of rejects with the same spec, and delete it then",
        ));
    }
    // Records that were given up leave a file without any, and people correct files in place.
    plan.source.when_empty = WhenEmpty::Skip;
    plan.source.when_changed = WhenChanged::Load;
    if note.rolled_back.is_some() {
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

fn job(spec: &Spec, shared: &Shared, note: &Note, dialect: Dialect) -> Result<Job, Failure> {
    let job = spec.job_in(shared.table.as_deref(), dialect)?;
    Ok(Job {
        create: job.create && note.rolled_back.is_some(),
        ..job
    })
}

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

    fn write(&self, pending: &Path) -> Result<(), Failure> {
        let path = pending.join(SWAP);
        let text = serde_json::to_string(self).map_err(|e| failed(&path, &e))?;
        fs::write(&path, text).map_err(|e| failed(&path, &e))
    }
}

/// What is in a folder: all of it, or it is not known.
fn entries(folder: &Path) -> Result<Vec<PathBuf>, Failure> {
    let found = fs::read_dir(folder).map_err(|e| failed(folder, &e))?;
    let path = |entry: std::io::Result<fs::DirEntry>| entry.map(|entry| entry.path());
    found
        .map(path)
        .collect::<Result<_, _>>()
        .map_err(|e| failed(folder, &e))
}

struct Mending<'m> {
    order: &'m Order<'m>,
    folder: &'m Path,
    note: &'m Note,
    run: Run,
}

impl Mending<'_> {
    /// The files of rejects that are there.
    fn files(&self) -> Result<Vec<PathBuf>, Failure> {
        Mending::files_of(self.folder, self.note)
    }

    /// The files of rejects in a folder.
    fn files_of(folder: &Path, note: &Note) -> Result<Vec<PathBuf>, Failure> {
        let is_ours = |path: &Path| {
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            name == NOTE || name == REASONS || note.left_out_whole.iter().any(|left| *left == name)
        };
        let mut files: Vec<PathBuf> = entries(folder)?
            .into_iter()
            .filter(|path| path.is_file() && !is_ours(path))
            .collect();
        files.sort();
        Ok(files)
    }

    /// Finishes, or clears away, what a mend left that was killed.
    fn recover(&self, target: &mut dyn Session) -> Result<(), Failure> {
        for path in entries(self.folder)? {
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            let Some(id) = name.strip_prefix(PENDING) else {
                continue;
            };
            let wanted = Wanted {
                run: Some(id.to_string()),
                ..Wanted::default()
            };
            let is_kept = ledger::runs(target, &wanted)?
                .iter()
                .any(|run| run.outcome == Outcome::Kept);
            match is_kept {
                true => self.put_in_place(&path)?,
                false => fs::remove_dir_all(&path).map_err(|e| failed(&path, &e))?,
            }
        }
        Ok(())
    }

    /// What is still wrong takes the place of the rejects as they were. It may have been
    /// begun before.
    fn put_in_place(&self, pending: &Path) -> Result<(), Failure> {
        let path = pending.join(SWAP);
        let text = fs::read_to_string(&path).map_err(|e| failed(&path, &e))?;
        let swap: Swap = serde_json::from_str(&text).map_err(|e| failed(&path, &e))?;
        for name in &swap.gone {
            let old = self.folder.join(name);
            if old.exists() {
                fs::remove_file(&old).map_err(|e| failed(&old, &e))?;
            }
        }
        for name in &swap.anew {
            let (new, old) = (pending.join(name), self.folder.join(name));
            if new.exists() {
                fs::rename(&new, &old).map_err(|e| failed(&old, &e))?;
            }
        }
        fs::remove_dir_all(pending).map_err(|e| failed(pending, &e))
    }

    /// The files to load.
    ///
    /// # Errors
    /// One was loaded as it is: what is wrong in it was kept elsewhere then.
    fn chosen(
        &self,
        target: &mut dyn Session,
        files: &[PathBuf],
    ) -> Result<choose::Choice, Failure> {
        let sources = files.iter().cloned().map(SourceFile::local).collect();
        let mut choice = choose::choose(self.order, target, sources)?;
        if let Some(skipped) = choice.skipped.first() {
            let run = skipped.run.as_deref().unwrap_or("this one");
            return Err(Failure::wrong(
                format!(
                    "{} was loaded as it is already, in run {run} ({})",
                    skipped.file, skipped.when
                ),
                "take it out of the folder if nothing in it is left to mend, or change it",
            ));
        }
        choice.going_on = None;
        choice.files.iter_mut().for_each(|file| file.note = None);
        Ok(choice)
    }

    fn mend(&self, target: &mut dyn Session) -> Result<Summary, Failure> {
        let files = self.files()?;
        let choice = self.chosen(target, &files)?;
        let id = run_id();
        let pending = self.folder.join(format!("{PENDING}{id}"));
        let mut books = Books::open(self.order, target, &id, choice.table_key, None)?;
        books.mends(&self.run);
        fs::create_dir(&pending).map_err(|e| failed(&pending, &e))?;
        // What a mend that fails leaves there is cleared away, or put in place, by the next
        // one: only the ledger knows whether a commit was done that was never answered.
        let mut summary = self.load(target, &id, &choice.files, &pending, Some(books))?;
        self.put_in_place(&pending)?;
        summary.rejects = self.clear_away()?;
        Ok(summary)
    }

    fn rehearse(&self, target: &mut dyn Session) -> Result<Summary, Failure> {
        let files = self.files()?;
        let choice = self.chosen(target, &files)?;
        let pending = tempfile::tempdir().map_err(|e| failed(self.folder, &e))?;
        let into = pending.path().join("rejects");
        let mut summary = self.load(target, &run_id(), &choice.files, &into, None)?;
        summary.rejects = None;
        Ok(summary)
    }

    /// Loads the files; without books, only to see what would come of it.
    fn load(
        &self,
        target: &mut dyn Session,
        id: &str,
        files: &[Chosen],
        pending: &Path,
        books: Option<Books>,
    ) -> Result<Summary, Failure> {
        let rehearsal = books.is_none();
        let before = target.begin(&self.order.job)?;
        if let Some(table) = &self.order.spec.plan.rejects.table
            && target.describe(table)?.is_some()
        {
            ledger::forget_rejects(target, table, &self.run.run)?;
        }
        target.keep_so_far()?;
        let keeper = Keeper::new(pending.to_path_buf(), self.order.spec.plan.rejects.keep);
        let sink = LoadSink::new(
            self.order,
            target,
            files,
            &self.run.run,
            Tally::default(),
            keeper,
            books,
        )?;
        let sink = sink.tolerating_all();
        let mut sink = match rehearsal {
            true => sink.rehearsing(),
            false => {
                let all = self.files()?;
                sink.before_commit(Box::new(move |_, _| Swap::of(pending, &all).write(pending)))
            }
        };
        let flowed = flow_through(self.order, id, files, Start::default(), &mut sink);
        let finished = sink.finish(flowed)?;
        let mut summary = summed_up(
            self.order,
            id.to_string(),
            &self.order.job,
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

    /// Takes the folder away once nothing is left in it; returns it otherwise.
    fn clear_away(&self) -> Result<Option<PathBuf>, Failure> {
        if !self.files()?.is_empty() || !self.note.left_out_whole.is_empty() {
            return Ok(Some(self.folder.to_path_buf()));
        }
        fs::remove_dir_all(self.folder).map_err(|e| failed(self.folder, &e))?;
        Ok(None)
    }
}
