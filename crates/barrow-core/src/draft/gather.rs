//! Reads every record of every file as text, and gathers what its values are like.

use std::collections::{BTreeMap, HashSet};
use std::sync::Mutex;

use super::layout::{Heading, Layout, Shape};
use super::profile::{Hashed, Hint, Monotonicity, Profile};
use super::remark::Remark;
use super::sections;
use crate::duplicates::{Duplicate, Key, KeyIndex};
use crate::error::Error;
use crate::pipeline;
use crate::pipeline::{Batch, Encoded, Failure, Options, Sink};
use crate::plan::Plan;
use crate::reason::Code;
use crate::source::SourceFile;
use crate::spec::read_plan;

/// Whether all values differ is told by memory up to so many of a column; beyond,
/// by temporary files.
const DISTINCT_HELD: usize = 50_000;

/// Lines that are named at the most, of those that stand against a draft.
const NAMED: usize = 5;

/// What was gathered from all records.
pub(crate) struct Gathered {
    pub profiles: Vec<Profile>,
    pub distinct: Vec<Differ>,
    pub seen: Seen,
}

/// What was seen of records as wholes.
#[derive(Debug, Default)]
pub(crate) struct Seen {
    pub records: u64,
    pub misshapen: u64,
    /// Misshapen records: file, line, and what is wrong.
    pub named: Vec<(String, u64, String)>,
    /// For each file, whether its last record is misshapen and the only one so.
    last_alone: Vec<bool>,
    /// Records that lack fields, and such as are too wide.
    too_few: u64,
    too_wide: u64,
    /// Records with bytes that do not decode.
    undecodable: u64,
    /// The longest record, in bytes, of batches from the first that is too wide.
    longest: usize,
    /// The first value of the last record.
    last_first: String,
}

/// A last record that lacks its fields is rather a fault than the format up to so many in
/// a thousand records.
const FEW_SHORT: u64 = 10;

impl Gathered {
    /// Corrects a shape by what all records say and the sample could not. Whether it did.
    pub fn corrects(&self, shape: &mut Shape) -> bool {
        let all = self.seen.records + self.seen.misshapen;
        let width = shape.parts[0].names.len();
        if shape.layout == Layout::Json {
            return false;
        }
        if let Some(lines) = self.trailer(shape).filter(|_| width > 1) {
            shape.trailer = lines;
            shape.share = 100;
            shape.remarks.push(Remark::of_file(
                "the last line is not like the records and is skipped",
                "trailer = 0",
            ));
            return true;
        }
        match &mut shape.layout {
            // What no line has parts nothing.
            Layout::Delimited(how)
                if width == 1 && self.seen.misshapen > 0 && how.delimiter != "\u{1f}" =>
            {
                how.delimiter = "\u{1f}".into();
                true
            }
            Layout::Delimited(_)
                // Where names are as many as most records have fields, the others are faults.
                if !shape.is_ragged
                    && (shape.heading != Heading::Names || self.seen.records <= self.seen.misshapen)
                    && shape.parts.len() == 1
                    && self.seen.too_few >= 3
                    && self.seen.too_few * 1_000 > all * FEW_SHORT =>
            {
                shape.is_ragged = true;
                shape.remarks.push(Remark::of_file(
                    format!(
                        "the last fields are missing in {} of {all} records: they are null",
                        self.seen.too_few
                    ),
                    "when_short = \"reject\"",
                ));
                true
            }
            Layout::Fixed if self.seen.too_wide > 0 && shape.parts.len() == 1 => {
                let Some((start, width)) = shape.parts[0].spots.last_mut() else {
                    return false;
                };
                *width = self.seen.longest.saturating_sub(*start).max(*width);
                shape.is_ragged = true;
                true
            }
            _ => false,
        }
    }

    /// Records of another number of fields than the header, where there are more than a few: they
    /// are rejects to come, and neither filled up nor cut.
    pub fn other_widths(&self, shape: &Shape) -> Option<Remark> {
        let all = self.seen.records + self.seen.misshapen;
        let is_told = matches!(shape.layout, Layout::Delimited(_))
            && shape.heading == Heading::Names
            && shape.parts.len() == 1
            && self.seen.misshapen * 1_000 > all * FEW_SHORT;
        is_told.then(|| {
            let key = match self.seen.too_few * 2 >= self.seen.misshapen {
                true => "when_short = \"null\"",
                false => "when_long = \"drop\"",
            };
            let says = format!(
                "{} of {all} records have another number of fields than the header, and would be \
                 rejected",
                self.seen.misshapen
            );
            Remark::of_file(says, key)
        })
    }

    /// Whether the encoding was taken too soon.
    pub fn has_bad_bytes(&self) -> bool {
        self.seen.undecodable > 0
    }

    /// The first value of the last record, where it says that it is a total.
    pub fn last_total(&self) -> Option<&str> {
        const TOTALS: [&str; 7] = [
            "total",
            "totals",
            "sum",
            "grand total",
            "summe",
            "gesamt",
            "subtotal",
        ];
        let word = self
            .seen
            .last_first
            .trim()
            .trim_end_matches(':')
            .to_lowercase();
        (self.seen.records > 2 && TOTALS.contains(&word.as_str()))
            .then_some(self.seen.last_first.as_str())
    }

    /// How many lines at the end of each file are no records.
    fn trailer(&self, shape: &Shape) -> Option<u64> {
        let alone =
            !self.seen.last_alone.is_empty() && self.seen.last_alone.iter().all(|alone| *alone);
        (shape.trailer == 0 && !shape.has_types() && alone && self.seen.records > 0).then_some(1)
    }
}

/// The plan that reads every column as text.
pub(super) fn as_text(shape: &Shape) -> Result<Plan, Error> {
    let text = sections::reading(shape);
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
pub(super) fn gather(
    shape: &Shape,
    files: &[SourceFile],
    options: &Options,
    by_hash: bool,
    told: &mut dyn FnMut(u64, u64),
) -> Result<Gathered, Error> {
    let plan = as_text(shape)?;
    // The columns of all record types, one after the other.
    let widths: Vec<usize> = plan
        .record_types
        .iter()
        .map(|kind| kind.read.len())
        .collect();
    let places: Vec<(usize, usize)> = widths
        .iter()
        .enumerate()
        .flat_map(|(part, width)| (0..*width).map(move |column| (part, column)))
        .collect();
    let width = places.len();
    let still: Vec<Mutex<Hashed>> = (0..width).map(|_| Mutex::new(Hashed::All)).collect();
    let mut sink = Gather {
        still: &still,
        profiles: (0..width).map(|_| Profile::default()).collect(),
        distinct: (0..width).map(|_| Distinct::new(by_hash)).collect(),
        seen: Seen::default(),
        in_file: 0,
        last_line_bad: false,
        told,
    };
    let hints: Vec<Mutex<Hint>> = (0..width).map(|_| Mutex::default()).collect();
    let encode = |batch: &mut Encoded<Vec<Profile>>| {
        let column = |place: usize| {
            let hashed = still[place].lock().map_or(Hashed::All, |hashed| *hashed);
            let (part, column) = places[place];
            Profile::of(part, column, batch, &hints[place], hashed)
        };
        batch.encoded = (0..width).map(column).collect();
    };
    match pipeline::run(&plan, files.to_vec(), options.clone(), &encode, &mut sink) {
        Ok(()) => sink.finish(),
        Err(Failure::Source(Error::Empty { file, .. })) => Err(Error::NoFile(format!(
            "{file} has no record, so there is nothing to draft"
        ))),
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
    keys: KeyIndex,
}

struct Gather<'t> {
    /// For the workers: which of a column's values are to be hashed.
    still: &'t [Mutex<Hashed>],
    profiles: Vec<Profile>,
    distinct: Vec<Distinct>,
    seen: Seen,
    /// Misshapen records of the file that is being read.
    in_file: u64,
    /// Whether the last record so far is misshapen.
    last_line_bad: bool,
    told: &'t mut dyn FnMut(u64, u64),
}

impl Sink for Gather<'_> {
    type Encoded = Vec<Profile>;
    type Error = Error;

    fn take(&mut self, batch: &mut Encoded<Vec<Profile>>) -> Result<(), Error> {
        let Some(file) = batch.block.file.clone() else {
            return Ok(());
        };
        let found = self.profiles.iter_mut().zip(&batch.encoded);
        for (place, (all, more)) in found.enumerate() {
            self.distinct[place].take(more)?;
            if let Ok(mut hashed) = self.still[place].lock() {
                *hashed = self.distinct[place].hashed();
            }
            all.add(more, &file.name);
        }
        self.seen.records += batch.good() as u64;
        let told = batch
            .rejects
            .iter()
            .filter(|reject| !reject.reasons.is_empty());
        for reject in told {
            self.seen.misshapen += 1;
            self.in_file += 1;
            match reject.reasons[0].code {
                Code::TooFewFields => self.seen.too_few += 1,
                Code::RecordTooWide => self.seen.too_wide += 1,
                Code::BadBytes => self.seen.undecodable += 1,
                _ => {}
            }
            if self.seen.named.len() < NAMED {
                let says = reject.reasons[0].says.to_string();
                self.seen.named.push((file.name.clone(), reject.line, says));
            }
        }
        let lasts = batch.parts.iter().filter_map(|rows| rows.marks.last());
        let last_good = lasts.max().map(|mark| *mark as usize + 1);
        if self.seen.too_wide > 0 {
            let lengths = batch.block.marks.iter().map(|mark| mark.range().len());
            self.seen.longest = self.seen.longest.max(lengths.max().unwrap_or(0));
        }
        self.note_last(batch);
        if !batch.block.marks.is_empty() {
            self.last_line_bad = last_good != Some(batch.block.marks.len());
        }
        if batch.block.last.is_some() {
            self.seen
                .last_alone
                .push(self.last_line_bad && self.in_file == 1);
            self.in_file = 0;
            self.last_line_bad = false;
        }
        (self.told)(batch.block.taken, self.seen.records);
        Ok(())
    }
}

impl Distinct {
    fn new(by_hash: bool) -> Distinct {
        Distinct {
            differ: Differ::All,
            stretches: (!by_hash).then(BTreeMap::new),
            seen: HashSet::new(),
            keys: KeyIndex::default(),
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
                Monotonicity::NoNumbers => true,
                Monotonicity::Rises(first, last) => fits_between(stretches, (first, last)),
                Monotonicity::Falls => false,
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
                self.keys = KeyIndex::default();
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
                .finish(&mut |_: Duplicate| differ = Differ::NotAll)
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
            seen: self.seen,
        })
    }

    /// Keeps the first value of the last record.
    fn note_last(&mut self, batch: &Batch) {
        let Some(rows) = batch
            .parts
            .first()
            .filter(|rows| rows.height > 0 && !rows.cells.is_empty())
        else {
            return;
        };
        let valued = crate::values::Valued {
            cell: rows.cell(0, rows.height - 1),
            block: &batch.block.bytes,
            store: &rows.store,
        };
        self.seen.last_first = match valued.bytes() {
            Some(bytes) if bytes.len() <= 40 => String::from_utf8_lossy(bytes).into_owned(),
            _ => String::new(),
        };
    }
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
