//! Which files are loaded: those whose content is not in the table yet, from where an
//! interrupted run left off.

use std::collections::{BTreeSet, HashMap};
use std::path::Path;

use barrow_core::rejects::Written;
use barrow_core::source::content::hash_of;
use barrow_core::source::{Outline, SourceFile};
use barrow_core::tally::Counted;
use barrow_core::visible::visible_path;
use barrow_core::words::{Disposal, Mode, WhenChanged};
use barrow_targets::Session;
use barrow_targets::ledger::{self, File, Outcome, Run, Wanted};

use super::Order;
use super::books::State;
use super::recover::recover;
use super::waiting;
use crate::failure::Failure;
use crate::view::number;
use crate::view::summary::Skipped;

/// So many locks keep loads of the same files apart. Two files may share one: then one
/// load waits for the other without need, which is all.
const LOCKS: u64 = 1024;

/// What is to be loaded.
#[derive(Default)]
pub struct Choice {
    /// The files, in order.
    pub files: Vec<Chosen>,
    /// Files that are in the table already.
    pub skipped: Vec<Skipped>,
    /// The run that goes on.
    pub going_on: Option<GoingOn>,
    /// What stands for the tables in the ledger.
    pub table_key: String,
}

/// A file to load.
#[derive(Clone)]
pub struct Chosen {
    /// The file.
    pub source: SourceFile,
    /// Its size and sample; none for standard input.
    pub outline: Option<Outline>,
    /// What people should know of it.
    pub note: Option<String>,
}

/// A run that was interrupted, and goes on.
pub struct GoingOn {
    /// The run.
    pub run: Run,
    /// What it has counted.
    pub counted: Counted,
    /// How far its rejects are written.
    pub written: Written,
    /// The place of the first file's counts among those.
    pub first: usize,
    /// Where in that file it goes on.
    pub from: u64,
    /// What the file was like up to there.
    pub expected: Option<String>,
    /// What people read about it.
    pub words: String,
}

/// Decides, and keeps other loads of the same files away until the target is dropped.
///
/// # Errors
/// A file or the ledger cannot be read.
pub fn choose(
    order: &Order<'_>,
    target: &mut dyn Session,
    sources: Vec<SourceFile>,
) -> Result<Choice, Failure> {
    let files = sources.into_iter().map(outlined);
    let files: Vec<Chosen> = files.collect::<Result<_, _>>()?;
    if !order.spec.plan.target.ledger {
        return Ok(Choice {
            files,
            ..Choice::default()
        });
    }
    let table_key = ledger::table_key(target, &order.job)?;
    claim(target, &table_key, &files, order.shared.quiet)?;
    if ledger::is_there(target)? {
        recover(target, &table_key)?;
    }
    decide(order, target, table_key, files)
}

/// What would be loaded, without keeping anybody away: for a look ahead. Where a load would
/// stop, the reason comes as well.
///
/// # Errors
/// A file or the ledger cannot be read.
pub fn foresee(
    order: &Order<'_>,
    target: &mut dyn Session,
    sources: Vec<SourceFile>,
) -> Result<(Choice, Option<Failure>), Failure> {
    let files = sources.into_iter().map(outlined);
    let files: Vec<Chosen> = files.collect::<Result<_, _>>()?;
    let table_key = match order.spec.plan.target.ledger {
        true => ledger::table_key(target, &order.job)?,
        false => String::new(),
    };
    if table_key.is_empty() || !ledger::is_there(target)? {
        let choice = Choice {
            files,
            table_key,
            ..Choice::default()
        };
        return Ok((choice, None));
    }
    let (known, mut choice) = placed(order, target, table_key, files)?;
    let stops = known.may_come_again(order).err();
    choice.going_on = known.go_on(order, &mut choice.files)?;
    Ok((choice, stops))
}

/// The files that another load has in its hands now, by their places.
///
/// # Errors
/// The database cannot be asked.
pub fn in_other_hands(order: &Order<'_>, choice: &Choice) -> Result<Vec<usize>, Failure> {
    let mut theirs = Vec::new();
    if choice.table_key.is_empty() {
        return Ok(theirs);
    }
    // Of a session of its own, which lets go at once.
    let mut target = order.url.open(false)?;
    for (place, file) in choice.files.iter().enumerate() {
        let Some(outline) = &file.outline else {
            continue;
        };
        if !target.lock(lock_of(&choice.table_key, &outline.sample), false)? {
            theirs.push(place);
        }
    }
    Ok(theirs)
}

/// Whether a file could be had.
pub enum Claimed {
    /// Another load has it now.
    ByOthers,
    /// It is ours until the target is dropped.
    Ours(Box<Choice>),
}

/// Decides on one file, unless another load has it; with `wait`, once that has ended.
///
/// # Errors
/// The file or the ledger cannot be read.
pub fn choose_if_free(
    order: &Order<'_>,
    target: &mut dyn Session,
    source: SourceFile,
    wait: bool,
) -> Result<Claimed, Failure> {
    let file = outlined(source)?;
    let table_key = ledger::table_key(target, &order.job)?;
    let sample = file.outline.as_ref().map_or("", |outline| &outline.sample);
    if !target.lock(lock_of(&table_key, sample), wait)? {
        return Ok(Claimed::ByOthers);
    }
    if ledger::is_there(target)? {
        recover(target, &table_key)?;
    }
    let choice = decide(order, target, table_key, vec![file])?;
    Ok(Claimed::Ours(Box::new(choice)))
}

fn decide(
    order: &Order<'_>,
    target: &mut dyn Session,
    table_key: String,
    outlined: Vec<Chosen>,
) -> Result<Choice, Failure> {
    let (known, mut choice) = placed(order, target, table_key, outlined)?;
    known.may_come_again(order)?;
    choice.going_on = known.go_on(order, &mut choice.files)?;
    Ok(choice)
}

/// The files, each to load or to pass over.
fn placed(
    order: &Order<'_>,
    target: &mut dyn Session,
    table_key: String,
    files: Vec<Chosen>,
) -> Result<(Known, Choice), Failure> {
    let mut choice = Choice {
        table_key,
        ..Choice::default()
    };
    let mut known = Known::ask(order, target, &choice.table_key, &files)?;
    for file in files {
        known.place(file, &mut choice)?;
    }
    Ok((known, choice))
}

/// A file with its size and sample.
///
/// # Errors
/// It cannot be read.
pub fn outlined(source: SourceFile) -> Result<Chosen, Failure> {
    let outline = source
        .outline()
        .map_err(|e| Failure::not_done(format!("{}: {e}", source.name())))?;
    Ok(Chosen {
        source,
        outline,
        note: None,
    })
}

/// The lock of a file with this sample.
pub fn lock_of(table_key: &str, sample: &str) -> i64 {
    let place = number_of(sample) % LOCKS;
    let table = number_of(&hash_of(table_key.as_bytes()));
    ((table & !(LOCKS - 1)) | place) as i64
}

fn number_of(hash: &str) -> u64 {
    hash.get(..16)
        .and_then(|digits| u64::from_str_radix(digits, 16).ok())
        .unwrap_or(0)
}

/// Waits until no other load has any of the files. All loads take the locks in the same
/// order, so that no two wait for each other.
fn claim(
    target: &mut dyn Session,
    table_key: &str,
    files: &[Chosen],
    quiet: bool,
) -> Result<(), Failure> {
    let samples = files.iter().filter_map(|file| file.outline.as_ref());
    let locks: BTreeSet<i64> = samples
        .map(|outline| lock_of(table_key, &outline.sample))
        .collect();
    let mut told = quiet;
    for lock in locks {
        if target.lock(lock, false)? {
            continue;
        }
        if !told {
            waiting::say(false, "another load of these files to end");
            told = true;
        }
        target.lock(lock, true)?;
    }
    Ok(())
}

/// What the ledger says of files.
struct Known {
    files: Vec<File>,
    runs: HashMap<String, Run>,
    /// The hash of the spec's text.
    spec_hash: String,
    /// Whether a file that is in the table may be passed over.
    passes: bool,
    /// Whether loads take files away once they are in the table.
    disposes: bool,
    /// The hashes of files that had to be read.
    hashes: HashMap<SourceFile, String>,
    /// The files of this load so far, with their outlines.
    seen: HashMap<Outline, Vec<SourceFile>>,
    /// Files that an interrupted run has in the table, by that run.
    going: Vec<(SourceFile, File)>,
    /// Files whose rows of before would stay beside those of now.
    changed: Vec<String>,
    /// Files that were exported from one of the tables.
    exported: Vec<File>,
}

impl Known {
    fn ask(
        order: &Order<'_>,
        target: &mut dyn Session,
        table_key: &str,
        files: &[Chosen],
    ) -> Result<Known, Failure> {
        let mut known = Known {
            files: Vec::new(),
            runs: HashMap::new(),
            spec_hash: hash_of(order.spec.text.as_bytes()),
            passes: matches!(order.job.mode, Mode::Append | Mode::Merge),
            disposes: order.spec.plan.source.afterwards.what != Disposal::Keep,
            hashes: HashMap::new(),
            seen: HashMap::new(),
            going: Vec::new(),
            changed: Vec::new(),
            exported: Vec::new(),
        };
        let tables = order.job.tables();
        let mut are_there = true;
        for table in tables {
            are_there &= target.describe(table)?.is_some();
        }
        // Of a table that is gone, the ledger's words count for nothing.
        if order.again || !are_there || !ledger::is_there(target)? {
            return Ok(known);
        }
        let samples: Vec<String> = files
            .iter()
            .filter_map(|file| Some(file.outline.as_ref()?.sample.clone()))
            .collect();
        let paths = files.iter().filter(|file| file.source.is_repeatable());
        let names: Vec<String> = paths.map(|file| name_of(&file.source)).collect();
        known.files = ledger::known_files(target, table_key, &samples, &names)?;
        for table in order.job.tables() {
            let key = ledger::export_key(target, table)?;
            known
                .exported
                .extend(ledger::exported_files(target, &key, &names)?);
        }
        known
            .files
            .sort_by(|a, b| (&a.run, a.number).cmp(&(&b.run, b.number)));
        let runs: BTreeSet<String> = known.files.iter().map(|file| file.run.clone()).collect();
        for id in runs {
            let wanted = Wanted {
                run: Some(id.clone()),
                ..Wanted::default()
            };
            if let Some(run) = ledger::runs(target, &wanted)?.pop() {
                known.runs.insert(id, run);
            }
        }
        Ok(known)
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
            source: Some(source.clone()).filter(|s| s.is_repeatable() && s.exists()),
            run: Some(known.run.clone()),
            when: self.when(known),
            has_rejects: self.has_open_rejects(known),
            open: self.open_rejects(known),
        }
    }

    fn when(&self, file: &File) -> String {
        let run = self.runs.get(&file.run);
        let at = run.map_or("", |run| run.started_at.as_str());
        at.get(..16).unwrap_or(at).to_string()
    }

    /// Puts a file among those to load, or those to pass over.
    fn place(&mut self, mut file: Chosen, choice: &mut Choice) -> Result<(), Failure> {
        if let Some(known) = self.taken_away(&file.source) {
            choice.skipped.push(self.skipped(&file.source, known));
            return Ok(());
        }
        let Some(outline) = file.outline.clone() else {
            choice.files.push(file);
            return Ok(());
        };
        let is_alike = |f: &&File| {
            f.bytes == outline.size && f.sample.as_deref() == Some(outline.sample.as_str())
        };
        let alike: Vec<File> = self.files.iter().filter(is_alike).cloned().collect();
        // Rejects of which nothing was mended may be mended yet.
        let is_in = |f: &&File| f.outcome == Outcome::Kept && (f.once || f.counts.loaded > 0);
        for known in alike.iter().filter(is_in) {
            let passes = self.passes || self.is_going(known);
            if passes && known.content.as_deref() == Some(self.hash(&file.source)?.as_str()) {
                choice.skipped.push(self.skipped(&file.source, known));
                self.going.push((file.source, known.clone()));
                return Ok(());
            }
        }
        if let Some(other) = self.twin(&file.source, &outline)? {
            choice.skipped.push(Skipped {
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
            self.going.push((file.source.clone(), known.clone()));
        } else {
            file.note = match self.came_from_the_table(&file.source, &outline)? {
                Some(note) => Some(note),
                None => self.note(&file.source, &outline),
            };
            self.changed.extend(self.change(&file.source, &outline));
        }
        self.seen
            .entry(outline)
            .or_default()
            .push(file.source.clone());
        choice.files.push(file);
        Ok(())
    }

    /// A file that another load has put into the table and taken away since, as the spec
    /// says ([source] afterwards).
    fn taken_away(&self, source: &SourceFile) -> Option<&File> {
        if !self.disposes || source.exists() {
            return None;
        }
        let own = full_path(source)?;
        let mut kept = self.files.iter().filter(|f| f.outcome == Outcome::Kept);
        kept.find(|file| file.path == own)
    }

    /// What is said of a file that was exported from the table it goes into.
    fn came_from_the_table(
        &mut self,
        source: &SourceFile,
        outline: &Outline,
    ) -> Result<Option<String>, Failure> {
        let name = name_of(source);
        let is_alike = |file: &&File| file.name == name && file.bytes == outline.size;
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
    fn twin(&mut self, source: &SourceFile, outline: &Outline) -> Result<Option<String>, Failure> {
        for other in self.seen.get(outline).cloned().unwrap_or_default() {
            if self.hash(&other)? == self.hash(source)? {
                return Ok(Some(other.name()));
            }
        }
        Ok(None)
    }

    /// The hash of a file that looks like one that is known: it has to be read, to be sure.
    fn hash(&mut self, source: &SourceFile) -> Result<String, Failure> {
        if let Some(hash) = self.hashes.get(source) {
            return Ok(hash.clone());
        }
        if !source.is_repeatable() {
            return Ok(String::new());
        }
        let hash = source
            .content()
            .map_err(|e| Failure::not_done(format!("{}: {e}", source.name())))?
            .hash;
        self.hashes.insert(source.clone(), hash.clone());
        Ok(hash)
    }

    /// What is to be said of a file whose name is known and whose content is not.
    fn note(&self, source: &SourceFile, outline: &Outline) -> Option<String> {
        let name = name_of(source);
        let is_named = |f: &&File| {
            f.name == name && (f.bytes, f.sample.as_ref()) != (outline.size, Some(&outline.sample))
        };
        let known = self.files.iter().rfind(is_named)?;
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

    /// What is to be said of a file that was loaded from the same path with other content,
    /// of which rows are in the table.
    fn change(&self, source: &SourceFile, outline: &Outline) -> Option<String> {
        let own = full_path(source)?;
        let is_before = |f: &&File| {
            f.path == own
                && f.counts.loaded > 0
                && (f.bytes, f.sample.as_ref()) != (outline.size, Some(&outline.sample))
        };
        let known = self.files.iter().rfind(is_before)?;
        Some(format!(
            "{}: {} of its earlier content are in the table, since run {} on {}",
            source.name(),
            crate::view::counted(known.counts.loaded, "row"),
            known.run,
            self.when(known)
        ))
    }

    /// Stops a load that would put the rows of changed files beside those of before, unless
    /// the spec says that this may be.
    fn may_come_again(&self, order: &Order<'_>) -> Result<(), Failure> {
        let may = order.job.mode != Mode::Append
            || order.spec.plan.source.when_changed == WhenChanged::Load;
        if may || self.changed.is_empty() {
            return Ok(());
        }
        let (is, its) = match self.changed.len() {
            1 => ("a file has", "its rows"),
            _ => ("files have", "their rows"),
        };
        Err(Failure::wrong(
            format!(
                "{is} changed since {its} were loaded, and would be there twice\n  {}",
                self.changed.join("\n  ")
            ),
            "say mode = \"merge\" with a key to update what is there, mode = \"truncate\" to load it \
             all anew, or [source] when_changed = \"load\" if the new rows belong beside the old",
        ))
    }

    /// The run that goes on, if one of the files is its own; the file that it was
    /// interrupted in then comes first.
    fn go_on(
        &self,
        order: &Order<'_>,
        files: &mut Vec<Chosen>,
    ) -> Result<Option<GoingOn>, Failure> {
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
            Failure::not_done(format!(
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
        if run.spec_hash != hash_of(order.spec.text.as_bytes()) {
            words += "; the spec has changed since, and what comes now is read by the new one";
        }
        Ok(Some(GoingOn {
            run,
            counted: state.counted,
            written: state.written,
            first,
            from,
            expected: state.prefix.filter(|_| from > 0),
            words,
        }))
    }
}

/// What tells the file from others, as the ledger has it; none for what can be read only
/// once.
fn full_path(source: &SourceFile) -> Option<String> {
    let identity = source.identity();
    source.is_repeatable().then(|| visible_path(&identity))
}

/// The file's own name, as the ledger has it.
pub fn name_of(source: &SourceFile) -> String {
    let name = source.file_name();
    let name: &Path = &name;
    let shown = visible_path(name);
    shown.chars().take(255).collect()
}
