//! Names of files: their order, those that are addresses, and those that any folder may hold.

use std::cmp::Ordering;
use std::path::PathBuf;

/// Whether a word is an address and no path: `s3://market/out/sales.csv`.
pub fn is_address(word: &str) -> bool {
    let Some((scheme, _)) = word.split_once("://") else {
        return false;
    };
    scheme.starts_with(|c: char| c.is_ascii_alphabetic())
        && scheme
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || "+-.".contains(c))
}

/// The last part of a name that comes from elsewhere, as a name that any folder may hold:
/// without slashes and control characters, not too long, and never `.` or `..`.
///
/// ```
/// use barrow_core::source::files::safe_name;
/// assert_eq!(safe_name("out/../../w\\n.csv\n").to_str(), Some("n.csv_"));
/// assert_eq!(safe_name("out/..").to_str(), Some("file"));
/// ```
pub fn safe_name(name: &str) -> PathBuf {
    let own = name.rsplit(['/', '\\']).find(|part| !part.is_empty());
    let clean = |c: char| if c.is_control() { '_' } else { c };
    let clean: String = own.unwrap_or_default().chars().map(clean).collect();
    let start = clean.len().saturating_sub(LONGEST_NAME);
    // The end of a name says what is in the file.
    let start = (start..=clean.len()).find(|at| clean.is_char_boundary(*at));
    match &clean[start.unwrap_or(0)..] {
        "" | "." | ".." => PathBuf::from("file"),
        clean => PathBuf::from(clean),
    }
}

/// How many bytes of a name from elsewhere are kept: folders take 255, and rejects are
/// numbered.
const LONGEST_NAME: usize = 200;

/// Natural order: runs of digits count as numbers, so `week2` is before `week10`.
pub fn natural(a: &str, b: &str) -> Ordering {
    let (mut a, mut b) = (a.as_bytes(), b.as_bytes());
    loop {
        let (Some(x), Some(y)) = (a.first(), b.first()) else {
            return a.len().cmp(&b.len());
        };
        if x.is_ascii_digit() && y.is_ascii_digit() {
            let (one, rest_a) = number(a);
            let (two, rest_b) = number(b);
            // Without leading zeros the longer number is the larger one; with
            // the same value, the one with fewer zeros comes first.
            let order = trimmed(one)
                .len()
                .cmp(&trimmed(two).len())
                .then_with(|| trimmed(one).cmp(trimmed(two)))
                .then(one.len().cmp(&two.len()));
            if order != Ordering::Equal {
                return order;
            }
            (a, b) = (rest_a, rest_b);
        } else if x != y {
            return x.cmp(y);
        } else {
            (a, b) = (&a[1..], &b[1..]);
        }
    }
}

fn number(text: &[u8]) -> (&[u8], &[u8]) {
    let end = text
        .iter()
        .position(|b| !b.is_ascii_digit())
        .unwrap_or(text.len());
    text.split_at(end)
}

fn trimmed(digits: &[u8]) -> &[u8] {
    let zeros = digits.iter().take_while(|d| **d == b'0').count();
    &digits[zeros..]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weeks_come_in_their_order() {
        let mut names = ["week10", "week2", "week02b", "week2a", "Week1"];
        names.sort_by(|a, b| natural(a, b));
        assert_eq!(names, ["Week1", "week2", "week2a", "week02b", "week10"]);
    }

    #[test]
    fn an_address_is_no_path() {
        for (word, expected) in [
            ("s3://market/w.csv", true),
            ("https://market.example/w.csv", true),
            ("a:b/w.csv", false),
            ("C:/w.csv", false),
            ("odd name://w.csv", false),
            ("://w.csv", false),
        ] {
            assert_eq!(is_address(word), expected, "{word}");
        }
    }
}
