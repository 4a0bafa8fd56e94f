//! Counts what a load would do.

use std::path::Path;

use barrow_core::column_stats::ColumnStats;
use barrow_core::counts::RunCounts;
use barrow_core::duplicates;
use barrow_core::duplicates::{Duplicate, KeyIndex};
use barrow_core::pipeline::{Encoded, Sink};
use barrow_core::plan::{Plan, RecordTypePlan};
use barrow_core::rejects::RejectWriter;
use barrow_core::source::SourceFile;
use barrow_core::words::Per;
use barrow_targets::Job;

use super::compared::{Compared, Key};
use crate::account::RunAccount;
use crate::check::inspect::Looked;
use crate::error::Error;
use crate::observer::Watch;
use crate::refusals;
use crate::report::{Outcome, RejectedFile, Summary, TableRows, TwiceSeen};
use crate::spec_file::Spec;

/// Counts what a load would do.
pub(super) struct CheckSink<'c> {
    plan: &'c Plan,
    /// Columns of which no two records may have the same values, for each record type.
    pub unique: Vec<Vec<Key>>,
    /// Files that a load would skip whole.
    rejected_files: Vec<RejectedFile>,
    account: RunAccount<'c>,
    seen: Vec<Vec<ColumnStats>>,
    keys: Vec<Vec<KeyIndex>>,
}

impl<'c> CheckSink<'c> {
    /// For a run; `rejects` is the folder that gets a folder of what a load would reject.
    pub fn new(
        spec: &'c Spec,
        target: &Compared,
        files: &[SourceFile],
        rejects: Option<&Path>,
        run: &str,
        watch: &'c dyn Watch,
    ) -> CheckSink<'c> {
        let plan = &spec.plan;
        let seen = |kind: &RecordTypePlan| vec![ColumnStats::default(); kind.read.len()];
        let unique = target.unique(plan);
        let keys = |keys: &Vec<Key>| keys.iter().map(|_| KeyIndex::default()).collect();
        let writer = rejects.map(|folder| RejectWriter::new(folder.join(run), plan.rejects.keep));
        CheckSink {
            plan,
            keys: unique.iter().map(keys).collect(),
            unique,
            rejected_files: Vec::new(),
            account: RunAccount::open(files.to_vec(), RunCounts::default(), writer, watch),
            seen: plan.record_types.iter().map(seen).collect(),
        }
    }
}

fn no_room(error: std::io::Error) -> Error {
    Error::failed(format!("looking for keys that come twice: {error}"))
}

impl Sink for CheckSink<'_> {
    type Encoded = Looked;
    type Error = Error;

    fn take(&mut self, batch: &mut Encoded<Looked>) -> Result<(), Error> {
        let file = batch.file().map_or(0, |file| file.index);
        let refusals = std::mem::take(&mut batch.encoded.refused);
        for (number, looked) in batch.encoded.parts.iter().enumerate() {
            for (all, seen) in self.seen[number].iter_mut().zip(&looked.seen) {
                all.add(seen);
            }
            for (all, hashes) in self.keys[number].iter_mut().zip(&looked.keys) {
                for (hash, line) in hashes {
                    let key = duplicates::Key {
                        hash: *hash,
                        file: file as u32,
                        line: *line,
                    };
                    all.add(key).map_err(no_room)?;
                }
            }
        }
        let good = (batch.good() - refusals.len()) as u64;
        let refused = refusals::refused(&self.plan.record_types, batch, refusals);
        self.account.batch(batch, good, &refused)?;
        if batch.block.last.is_some() {
            self.end_file(file, !batch.differences.is_empty());
        }
        self.account.advance(batch);
        Ok(())
    }
}

impl CheckSink<'_> {
    /// A file that is beyond the limit of rejects would be skipped whole, where files are
    /// judged one by one.
    fn end_file(&mut self, index: usize, differs: bool) {
        let tally = &mut self.account.tally;
        let Some(file) = tally.files.get(tally.place_of(index)) else {
            return;
        };
        let rejects = &self.plan.rejects;
        let beyond = !rejects.tolerance.allows(file.rejected, file.records);
        if rejects.per == Per::File && (beyond || differs) {
            self.rejected_files.push(RejectedFile {
                file: file.name.clone(),
                rejected: file.rejected,
                records: file.records,
                differs,
                kept_in: None,
            });
            tally.take_back_file();
        }
    }

    /// Says that the files are read, or could not be.
    pub fn end(&mut self) {
        self.account.end();
    }

    /// What the columns' values were like, and what a load would say.
    pub fn finish(
        mut self,
        spec: &Spec,
        target: &Compared,
        run: String,
    ) -> Result<(Vec<Vec<ColumnStats>>, Summary), Error> {
        self.account.finish_rejects()?;
        let mut twice = Vec::new();
        for (keys, unique) in self.keys.into_iter().zip(&self.unique) {
            for (keys, key) in keys.into_iter().zip(unique) {
                let mut seen = TwiceSeen::new(key.names.clone());
                keys.finish(&mut |found: Duplicate| seen.note(&found))
                    .map_err(no_room)?;
                if seen.count > 0 {
                    twice.push(seen);
                }
            }
        }
        let place_of = |index: usize| self.account.tally.place_of(index);
        let places: Vec<(usize, usize)> = (0..target.selection.files.len())
            .map(|i| (i, place_of(i)))
            .collect();
        for (index, place) in places {
            let Some(file) = self.account.tally.files.get_mut(place) else {
                continue;
            };
            file.notes.extend(
                target
                    .selection
                    .files
                    .get(index)
                    .and_then(|f| f.note.clone()),
            );
            if target.in_other_hands.contains(&index) {
                file.notes
                    .push("another load is reading it now; a load would wait for that".into());
            }
        }
        let tables = target
            .job
            .iter()
            .flat_map(Job::tables)
            .map(|name| TableRows {
                name: name.to_string(),
                before: 0,
                after: 0,
            });
        let mut summary = Summary {
            spec: spec.name(),
            into: target
                .url
                .as_ref()
                .map_or("no database".into(), ToString::to_string),
            tables: tables.collect(),
            run,
            rehearsal: true,
            stops: target.unfit.is_some(),
            twice,
            remarks: remarks(target),
            skipped: target.selection.skipped.clone(),
            resumed_from: target.selection.resumed.as_ref().map(|on| on.words.clone()),
            rejected_files: self.rejected_files,
            tolerance: spec.plan.rejects.tolerance,
            rejects: self.account.rejects_folder(),
            elapsed: self.account.elapsed(),
            times: self.account.times,
            tally: self.account.tally,
            ..Summary::default()
        };
        let is_judged = spec.plan.rejects.per == Per::File;
        let is_within = is_judged || summary.is_within();
        let differs = !is_judged && !summary.tally.differences.is_empty();
        summary.outcome = match (!differs, is_within) {
            (false, _) => Outcome::TotalsDiffer {
                not_kept: summary.loaded(),
            },
            (true, false) => Outcome::BeyondTolerance {
                not_kept: summary.loaded(),
            },
            (true, true) => Outcome::Kept,
        };
        Ok((self.seen, summary))
    }
}

/// What a check could not compare the files with.
fn remarks(target: &Compared) -> Vec<String> {
    match &target.url {
        Some(_) => Vec::new(),
        None => {
            vec!["no database was named, so nothing was compared with a table or a ledger".into()]
        }
    }
}
