//! What a single value of the sample looks like.

use super::patterns::{KNOWN, Skeleton};
use super::profile::{looks_like_number, null_word};

/// What a value looks like.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ValueKind {
    /// Nothing, or spaces.
    Empty,
    /// A word that often means null.
    Null,
    /// A number, by any of the usual marks.
    Number,
    /// A date or a time.
    Moment,
    /// Anything else.
    Text,
}

impl ValueKind {
    /// That of a text.
    pub fn of(text: &str) -> ValueKind {
        let text = text.trim();
        let bytes = text.as_bytes();
        if text.is_empty() {
            ValueKind::Empty
        } else if null_word(bytes).is_some() {
            ValueKind::Null
        } else if looks_like_number(bytes) {
            ValueKind::Number
        } else if is_moment(bytes) {
            ValueKind::Moment
        } else {
            ValueKind::Text
        }
    }

    /// Whether it says something of what its column holds.
    pub fn is_value(self) -> bool {
        !matches!(self, ValueKind::Empty | ValueKind::Null)
    }
}

fn is_moment(bytes: &[u8]) -> bool {
    bytes.iter().any(u8::is_ascii_digit)
        && Skeleton::of(bytes).is_some_and(|skeleton| {
            let mut places = skeleton.patterns().iter();
            places.any(|place| KNOWN[*place].reads(bytes, &mut Vec::new()))
        })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_what_people_take_them_for() {
        for (text, kind) in [
            ("", ValueKind::Empty),
            ("  ", ValueKind::Empty),
            ("NA", ValueKind::Null),
            ("12", ValueKind::Number),
            ("-1,204.50", ValueKind::Number),
            ("$1,204.50", ValueKind::Number),
            ("12 %", ValueKind::Number),
            ("1e-05", ValueKind::Number),
            ("2031-04-28", ValueKind::Moment),
            ("10:30 PM", ValueKind::Moment),
            ("carrots", ValueKind::Text),
            ("12 crates", ValueKind::Text),
            ("2031-04-31", ValueKind::Text),
        ] {
            assert_eq!(ValueKind::of(text), kind, "{text}");
        }
    }
}
