//! How a load ends: committed, rolled back, or not done.

use super::super::statements;
use super::{Decision, Finished, Replay, SinkState, would_empty};
use crate::error::Error;
use crate::reject_manifest::Manifest;
use crate::report::{Disposed, Outcome, Summary};
use crate::words::number;
use barrow_core::words::Per;
use barrow_targets::ledger::Outcome as Ended;
use barrow_targets::{Load, Session};

/// A statement after the commit that could not be run.
fn failed(words: String) -> Disposed {
    Disposed {
        file: "[target] after".into(),
        words,
        failed: true,
    }
}

impl<'l> SinkState<'l> {
    /// Commits within the limit of rejects; rolls back beyond it, or where a file is not
    /// what it says of itself.
    pub(super) fn decide(mut self, mut load: Box<dyn Load<'l> + 'l>) -> Result<Finished, Error> {
        let merged = load.merged();
        let replay = match self.defers {
            true => self.replay_manifest(),
            false => None,
        };
        let decision = match self.prepared(load.as_mut()) {
            Ok(decision) => decision,
            Err(error) => return Err(self.rolled_back(load, error)),
        };
        let (outcome, rows_after) = match decision {
            Decision::Commit => {
                let swaps = load.swaps();
                let (session, rows) = load.finish();
                let rows = match rows {
                    Ok(rows) => rows,
                    Err(error) => return Err(self.not_committed(session, error.into())),
                };
                if !swaps.is_empty()
                    && let Err(error) = session.put_in_place(&swaps)
                {
                    return Err(self.not_committed(session, error.into()));
                }
                self.record_swapped(session, !swaps.is_empty());
                self.run_after_commit(session);
                (Outcome::Kept, rows)
            }
            Decision::Rehearsed => {
                let (_, rows) = load.roll_back();
                (Outcome::Kept, rows?)
            }
            Decision::RollBack(outcome, _) if self.defers => {
                let (session, rows) = load.finish();
                let rows = match rows {
                    Ok(rows) => rows,
                    Err(error) => return Err(self.not_committed(session, error.into())),
                };
                self.send_rejects()?;
                (outcome, rows)
            }
            Decision::RollBack(outcome, why) => {
                let (session, rows) = load.roll_back();
                let rows = match rows {
                    Ok(rows) => rows,
                    Err(error) => return Err(self.not_committed(session, error.into())),
                };
                self.record_end(session, Ended::RolledBack, why);
                if matches!(outcome, Outcome::BeyondTolerance { .. }) {
                    self.write_rolled_back_manifest()?;
                }
                self.send_rejects()?;
                (outcome, rows)
            }
        };
        let rejects = self.account.rejects_folder();
        let replay = replay.filter(|_| !matches!(outcome, Outcome::TotalsDiffer { .. }));
        Ok(Finished {
            summary: Summary {
                outcome,
                disposed: self.failed_after.take().map(failed).into_iter().collect(),
                rehearsal: self.rehearsal,
                merged,
                rejects: rejects.clone(),
                untold: self.account.rejects.as_ref().map_or(0, |r| r.untold()),
                can_be_replayed: self.originals.is_complete() && self.committed == 0,
                rejected_files: self.rejected_files,
                elapsed: self.account.elapsed(),
                times: self.account.times,
                tally: self.account.tally,
                ..Summary::default()
            },
            rows_after,
            recorder: self.recorder,
            replay: rejects.zip(replay).map(|(folder, manifest)| Replay {
                manifest,
                folder,
                mirror: self.mirror,
            }),
        })
    }

    /// Does everything that comes before the commit, if it is to be one.
    pub(super) fn prepared(&mut self, load: &mut dyn Load<'l>) -> Result<Decision, Error> {
        self.account.finish_rejects()?;
        if self.rehearsal {
            return Ok(Decision::Rehearsed);
        }
        let not_kept = self.since_commit;
        let is_empty = self.account.tally.loaded() == 0 && self.committed == 0;
        if self.may_not_empty && is_empty && self.is_within() {
            return Err(would_empty());
        }
        if !self.account.tally.differences.is_empty() && self.per == Per::Run {
            let why = "its totals differ from what was found";
            return Ok(Decision::RollBack(Outcome::TotalsDiffer { not_kept }, why));
        }
        if !self.is_within() {
            let why = "more rejects than the limit";
            return Ok(Decision::RollBack(
                Outcome::BeyondTolerance { not_kept },
                why,
            ));
        }
        if load.session().dialect().has_transactional_ddl() {
            if !self.after.is_empty() {
                load.settle()?;
                load.recount();
            }
            let run = statements::run(load.session(), "after", &self.after);
            run.map_err(|failed| {
                self.has_ended = failed.has_ended;
                failed.error
            })?;
        }
        if let Some(table) = &mut self.table {
            table.write(load.session())?;
        }
        let rejects = self.account.rejects_folder();
        if let Some(work) = self.before_commit.take() {
            work(rejects.as_deref(), &self.rejected_files)?;
        }
        if let (Some(manifest), Some(folder)) = (self.manifest.take(), &rejects) {
            manifest.leaving_out(&self.rejected_files).write(folder)?;
        }
        self.send_rejects()?;
        let folder = self.folder();
        let swaps = load.swaps();
        let is_after = !load.session().dialect().has_transactional_ddl() && !self.after.is_empty();
        if let Some(recorder) = &mut self.recorder {
            if is_after {
                recorder.owes_after();
            }
            let (session, tally) = (load.session(), &self.account.tally);
            match swaps.is_empty() {
                true => recorder.write_kept(session, tally, folder)?,
                false => recorder.write_loaded(session, tally, folder, swaps)?,
            }
        }
        Ok(Decision::Commit)
    }

    /// The server may commit with each statement, so they come after the rows.
    fn run_after_commit(&mut self, session: &mut dyn Session) {
        if session.dialect().has_transactional_ddl() || self.after.is_empty() {
            return;
        }
        let run = statements::run(session, "after", &self.after);
        let run = run
            .map_err(Error::from)
            .and_then(|()| match &mut self.recorder {
                Some(recorder) => recorder.write_paid(session),
                None => Ok(()),
            });
        if let Err(error) = run {
            let again = match self.recorder {
                Some(_) => "; the same command runs them again",
                None => "",
            };
            self.failed_after = Some(format!("the rows are committed, but: {error}{again}"));
        }
    }

    /// Records that the tables which were loaded beside others are in their places. Until
    /// then the ledger says that they are not.
    pub(super) fn record_swapped(&mut self, session: &mut dyn Session, has_swapped: bool) {
        let recorded = match &mut self.recorder {
            Some(recorder) if has_swapped => recorder.write_swapped(session),
            _ => Ok(()),
        };
        if let Err(error) = recorded {
            // The rows are in the table, and the next load of it tells the ledger so.
            self.could_not_record(&error);
        }
    }

    /// The manifest of a load that was rolled back: by it its rejects are mended with the
    /// rest of its files. There is none where they cannot be.
    fn replay_manifest(&mut self) -> Option<Manifest> {
        let is_mendable = self.recorder.is_some() && self.committed == 0;
        let manifest = self.manifest.as_ref().filter(|_| is_mendable)?;
        Some(manifest.clone().rolled_back(self.originals.found()?))
    }

    fn write_rolled_back_manifest(&mut self) -> Result<(), Error> {
        let folder = self.account.rejects_folder();
        match (self.replay_manifest(), folder) {
            (Some(manifest), Some(folder)) => manifest.write(&folder),
            _ => Ok(()),
        }
    }

    /// Records the end of a load that was rolled back. The load failed before the ledger
    /// did: that it cannot be recorded is said, and no more.
    pub(super) fn record_end(&mut self, session: &mut dyn Session, outcome: Ended, why: &str) {
        let folder = self.folder();
        let mut recorded = Ok(());
        if let Some(table) = &mut self.table {
            recorded = table.write_undone(session);
        }
        if let Some(recorder) = &mut self.recorder {
            let ended = recorder.write_ended(session, &self.account.tally, outcome, why, folder);
            recorded = recorded.and(ended);
        }
        if let Err(error) = recorded {
            self.could_not_record(&error);
        }
    }

    /// Sends the rejects to their address, if they are kept at one.
    fn send_rejects(&self) -> Result<(), Error> {
        match (&self.mirror, self.account.rejects_folder()) {
            (Some(mirror), Some(folder)) if !self.rehearsal => mirror.push(&folder),
            _ => Ok(()),
        }
    }

    pub(super) fn could_not_record(&self, error: &Error) {
        let text = format!("the ledger could not be written: {}", error.message());
        self.watch.warning(&text);
    }

    /// Rolls the load back, and adds to the error what stays of it.
    pub(super) fn rolled_back(self, load: Box<dyn Load<'l> + 'l>, error: Error) -> Error {
        let (session, rows) = load.roll_back();
        self.ended(session, error, rows.map(drop).map_err(Error::from))
    }

    /// The same for a load that has ended already without a commit.
    pub(super) fn not_committed(self, session: &mut dyn Session, error: Error) -> Error {
        let rolled_back = session.roll_back();
        self.ended(session, error, rolled_back.map_err(Error::from))
    }

    pub(super) fn ended(
        mut self,
        session: &mut dyn Session,
        error: Error,
        rolled_back: Result<(), Error>,
    ) -> Error {
        let finished = self.account.finish_rejects();
        if let Err(error) = finished.and_then(|()| self.send_rejects()) {
            let text = format!("the rejects are not all there: {error}");
            self.watch.warning(&text);
        }
        if rolled_back.is_ok() {
            self.record_end(session, Ended::Failed, error.message());
        }
        let goes_on = match self.recorder {
            Some(_) => "; run this again, and it goes on from there",
            None => "",
        };
        let stays = match self.committed {
            _ if self.has_ended => {
                "what came before it may be committed, and the ledger does not have it: look at \
                 the table"
                    .to_string()
            }
            0 => "nothing of this load was committed".to_string(),
            rows => format!(
                "{} rows that were committed on the way stay in the table{goes_on}",
                number(rows)
            ),
        };
        match (self.committed, rolled_back) {
            (0, Err(again)) => error.and(&format!("undoing it failed too: {again}")),
            (_, Err(again)) => error.and(&stays).and(&format!("undoing the rest: {again}")),
            (_, Ok(())) => error.and(&stays),
        }
    }
}
