//! One judgement for all columns: what one proves holds for the others.
//!
//! Who writes a file writes its numbers, dates and gaps in one way. So a column that can
//! be read only one way decides for those that can be read in two.

use std::collections::BTreeSet;

use super::patterns::KNOWN;
use super::profile::{MARKS, Profile};

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Class {
    /// No value at all.
    Nothing,
    /// Numbers.
    Number,
    /// Dates, times, moments.
    Moment,
    /// True and false.
    Truth,
    /// UUIDs.
    Uuid,
    /// JSON documents.
    Json,
    /// Anything else.
    Text,
}

/// Whether the day or the month comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Order {
    /// The day.
    DayFirst,
    /// The month.
    MonthFirst,
}

/// What holds for the whole of the files.
#[derive(Debug, Clone, Default)]
pub struct Judgement {
    /// The decimal mark, where a column or the delimiter proves it.
    pub decimal: Option<&'static str>,
    /// The order of day and month, where a column proves it.
    pub order: Option<Order>,
    /// Words that stand for null among numbers, dates or truth values.
    pub nulls: BTreeSet<&'static str>,
    /// The pairs of words for true and false that a column has both of.
    pub truths: Vec<(&'static str, &'static str)>,
    /// Whether spaces stand around the values of most typed columns.
    pub trims: bool,
}

/// Words for true and false that a draft knows, in small letters.
pub const TRUTHS: &[(&str, &str)] = &[
    ("true", "false"),
    ("t", "f"),
    ("yes", "no"),
    ("y", "n"),
    ("on", "off"),
    ("ja", "nein"),
    ("j", "n"),
];

/// Judges over all columns of all record types.
pub fn judge(profiles: &[Profile], delimiter: &str) -> Judgement {
    let mut judgement = Judgement::default();
    for profile in profiles {
        if let Some(pair) = both_truths(profile) {
            judgement.truths.push(pair);
        }
    }
    judgement.decimal = decimal(profiles, delimiter);
    judgement.order = order(profiles);
    let (mut typed, mut spaced) = (0, 0);
    let mut proven = BTreeSet::new();
    for profile in profiles {
        let class = class(profile, &judgement);
        if matches!(class, Class::Number | Class::Moment | Class::Truth) {
            proven.extend(profile.nulls.keys().map(|word| word.to_lowercase()));
            typed += profile.values;
            spaced += profile.blanks;
        }
    }
    // A word is proven in capitals as in small letters.
    let words = profiles.iter().flat_map(|profile| profile.nulls.keys());
    judgement.nulls = words
        .filter(|word| proven.contains(&word.to_lowercase()))
        .copied()
        .collect();
    judgement.trims = spaced * 2 > typed;
    judgement
}

/// Values that say something: neither null words nor spaces.
pub fn told(p: &Profile) -> u64 {
    p.values - p.nulls.values().sum::<u64>()
}

/// What a column holds.
pub fn class(p: &Profile, judgement: &Judgement) -> Class {
    let values = told(p);
    match () {
        () if values == 0 => Class::Nothing,
        () if is_number(p, values) => Class::Number,
        () if p.no_date.0 == 0 && !p.patterns.is_empty() => Class::Moment,
        () if truth(p, judgement).is_some() => Class::Truth,
        () if p.uuids == values => Class::Uuid,
        () if p.documents == values => Class::Json,
        () => Class::Text,
    }
}

fn is_number(p: &Profile, values: u64) -> bool {
    p.no_number.0 == 0
        && p.leading_zeros == 0
        && !fitting(p, values).is_empty()
        && !are_codes(p, values)
        && !are_alike(p, values)
        && wears_one_thing(p, values)
}

/// The ways, as places in [`MARKS`], to read all values.
pub fn fitting(p: &Profile, values: u64) -> Vec<usize> {
    let fits = |place: &usize| p.marks[*place].fits + p.exponents == values;
    let all: Vec<usize> = (0..MARKS.len()).filter(fits).collect();
    // A number with an exponent has a point.
    match p.exponents {
        0 => all,
        _ => all
            .into_iter()
            .filter(|place| MARKS[*place].0 == ".")
            .collect(),
    }
}

/// Whether numbers are rather codes: `1E3` among whole numbers, `+49…` throughout.
fn are_codes(p: &Profile, values: u64) -> bool {
    let wholes = p.whole + p.bare_exponents;
    let exponents = p.bare_exponents > 0 && p.bare_exponents == p.exponents && wholes == values;
    let phones = p.plus_signs == values
        && p.whole == values
        && p.range.is_some_and(|(low, _)| low > 9_999_999);
    exponents || phones
}

/// Whether all values have the same groups of three digits, as addresses have.
pub fn are_alike(p: &Profile, values: u64) -> bool {
    fitting(p, values)
        .first()
        .is_some_and(|first| p.marks[*first].alike == values)
}

/// Whether numbers are of one measure by what stands around them: `12%` and `0.12` are
/// not, nor are `$5` and `€5`.
pub fn wears_one_thing(p: &Profile, values: u64) -> bool {
    match p.worn.as_slice() {
        [] => true,
        // A price without its sign is a price; a number without `%` is another measure.
        [("%" | "‰", times)] => times * 10 >= values * 9,
        [_] => true,
        _ => false,
    }
}

fn decimal(profiles: &[Profile], delimiter: &str) -> Option<&'static str> {
    let (mut points, mut commas, mut either) = (0, 0, 0);
    for p in profiles {
        let values = told(p);
        if values == 0 || p.whole == values || !is_number(p, values) {
            continue;
        }
        let fits = fitting(p, values);
        let reads = |mark: &str| fits.iter().any(|place| MARKS[*place].0 == mark);
        match (reads("."), reads(",")) {
            (true, false) => points += 1,
            (false, true) => commas += 1,
            _ => either += 1,
        }
    }
    match (points, commas) {
        (1.., 0) => Some("."),
        (0, 1..) => Some(","),
        // Where the comma parts fields, it parts groups within quotes.
        (0, 0) if either > 0 && delimiter == "," => Some("."),
        _ => None,
    }
}

/// The order of day and month that a pattern has, if it has one in digits.
pub fn order_of(pattern: &str) -> Option<Order> {
    let day = pattern.find("%d")?;
    let month = pattern.find("%m")?;
    let year = pattern.find("%Y").or_else(|| pattern.find("%y"))?;
    (day < year && month < year).then_some(if day < month {
        Order::DayFirst
    } else {
        Order::MonthFirst
    })
}

fn order(profiles: &[Profile]) -> Option<Order> {
    let (mut days, mut months) = (0, 0);
    for p in profiles {
        let values = told(p);
        if values == 0 || p.no_date.0 > 0 {
            continue;
        }
        let fits = p.patterns.iter().filter(|(_, count)| *count == values);
        let orders: Vec<Option<Order>> = fits
            .map(|(place, _)| order_of(&KNOWN[*place].text))
            .collect();
        let has = |order: Order| orders.contains(&Some(order));
        match (has(Order::DayFirst), has(Order::MonthFirst)) {
            (true, false) => days += 1,
            (false, true) => months += 1,
            _ => {}
        }
    }
    match (days, months) {
        (1.., 0) => Some(Order::DayFirst),
        (0, 1..) => Some(Order::MonthFirst),
        _ => None,
    }
}

/// The column's words in small letters; none if they are too many.
fn words(p: &Profile) -> Option<BTreeSet<String>> {
    let counted: u64 = p.words.iter().map(|(_, count)| count).sum();
    let is_all = !p.many_words && counted == told(p) && !p.words.is_empty();
    is_all.then(|| {
        p.words
            .iter()
            .map(|(word, _)| word.trim().to_lowercase())
            .collect()
    })
}

fn both_truths(p: &Profile) -> Option<(&'static str, &'static str)> {
    let words = words(p)?;
    let is =
        |(yes, no): &&(&str, &str)| words.len() == 2 && words.contains(*yes) && words.contains(*no);
    TRUTHS.iter().find(is).copied()
}

/// The words for true and false of a column: both are there, or another column has both.
pub fn truth(p: &Profile, judgement: &Judgement) -> Option<(&'static str, &'static str)> {
    both_truths(p).or_else(|| {
        let words = words(p)?;
        let is = |(yes, no): &&(&str, &str)| words.iter().all(|word| word == yes || word == no);
        judgement.truths.iter().find(is).copied()
    })
}
