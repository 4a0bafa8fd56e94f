//! What the ledger says of a run, written with its rows.

mod rows;

pub(crate) use self::rows::{by_whom, close, mended};
use self::rows::{counts, path, sample_now, whole};
use barrow_core::counts::RunCounts;
use barrow_core::records::checkpoint::Checkpoint;
use barrow_core::rejects::Written;
use barrow_core::source::Content;
use barrow_core::source::content::hash_of;
use barrow_core::words::{Mode, Word};
use barrow_targets::ledger::{self, Counts, File, Outcome, Run};
use barrow_targets::{Session, Swap};
use jiff::Timestamp;

use super::locks::run_lock;
use super::request::LoadRequest;
use super::selection::{Resumed, Selected, name_of};
use super::state::State;
use crate::error::Error;
use crate::report;
use crate::run_rows::UndoBy;

/// What the ledger is to say of a run.
pub(crate) struct RunRecorder {
    run: Run,
    files: Vec<File>,
    /// The run as it was last committed, if it was.
    committed: Option<Run>,
    /// How many of the files are committed.
    written: usize,
    /// The first file that may have changed since.
    changed: usize,
    /// Whether a file may be loaded only once.
    once: bool,
    /// The run whose rejects this one loads.
    original: Option<Run>,
    /// Whether the ledger has the run's line already.
    is_noted: bool,
    /// What the file that comes now was like up to where it was read.
    checkpoint: Option<Checkpoint>,
    /// Whether rows of other runs go once the tables are swapped, and not before.
    empties_later: bool,
    /// Whether statements are still to be run once the rows are committed.
    owes_after: bool,
}

/// What a run notes before it begins: the tables that it will make beside others, which
/// MariaDB commits at once and which would stay if it were killed.
fn planned(request: &LoadRequest<'_>, session: &mut dyn Session) -> Result<Option<String>, Error> {
    if session.dialect().has_transactional_ddl() || request.job.mode != Mode::Replace {
        return Ok(None);
    }
    let tables = request.job.tables();
    let state = State {
        beside: tables
            .iter()
            .map(|table| request.job.beside(table))
            .collect(),
        ..State::default()
    };
    let state = serde_json::to_string(&state);
    Ok(Some(state.map_err(|e| {
        Error::failed(format!("writing the ledger: {e}"))
    })?))
}

/// How the rows are found again, if they can be.
fn undo_by(request: &LoadRequest<'_>) -> Option<String> {
    let by = UndoBy {
        column: request.spec.plan.target.run_column.clone()?,
        tables: request
            .job
            .tables()
            .iter()
            .map(ToString::to_string)
            .collect(),
    };
    serde_json::to_string(&by).ok()
}

/// Now, in UTC, as the ledger writes it.
pub(crate) fn now() -> String {
    Timestamp::now()
        .strftime("%Y-%m-%d %H:%M:%S%.3f")
        .to_string()
}

impl RunRecorder {
    /// Opens the ledger for a run, before the load begins.
    ///
    /// # Errors
    /// The ledger cannot be made or read.
    pub fn open(
        request: &LoadRequest<'_>,
        session: &mut dyn Session,
        run: &str,
        table_key: String,
        resumed: Option<&Resumed>,
    ) -> Result<RunRecorder, Error> {
        // Where one load writes at a time, it is made within the transaction, so that a load
        // that is rolled back leaves nothing. Other databases would commit it, or loads
        // would get into each other's way.
        if !session.dialect().has_one_writer() && !ledger::is_there(session)? {
            ledger::make(session)?;
        }
        if let Some(on) = resumed {
            let files = ledger::files_of(session, run)?;
            return Ok(RunRecorder {
                run: on.run.clone(),
                written: files.len(),
                changed: files.len().saturating_sub(1),
                files,
                committed: Some(on.run.clone()),
                once: !request.again,
                original: None,
                is_noted: true,
                checkpoint: None,
                empties_later: false,
                owes_after: false,
            });
        }
        let tables: Vec<String> = request
            .job
            .tables()
            .iter()
            .map(|t| (*t).to_string())
            .collect();
        let run = Run {
            run: run.to_string(),
            spec: request.spec.name(),
            spec_hash: hash_of(request.spec.origin.texts.all().as_bytes()),
            table: tables.join(", "),
            table_key,
            mode: request.job.mode.word().to_string(),
            started_at: now(),
            outcome: Outcome::Going,
            state: planned(request, session)?,
            undo_by: undo_by(request),
            ..by_whom()
        };
        Ok(RunRecorder {
            run,
            files: Vec::new(),
            written: 0,
            committed: None,
            changed: 0,
            once: !request.again,
            original: None,
            is_noted: false,
            checkpoint: None,
            empties_later: false,
            owes_after: false,
        })
    }

    /// Notes whose rejects the run loads.
    pub fn mends(&mut self, run: &Run) {
        self.run.mend_of = Some(run.run.clone());
        self.original = Some(run.clone());
    }

    /// Begins within the transaction. With `empties` the rows of all runs before are gone,
    /// which is noted, but for those `beside` it, of the same transaction; returns of how many
    /// files that was, where it is done now.
    ///
    /// # Errors
    /// The ledger cannot be made or written.
    pub fn begin(
        &mut self,
        session: &mut dyn Session,
        empties: bool,
        swaps: bool,
        beside: &[String],
    ) -> Result<u64, Error> {
        if !ledger::is_there(session)? {
            ledger::make(session)?;
        } else {
            ledger::may_be_written(session)?;
        }
        self.empties_later = empties && swaps;
        match empties && !self.empties_later {
            true => {
                let beside = beside.iter().map(String::as_str);
                let but: Vec<&str> = beside.chain([self.run.run.as_str()]).collect();
                Ok(ledger::emptied(session, &self.run.table_key, &but)?)
            }
            false => Ok(0),
        }
    }

    /// Notes before the load begins that it is going, and has it known as alive: one that is
    /// killed is then seen by the next.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn note_start(&mut self, session: &mut dyn Session) -> Result<(), Error> {
        session.lock(run_lock(&self.run.run), true)?;
        // Where it is made within the transaction, what is rolled back leaves nothing.
        if self.is_noted || !ledger::is_there(session)? {
            return Ok(());
        }
        ledger::may_be_written(session)?;
        self.run.ended_at = now();
        ledger::write_run(session, &self.run, true)?;
        self.is_noted = true;
        Ok(())
    }

    /// Notes how far a file was read; with `content`, that was to its end.
    pub fn file(
        &mut self,
        place: usize,
        file: &Selected,
        end: u64,
        checkpoint: Option<Checkpoint>,
        content: Option<Content>,
    ) {
        self.checkpoint = checkpoint;
        while self.files.len() <= place {
            let number = self.files.len() as u64 + 1;
            self.files.push(File {
                run: self.run.run.clone(),
                number,
                path: path(&file.source),
                name: name_of(&file.source),
                table: self.run.table.clone(),
                table_key: self.run.table_key.clone(),
                bytes: file
                    .fingerprint
                    .as_ref()
                    .map_or(0, |fingerprint| fingerprint.size),
                sample: file
                    .fingerprint
                    .as_ref()
                    .map(|fingerprint| fingerprint.sample.clone()),
                version: file.source.version(),
                outcome: Outcome::Going,
                once: self.once,
                ..File::default()
            });
        }
        let entry = &mut self.files[place];
        entry.committed_to = end;
        if let Some(read) = content {
            let whole = whole(file, read);
            if file
                .fingerprint
                .as_ref()
                .is_some_and(|o| o.size != whole.bytes)
            {
                entry.sample = sample_now(file, &whole).or(entry.sample.take());
            }
            entry.bytes = whole.bytes;
            entry.content = Some(whole.hash);
            entry.outcome = Outcome::Kept;
        }
    }

    /// Notes that a file was rolled back as a whole.
    pub fn take_back(&mut self, place: usize) {
        if let Some(file) = self.files.get_mut(place) {
            file.outcome = Outcome::RolledBack;
            file.committed_to = 0;
        }
    }

    /// Notes the counts.
    pub fn count(&mut self, tally: &RunCounts) {
        for (entry, counted) in self.files.iter_mut().zip(&tally.files) {
            entry.counts = counts(counted);
        }
        self.run.files = tally.files.len() as u64;
        self.run.counts = Counts {
            records: tally.all_records(),
            loaded: tally.loaded(),
            rejected: tally.rejected(),
            filtered: tally.left_out().filtered(),
            rolled_back: tally.not_kept(),
            repaired: tally.repairs.all(),
            other_lines: tally.left_out().lines(),
        };
        self.run.still_open = self
            .files
            .iter()
            .filter(|file| file.outcome != Outcome::RolledBack)
            .map(|file| file.counts.rejected)
            .sum();
        self.run.reasons = Some(report::grouped(tally).to_string());
    }

    /// Writes the ledger's lines of a run that goes on after this commit.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn write_going(
        &mut self,
        session: &mut dyn Session,
        tally: &RunCounts,
        written: Written,
        folder: Option<String>,
    ) -> Result<(), Error> {
        self.count(tally);
        let state = State {
            counted: tally.counted(),
            written,
            is_in_a_file: self
                .files
                .last()
                .is_some_and(|f| f.outcome == Outcome::Going),
            checkpoint: self.checkpoint.clone(),
            swaps: Vec::new(),
            beside: Vec::new(),
            owes_after: false,
        };
        let state = serde_json::to_string(&state)
            .map_err(|e| Error::failed(format!("writing the ledger: {e}")))?;
        self.run.outcome = Outcome::Going;
        self.run.state = Some(state);
        self.run.rejects_folder = folder;
        self.write(session)
    }

    /// Writes the ledger's lines of a run whose rows are all there, in the same transaction.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn write_kept(
        &mut self,
        session: &mut dyn Session,
        tally: &RunCounts,
        folder: Option<String>,
    ) -> Result<(), Error> {
        self.count(tally);
        self.not_there_already(session)?;
        self.run.outcome = Outcome::Kept;
        self.run.state = self.owing()?;
        self.run.message = None;
        self.run.rejects_folder = folder;
        if let Some(original) = &self.original {
            let c = &self.run.counts;
            let original = mended(original, c.loaded, c.rejected);
            ledger::write_run(session, &original, false)?;
            // Those that are open are open in the run that they are of.
            self.run.still_open = 0;
            self.run.rejects_folder = None;
            // Rejects that nobody corrected may load all the same another time.
            let files = self.files.iter_mut();
            files.for_each(|file| file.once &= file.counts.loaded > 0);
        }
        self.write(session)
    }

    /// Content that was not known before it was read, and that is in the table already: it
    /// came by standard input, or lay in an archive.
    fn not_there_already(&self, session: &mut dyn Session) -> Result<(), Error> {
        for file in self.files.iter().filter(|file| file.once) {
            let Some(content) = &file.content else {
                continue;
            };
            let found = ledger::run_of_content(session, &file.table_key, content)?;
            if let Some(run) = found.filter(|run| run.run != self.run.run) {
                return Err(Error::request(
                    format!(
                        "{} is in the table already: run {} loaded it on {}",
                        match file.sample {
                            Some(_) => format!("the content of {}", file.path),
                            None => "what came by standard input".into(),
                        },
                        run.run,
                        run.started_at.get(..16).unwrap_or(&run.started_at)
                    ),
                    "nothing was loaded twice; --again loads it anyway",
                ));
            }
        }
        Ok(())
    }

    /// Writes the ledger's lines of a run whose rows are all loaded, beside tables whose places
    /// theirs are to take after the commit.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn write_loaded(
        &mut self,
        session: &mut dyn Session,
        tally: &RunCounts,
        folder: Option<String>,
        swaps: Vec<Swap>,
    ) -> Result<(), Error> {
        self.count(tally);
        let state = State {
            swaps,
            owes_after: self.owes_after,
            ..State::default()
        };
        let state = serde_json::to_string(&state)
            .map_err(|e| Error::failed(format!("writing the ledger: {e}")))?;
        self.run.outcome = Outcome::Going;
        self.run.state = Some(state);
        self.run.rejects_folder = folder;
        let outcomes: Vec<Outcome> = self.files.iter().map(|file| file.outcome).collect();
        self.files
            .iter_mut()
            .for_each(|file| file.outcome = Outcome::Going);
        self.write(session)?;
        let files = self.files.iter_mut().zip(outcomes);
        files.for_each(|(file, outcome)| file.outcome = outcome);
        self.written = self.files.len();
        self.changed = 0;
        Ok(())
    }

    /// Writes the ledger's lines of such a run once its tables are in their places.
    ///
    /// # Errors
    /// The ledger cannot be written; the next load of the tables makes up for it.
    pub fn write_swapped(&mut self, session: &mut dyn Session) -> Result<(), Error> {
        if self.empties_later {
            ledger::emptied(session, &self.run.table_key, &[&self.run.run])?;
        }
        for file in &self.files {
            ledger::write_file(session, file, false)?;
        }
        self.run.outcome = Outcome::Kept;
        self.run.state = self.owing()?;
        self.run.ended_at = now();
        Ok(ledger::write_run(session, &self.run, false)?)
    }

    /// What is kept of statements that are to be run after the commit.
    fn owing(&self) -> Result<Option<String>, Error> {
        let state = self
            .owes_after
            .then(|| serde_json::to_string(&State::owing()));
        let failed = |e| Error::failed(format!("writing the ledger: {e}"));
        state.transpose().map_err(failed)
    }

    /// Has the ledger say that the statements after the commit are still to be run, until
    /// [`RunRecorder::write_paid`].
    pub fn owes_after(&mut self) {
        self.owes_after = true;
    }

    /// Notes that the statements after the commit were run.
    ///
    /// # Errors
    /// The ledger cannot be written; the next load of the table runs them again.
    pub fn write_paid(&mut self, session: &mut dyn Session) -> Result<(), Error> {
        self.owes_after = false;
        self.run.state = None;
        Ok(ledger::write_run(session, &self.run, false)?)
    }

    /// Notes a run that was rolled back, or stopped, after that was done. What was
    /// committed on the way stays noted as it was: there the run goes on.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn write_ended(
        &mut self,
        session: &mut dyn Session,
        tally: &RunCounts,
        outcome: Outcome,
        message: &str,
        folder: Option<String>,
    ) -> Result<(), Error> {
        if let Some(committed) = &self.committed {
            let run = Run {
                message: Some(message.to_string()),
                ended_at: now(),
                ..committed.clone()
            };
            return Ok(ledger::write_run(session, &run, false)?);
        }
        if !ledger::is_there(session)? {
            return Ok(());
        }
        self.count(tally);
        self.run.outcome = outcome;
        self.run.state = None;
        self.run.still_open = 0;
        self.run.counts.rolled_back += std::mem::take(&mut self.run.counts.loaded);
        for file in &mut self.files {
            file.outcome = outcome;
            file.counts.rolled_back += std::mem::take(&mut file.counts.loaded);
            file.committed_to = 0;
        }
        self.run.message = Some(message.to_string());
        self.run.rejects_folder = folder;
        self.write(session)
    }

    /// The same for a run whose lines were rolled back with its rows: they are written anew.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn write_taken_back(
        &mut self,
        session: &mut dyn Session,
        tally: &RunCounts,
        outcome: Outcome,
        message: &str,
        folder: Option<String>,
    ) -> Result<(), Error> {
        self.is_noted = false;
        (self.written, self.changed) = (0, 0);
        self.write_ended(session, tally, outcome, message, folder)
    }

    fn write(&mut self, session: &mut dyn Session) -> Result<(), Error> {
        self.run.ended_at = now();
        ledger::write_run(session, &self.run, !self.is_noted)?;
        for place in self.changed..self.files.len() {
            ledger::write_file(session, &self.files[place], place >= self.written)?;
        }
        Ok(())
    }

    /// Notes that what was written is committed.
    pub fn committed(&mut self) {
        self.committed = Some(self.run.clone());
        self.is_noted = true;
        self.written = self.files.len();
        self.changed = self.written.saturating_sub(1);
    }
}
