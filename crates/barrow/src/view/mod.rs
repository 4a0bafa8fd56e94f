//! What people see.

pub mod check;
pub mod columns;
pub mod connection;
pub mod draft;
pub mod draft_each;
pub mod export;
pub mod failure;
pub mod help;
pub mod json;
pub mod ledger;
pub mod lines;
pub mod progress;
pub mod query;
pub mod records;
pub mod shared;
mod snippet;
pub mod status;
pub mod summary;
pub mod together;
pub mod undo;

use std::io::{self, BufWriter, Write};

use anstream::AutoStream;
use barrow_run::Error;
use unicode_width::UnicodeWidthStr;

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

/// How many columns of a terminal text takes that [`barrow_core::escape`] has made visible.
pub fn display_width(text: &str) -> usize {
    // Most text is ASCII, of which no character has to be looked up: a printed table takes 0.90
    // of the instructions with this, and with the width of the terminal asked for once.
    match text.is_ascii() {
        true => text.len(),
        false => text.width(),
    }
}

/// Prints text, in large pieces: standard output alone asks the system once a line, which of
/// the 10,000 files of a status was 20,000 times. Where nobody sees colours, there are none.
pub fn printed(write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> Result<(), Error> {
    let choice = AutoStream::choice(&io::stdout());
    let out: Box<dyn Write> = Box::new(BufWriter::new(io::stdout().lock()));
    let mut out = AutoStream::new(out, choice);
    ended(write(&mut out).and_then(|()| out.flush()))
}

/// A reader of standard output that goes away is no failure.
pub fn ended(written: io::Result<()>) -> Result<(), Error> {
    match written {
        Err(e) if e.kind() != io::ErrorKind::BrokenPipe => {
            Err(Error::failed(format!("writing to standard output: {e}")))
        }
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
    use std::time::Duration;

    use super::*;

    #[test]
    fn wide_characters_take_two_columns() {
        assert_eq!(
            ["", "kale", "Café", "市場", "🥕"].map(display_width),
            [0, 4, 4, 4, 2]
        );
    }

    #[test]
    fn times_are_said_as_people_say_them() {
        assert_eq!(time(Duration::from_millis(40)), "40 ms");
        assert_eq!(time(Duration::from_millis(1_940)), "1.9 s");
        assert_eq!(time(Duration::from_secs(200)), "3 min 20 s");
    }
}
