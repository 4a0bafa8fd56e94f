//! Date and time patterns that a draft knows.

use std::collections::HashMap;
use std::sync::LazyLock;

use crate::types::Type;
use crate::values::{Cell, ColumnReader, ReaderOptions};

/// Dates, the usual ones first. Where two fit every value, the first is taken, and
/// the other named.
const DATES: &[&str] = &[
    "%Y-%m-%d",
    "%d/%m/%Y",
    "%m/%d/%Y",
    "%d.%m.%Y",
    "%Y/%m/%d",
    "%d-%m-%Y",
    "%m-%d-%Y",
    "%Y%m%d",
    "%d/%m/%y",
    "%m/%d/%y",
    "%d.%m.%y",
    "%d %b %Y",
    "%d-%b-%Y",
    "%d-%b-%y",
    "%b %d, %Y",
    "%d %B %Y",
    "%B %d, %Y",
    "%b %d %Y",
    "%B %d %Y",
    "%a, %d %b %Y",
    "%Y.%m.%d",
    "%d-%m-%y",
    "%m-%d-%y",
    "%Y-%j",
];

/// Moments that are written in an order of their own.
const MOMENTS: &[(&str, Type)] = &[
    ("%a, %d %b %Y %H:%M:%S %z", Type::TimestampTz),
    ("%d/%b/%Y:%H:%M:%S %z", Type::TimestampTz),
    ("%a %b %d %H:%M:%S %Y", Type::Timestamp),
    ("%Y%m%d%H%M%S", Type::Timestamp),
    ("%Y%m%dT%H%M%S", Type::Timestamp),
];

/// Times of day.
const TIMES: &[&str] = &["%H:%M:%S%.f", "%H:%M", "%I:%M:%S %p", "%I:%M %p"];

/// A pattern with the type that it reads.
pub struct Known {
    /// The pattern.
    pub text: String,
    /// Its type.
    pub ty: Type,
    reader: ColumnReader,
}

impl Known {
    /// Whether the pattern reads a value. `store` is room to work in.
    pub fn reads(&self, value: &[u8], store: &mut Vec<u8>) -> bool {
        store.clear();
        let mut cell = Cell::Null;
        let read = self.reader.read_text(value, store, &mut cell, |_| {});
        read.is_ok() && cell != Cell::Null
    }
}

/// What a date is made of beside digits: its marks in their order, and whether it has
/// letters. Few patterns share one, so that few are tried on a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Skeleton {
    marks: [u8; 12],
    letters: bool,
}

impl Skeleton {
    /// The skeleton of a value; none for what is no date.
    pub fn of(value: &[u8]) -> Option<Skeleton> {
        let mut marks = [0; 12];
        let mut count = 0;
        let mut letters = false;
        for byte in value {
            match *byte {
                b'0'..=b'9' => {}
                b'a'..=b'z' | b'A'..=b'Z' => letters = true,
                b'-' | b'/' | b'.' | b':' | b' ' | b',' | b'+' => {
                    *marks.get_mut(count)? = *byte;
                    count += 1;
                }
                _ => return None,
            }
        }
        Some(Skeleton { marks, letters })
    }

    /// The patterns, as places in [`KNOWN`], that may read a value of this skeleton.
    pub fn patterns(self) -> &'static [usize] {
        BY_SKELETON.get(&self).map_or(&[], Vec::as_slice)
    }
}

/// Which patterns write which skeletons.
static BY_SKELETON: LazyLock<HashMap<Skeleton, Vec<usize>>> = LazyLock::new(|| {
    let mut all: HashMap<Skeleton, Vec<usize>> = HashMap::new();
    let at = jiff::civil::date(2031, 11, 28).at(13, 58, 59, 500_000_000);
    for (place, known) in KNOWN.iter().enumerate() {
        for fraction in ["%.f", ""] {
            for offset in ["Z", "+02:00", "-02:00", "+0200", "-0200"] {
                let pattern = known
                    .text
                    .replace("%.f", fraction)
                    .replace("%:z", offset)
                    .replace("%z", offset);
                let sample = at.strftime(&pattern).to_string();
                if let Some(skeleton) = Skeleton::of(sample.as_bytes()) {
                    let places = all.entry(skeleton).or_default();
                    if places.last() != Some(&place) {
                        places.push(place);
                    }
                }
            }
        }
    }
    all
});

/// All patterns.
pub static KNOWN: LazyLock<Vec<Known>> = LazyLock::new(|| {
    let mut all: Vec<(String, Type)> = Vec::new();
    all.extend(DATES.iter().map(|d| ((*d).to_string(), Type::Date)));
    all.extend(TIMES.iter().map(|t| ((*t).to_string(), Type::Time)));
    for date in DATES {
        for time in TIMES {
            all.push((format!("{date} {time}"), Type::Timestamp));
        }
        all.push((format!("{date}T%H:%M:%S%.f"), Type::Timestamp));
        all.push((format!("{date} %H:%M:%S%.f%:z"), Type::TimestampTz));
        all.push((format!("{date}T%H:%M:%S%.f%:z"), Type::TimestampTz));
    }
    all.extend(MOMENTS.iter().map(|(text, ty)| ((*text).to_string(), *ty)));
    let known = |(text, ty): (String, Type)| {
        let options = ReaderOptions {
            patterns: vec![text.clone()],
            ..ReaderOptions::default()
        };
        let reader = ColumnReader::new(ty, options).ok()?;
        Some(Known { text, ty, reader })
    };
    all.into_iter().filter_map(known).collect()
});

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_pattern_is_one() {
        assert_eq!(KNOWN.len(), 24 + 4 + 24 * 7 + 5);
    }

    #[test]
    fn a_skeleton_leads_to_the_patterns_that_may_read_it() {
        let found = |value: &str| -> Vec<&str> {
            let value = value.as_bytes();
            let places = Skeleton::of(value).map_or(&[][..], Skeleton::patterns);
            let reads = |place: &&usize| KNOWN[**place].reads(value, &mut Vec::new());
            places
                .iter()
                .filter(reads)
                .map(|place| KNOWN[*place].text.as_str())
                .collect()
        };
        assert_eq!(found("2031-04-28"), ["%Y-%m-%d"]);
        assert_eq!(found("03/04/2031"), ["%d/%m/%Y", "%m/%d/%Y"]);
        assert_eq!(
            found("2031-04-28T10:30:00.5-02:00"),
            ["%Y-%m-%dT%H:%M:%S%.f%:z"]
        );
        assert_eq!(found("7 Mar 2031"), ["%d %b %Y"]);
        assert_eq!(found("March 7, 2031"), ["%B %d, %Y"]);
        assert_eq!(found("10:30 PM"), ["%I:%M %p"]);
        assert_eq!(found("Jan 1 2031"), ["%b %d %Y"]);
        assert_eq!(found("2031-118"), ["%Y-%j"]);
        assert_eq!(
            found("Sun, 05 Jan 2031 10:00:00 +0100"),
            ["%a, %d %b %Y %H:%M:%S %z"]
        );
        assert_eq!(
            found("28/Apr/2031:10:30:00 +0200"),
            ["%d/%b/%Y:%H:%M:%S %z"]
        );
        assert_eq!(found("crate 7"), [""; 0]);
    }
}
