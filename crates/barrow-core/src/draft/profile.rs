//! What the values of one column are like.

use std::collections::HashMap;
use std::sync::Mutex;

use xxhash_rust::xxh3::xxh3_128;

use super::patterns::{KNOWN, Skeleton};
use crate::flow::Batch;

/// Words that often mean null, beside an empty field.
pub const NULL_WORDS: &[&str] = &[
    "N/A", "n/a", "NA", "NULL", "null", "Null", "-", "--", "None", "none", "\\N", "?", "#N/A",
    "NaN", "nan", "(null)", "nil",
];

/// No word that means null is longer.
const LONGEST_NULL: usize = 6;

/// Examples that are kept, and lines that are named, at the most.
const KEPT: usize = 3;
const NAMED: usize = 5;

/// Distinct words are counted up to so many: a truth value has two.
const WORDS: usize = 3;

/// Values of a batch that no pattern fits so far are tried with others so often.
const TRIES: u64 = 50;

/// A pattern that does not fit so many values is given up, where another fits more.
const MISSES: u64 = 3;

/// How a number's marks may be read.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Marks {
    /// Values that are numbers with these marks.
    pub fits: u64,
    /// The most digits before the mark.
    pub whole: u32,
    /// The most digits after it.
    pub fraction: u32,
    /// Values that have a group mark.
    pub grouped: u64,
}

/// The four usual ways to write a number: decimal mark and group mark.
pub const MARKS: [(&str, &str); 4] = [(".", ""), (",", ""), (".", ","), (",", ".")];

/// What the values of one column are like.
#[derive(Debug, Clone, Default)]
pub struct Profile {
    /// Values that are not empty.
    pub values: u64,
    /// Fields that are empty and not in quotes.
    pub empty: u64,
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
    /// For each of [`MARKS`].
    pub marks: [Marks; 4],
    /// Numbers with an exponent.
    pub exponents: u64,
    /// The smallest and largest number, for people.
    pub numbers: Option<(f64, f64)>,
    /// Patterns that fit, as places in [`KNOWN`], and how many values each.
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
    /// Hashes of this batch's values.
    pub(super) hashes: Vec<u128>,
}

impl Profile {
    /// The values of a column of a batch. `hint` holds the patterns that fitted batches
    /// before; `distinct` says whether its values are all different so far.
    pub fn of(column: usize, batch: &Batch, hint: &Mutex<Vec<usize>>, distinct: bool) -> Profile {
        let mut profile = Profile::default();
        if let Ok(hint) = hint.lock() {
            profile.patterns = hint.iter().map(|place| (*place, 0)).collect();
        }
        let mut room = Room::default();
        let rows = &batch.parts[0];
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
            let Ok(text) = std::str::from_utf8(bytes) else {
                continue;
            };
            if distinct {
                profile.hashes.push(xxh3_128(bytes));
            }
            let mark = &batch.block.marks[rows.marks[*row as usize] as usize];
            let line = || batch.block.first_line + u64::from(mark.line);
            profile.value(text, line, &mut room);
        }
        profile.patterns.retain(|(_, count)| *count > 0);
        if let Ok(mut hint) = hint.lock() {
            let given_up = |place: &usize| room.given_up.contains(place);
            hint.retain(|place| !given_up(place));
            for (place, _) in &profile.patterns {
                if !hint.contains(place) && !given_up(place) {
                    hint.push(*place);
                }
            }
        }
        profile
    }

    fn value(&mut self, text: &str, line: impl Fn() -> u64, room: &mut Room) {
        let plain = |b: Option<&u8>| b.is_some_and(|b| (b'!'..0x7F).contains(b));
        let value = match plain(text.as_bytes().first()) && plain(text.as_bytes().last()) {
            true => text,
            false => text.trim(),
        };
        self.blanks += u64::from(value.len() != text.len());
        // A character is at least a byte, so only a longer text needs counting.
        if text.len() > self.longest {
            self.longest = self.longest.max(text.chars().count());
        }
        if value.len() <= LONGEST_NULL
            && let Some(word) = NULL_WORDS.iter().find(|word| **word == value)
        {
            *self.nulls.entry(word).or_default() += 1;
            self.values += 1;
            return;
        }
        self.values += 1;
        if self.examples.len() < KEPT && !self.examples.iter().any(|e| e == text) {
            self.examples.push(text.to_string());
        }
        self.ends(text);
        self.word(text);
        let is_number = self.number(value);
        let is_date = (!is_number || value.len() == 8) && self.date(value, room);
        if !is_number {
            note(&mut self.no_number, text, &line);
        }
        if !is_date {
            note(&mut self.no_date, text, &line);
        }
        if !is_number && !is_date {
            let may_be = matches!(value.len(), 32..=45);
            self.uuids += u64::from(may_be && uuid::Uuid::try_parse(value).is_ok());
            let document = value.starts_with(['{', '['])
                && serde_json::from_str::<serde::de::IgnoredAny>(value).is_ok();
            self.documents += u64::from(document);
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

    fn word(&mut self, text: &str) {
        if self.many_words {
            return;
        }
        match self.words.iter().position(|(word, _)| word == text) {
            Some(place) => self.words[place].1 += 1,
            None if self.words.len() < WORDS && text.len() <= 10 => {
                self.words.push((text.to_string(), 1));
            }
            None => self.many_words = true,
        }
    }

    /// Takes a value up as a number, if it is one in any of the usual ways.
    fn number(&mut self, value: &str) -> bool {
        let bytes = value.as_bytes();
        let digits = match bytes {
            [b'-' | b'+', rest @ ..] => rest,
            _ => bytes,
        };
        if !digits
            .first()
            .is_some_and(|b| b.is_ascii_digit() || matches!(b, b'.' | b','))
        {
            return false;
        }
        if digits.iter().all(u8::is_ascii_digit) {
            self.leading_zeros += u64::from(digits.len() > 1 && digits[0] == b'0');
            let significant = digits.len() - digits.iter().take_while(|b| **b == b'0').count();
            for marks in &mut self.marks {
                marks.fits += 1;
                marks.whole = marks.whole.max(significant as u32);
            }
            self.whole += 1;
            // Few numbers have more than 18 digits, which 64 bits always hold.
            let n = match value.len() {
                0..=18 => value.parse::<i64>().map(i128::from),
                _ => value.parse::<i128>(),
            };
            if let Ok(n) = n {
                let (least, most) = self.range.unwrap_or((n, n));
                self.range = Some((least.min(n), most.max(n)));
            }
            if value.len() <= 18 {
                return true;
            }
            self.magnitude(value);
            return true;
        }
        if digits.iter().any(|b| matches!(b, b'e' | b'E')) {
            let is_one = digits.len() > 2 && value.parse::<f64>().is_ok_and(f64::is_finite);
            self.exponents += u64::from(is_one);
            if is_one {
                self.magnitude(value);
            }
            return is_one;
        }
        if let Some(fits) = self.plain_decimal(value, digits) {
            return fits;
        }
        let mut fits = false;
        for (place, (decimal, group)) in MARKS.iter().enumerate() {
            if let Some((whole, fraction, grouped)) =
                parted(digits, decimal.as_bytes()[0], group.bytes().next())
            {
                let marks = &mut self.marks[place];
                marks.fits += 1;
                marks.whole = marks.whole.max(whole);
                marks.fraction = marks.fraction.max(fraction);
                marks.grouped += u64::from(grouped);
                fits = true;
            }
        }
        if fits {
            let leading = digits.len() > 1 && digits[0] == b'0' && digits[1].is_ascii_digit();
            self.leading_zeros += u64::from(leading);
            match value.contains(',') {
                true => self.magnitude(&value.replace(',', ".")),
                false => self.magnitude(value),
            }
        }
        fits
    }

    /// Digits with one point among them, which most decimals are: true for such a
    /// number, none for what has to be looked at in every way.
    fn plain_decimal(&mut self, value: &str, digits: &[u8]) -> Option<bool> {
        let mut mark = None;
        let mut number = 0u64;
        for (place, byte) in digits.iter().enumerate() {
            match byte {
                b'0'..=b'9' => number = number.wrapping_mul(10) + u64::from(byte - b'0'),
                b'.' if mark.is_none() => mark = Some(place),
                _ => return None,
            }
        }
        let mark = mark?;
        let after = digits.len() - mark - 1;
        // A point before three digits may part groups, and few digits are exact.
        if mark == 0 || after == 0 || after == 3 || digits.len() > 16 {
            return None;
        }
        let zeros = digits[..mark].iter().take_while(|b| **b == b'0').count();
        let trailing = digits[mark + 1..]
            .iter()
            .rev()
            .take_while(|b| **b == b'0')
            .count();
        for place in [0, 2] {
            let marks = &mut self.marks[place];
            marks.fits += 1;
            marks.whole = marks.whole.max((mark - zeros) as u32);
            marks.fraction = marks.fraction.max((after - trailing) as u32);
        }
        self.leading_zeros += u64::from(mark > 1 && digits[0] == b'0');
        let size = number as f64 / 10f64.powi(after as i32);
        let n = if value.starts_with('-') { -size } else { size };
        let (least, most) = self.numbers.unwrap_or((n, n));
        self.numbers = Some((least.min(n), most.max(n)));
        Some(true)
    }

    fn magnitude(&mut self, value: &str) {
        if let Ok(n) = value.parse::<f64>() {
            let (least, most) = self.numbers.unwrap_or((n, n));
            self.numbers = Some((least.min(n), most.max(n)));
        }
    }

    /// Takes a value up as a date or time, if a known pattern reads it.
    fn date(&mut self, value: &str, room: &mut Room) -> bool {
        if !(4..=40).contains(&value.len()) || !value.bytes().any(|b| b.is_ascii_digit()) {
            return false;
        }
        let mut fits = false;
        let mut misses = false;
        for (place, count) in &mut self.patterns {
            if room.given_up.contains(place) {
                continue;
            }
            if KNOWN[*place].reads(value, &mut room.store) {
                *count += 1;
                fits = true;
            } else {
                misses = true;
                room.missed.push(*place);
            }
        }
        if fits && misses {
            self.give_up(room);
        }
        room.missed.clear();
        if fits || room.tries >= TRIES {
            return fits;
        }
        room.tries += 1;
        let Some(skeleton) = Skeleton::of(value) else {
            return false;
        };
        for place in skeleton.patterns() {
            let known = self.patterns.iter().any(|(other, _)| other == place);
            if !known && KNOWN[*place].reads(value, &mut room.store) {
                self.patterns.push((*place, 1));
                fits = true;
            }
        }
        fits
    }

    /// A pattern that misses what another reads is no longer tried, once it has
    /// missed more than a few: it can fit no more than the other does.
    fn give_up(&mut self, room: &mut Room) {
        for place in &room.missed {
            let misses = room.misses.entry(*place).or_default();
            *misses += 1;
            if *misses > MISSES {
                room.given_up.push(*place);
            }
        }
    }

    /// Adds what another batch's values are like.
    pub fn add(&mut self, other: &Profile, file: &str) {
        self.values += other.values;
        self.empty += other.empty;
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
            marks.fits += more.fits;
            marks.whole = marks.whole.max(more.whole);
            marks.fraction = marks.fraction.max(more.fraction);
            marks.grouped += more.grouped;
        }
        self.exponents += other.exponents;
        if let Some((least, most)) = other.numbers {
            let (a, b) = self.numbers.unwrap_or((least, most));
            self.numbers = Some((a.min(least), b.max(most)));
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

/// Room that a batch's values are looked at in.
#[derive(Default)]
struct Room {
    store: Vec<u8>,
    tries: u64,
    /// Patterns that did not read a value that another one read.
    missed: Vec<usize>,
    misses: HashMap<usize, u64>,
    given_up: Vec<usize>,
}

type Against = (u64, Vec<(String, u64, String)>);

fn note(against: &mut Against, text: &str, line: &impl Fn() -> u64) {
    against.0 += 1;
    if against.1.len() < NAMED {
        against
            .1
            .push((String::new(), line(), text.chars().take(40).collect()));
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

/// How many significant digits stand before the decimal mark and after it, and
/// whether a group mark stands among them; none for what is no such number.
fn parted(digits: &[u8], decimal: u8, group: Option<u8>) -> Option<(u32, u32, bool)> {
    let (whole, fraction) = match digits.iter().position(|b| *b == decimal) {
        Some(at) => (&digits[..at], &digits[at + 1..]),
        None => (digits, &digits[..0]),
    };
    if !fraction.iter().all(u8::is_ascii_digit) || digits.len() == 1 {
        return None;
    }
    let mut count = 0;
    let mut groups = 0;
    let mut fits = true;
    let mut start = 0;
    loop {
        let end = group
            .and_then(|group| whole[start..].iter().position(|b| *b == group))
            .map_or(whole.len(), |at| start + at);
        let part = &whole[start..end];
        if !part.iter().all(u8::is_ascii_digit) {
            return None;
        }
        // The first group may be shorter; a later one has three digits.
        fits &= match groups {
            0 => (1..=3).contains(&part.len()),
            _ => part.len() == 3,
        };
        groups += 1;
        count += part.len();
        if end == whole.len() {
            break;
        }
        start = end + 1;
    }
    let grouped = groups > 1;
    if grouped && !fits {
        return None;
    }
    let zeros = whole.iter().take_while(|b| **b == b'0').count();
    let fraction = fraction.len() - fraction.iter().rev().take_while(|b| **b == b'0').count();
    Some(((count - zeros) as u32, fraction as u32, grouped))
}
