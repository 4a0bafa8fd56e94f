//! The words that options take.

use barrow_core::words::Mode;
use barrow_targets::registry::KINDS;
use clap::ValueEnum;
use clap::builder::{PossibleValue, PossibleValuesParser};

/// The variable of the environment that names a database.
pub const DATABASE: &str = "BARROW_DATABASE";

/// The kinds of SQL that there are.
pub fn dialects() -> PossibleValuesParser {
    let value = |kind: &barrow_targets::registry::Kind| {
        let aliases = kind.schemes.iter().filter(|scheme| **scheme != kind.word);
        PossibleValue::new(kind.word)
            .help(kind.dialect.name())
            .aliases(aliases.copied().collect::<Vec<_>>())
    };
    PossibleValuesParser::new(KINDS.iter().map(value))
}

/// How the result is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Report {
    /// For people
    Text,
    /// One JSON document
    Json,
}

/// What becomes of the rows that the table has.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum ModeWord {
    /// They stay
    Append,
    /// They go, in the same transaction
    Truncate,
    /// The table is made anew
    Replace,
    /// They stay, and those whose key comes again are updated
    Merge,
}

impl From<ModeWord> for Mode {
    fn from(word: ModeWord) -> Mode {
        match word {
            ModeWord::Append => Mode::Append,
            ModeWord::Truncate => Mode::Truncate,
            ModeWord::Replace => Mode::Replace,
            ModeWord::Merge => Mode::Merge,
        }
    }
}

/// When to use color.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum Color {
    /// On a terminal
    Auto,
    /// Also into a file or pipe
    Always,
    /// Not at all
    Never,
}

impl Color {
    /// Sets it for everything that is printed.
    pub fn apply(self) {
        match self {
            Color::Auto => anstream::ColorChoice::Auto,
            Color::Always => anstream::ColorChoice::Always,
            Color::Never => anstream::ColorChoice::Never,
        }
        .write_global();
    }
}
