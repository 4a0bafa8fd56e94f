//! The spec as it is written: every key that was given, with its place.
//!
//! Nothing is decided here. Defaults and contradictions are the business of
//! [`super::check`].

use std::ops::Range;

use super::problem::At;
use super::section::words;
use super::types::Type;
use crate::source::Packing;

/// A whole spec as written.
#[derive(Debug, Default)]
pub struct Written {
    /// `[source]`
    pub source: Source,
    /// `[records]`
    pub records: Records,
    /// `[delimited]`
    pub delimited: Delimited,
    /// `[fixed] measure`
    pub measure: Option<At<Measure>>,
    /// `[values]`
    pub values: Values,
    /// `[columns]`, in the order of the spec.
    pub columns: Vec<Column>,
    /// Where `[columns]` stands, if it is there.
    pub columns_span: Option<Range<usize>>,
    /// `[target]`
    pub target: Target,
    /// `[rejects]`
    pub rejects: Rejects,
}

/// `[source]`
#[derive(Debug, Default)]
pub struct Source {
    /// Paths and globs.
    pub files: Option<Vec<At<String>>>,
    /// A label of an encoding, or `auto`.
    pub encoding: Option<At<String>>,
    /// Bytes that do not decode.
    pub when_undecodable: Option<At<WhenUndecodable>>,
    /// What stands in for them.
    pub stand_in: Option<At<String>>,
    /// How the files are packed.
    pub packing: Option<At<Packing>>,
}

words! {
    /// What is done with a field whose bytes do not decode.
    WhenUndecodable {
        /// Its record is rejected.
        Reject = "reject",
        /// It is null.
        Null = "null",
        /// `stand_in` takes their place.
        Replace = "replace",
        /// The load stops.
        Stop = "stop",
    }
}

words! {
    /// How records are laid out.
    Layout {
        /// Fields are set apart by a delimiter.
        Delimited = "delimited",
        /// Fields have a set width.
        Fixed = "fixed",
    }
}

words! {
    /// What is done with a record that has too few fields.
    WhenShort {
        /// It is rejected.
        Reject = "reject",
        /// The missing fields are null.
        Null = "null",
        /// The next lines are joined to it until it has all its fields.
        Join = "join",
    }
}

words! {
    /// What is done with a record that has too many fields.
    WhenLong {
        /// It is rejected.
        Reject = "reject",
        /// The surplus is dropped.
        Drop = "drop",
    }
}

words! {
    /// What is done with a blank line.
    WhenBlank {
        /// It is left out.
        Skip = "skip",
        /// It is rejected.
        Reject = "reject",
    }
}

words! {
    /// What the header line is for.
    Header {
        /// Columns are found by its names.
        Names = "names",
        /// It is read past.
        Skip = "skip",
        /// There is none.
        None = "none",
    }
}

/// `[records]`
#[derive(Debug, Default)]
pub struct Records {
    /// How records are laid out.
    pub layout: Option<At<Layout>>,
    /// `auto`, `lf`, `crlf`, `cr`, or the text itself.
    pub ending: Option<At<String>>,
    /// How wide a record without an end is.
    pub record_width: Option<At<u64>>,
    /// Lines before the header.
    pub preamble: Option<At<PreambleKey>>,
    /// What the header is for.
    pub header: Option<At<Header>>,
    /// Lines after the data.
    pub trailer: Option<At<u64>>,
    /// What a comment line starts with.
    pub comment: Option<At<String>>,
    /// Blank lines.
    pub when_blank: Option<At<WhenBlank>>,
    /// Records with too few fields.
    pub when_short: Option<At<WhenShort>>,
    /// Records with too many fields.
    pub when_long: Option<At<WhenLong>>,
    /// The longest record, in bytes.
    pub longest: Option<At<u64>>,
}

/// `[delimited]`
#[derive(Debug, Default)]
pub struct Delimited {
    /// What stands between two fields.
    pub delimiter: Option<At<String>>,
    /// What encloses a field that holds a delimiter or a line end.
    pub quote: Option<At<String>>,
    /// `doubled`, or the escape character.
    pub escape: Option<At<String>>,
}

/// Lines before the header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PreambleKey {
    /// As many as come before the line with the columns' names.
    Auto,
    /// So many.
    Lines(u64),
}

words! {
    /// What the widths of a fixed layout count.
    Measure {
        /// Characters.
        Characters = "characters",
        /// Bytes of the file.
        Bytes = "bytes",
    }
}

words! {
    /// Where a number's sign stands.
    Sign {
        /// Before the digits.
        Leading = "leading",
        /// After the digits.
        Trailing = "trailing",
        /// In the last digit.
        Overpunched = "overpunched",
    }
}

words! {
    /// How a number is written in its bytes.
    Form {
        /// As text.
        Text = "text",
        /// Two digits a byte, the sign in the last half byte.
        Packed = "packed",
        /// Two's complement, big end first.
        Binary = "binary",
    }
}

words! {
    /// Which ends of a field lose their blanks.
    Trim {
        /// Neither.
        None = "none",
        /// The start.
        Left = "left",
        /// The end.
        Right = "right",
        /// Both.
        Both = "both",
    }
}

/// The keys of `[values]` that may stand on a column too.
#[derive(Debug, Default, Clone)]
pub struct ValueKeys {
    /// Blanks around the value.
    pub trim: Option<At<Trim>>,
    /// Values that mean null.
    pub null_words: Option<Vec<At<String>>>,
}

/// `[values]`
#[derive(Debug, Default)]
pub struct Values {
    /// What may stand on a column too.
    pub keys: ValueKeys,
    /// Patterns of dates.
    pub date: Option<Vec<At<String>>>,
    /// Patterns of times of day.
    pub time: Option<Vec<At<String>>>,
    /// Patterns of timestamps.
    pub timestamp: Option<Vec<At<String>>>,
}

/// One column of `[columns]`.
#[derive(Debug)]
pub struct Column {
    /// The table's column.
    pub name: At<String>,
    /// Its type.
    pub ty: Option<At<Type>>,
    /// Whether a type is written, if only one that will not do.
    pub has_type: bool,
    /// The header's name, where it is another.
    pub from: Option<At<String>>,
    /// The field's place in the record, 1-based.
    pub at: Option<At<u64>>,
    /// The first character or byte of a fixed field, 1-based.
    pub start: Option<At<u64>>,
    /// How wide a fixed field is.
    pub width: Option<At<u64>>,
    /// How many of a number's digits stand after a mark that is not written.
    pub implied_decimals: Option<At<u64>>,
    /// Where a number's sign stands.
    pub sign: Option<At<Sign>>,
    /// How a number is written.
    pub form: Option<At<Form>>,
    /// Whether the column is loaded.
    pub load: Option<At<bool>>,
    /// Whether null is a fault.
    pub required: Option<At<bool>>,
    /// What stands in for null.
    pub default: Option<At<String>>,
    /// Patterns of a date, time or timestamp.
    pub pattern: Option<Vec<At<String>>>,
    /// Words for true.
    pub true_words: Option<Vec<At<String>>>,
    /// Words for false.
    pub false_words: Option<Vec<At<String>>>,
    /// Keys that `[values]` has too.
    pub keys: ValueKeys,
}

words! {
    /// What becomes of the rows that the table already has.
    Mode {
        /// They stay.
        Append = "append",
        /// They go, in the same transaction.
        Truncate = "truncate",
        /// The table itself is made anew.
        Replace = "replace",
    }
}

/// `[target]`
#[derive(Debug, Default)]
pub struct Target {
    /// The database's URL.
    pub into: Option<At<String>>,
    /// The table.
    pub table: Option<At<String>>,
    /// What becomes of the rows already there.
    pub mode: Option<At<Mode>>,
    /// Whether a missing table is made.
    pub create: Option<At<bool>>,
    /// Commit once, or after so many records.
    pub every: Option<At<Every>>,
}

/// How often a load commits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Every {
    /// Once, at the end: all or nothing.
    All,
    /// After so many records.
    Records(u64),
}

/// How many rejects a load may have and still be kept.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Tolerance {
    /// So many.
    Records(u64),
    /// So many in a hundred records.
    Percent(f64),
}

impl Default for Tolerance {
    fn default() -> Tolerance {
        Tolerance::Records(0)
    }
}

impl Tolerance {
    /// Reads `50` or `0.5%`.
    ///
    /// # Errors
    /// A plain sentence that says what is wrong with it.
    pub fn parse(text: &str) -> Result<Tolerance, String> {
        let text = text.trim();
        let bad = || format!("\"{text}\" is neither a number of records nor a share such as 0.5%");
        match text.strip_suffix('%') {
            None => text
                .replace('_', "")
                .parse()
                .map(Tolerance::Records)
                .map_err(|_| bad()),
            Some(share) => match share.trim().parse::<f64>() {
                Ok(share) if (0.0..=100.0).contains(&share) => Ok(Tolerance::Percent(share)),
                _ => Err(bad()),
            },
        }
    }

    /// Whether `rejected` of `records` records is within it.
    pub fn allows(self, rejected: u64, records: u64) -> bool {
        match self {
            Tolerance::Records(most) => rejected <= most,
            Tolerance::Percent(share) => rejected as f64 * 100.0 <= share * records as f64,
        }
    }
}

impl std::fmt::Display for Tolerance {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Tolerance::Records(n) => write!(f, "{n}"),
            Tolerance::Percent(share) => write!(f, "{share}%"),
        }
    }
}

/// `[rejects]`
#[derive(Debug, Default)]
pub struct Rejects {
    /// How many may be.
    pub tolerance: Option<At<Tolerance>>,
    /// Where they are kept.
    pub folder: Option<At<String>>,
}
