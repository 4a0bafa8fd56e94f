//! What the values of one column are like.

mod dates;
mod ends;
mod numbers;
mod repeats;

use self::ends::Ends;
use std::collections::HashMap;
use std::sync::Mutex;

use xxhash_rust::xxh3::xxh3_128;

pub use numbers::{MARKS, Marks, Monotonicity, looks_like_number};

use crate::pipeline::Batch;
use crate::utf8::count_characters;
use repeats::{Repeats, Told};

/// Words that often mean null, beside an empty field.
pub const NULL_WORDS: &[&str] = &[
    "N/A", "n/a", "NA", "NULL", "null", "Null", "-", "--", "None", "none", "\\N", "?", "#N/A",
    "NaN", "nan", "(null)", "nil", ".", "..", "*", "<NA>", "NAN",
];

/// No word that means null is longer.
const LONGEST_NULL: usize = 6;

/// Examples that are kept, and lines that are named, at the most.
const KEPT: usize = 3;
const NAMED: usize = 5;

/// Distinct words are counted up to so many: a truth value has two.
const WORDS: usize = 4;

/// What the values of one column are like.
#[derive(Debug, Clone, Default)]
pub struct Profile {
    /// Values that are not empty.
    pub values: u64,
    /// Fields that are empty and not in quotes.
    pub empty: u64,
    /// Fields in quotes with nothing between, and such as hold only spaces.
    pub quoted_empty: u64,
    /// Values with blanks at an end.
    pub blanks: u64,
    /// Words that may mean null, and how often each.
    pub nulls: HashMap<&'static str, u64>,
    /// The longest value, in characters.
    pub longest: usize,
    /// The first few different values.
    pub examples: Vec<String>,
    /// The smallest and the largest as text.
    pub ends: Option<(String, String)>,
    /// Whole numbers.
    pub whole: u64,
    /// The smallest and the largest of them.
    pub range: Option<(i128, i128)>,
    /// Numbers that start with a zero that a number would lose.
    pub leading_zeros: u64,
    /// For each of `MARKS`.
    pub marks: [Marks; 4],
    /// Whole numbers of more than 38 digits.
    pub beyond: u64,
    /// Numbers with an exponent.
    pub exponents: u64,
    /// Those of them that have neither a mark nor a sign in it, as codes look.
    pub bare_exponents: u64,
    /// The smallest and the largest number with an exponent, for people.
    pub floats: Option<(f64, f64)>,
    /// Numbers that start with a plus sign.
    pub plus_signs: u64,
    /// Numbers in parentheses, which are negative.
    pub in_parentheses: u64,
    /// Numbers with their sign behind.
    pub signs_behind: u64,
    /// What stands around numbers, such as `%`, and how often each.
    pub worn: Vec<(&'static str, u64)>,
    /// Patterns that fit, as places in `patterns::KNOWN`, and how many values each.
    pub patterns: Vec<(usize, u64)>,
    /// UUIDs.
    pub uuids: u64,
    /// JSON documents.
    pub documents: u64,
    /// The first few different words.
    pub words: Vec<(String, u64)>,
    /// More different words than that.
    pub many_words: bool,
    /// Values that are no number: how many, and the first of them.
    pub no_number: (u64, Vec<(String, u64, String)>),
    /// Values that no date pattern fits.
    pub no_date: (u64, Vec<(String, u64, String)>),
    /// Hashes of this batch's values, or of those that are no short whole numbers.
    pub(super) hashes: Vec<u128>,
    /// How this batch's short whole numbers follow each other.
    pub(super) course: Monotonicity,
}

impl Profile {
    /// The values of a column of a batch's record type `part`. `hint` holds what batches before were like;
    /// `hashed` says which values are hashed, to find out whether they all differ.
    pub fn of(
        part: usize,
        column: usize,
        batch: &Batch,
        hint: &Mutex<Hint>,
        hashed: Hashed,
    ) -> Profile {
        let mut profile = Profile::default();
        let mut repeats = Repeats::default();
        if let Ok(hint) = hint.lock() {
            profile.patterns = hint.patterns.iter().map(|place| (*place, 0)).collect();
            repeats.wanted(hint.repeats);
        }
        let rows = &batch.parts[part];
        let mut room = Room::of(batch, part);
        room.hashes_others = hashed == Hashed::Others;
        for row in &rows.good {
            let valued = crate::values::Valued {
                cell: rows.cell(column, *row as usize),
                block: &batch.block.bytes,
                store: &rows.store,
            };
            let Some(bytes) = valued.bytes() else {
                profile.empty += 1;
                continue;
            };
            if hashed == Hashed::All {
                profile.hashes.push(xxh3_128(bytes));
            }
            profile.take(bytes, *row, &mut repeats, &mut room);
        }
        for told in repeats.drain() {
            profile.value(told.value, told.row, told.times, &mut room);
        }
        profile.course = room.whole.course();
        profile.settle(&room);
        if room.ends.first.is_some() {
            profile.ends = Some((shown(&room.ends.least), shown(&room.ends.most)));
        }
        profile.patterns.retain(|(_, count)| *count > 0);
        if let Ok(mut hint) = hint.lock() {
            hint.learn(&profile, &repeats, &room);
        }
        profile
    }

    /// Takes a value up, unless it came before: then only how often is counted.
    #[inline]
    fn take<'b>(&mut self, bytes: &'b [u8], row: u32, repeats: &mut Repeats<'b>, room: &mut Room) {
        match repeats.again(bytes) {
            Told::Again => {}
            Told::NotKept => self.value(bytes, row, 1, room),
            Told::New(slot) => {
                let before = repeats.put(slot, bytes, row);
                if before.times > 0 {
                    self.value(before.value, before.row, before.times, room);
                }
                let noted = self.noted();
                self.value(bytes, row, 1, room);
                // While lines are still named, each line of such a value is.
                if self.noted() != noted {
                    repeats.forget(slot);
                }
            }
        }
    }

    fn noted(&self) -> usize {
        self.no_number.1.len() + self.no_date.1.len()
    }

    /// Takes a value up that comes `times` times, for the first time in `row`.
    fn value(&mut self, text: &[u8], row: u32, times: u64, room: &mut Room) {
        let plain = |b: Option<&u8>| b.is_some_and(|b| (b'!'..0x7F).contains(b));
        let value = match plain(text.first()) && plain(text.last()) {
            true => text,
            false => trimmed(text),
        };
        if value.is_empty() {
            self.quoted_empty += times;
            self.longest = self.longest.max(text.len());
            self.hash_other(text, room);
            return;
        }
        if value.len() != text.len() {
            self.blanks += times;
        }
        self.values += times;
        // A character is at least a byte, so only a longer text needs counting.
        if text.len() > self.longest {
            self.longest = self.longest.max(count_characters(text));
        }
        if let Some(word) = null_word(value) {
            *self.nulls.entry(word).or_default() += times;
            self.hash_other(text, room);
            return;
        }
        if self.examples.len() < KEPT {
            let text = shown(text);
            if !self.examples.contains(&text) {
                self.examples.push(text);
            }
        }
        room.ends.take(text);
        self.word(text, times);
        let numbers = room.whole.times();
        // Where most values are dates, a look for numbers is hardly ever worth it: a draft
        // of the bench file takes 4 % fewer instructions without.
        let are_dates = self.no_number.0 * 2 > self.values && !self.patterns.is_empty();
        let is_number = !(are_dates && value.len() != 8) && self.number(value, times, room);
        if room.whole.times() == numbers {
            self.hash_other(text, room);
        }
        let is_date = (!is_number || value.len() == 8) && self.date(value, times, room);
        if !is_number {
            note(&mut self.no_number, text, times, || room.line(row));
        }
        if !is_date {
            note(&mut self.no_date, text, times, || room.line(row));
        }
        if !is_number && !is_date {
            self.other(value, times);
        }
    }

    /// Hashes a value that is no short whole number. A repeat is hashed once more.
    #[inline]
    fn hash_other(&mut self, text: &[u8], room: &Room) {
        if room.hashes_others {
            self.hashes.push(xxh3_128(text));
        }
    }

    /// Takes a value up that is neither a number nor a date.
    fn other(&mut self, value: &[u8], times: u64) {
        if matches!(value.len(), 32..=45) && uuid::Uuid::try_parse_ascii(value).is_ok() {
            self.uuids += times;
        }
        if matches!(value.first(), Some(b'{' | b'['))
            && serde_json::from_slice::<serde::de::IgnoredAny>(value).is_ok()
        {
            self.documents += times;
        }
    }

    fn ends(&mut self, text: &str) {
        match &mut self.ends {
            None => self.ends = Some((text.to_string(), text.to_string())),
            Some((least, _)) if text < least.as_str() => *least = text.to_string(),
            Some((_, most)) if text > most.as_str() => *most = text.to_string(),
            Some(_) => {}
        }
    }

    fn word(&mut self, text: &[u8], times: u64) {
        if self.many_words {
            return;
        }
        match self
            .words
            .iter()
            .position(|(word, _)| word.as_bytes() == text)
        {
            Some(place) => self.words[place].1 += times,
            None if self.words.len() < WORDS && text.len() <= 10 => {
                self.words.push((shown(text), times));
            }
            None => self.many_words = true,
        }
    }

    /// Adds what another batch's values are like.
    pub fn add(&mut self, other: &Profile, file: &str) {
        self.values += other.values;
        self.empty += other.empty;
        self.quoted_empty += other.quoted_empty;
        self.blanks += other.blanks;
        for (word, count) in &other.nulls {
            *self.nulls.entry(word).or_default() += count;
        }
        self.longest = self.longest.max(other.longest);
        for example in &other.examples {
            if self.examples.len() < KEPT && !self.examples.contains(example) {
                self.examples.push(example.clone());
            }
        }
        if let Some((least, most)) = &other.ends {
            self.ends(least);
            self.ends(most);
        }
        self.whole += other.whole;
        if let Some((least, most)) = other.range {
            let (a, b) = self.range.unwrap_or((least, most));
            self.range = Some((a.min(least), b.max(most)));
        }
        self.leading_zeros += other.leading_zeros;
        for (marks, more) in self.marks.iter_mut().zip(&other.marks) {
            marks.add(more);
        }
        self.beyond += other.beyond;
        self.exponents += other.exponents;
        self.bare_exponents += other.bare_exponents;
        self.plus_signs += other.plus_signs;
        self.in_parentheses += other.in_parentheses;
        self.signs_behind += other.signs_behind;
        for (worn, count) in &other.worn {
            match self.worn.iter_mut().find(|(known, _)| known == worn) {
                Some((_, all)) => *all += count,
                None => self.worn.push((worn, *count)),
            }
        }
        if let Some((least, most)) = other.floats {
            let (a, b) = self.floats.unwrap_or((least, most));
            self.floats = Some((a.min(least), b.max(most)));
        }
        for (place, count) in &other.patterns {
            match self.patterns.iter_mut().find(|(other, _)| other == place) {
                Some((_, all)) => *all += count,
                None => self.patterns.push((*place, *count)),
            }
        }
        self.uuids += other.uuids;
        self.documents += other.documents;
        self.many_words |= other.many_words;
        for (word, count) in &other.words {
            match self.words.iter().position(|(known, _)| known == word) {
                Some(place) => self.words[place].1 += count,
                None if self.words.len() < WORDS => self.words.push((word.clone(), *count)),
                None => self.many_words = true,
            }
        }
        name(&mut self.no_number, &other.no_number, file);
        name(&mut self.no_date, &other.no_date, file);
    }
}

/// Which values are hashed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hashed {
    /// None: two are known to be the same.
    None,
    /// Those that are no short whole numbers, which are told apart by their course.
    Others,
    /// All.
    All,
}

/// What batches before were like.
#[derive(Debug, Default)]
pub struct Hint {
    /// The patterns that fitted, as places in the list of known ones.
    patterns: Vec<usize>,
    /// Whether values repeat; none if not known yet.
    repeats: Option<bool>,
}

impl Hint {
    fn learn(&mut self, profile: &Profile, repeats: &Repeats, room: &Room) {
        let given_up = |place: &usize| room.given_up.contains(place);
        self.patterns.retain(|place| !given_up(place));
        for (place, _) in &profile.patterns {
            if !self.patterns.contains(place) && !given_up(place) {
                self.patterns.push(*place);
            }
        }
        self.repeats = self.repeats.or(repeats.found());
    }
}

/// Room that a batch's values are looked at in.
struct Room<'b> {
    batch: &'b Batch,
    part: usize,
    ends: Ends,
    whole: numbers::Whole,
    points: numbers::Points,
    hashes_others: bool,
    store: Vec<u8>,
    tries: u64,
    /// Patterns that did not read a value that another one read.
    missed: Vec<usize>,
    misses: HashMap<usize, u64>,
    given_up: Vec<usize>,
    /// Patterns that alone read some value.
    needed: Vec<usize>,
}

impl Room<'_> {
    fn of(batch: &Batch, part: usize) -> Room<'_> {
        Room {
            batch,
            part,
            ends: Ends::default(),
            whole: numbers::Whole::default(),
            points: numbers::Points::default(),
            hashes_others: false,
            store: Vec::new(),
            tries: 0,
            missed: Vec::new(),
            misses: HashMap::new(),
            given_up: Vec::new(),
            needed: Vec::new(),
        }
    }

    /// The line of a row's record, 1-based.
    fn line(&self, row: u32) -> u64 {
        let block = &self.batch.block;
        let mark = &block.marks[self.batch.parts[self.part].marks[row as usize] as usize];
        block.first_line + u64::from(mark.line)
    }
}

/// A text column's values are UTF-8; a byte that is none would be seen as such.
fn shown(text: &[u8]) -> String {
    String::from_utf8_lossy(text).into_owned()
}

#[cold]
fn trimmed(text: &[u8]) -> &[u8] {
    std::str::from_utf8(text).map_or(text, |text| text.trim().as_bytes())
}

/// The word that a value is, if it is one that often means null.
#[inline]
pub fn null_word(value: &[u8]) -> Option<&'static str> {
    let may_be = matches!(
        value.first(),
        Some(b'N' | b'n' | b'-' | b'\\' | b'?' | b'#' | b'(' | b'.' | b'*' | b'<')
    );
    if !may_be || value.len() > LONGEST_NULL {
        return None;
    }
    NULL_WORDS
        .iter()
        .find(|word| word.as_bytes() == value)
        .copied()
}

type Against = (u64, Vec<(String, u64, String)>);

#[inline]
fn note(against: &mut Against, text: &[u8], times: u64, line: impl Fn() -> u64) {
    against.0 += times;
    if against.1.len() < NAMED {
        let text = shown(text).chars().take(40).collect();
        against.1.push((String::new(), line(), text));
    }
}

fn name(all: &mut Against, more: &Against, file: &str) {
    all.0 += more.0;
    for (_, line, text) in &more.1 {
        if all.1.len() < NAMED {
            all.1.push((file.to_string(), *line, text.clone()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_null_word_is_known() {
        for word in NULL_WORDS {
            assert_eq!(null_word(word.as_bytes()), Some(*word));
        }
        assert_eq!(null_word(b"Norrey"), None);
        assert_eq!(null_word(b"-1"), None);
    }

    #[test]
    fn the_ends_are_the_smallest_and_the_largest() {
        let ends = |values: &[&str]| {
            let mut ends = Ends::default();
            values.iter().for_each(|value| ends.take(value.as_bytes()));
            (shown(&ends.least), shown(&ends.most))
        };
        let pair = |least: &str, most: &str| (least.to_string(), most.to_string());
        assert_eq!(ends(&["m"]), pair("m", "m"));
        assert_eq!(ends(&["m", "c", "d", "crate"]), pair("c", "m"));
        assert_eq!(
            ends(&["c", "", "runner", "runner beans"]),
            pair("", "runner beans")
        );
        assert_eq!(
            ends(&["2031-04-28", "2031-04-27", "2031-04-30"]),
            pair("2031-04-27", "2031-04-30")
        );
    }

    #[test]
    fn a_character_is_one_however_many_bytes() {
        assert_eq!(count_characters("Grüße €".as_bytes()), 7);
    }
}
