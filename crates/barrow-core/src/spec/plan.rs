//! The plan: a checked spec, with every default filled in. Below it nothing
//! looks at options again.

use std::path::PathBuf;

use super::types::Type;
pub use super::written::{
    Every, Form, Header, Measure, Mode, PreambleKey, Sign, Tolerance, Trim, WhenBlank, WhenLong,
    WhenShort, WhenUndecodable,
};
use crate::source::{Charset, Packing};
use crate::values::ColumnReader;

/// A checked spec.
#[derive(Debug)]
pub struct Plan {
    /// Paths and globs of the source's files, as written.
    pub files: Vec<String>,
    /// What the files' bytes mean.
    pub source: SourcePlan,
    /// How records are found and split.
    pub records: RecordPlan,
    /// The columns in the order of the spec, those read past as well.
    pub columns: Vec<ColumnPlan>,
    /// Where the rows go.
    pub target: TargetPlan,
    /// What becomes of records that do not load.
    pub rejects: RejectsPlan,
}

impl Plan {
    /// The columns that are loaded, in order.
    pub fn loaded(&self) -> impl Iterator<Item = &ColumnPlan> {
        self.columns.iter().filter(|c| c.reader.is_some())
    }
}

/// What the files' bytes mean.
#[derive(Debug)]
pub struct SourcePlan {
    /// The encoding; none where the content decides.
    pub charset: Option<Charset>,
    /// Fields whose bytes do not decode.
    pub when_undecodable: WhenUndecodable,
    /// What stands in for bytes that do not decode.
    pub stand_in: String,
    /// How the files are packed.
    pub packing: Packing,
}

/// How records are found and split.
#[derive(Debug)]
pub struct RecordPlan {
    /// How a record ends.
    pub ending: EndingPlan,
    /// Lines before the header.
    pub preamble: PreambleKey,
    /// What the header is for.
    pub header: Header,
    /// Records after the data.
    pub trailer: usize,
    /// What a comment line starts with.
    pub comment: Option<String>,
    /// Blank lines.
    pub when_blank: WhenBlank,
    /// Records with too few fields.
    pub when_short: WhenShort,
    /// Records with too many fields.
    pub when_long: WhenLong,
    /// The longest record, in bytes.
    pub longest: usize,
    /// What sets fields apart; for a fixed layout, nothing.
    pub delimited: DelimitedPlan,
    /// Where fields stand, if the layout is a fixed one.
    pub fixed: Option<FixedPlan>,
}

/// Where the fields of a fixed layout stand.
#[derive(Debug)]
pub struct FixedPlan {
    /// What widths count.
    pub measure: Measure,
    /// For each column, its first character or byte, 0-based, and its width.
    pub slices: Vec<(usize, usize)>,
    /// How wide a whole record is.
    pub width: usize,
}

/// How a record ends, before a file has been looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EndingPlan {
    /// As the file's first line ends.
    Auto,
    /// With this text.
    Text(String),
    /// Not at all: each is as wide as the fixed layout says.
    None,
}

/// What sets fields apart: as text in a plan, as bytes in the reading of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DelimitedPlan {
    /// Between two fields; empty only in a fixed layout.
    pub delimiter: Vec<u8>,
    /// Around a field; empty where nothing quotes.
    pub quote: Vec<u8>,
    /// How a quote stands inside quotes.
    pub escape: Escape,
}

/// How a quote stands inside a quoted field.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Escape {
    /// Twice.
    Doubled,
    /// After this character, which makes a delimiter, a quote, a line end or
    /// itself ordinary text, inside quotes and outside.
    With(Vec<u8>),
}

/// One column.
#[derive(Debug)]
pub struct ColumnPlan {
    /// The table's column.
    pub name: String,
    /// Its type.
    pub ty: Type,
    /// Which field of the record it is.
    pub place: Place,
    /// Whether null is a fault.
    pub required: bool,
    /// Reads its values; none for a column that is read past.
    pub reader: Option<ColumnReader>,
}

/// Which field of the record a column is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// The one under this name in the header.
    Named(String),
    /// The one at this place, 0-based.
    Field(usize),
}

/// Where the rows go.
#[derive(Debug, Clone)]
pub struct TargetPlan {
    /// The database's URL, with `${NAME}` as written; none where it is not given.
    pub into: Option<String>,
    /// The table; none where it is not given.
    pub table: Option<String>,
    /// What becomes of the rows already there.
    pub mode: Mode,
    /// Whether a missing table is made.
    pub create: bool,
    /// How often is committed.
    pub every: Every,
}

/// What becomes of records that do not load.
#[derive(Debug, Clone)]
pub struct RejectsPlan {
    /// How many may be.
    pub tolerance: Tolerance,
    /// The folder that holds a folder for each run.
    pub folder: PathBuf,
}

impl DelimitedPlan {
    /// The escape character's bytes; empty where quotes are doubled.
    pub fn escape_text(&self) -> &[u8] {
        match &self.escape {
            Escape::Doubled => &[],
            Escape::With(text) => text,
        }
    }

    /// How many bytes at the start of `rest`, which follows an escape, are
    /// escaped by it. Zero means that the escape is ordinary text.
    pub fn escapable(&self, rest: &[u8]) -> usize {
        [self.escape_text(), &self.quote, &self.delimiter]
            .into_iter()
            .find(|text| !text.is_empty() && rest.starts_with(text))
            .map_or(0, <[u8]>::len)
    }

    /// Whether a delimiter ends at `at`, looking at no byte before `floor`.
    /// Delimiters are found from the left, as fields are split.
    pub fn ends_at(&self, bytes: &[u8], floor: usize, at: usize) -> bool {
        let delimiter = self.delimiter.as_slice();
        if let [byte] = delimiter {
            return at > floor && bytes[at - 1] == *byte;
        }
        let mut from = floor;
        while let Some(i) = memchr::memmem::find(&bytes[from..at], delimiter) {
            from += i + delimiter.len();
        }
        from == at && at > floor
    }
}
