//! What people see.

pub mod connection;
pub mod failure;
pub mod ledger;
pub mod lines;
pub mod progress;
pub mod records;
pub mod shared;
pub mod sides;
mod snippet;
pub mod summary;

use std::io;

use crate::failure::Failure;

/// More characters than any line has.
const UNCUT: usize = 1 << 30;

/// How many characters fit side by side where people read: the terminal's, or what COLUMNS
/// says. What goes into a file or another program is not cut.
pub fn width() -> usize {
    let said = std::env::var("COLUMNS")
        .ok()
        .and_then(|columns| columns.parse().ok());
    let terminal = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    terminal.or(said).unwrap_or(UNCUT).max(40)
}

/// Whether lines are cut to a width.
pub fn is_cut() -> bool {
    width() < UNCUT
}

/// A reader of standard output that goes away is no failure.
pub fn ended(written: io::Result<()>) -> Result<(), Failure> {
    match written {
        Err(e) if e.kind() != io::ErrorKind::BrokenPipe => Err(Failure::not_done(format!(
            "writing to standard output: {e}"
        ))),
        _ => Ok(()),
    }
}

/// Text cut after so many characters, with a mark that says so.
pub fn cut(value: &str, most: usize) -> String {
    match value.char_indices().nth(most) {
        Some((end, _)) => format!("{}…", &value[..end]),
        None => value.to_string(),
    }
}

/// A number with its digits in groups of three: `1,204,331`.
pub fn number(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// `1 record`, `2 records`.
pub fn counted(n: u64, word: &str) -> String {
    format!("{} {word}{}", number(n), if n == 1 { "" } else { "s" })
}

/// A time as people say it: `40 ms`, `1.9 s`, `3 min 20 s`.
pub fn time(time: std::time::Duration) -> String {
    match time.as_secs_f64() {
        s if s < 0.9995 => format!("{:.0} ms", s * 1000.0),
        s if s < 60.0 => format!("{s:.1} s"),
        s => format!("{} min {} s", s as u64 / 60, s as u64 % 60),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_grouped() {
        assert_eq!(number(0), "0");
        assert_eq!(number(999), "999");
        assert_eq!(number(1_204_331), "1,204,331");
        assert_eq!(counted(1, "record"), "1 record");
    }
}
