//! Undoing: takes a run's rows out of its tables again, and has the ledger say so, in one
//! transaction. Its files count as new afterwards.

mod document;

use std::time::Duration;

use barrow_targets::ledger::{self, Outcome, Run};
use barrow_targets::{Session, Url};

use crate::error::Error;
use crate::ledger::find;
use crate::load::PATIENCE;
use crate::load::locks::{run_lock, take};
use crate::load::run_recorder::{by_whom, now};
use crate::observer::{Observer, Watcher};
use crate::run_rows::{TakenOut, by, mends, taken_out};
use crate::words::{counted, number};

/// A run that is to be undone.
pub struct Undo<'u> {
    run: String,
    url: Url,
    rehearses: bool,
    forgets: bool,
    may_cascade: bool,
    patience: Duration,
    observer: Option<&'u mut dyn Observer>,
}

/// What came of it.
#[derive(Debug)]
pub struct Undone {
    /// The run.
    pub run: String,
    /// The database.
    pub database: String,
    /// How many rows are gone from each table.
    pub tables: Vec<(String, u64)>,
    /// How many rows the ledger had of the run.
    pub loaded: u64,
    /// How many files count as new again.
    pub files: u64,
    /// Runs that mended its rejects and went with it.
    pub mends: Vec<String>,
    /// How many of its rejects were open.
    pub open_rejects: u64,
    /// Whether nothing was done, and this is what would be.
    pub rehearsal: bool,
    /// Whether only the ledger was told, and the rows are where they are.
    pub forgotten: bool,
    /// What else people should know.
    pub remarks: Vec<String>,
}

impl<'u> Undo<'u> {
    /// The undoing of a run: its id, or the first characters of it.
    pub fn new(run: impl Into<String>, url: Url) -> Undo<'u> {
        Undo {
            run: run.into(),
            url,
            rehearses: false,
            forgets: false,
            may_cascade: false,
            patience: PATIENCE,
            observer: None,
        }
    }

    /// Only says what would come of it.
    pub fn rehearse(self, rehearses: bool) -> Self {
        Undo { rehearses, ..self }
    }

    /// Only makes the ledger forget the run: its rows stay where they are.
    pub fn forget(self, forgets: bool) -> Self {
        Undo { forgets, ..self }
    }

    /// Lets rows of other tables go along by their foreign keys.
    pub fn cascade(self, may_cascade: bool) -> Self {
        Undo {
            may_cascade,
            ..self
        }
    }

    /// How long to wait for another session's lock.
    pub fn patience(self, patience: Duration) -> Self {
        Undo { patience, ..self }
    }

    /// Tells an observer what happens on the way.
    pub fn observe(self, observer: &'u mut dyn Observer) -> Self {
        Undo {
            observer: Some(observer),
            ..self
        }
    }

    /// Deletes the run's rows, and those of the runs that mended its rejects.
    ///
    /// # Errors
    /// There is no such run, or its rows are not in the table; they were merged, or the table
    /// has no column for the run; the database refuses.
    pub fn run(self) -> Result<Undone, Error> {
        let watch = Watcher::new(self.observer);
        let mut session = self.url.open_existing()?;
        session.set_patience(self.patience)?;
        let session = session.as_mut();
        if !ledger::is_there(session)? {
            return Err(Error::request(
                format!("there is no ledger in {}", self.url),
                "is it the right database?",
            ));
        }
        let run = find(session, &self.url, &self.run)?;
        take(&watch, session, run_lock(&run.run), "this run to end")?;
        // It may have ended since it was looked for.
        let run = find(session, &self.url, &run.run)?;
        let mends = mends(session, &run)?;
        can_be_undone(session, &run, &self.url)?;
        let found = match self.forgets {
            true => None,
            false => Some(by(session, &run)?),
        };
        session.open_together(&[])?;
        let runs: Vec<&Run> = std::iter::once(&run).chain(&mends).collect();
        let word = match self.forgets {
            true => "forgotten, and its rows left where they are,",
            false => "undone",
        };
        let who = by_whom();
        let message = format!("{word} on {} by {} at {}", now(), who.who, who.host);
        // A look says what would go, whether it may or not.
        let may_cascade = self.may_cascade || self.rehearses;
        let done = taken_out(
            session,
            &runs,
            found.as_ref(),
            &message,
            self.rehearses,
            may_cascade,
        );
        let TakenOut {
            tables,
            files,
            losses,
        } = match done {
            Ok(done) => done,
            Err(error) => {
                let _ = session.roll_back();
                return Err(error.and("nothing was undone"));
            }
        };
        let ended = match self.rehearses {
            true => session.roll_back(),
            false => session.commit_together(),
        };
        ended.map_err(|error| Error::from(error).and("nothing was undone"))?;
        let lost = losses.iter().map(|loss| match self.may_cascade {
            true => loss.to_string(),
            false => format!("{loss}: needs --cascade"),
        });
        let lost: Vec<String> = lost.collect();
        let loaded = runs.iter().map(|run| run.counts.loaded).sum();
        let rows: u64 = tables.iter().map(|(_, rows)| rows).sum();
        tracing::info!(
            run = run.run,
            rows,
            rehearsal = self.rehearses,
            "a run was undone"
        );
        Ok(Undone {
            remarks: remarks(&run, found.is_some(), &tables, loaded)
                .into_iter()
                .chain(lost)
                .collect(),
            run: run.run.clone(),
            database: self.url.to_string(),
            tables,
            loaded,
            files,
            mends: mends.into_iter().map(|run| run.run).collect(),
            open_rejects: run.still_open,
            rehearsal: self.rehearses,
            forgotten: self.forgets,
        })
    }
}

fn can_be_undone(session: &mut dyn Session, run: &Run, url: &Url) -> Result<(), Error> {
    let is_in = matches!(run.outcome, Outcome::Kept | Outcome::Going);
    if !is_in {
        return Err(Error::request(
            format!(
                "run {} has no rows in the table: it is {}",
                run.run,
                run.outcome.word()
            ),
            format!("barrow ledger {} --database {url} says more", run.run),
        ));
    }
    let Some(of) = &run.mend_of else {
        return Ok(());
    };
    let original = find(session, url, of)?;
    // One that was rolled back has no rows but those of its mend.
    match original.outcome {
        Outcome::Kept => Err(Error::request(
            format!(
                "run {} mended the rejects of run {of}, which can no longer be corrected there",
                run.run
            ),
            format!("undo that one, and this goes with it: barrow undo {of}"),
        )),
        _ => Ok(()),
    }
}

fn remarks(run: &Run, deleted: bool, tables: &[(String, u64)], loaded: u64) -> Vec<String> {
    let mut remarks = Vec::new();
    let gone: u64 = tables.iter().map(|(_, rows)| rows).sum();
    if deleted && gone != loaded {
        remarks.push(format!(
            "the ledger has {} of this run: {}",
            counted(loaded, "row"),
            match gone < loaded {
                true if loaded - gone == 1 => "1 was deleted or changed since".to_string(),
                true => format!("{} were deleted or changed since", number(loaded - gone)),
                false => "others have its id too".to_string(),
            }
        ));
    }
    if matches!(run.mode.as_str(), "truncate" | "replace") {
        remarks.push(
            "the run emptied the table first: what was there before it does not come back".into(),
        );
    }
    remarks
}
