//! Drafts: a first spec, proposed from the whole of the files.
//!
//! The layout is told from the start of the first file; then every record of every
//! file is read as text, and what its values are like is gathered in the workers.
//! A spec is chosen from that, and written with its evidence.

mod choose;
mod layout;
mod names;
mod patterns;
mod profile;
mod write;

use std::collections::{BTreeMap, HashSet};
use std::sync::Mutex;

pub use choose::{Choice, Chosen};
pub use layout::{Layout, Shape};
pub use profile::Profile;
use profile::{Course, Hashed, Hint};

use crate::error::Error;
use crate::flow::{self, Batch, Failure, Options, Sink};
use crate::keys::{Key, Keys, Twice};
use crate::records::splitter::{BLOCK, Splitter};
use crate::source::SourceFile;
use crate::spec::{Plan, read_plan};

/// Whether all values differ is told by memory up to so many of a column; beyond,
/// by temporary files.
const DISTINCT_HELD: usize = 50_000;

/// Lines that are named at the most, of those that stand against a draft.
const NAMED: usize = 5;

/// What a draft comes to.
#[derive(Debug)]
pub struct Draft {
    /// How the files are read.
    pub shape: Shape,
    /// The columns, in the order of the first file.
    pub columns: Vec<Chosen>,
    /// Records that were read.
    pub records: u64,
    /// Records of the wrong shape, and the lines and words of the first of them.
    pub misshapen: (u64, Vec<(String, u64, String)>),
    /// The spec's text.
    pub text: String,
}

/// What a draft is written for.
#[derive(Debug, Clone, Default)]
pub struct Into {
    /// The words that name the files, as they stand in the spec.
    pub files: Vec<String>,
    /// The database's URL.
    pub into: Option<String>,
    /// The table.
    pub table: String,
}

/// Proposes a spec for `files`. `told` is called with bytes read and records so far.
///
/// # Errors
/// A file cannot be read, or the files' headers differ.
pub fn draft(
    files: &[SourceFile],
    into: &Into,
    options: Options,
    told: &mut dyn FnMut(u64, u64),
) -> Result<Draft, Error> {
    let first = files
        .first()
        .ok_or_else(|| Error::NoFile("there are no files to draft a spec from".into()))?;
    let mut shape = layout::find(first)?;
    same_headers(&shape, files)?;
    let mut gathered = gather(&shape, files, &options, false, told)?;
    // A last line that is no record is a trailer, and all is read once more.
    if let Some(lines) = gathered.trailer(&shape) {
        shape.trailer = lines;
        gathered = gather(&shape, files, &options, false, told)?;
    }
    // Numbers that rose, and then fell back among those before them.
    if gathered.distinct.contains(&Differ::Unknown) {
        gathered = gather(&shape, files, &options, true, told)?;
    }
    let distinct: Vec<bool> = gathered
        .distinct
        .iter()
        .map(|d| *d == Differ::All)
        .collect();
    let columns = choose::columns(&shape, &gathered.profiles, &distinct);
    let text = write::spec(&shape, &columns, &gathered, into);
    Ok(Draft {
        shape,
        columns,
        records: gathered.records,
        misshapen: (gathered.misshapen, gathered.named),
        text,
    })
}

/// What was gathered from all records.
pub(crate) struct Gathered {
    pub profiles: Vec<Profile>,
    pub distinct: Vec<Differ>,
    pub records: u64,
    pub misshapen: u64,
    /// Misshapen records: file, line, and what is wrong.
    pub named: Vec<(String, u64, String)>,
    /// For each file, whether its last record is misshapen and the only one so.
    last_alone: Vec<bool>,
}

impl Gathered {
    /// How many lines at the end of each file are no records.
    fn trailer(&self, shape: &Shape) -> Option<u64> {
        let alone = !self.last_alone.is_empty() && self.last_alone.iter().all(|alone| *alone);
        (shape.trailer == 0 && alone && self.records > 0).then_some(1)
    }
}

/// The plan that reads every column as text.
fn as_text(shape: &Shape) -> Result<Plan, Error> {
    let text = write::reading(shape);
    read_plan(&text).map_err(|problems| {
        let words: Vec<String> = problems.into_iter().map(|p| p.message).collect();
        Error::Worker(format!(
            "a draft's own spec is wrong: {}\n{text}",
            words.join("; ")
        ))
    })
}

/// Reads every record. With `by_hash`, whether values differ is found out by hashes
/// alone.
fn gather(
    shape: &Shape,
    files: &[SourceFile],
    options: &Options,
    by_hash: bool,
    told: &mut dyn FnMut(u64, u64),
) -> Result<Gathered, Error> {
    let plan = as_text(shape)?;
    let width = plan.kinds[0].read.len();
    let still: Vec<Mutex<Hashed>> = (0..width).map(|_| Mutex::new(Hashed::All)).collect();
    let mut sink = Gather {
        still: &still,
        profiles: (0..width).map(|_| Profile::default()).collect(),
        distinct: (0..width).map(|_| Distinct::new(by_hash)).collect(),
        records: 0,
        misshapen: 0,
        named: Vec::new(),
        in_file: 0,
        last_line_bad: false,
        last_alone: Vec::new(),
        told,
    };
    let hints: Vec<Mutex<Hint>> = (0..width).map(|_| Mutex::default()).collect();
    let encode = |batch: &mut Batch| {
        let column = |column: usize| {
            let hashed = still[column].lock().map_or(Hashed::All, |hashed| *hashed);
            Profile::of(column, batch, &hints[column], hashed)
        };
        let found: Vec<Profile> = (0..width).map(column).collect();
        batch.encoded = vec![Box::new(found)];
    };
    match flow::run(&plan, files.to_vec(), options.clone(), &encode, &mut sink) {
        Ok(()) => sink.finish(),
        Err(Failure::Source(error) | Failure::Sink(error)) => Err(error),
    }
}

/// Whether a column's values are all different.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Differ {
    /// They are.
    All,
    /// Two are the same.
    NotAll,
    /// It takes another look.
    Unknown,
}

/// Whether a column's values are all different, as far as is known. Numbers that rise
/// from value to value, as most keys do, need no hashes.
struct Distinct {
    differ: Differ,
    /// The stretches of numbers that rose, none of which overlap; none once they no
    /// longer do.
    stretches: Option<BTreeMap<i64, i64>>,
    seen: HashSet<u128>,
    keys: Keys,
}

struct Gather<'t> {
    /// For the workers: which of a column's values are to be hashed.
    still: &'t [Mutex<Hashed>],
    profiles: Vec<Profile>,
    distinct: Vec<Distinct>,
    records: u64,
    misshapen: u64,
    named: Vec<(String, u64, String)>,
    /// Misshapen records of the file that is being read.
    in_file: u64,
    /// Whether the last record so far is misshapen.
    last_line_bad: bool,
    last_alone: Vec<bool>,
    told: &'t mut dyn FnMut(u64, u64),
}

impl Sink for Gather<'_> {
    type Error = Error;

    fn take(&mut self, batch: &mut Batch) -> Result<(), Error> {
        let Some(file) = batch.block.file.clone() else {
            return Ok(());
        };
        if let Some(found) = batch
            .encoded
            .first()
            .and_then(|e| e.downcast_ref::<Vec<Profile>>())
        {
            for (place, (all, more)) in self.profiles.iter_mut().zip(found).enumerate() {
                self.distinct[place].take(more)?;
                if let Ok(mut hashed) = self.still[place].lock() {
                    *hashed = self.distinct[place].hashed();
                }
                all.add(more, &file.name);
            }
        }
        self.records += batch.good() as u64;
        let told = batch
            .rejects
            .iter()
            .filter(|reject| !reject.reasons.is_empty());
        for reject in told {
            self.misshapen += 1;
            self.in_file += 1;
            if self.named.len() < NAMED {
                let says = reject.reasons[0].says.to_string();
                self.named.push((file.name.clone(), reject.line, says));
            }
        }
        let last_good = batch.parts[0].marks.last().map(|mark| *mark as usize + 1);
        if !batch.block.marks.is_empty() {
            self.last_line_bad = last_good != Some(batch.block.marks.len());
        }
        if batch.block.last.is_some() {
            self.last_alone
                .push(self.last_line_bad && self.in_file == 1);
            self.in_file = 0;
            self.last_line_bad = false;
        }
        (self.told)(batch.block.taken, self.records);
        Ok(())
    }
}

impl Distinct {
    fn new(by_hash: bool) -> Distinct {
        Distinct {
            differ: Differ::All,
            stretches: (!by_hash).then(BTreeMap::new),
            seen: HashSet::new(),
            keys: Keys::default(),
        }
    }

    /// Which of the next values are to be hashed.
    fn hashed(&self) -> Hashed {
        match &self.stretches {
            _ if self.differ != Differ::All => Hashed::None,
            Some(stretches) if !stretches.is_empty() => Hashed::Others,
            _ => Hashed::All,
        }
    }

    fn take(&mut self, profile: &Profile) -> Result<(), Error> {
        if self.differ != Differ::All || profile.values == 0 {
            return Ok(());
        }
        if let Some(stretches) = &mut self.stretches {
            let rises = match profile.course {
                Course::NoNumbers => true,
                Course::Rises(first, last) => fits_between(stretches, (first, last)),
                Course::Falls => false,
            };
            // What rose before was not hashed.
            if !rises && !stretches.is_empty() {
                self.differ = Differ::Unknown;
                return Ok(());
            }
            if !rises {
                self.stretches = None;
            }
        }
        for hash in &profile.hashes {
            if self.seen.len() < DISTINCT_HELD && !self.seen.insert(*hash) {
                self.differ = Differ::NotAll;
                self.seen = HashSet::new();
                self.keys = Keys::default();
                return Ok(());
            }
            let key = Key {
                hash: *hash,
                file: 0,
                line: 0,
            };
            self.keys.add(key).map_err(kept)?;
        }
        Ok(())
    }

    fn finish(self) -> Result<Differ, Error> {
        let mut differ = self.differ;
        if differ == Differ::All {
            self.keys
                .finish(&mut |_: Twice| differ = Differ::NotAll)
                .map_err(kept)?;
        }
        Ok(differ)
    }
}

/// Adds a stretch of rising numbers, if none of the others overlaps it.
fn fits_between(stretches: &mut BTreeMap<i64, i64>, (first, last): (i64, i64)) -> bool {
    if let Some((_, end)) = stretches.range_mut(..=last).next_back() {
        if *end >= first {
            return false;
        }
        // Mostly the next stretch goes on where the last one ended.
        if stretches.range(last..).next().is_none() {
            if let Some(mut latest) = stretches.last_entry() {
                *latest.get_mut() = last;
            }
            return true;
        }
    }
    stretches.insert(first, last);
    true
}

fn kept(source: std::io::Error) -> Error {
    Error::Write {
        path: std::env::temp_dir(),
        source,
    }
}

impl Gather<'_> {
    fn finish(self) -> Result<Gathered, Error> {
        let distinct = self.distinct.into_iter().map(Distinct::finish);
        Ok(Gathered {
            profiles: self.profiles,
            distinct: distinct.collect::<Result<_, _>>()?,
            records: self.records,
            misshapen: self.misshapen,
            named: self.named,
            last_alone: self.last_alone,
        })
    }
}

/// Files that are drafted together have the same columns, in any order.
fn same_headers(shape: &Shape, files: &[SourceFile]) -> Result<(), Error> {
    if !shape.by_name() {
        return Ok(());
    }
    let plan = as_text(shape)?;
    let splitter = Splitter::new(&plan, Vec::new(), BLOCK);
    let mut differences = Vec::new();
    for file in files.iter().skip(1) {
        let names = splitter.header_names(file)?.unwrap_or_default();
        let list = |names: Vec<&String>| {
            let quoted = names
                .into_iter()
                .map(|n| format!("\"{}\"", crate::visible::visible(n.as_bytes())));
            quoted.collect::<Vec<_>>().join(", ")
        };
        let lacks: Vec<&String> = shape.header.iter().filter(|n| !names.contains(n)).collect();
        let more: Vec<&String> = names.iter().filter(|n| !shape.header.contains(n)).collect();
        if !lacks.is_empty() || !more.is_empty() {
            let mut words = format!("  {}:", file.name());
            if !lacks.is_empty() {
                words += &format!(" lacks {}", list(lacks));
            }
            if !more.is_empty() {
                let and = if words.contains("lacks") {
                    "; has"
                } else {
                    " has"
                };
                words += &format!("{and} {} too", list(more));
            }
            differences.push(words);
        }
    }
    if differences.is_empty() {
        return Ok(());
    }
    Err(Error::NoFile(format!(
        "the files' headers differ from that of {}, so one spec cannot read them all\n{}",
        files[0].name(),
        differences.join("\n")
    )))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stretches_that_overlap_do_not_fit() {
        let mut stretches = BTreeMap::new();
        assert!(fits_between(&mut stretches, (10, 20)));
        assert!(fits_between(&mut stretches, (21, 30)));
        assert!(fits_between(&mut stretches, (1, 9)));
        assert!(!fits_between(&mut stretches, (25, 40)));
        assert!(!fits_between(&mut stretches, (5, 6)));
        assert!(fits_between(&mut stretches, (31, 31)));
        assert!(!fits_between(&mut stretches, (0, 100)));
        assert!(fits_between(&mut stretches, (-5, 0)));
        assert_eq!(stretches, BTreeMap::from([(-5, 0), (1, 9), (10, 31)]));
    }
}
