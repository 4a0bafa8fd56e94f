//! The counts of a run, which must balance:
//! records = loaded + rejected + filtered (+ rolled back).

use std::sync::Arc;

use indexmap::IndexMap;
use serde::{Deserialize, Serialize};

use crate::pipeline::{Batch, Difference};
use crate::reason::{Code, Reason, Reject};
use crate::records::block::LeftOut;
use crate::repair::Repairs;

/// More kinds of reasons than this are counted as one: a table's words may hold
/// a value, and then every one is another.
const MOST_KINDS: usize = 500;

/// A kind of reason, with its first place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReasonKind {
    /// The code.
    pub code: Code,
    /// The column it is about.
    pub column: Option<Arc<str>>,
    /// What is wrong.
    pub says: Arc<str>,
    /// How many records have it.
    pub count: u64,
    /// The file of the first.
    pub file: String,
    /// The line of the first, 1-based.
    pub line: u64,
    /// The value of the first.
    pub value: Option<String>,
}

/// The counts of one file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileCounts {
    /// The file as people named it.
    pub name: String,
    /// Records that were to be loaded: those that the spec leaves out are in `left_out`.
    pub records: u64,
    /// Records that are rows now.
    pub loaded: u64,
    /// Records that are not.
    pub rejected: u64,
    /// Good records that were taken back with the whole file.
    pub not_kept: u64,
    /// What was changed in it because the spec asked for it.
    pub repaired: u64,
    /// What is neither loaded nor rejected.
    pub left_out: LeftOut,
    /// What people should know of how it was read.
    pub notes: Vec<String>,
    /// Its length in bytes, unpacked; known once it has been read.
    pub bytes: u64,
    /// Records that were believed though their lines look like records.
    #[serde(default)]
    pub believed: u64,
}

/// So many records that were believed are noted one by one.
const MOST_BELIEVED: u64 = 3;

impl FileCounts {
    /// Notes a record that starts on `line` and was believed, though `lines` of its lines look
    /// like records.
    fn note_believed(&mut self, line: u64, lines: u32) {
        self.believed += 1;
        if self.believed <= MOST_BELIEVED {
            self.notes.push(format!(
                "the record of line {line} holds {lines} lines that look like records"
            ));
        } else if self.believed == MOST_BELIEVED + 1 {
            self.notes
                .push("more records hold lines that look like records".into());
        }
    }

    /// Every record of the file, also those that the spec leaves out.
    pub fn all_records(&self) -> u64 {
        self.records + self.left_out.filtered()
    }
}

/// What reasons of one kind have in common: code, column and words.
type KindKey = (Code, Option<Arc<str>>, Arc<str>);

/// The counts of a run.
#[derive(Debug, Default)]
pub struct RunCounts {
    /// Each file, in order.
    pub files: Vec<FileCounts>,
    /// What was changed because the spec asked for it.
    pub repairs: Repairs,
    /// Totals that differ from what a file states.
    pub differences: Vec<Difference>,
    reason_kinds: IndexMap<KindKey, ReasonKind>,
    /// Where the first file of this pipeline stands among `files`: a run that goes on has
    /// some before it.
    first: usize,
}

/// What a run has counted so far, to go on with.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Counted {
    /// Each file, in order.
    pub files: Vec<FileCounts>,
    /// What was changed.
    pub repairs: Repairs,
    /// Every kind of reason.
    pub reason_kinds: Vec<ReasonKind>,
}

impl RunCounts {
    /// Goes on from what was counted; the next pipeline's first file is the one at `first`.
    pub fn go_on(counted: Counted, first: usize) -> RunCounts {
        let key = |kind: &ReasonKind| (kind.code, kind.column.clone(), kind.says.clone());
        RunCounts {
            files: counted.files,
            repairs: counted.repairs,
            differences: Vec::new(),
            reason_kinds: counted
                .reason_kinds
                .into_iter()
                .map(|k| (key(&k), k))
                .collect(),
            first,
        }
    }

    /// What was counted so far.
    pub fn counted(&self) -> Counted {
        Counted {
            files: self.files.clone(),
            repairs: self.repairs.clone(),
            reason_kinds: self.reason_kinds.values().cloned().collect(),
        }
    }

    /// The place among `files` of a pipeline's file.
    pub fn place_of(&self, index: usize) -> usize {
        self.first + index
    }

    /// Notes that the last file was taken back as a whole.
    pub fn take_back_file(&mut self) {
        if let Some(file) = self.files.last_mut() {
            file.not_kept += std::mem::take(&mut file.loaded);
        }
    }

    /// Counts a batch of which the rejects come from elsewhere, corrected: `loaded` rows are
    /// in the table, and so many records are not.
    pub fn add_but_rejects(&mut self, batch: &Batch, loaded: u64, rejected: u64) {
        self.add_some(batch, loaded, &[], false);
        if let Some(file) = self.files.last_mut() {
            file.left_out.in_rejects += rejected;
        }
    }

    /// Counts a batch, of which `loaded` rows are in the table and `refused`
    /// came back from it.
    pub fn add(&mut self, batch: &Batch, loaded: u64, refused: &[Reject]) {
        self.add_some(batch, loaded, refused, true);
    }

    fn add_some(&mut self, batch: &Batch, loaded: u64, refused: &[Reject], all: bool) {
        let Some(reading) = batch.file() else { return };
        let own = if all { batch.rejects.as_slice() } else { &[] };
        if self.files.len() <= self.place_of(reading.index) {
            self.files.push(FileCounts {
                name: reading.name.clone(),
                notes: reading.notes.clone(),
                ..FileCounts::default()
            });
        }
        for reject in own.iter().chain(refused) {
            for reason in &reject.reasons {
                self.count(&reading.name, reject, reason);
            }
        }
        self.repairs.add(&batch.repairs, &reading.name);
        self.differences.extend(batch.differences.iter().cloned());
        if let (Some(hint), Some(file)) = (&batch.hint, self.files.last_mut())
            && !file.notes.contains(hint)
        {
            file.notes.push(hint.clone());
        }
        let rejects = own.iter().chain(refused);
        let rejected: u64 = rejects.map(|reject| reject.records).sum();
        let Some(file) = self.files.last_mut() else {
            return;
        };
        file.loaded += loaded;
        file.rejected += rejected;
        file.records += loaded + rejected;
        file.repaired += batch.repairs.all();
        file.left_out.add(&batch.block.left_out);
        for (line, lines) in &batch.block.believed {
            file.note_believed(*line, *lines);
        }
        if let Some(end) = &batch.block.last {
            file.bytes = end.bytes;
        }
    }

    fn count(&mut self, file: &str, reject: &Reject, reason: &Reason) {
        let key = (reason.code, reason.column.clone(), reason.says.clone());
        if let Some(kind) = self.reason_kinds.get_mut(&key) {
            kind.count += 1;
            return;
        }
        let (key, says) = if self.reason_kinds.len() < MOST_KINDS {
            (key, reason.says.clone())
        } else {
            let words: Arc<str> = format!("{}, in other words", reason.code.words()).into();
            ((reason.code, None, words.clone()), words)
        };
        let kind = self.reason_kinds.entry(key).or_insert_with(|| ReasonKind {
            code: reason.code,
            column: reason.column.clone(),
            says,
            count: 0,
            file: file.to_string(),
            line: reject.line,
            value: reason.value.clone(),
        });
        kind.count += 1;
    }

    /// Records that were to be loaded.
    pub fn records(&self) -> u64 {
        self.files.iter().map(|f| f.records).sum()
    }

    /// Records that are rows now.
    pub fn loaded(&self) -> u64 {
        self.files.iter().map(|f| f.loaded).sum()
    }

    /// Good records that were taken back with their whole files.
    pub fn not_kept(&self) -> u64 {
        self.files.iter().map(|f| f.not_kept).sum()
    }

    /// Records that are not.
    pub fn rejected(&self) -> u64 {
        self.files.iter().map(|f| f.rejected).sum()
    }

    /// What is neither loaded nor rejected.
    pub fn left_out(&self) -> LeftOut {
        let mut all = LeftOut::default();
        for file in &self.files {
            all.add(&file.left_out);
        }
        all
    }

    /// Every record of every file, also those that the spec leaves out.
    pub fn all_records(&self) -> u64 {
        self.files.iter().map(FileCounts::all_records).sum()
    }

    /// Every kind of reason, the most frequent first.
    pub fn reason_kinds(&self) -> Vec<&ReasonKind> {
        let mut reason_kinds: Vec<_> = self.reason_kinds.values().collect();
        reason_kinds.sort_by_key(|kind| std::cmp::Reverse(kind.count));
        reason_kinds
    }
}
