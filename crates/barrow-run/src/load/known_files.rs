//! What the ledger knows of files.

use std::collections::{BTreeSet, HashMap};

use barrow_core::source::content::hash_of;
use barrow_core::source::{Fingerprint, SourceFile};
use barrow_core::words::{Disposal, Mode, WhenChanged};
use barrow_targets::Session;
use barrow_targets::ledger::{self, File, FileIndex, Outcome, Run, Wanted};

use super::request::LoadRequest;
use super::selection::{Resumed, Selected, Selection, full_path, name_of};
use super::state::State;
use crate::error::Error;
use crate::report::Skipped;
use crate::words::{counted, number};

/// What the ledger says of files.
pub(super) struct KnownFiles {
    files: FileIndex,
    pub(super) runs: HashMap<String, Run>,
    /// The hash of the spec's text.
    spec_hash: String,
    /// Whether a file that is in the table may be skipped.
    passes: bool,
    /// Whether loads take files away once they are in the table.
    disposes: bool,
    /// The hashes of files that had to be read.
    hashes: HashMap<SourceFile, String>,
    /// The files of this load so far, with their outlines.
    seen: HashMap<Fingerprint, Vec<SourceFile>>,
    /// Files that an interrupted run has in the table, by that run.
    going: Vec<(SourceFile, File)>,
    /// Where each of them stands.
    going_places: HashMap<SourceFile, usize>,
    /// Files whose rows of before would stay beside those of now.
    changed: Vec<String>,
    /// What the ledger has of these files.
    pub(super) changed_files: Vec<File>,
    /// Files that were exported from one of the tables.
    exported: Vec<File>,
}

impl KnownFiles {
    pub(super) fn ask(
        request: &LoadRequest<'_>,
        session: &mut dyn Session,
        table_key: &str,
        files: &[Selected],
        sources: &[SourceFile],
    ) -> Result<KnownFiles, Error> {
        let mut known = KnownFiles {
            files: FileIndex::default(),
            runs: HashMap::new(),
            spec_hash: hash_of(request.spec.origin.texts.all().as_bytes()),
            passes: matches!(request.job.mode, Mode::Append | Mode::Merge),
            disposes: request.spec.plan.source.afterwards.what != Disposal::Keep,
            hashes: HashMap::new(),
            seen: HashMap::new(),
            going: Vec::new(),
            going_places: HashMap::new(),
            changed: Vec::new(),
            changed_files: Vec::new(),
            exported: Vec::new(),
        };
        let tables = request.job.tables();
        let mut are_there = true;
        for table in tables {
            are_there &= session.describe(table)?.is_some();
        }
        // Of a table that is gone, the ledger's words count for nothing.
        if request.again || !are_there || !ledger::is_there(session)? {
            return Ok(known);
        }
        let samples: Vec<String> = files
            .iter()
            .filter_map(|file| Some(file.fingerprint.as_ref()?.sample.clone()))
            .collect();
        let paths = sources.iter().filter(|source| source.is_repeatable());
        let names: Vec<String> = paths.map(name_of).collect();
        known.read(session, table_key, &samples, &names)?;
        // Of files that are only told by their versions, nothing else is asked.
        let exported_into = match files.is_empty() {
            true => Vec::new(),
            false => request.job.tables(),
        };
        for table in exported_into {
            let key = ledger::export_key(session, table)?;
            known
                .exported
                .extend(ledger::exported_files(session, &key, &names)?);
        }
        Ok(known)
    }

    /// Reads what the ledger has of these samples and names, with their runs.
    fn read(
        &mut self,
        session: &mut dyn Session,
        table_key: &str,
        samples: &[String],
        names: &[String],
    ) -> Result<(), Error> {
        let files = ledger::known_files(session, table_key, samples, names)?;
        self.files = FileIndex::new(files);
        let files = self.files.all().iter();
        let runs: BTreeSet<String> = files.map(|file| file.run.clone()).collect();
        for id in runs {
            let wanted = Wanted {
                run: Some(id.clone()),
                ..Wanted::default()
            };
            if let Some(run) = ledger::runs(session, &wanted)?.pop() {
                self.runs.insert(id, run);
            }
        }
        Ok(())
    }

    /// Whether the ledger's file is this one by its address, size and version: then it need
    /// not be read to be known.
    fn is_same_version(source: &SourceFile, known: &File) -> bool {
        Self::has_version(source, known) && full_path(source).as_ref() == Some(&known.path)
    }

    /// The same of a file of the ledger that has the address.
    fn has_version(source: &SourceFile, known: &File) -> bool {
        let version = source.version();
        version.is_some() && version == known.version && source.size() == Some(known.bytes)
    }

    /// What is said of a file that is in the table by its address, size and version.
    pub(super) fn passed_over(&self, source: &SourceFile) -> Option<Skipped> {
        let known = self.same_version(source)?;
        Some(self.skipped(source, known))
    }

    /// The file of the ledger that a file is by its address, size and version.
    pub(super) fn same_version(&self, source: &SourceFile) -> Option<&File> {
        let is_there = |file: &&File| {
            file.outcome == Outcome::Kept
                && (file.once || file.counts.loaded > 0)
                && !self.is_going(file)
                && Self::has_version(source, file)
        };
        let own = full_path(source).filter(|_| self.passes)?;
        self.files.of_path(&own).find(is_there)
    }

    /// Whether the file is of a run that was interrupted.
    fn is_going(&self, file: &File) -> bool {
        let run = self.runs.get(&file.run);
        run.is_some_and(|run| run.outcome == Outcome::Going && run.state.is_some())
    }

    /// Whether the file has rejects that may still be mended. Those of a run of several
    /// files are open together.
    fn has_open_rejects(&self, file: &File) -> bool {
        let run = self.runs.get(&file.run);
        file.counts.rejected > 0 && run.is_none_or(|run| run.still_open > 0)
    }

    /// How many rejects of its run are open, and whether the spec is another since.
    fn open_rejects(&self, file: &File) -> Option<(u64, bool)> {
        let run = self.runs.get(&file.run)?;
        let is_open = run.still_open > 0 && file.counts.rejected > 0;
        is_open.then(|| (run.still_open, run.spec_hash != self.spec_hash))
    }

    /// What is said of a file that is in the table.
    fn skipped(&self, source: &SourceFile, known: &File) -> Skipped {
        Skipped {
            file: source.name(),
            source: Some(source.clone())
                .filter(|s| s.is_repeatable() && (!self.disposes || s.exists())),
            run: Some(known.run.clone()),
            when: self.when(known),
            has_rejects: self.has_open_rejects(known),
            open: self.open_rejects(known),
        }
    }

    /// Knows what is in the table also where a load would load it again.
    pub(super) fn whatever_mode(self) -> KnownFiles {
        KnownFiles {
            passes: true,
            disposes: false,
            ..self
        }
    }

    /// How many rejects of a file's run are open, and how many were given up.
    pub(super) fn rejects_of(&self, file: &File) -> (u64, u64) {
        let run = self
            .runs
            .get(&file.run)
            .filter(|_| file.counts.rejected > 0);
        run.map_or((0, 0), |run| (run.still_open, run.given_up))
    }

    /// The file of the ledger that a file is, once that was found out.
    pub(super) fn in_the_table(&self, source: &SourceFile) -> Option<&File> {
        let place = self.going_places.get(source)?;
        self.going.get(*place).map(|(_, file)| file)
    }

    fn note_going(&mut self, source: SourceFile, file: &File) {
        self.going_places.insert(source.clone(), self.going.len());
        self.going.push((source, file.clone()));
    }

    /// The file of the ledger that an interrupted run has a part of in the table.
    pub(super) fn interrupted_in(&self, source: &SourceFile) -> Option<&File> {
        let found = self.in_the_table(source);
        found.filter(|file| file.outcome == Outcome::Going)
    }

    pub(super) fn when(&self, file: &File) -> String {
        let run = self.runs.get(&file.run);
        let at = run.map_or("", |run| run.started_at.as_str());
        at.get(..16).unwrap_or(at).to_string()
    }

    /// Puts a file among those to load, or those to pass over.
    pub(super) fn place(
        &mut self,
        mut file: Selected,
        selection: &mut Selection,
    ) -> Result<(), Error> {
        if let Some(known) = self.taken_away(&file.source) {
            selection.skipped.push(self.skipped(&file.source, known));
            return Ok(());
        }
        let Some(fingerprint) = file.fingerprint.clone() else {
            selection.files.push(file);
            return Ok(());
        };
        let is_alike = |f: &&File| {
            let sample = f.sample.as_deref();
            sample.is_some_and(|sample| fingerprint.may_be(f.bytes, sample))
        };
        let alike = self.files.of_size(fingerprint.size);
        let alike: Vec<File> = alike.filter(is_alike).cloned().collect();
        // Rejects of which nothing was mended may be mended yet.
        let is_in = |f: &&File| f.outcome == Outcome::Kept && (f.once || f.counts.loaded > 0);
        for known in alike.iter().filter(is_in) {
            let passes = self.passes || self.is_going(known);
            if passes && self.is_same(&file.source, known)? {
                selection.skipped.push(self.skipped(&file.source, known));
                self.note_going(file.source, known);
                return Ok(());
            }
        }
        if let Some(other) = self.twin(&file.source, &fingerprint)? {
            selection.skipped.push(Skipped {
                file: file.source.name(),
                source: None,
                run: None,
                when: other,
                has_rejects: false,
                open: None,
            });
            return Ok(());
        }
        if let Some(known) = alike.iter().find(|f| f.outcome == Outcome::Going) {
            let known = known.clone();
            self.note_going(file.source.clone(), &known);
        } else {
            file.note = match self.came_from_the_table(&file.source, &fingerprint)? {
                Some(note) => Some(note),
                None => self.note(&file.source, &fingerprint),
            };
            self.changed.extend(self.change(&file.source, &fingerprint));
            let earlier = self.earlier(&file.source, &fingerprint).cloned();
            self.changed_files.extend(earlier);
        }
        self.seen
            .entry(fingerprint)
            .or_default()
            .push(file.source.clone());
        selection.files.push(file);
        Ok(())
    }

    /// Whether the ledger's file has the content of this one.
    fn is_same(&mut self, source: &SourceFile, known: &File) -> Result<bool, Error> {
        Ok(Self::is_same_version(source, known)
            || known.content.as_deref() == Some(self.hash(source)?.as_str()))
    }

    /// A file that another load has put into the table and taken away since, as the spec
    /// says (`[source] after_load`).
    fn taken_away(&self, source: &SourceFile) -> Option<&File> {
        if !self.disposes || source.exists() {
            return None;
        }
        let own = full_path(source)?;
        let mut of_path = self.files.of_path(&own);
        of_path.find(|file| file.outcome == Outcome::Kept)
    }

    /// What is said of a file that was exported from the table it goes into.
    fn came_from_the_table(
        &mut self,
        source: &SourceFile,
        fingerprint: &Fingerprint,
    ) -> Result<Option<String>, Error> {
        let name = name_of(source);
        let is_alike = |file: &&File| file.name == name && file.bytes == fingerprint.size;
        let alike: Vec<File> = self.exported.iter().filter(is_alike).cloned().collect();
        for file in alike {
            if file.content.as_deref() == Some(self.hash(source)?.as_str()) {
                return Ok(Some(format!(
                    "this content was exported from this table, in run {}: its rows may be there \
                     already",
                    file.run
                )));
            }
        }
        Ok(None)
    }

    /// A file of this load with the same content.
    fn twin(
        &mut self,
        source: &SourceFile,
        fingerprint: &Fingerprint,
    ) -> Result<Option<String>, Error> {
        for other in self.seen.get(fingerprint).cloned().unwrap_or_default() {
            if self.hash(&other)? == self.hash(source)? {
                return Ok(Some(other.name()));
            }
        }
        Ok(None)
    }

    /// The hash of a file that looks like one that is known: it has to be read, to be sure.
    fn hash(&mut self, source: &SourceFile) -> Result<String, Error> {
        if let Some(hash) = self.hashes.get(source) {
            return Ok(hash.clone());
        }
        if !source.is_repeatable() {
            return Ok(String::new());
        }
        let hash = source
            .content()
            .map_err(|e| Error::failed(format!("{}: {e}", source.name())))?
            .hash;
        self.hashes.insert(source.clone(), hash.clone());
        Ok(hash)
    }

    /// What is to be said of a file whose name is known and whose content is not.
    fn note(&self, source: &SourceFile, fingerprint: &Fingerprint) -> Option<String> {
        let name = name_of(source);
        let is_named = |f: &&File| {
            (f.bytes, f.sample.as_ref()) != (fingerprint.size, Some(&fingerprint.sample))
        };
        let known = self.files.of_name(&name).rfind(is_named)?;
        Some(match known.outcome {
            Outcome::Going => format!(
                "another content of this name was interrupted in run {}, with {} of its records in \
                 the table",
                known.run,
                number(known.counts.loaded)
            ),
            _ => format!(
                "another content of this name was loaded in run {} on {}",
                known.run,
                self.when(known)
            ),
        })
    }

    /// The file of the ledger that was loaded from the same path with other content, and of
    /// which rows are in the table.
    pub(super) fn earlier(&self, source: &SourceFile, fingerprint: &Fingerprint) -> Option<&File> {
        let own = full_path(source)?;
        let is_before = |f: &&File| {
            f.counts.loaded > 0
                && (f.bytes, f.sample.as_ref()) != (fingerprint.size, Some(&fingerprint.sample))
        };
        self.files.of_path(&own).rfind(is_before)
    }

    /// What is to be said of such a file.
    fn change(&self, source: &SourceFile, fingerprint: &Fingerprint) -> Option<String> {
        let known = self.earlier(source, fingerprint)?;
        Some(format!(
            "{}: {} of its earlier content are in the table, since run {} on {}",
            source.name(),
            counted(known.counts.loaded, "row"),
            known.run,
            self.when(known)
        ))
    }

    /// Stops a load that would put the rows of changed files beside those of before, unless
    /// the spec says that this may be.
    pub(super) fn may_come_again(&self, request: &LoadRequest<'_>) -> Result<(), Error> {
        let may = request.job.mode != Mode::Append
            || request.spec.plan.source.when_changed != WhenChanged::Stop;
        if may || self.changed.is_empty() {
            return Ok(());
        }
        let (is, its) = match self.changed.len() {
            1 => ("a file has", "its rows"),
            _ => ("files have", "their rows"),
        };
        Err(Error::request(
            format!(
                "{is} changed since {its} were loaded, and would be there twice\n  {}",
                self.changed.join("\n  ")
            ),
            "say mode = \"merge\" with a key to update what is there, mode = \"truncate\" to load \
             everything again, or [source] when_changed = \"load\" if the new rows are to be added to the old",
        ))
    }

    /// The run that goes on, if one of the files is its own; the file that it was
    /// interrupted in then comes first.
    pub(super) fn resume(
        &self,
        request: &LoadRequest<'_>,
        files: &mut Vec<Selected>,
    ) -> Result<Option<Resumed>, Error> {
        let is_open = |(_, file): &&(SourceFile, File)| self.is_going(file);
        let partial = |(_, file): &&(SourceFile, File)| file.outcome == Outcome::Going;
        let mut going = self.going.iter().filter(is_open);
        let found = going.clone().find(partial).or_else(|| going.next());
        let Some((source, file)) = found else {
            return Ok(None);
        };
        let Some(run) = self.runs.get(&file.run).cloned() else {
            return Ok(None);
        };
        let state = run.state.as_deref().unwrap_or_default();
        let state: State = serde_json::from_str(state).map_err(|e| {
            Error::failed(format!(
                "the ledger's state of run {} cannot be read ({e}); load with --again, once the \
                 rows of that run are deleted",
                run.run
            ))
        })?;
        if state.is_in_a_file && file.outcome != Outcome::Going {
            // The file that it was interrupted in is not among these.
            return Ok(None);
        }
        let mut first = state.counted.files.len();
        let mut from = 0;
        let is_same = Self::is_same_version(source, file);
        let mut words = format!("run {} goes on, which was interrupted", run.run);
        if file.outcome == Outcome::Going {
            first -= 1;
            from = file.committed_to;
            let at = files.iter().position(|f| f.source == *source);
            let file = at.map(|at| files.remove(at));
            let done = state.counted.files.last().map_or(0, |f| f.records);
            words += &format!(" after {} records of {}", number(done), source.name());
            files.splice(0..0, file);
        }
        if run.spec_hash != hash_of(request.spec.origin.texts.all().as_bytes()) {
            words += "; the spec has changed since, and what comes now is read by the new one";
        }
        Ok(Some(Resumed {
            run,
            counted: state.counted,
            written: state.written,
            first,
            from,
            expected: state.checkpoint.filter(|_| from > 0),
            is_same,
            words,
        }))
    }
}
