//! The plan: a checked spec, with every default filled in. Below it nothing
//! looks at options again.

pub mod read_columns;

use std::fmt;
use std::path::PathBuf;
use std::time::Duration;

use crate::conditions::Condition;
use crate::format::{FieldSlices, KeyTree, RecordEnd, RecordFormat};
use crate::problem::Problem;
use crate::source::{Charset, Compression};
use crate::types::Type;
use crate::values::ColumnReader;
use crate::words::*;

/// A checked spec.
#[derive(Debug)]
pub struct Plan {
    /// Paths and globs of the source's files, as written.
    pub files: Vec<String>,
    /// What the files' bytes mean.
    pub source: SourcePlan,
    /// How records are found and split.
    pub records: RecordPlan,
    /// The kinds of record, in the order of the spec; one where it names none.
    pub record_types: Vec<RecordTypePlan>,
    /// Totals that the files state.
    pub totals: Vec<TotalPlan>,
    /// Where the rows go.
    pub target: TargetPlan,
    /// What becomes of records that do not load.
    pub rejects: RejectsPlan,
    /// How files are written.
    pub export: ExportPlan,
    /// What is said of places that are not this machine.
    pub stores: Vec<StorePlan>,
    /// What is legal, and odd all the same.
    pub oddities: Vec<Problem>,
}

/// What a spec says of a store: `[stores.NAME]`. Texts may name variables of the
/// environment: `${NAME}`.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct StorePlan {
    /// The bucket, container or host that it is said of; or a scheme (`s3`, `gs`, `az`,
    /// `https`) for all others of it.
    pub name: String,
    /// The service's address.
    pub endpoint: Option<String>,
    /// The region.
    pub region: Option<String>,
    /// Whether the bucket is in the path of requests.
    pub path_style: Option<bool>,
    /// Whether requests may go without encryption.
    pub allow_http: bool,
    /// Whether requests go unsigned.
    pub anonymous: bool,
    /// A profile of the shared profile files.
    pub profile: Option<String>,
    /// The account, or the user of a web server.
    pub account: Option<String>,
    /// The id of the key.
    pub access_key: Option<String>,
    /// The secret of the key, or the password for a web server.
    pub secret_key: Option<String>,
    /// The token of a session or bearer.
    pub token: Option<String>,
    /// A file with a service account's key.
    pub key_file: Option<String>,
    /// How long a request that fails is tried again.
    pub give_up_after: Option<Duration>,
}

impl fmt::Debug for StorePlan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // The rest may be secrets.
        write!(f, "StorePlan({:?})", self.name)
    }
}

impl Plan {
    /// Whether the spec names kinds of record.
    pub fn has_kinds(&self) -> bool {
        self.record_types
            .iter()
            .any(|kind| kind.condition.is_some())
    }

    /// Whether a value is carried from one record to those after it, so that rows
    /// can be completed only in the order of the file.
    pub fn carries(&self) -> bool {
        let mut columns = self.record_types.iter().flat_map(|kind| &kind.columns);
        columns.any(|column| column.value.as_ref().is_some_and(Template::carries))
    }
}

/// What a kind of record is made of, and where it goes.
#[derive(Debug)]
pub struct RecordTypePlan {
    /// Its name; none where the spec names no kinds.
    pub name: Option<String>,
    /// Which records are of it; none for all.
    pub condition: Option<Condition>,
    /// The columns in the order of the spec, those read past as well.
    pub columns: Vec<ColumnPlan>,
    /// The columns that are read, as places in `columns`: first those that are
    /// loaded, then those that only conditions, templates or totals ask for. A
    /// row's cells stand in this order.
    pub read: Vec<usize>,
    /// Where the fields of a fixed layout stand.
    pub fixed: Option<FieldSlices>,
    /// The keys of a layout whose records name their fields.
    pub keys: Option<KeyTree>,
    /// Whether its rows are loaded.
    pub load: bool,
    /// Its own table; none for the target's.
    pub table: Option<String>,
    /// The columns that identify a row, as places in `columns`.
    pub key: Vec<usize>,
    /// The condition for a record to be kept.
    pub keep_if: Option<Condition>,
    /// What must hold for a record.
    pub checks: Vec<CheckPlan>,
}

impl RecordTypePlan {
    /// The columns that are loaded, in order.
    pub fn loaded(&self) -> impl Iterator<Item = &ColumnPlan> {
        self.columns.iter().filter(|c| c.load)
    }

    /// Where the cells of the column at `place` stand, if it is read.
    pub fn slot(&self, place: usize) -> Option<usize> {
        self.read.iter().position(|read| *read == place)
    }

    /// The first character or byte of a field of a fixed layout, 0-based, and its width.
    pub fn slice(&self, field: usize) -> Option<(usize, usize)> {
        self.fixed.as_ref()?.slices.get(field).copied()
    }

    /// The fields of a record: one more than the highest place of a column.
    pub fn fields(&self) -> usize {
        let places = self.columns.iter().map(|column| match column.place {
            Place::Field(field) | Place::Key(field) => field + 1,
            Place::Named(_) | Place::Computed => 0,
        });
        places.max().unwrap_or(0).max(1)
    }
}

/// What must hold for a record.
#[derive(Debug)]
pub struct CheckPlan {
    /// The condition.
    pub condition: Condition,
    /// What people read where it does not hold.
    pub says: Option<String>,
}

/// What a computed value is made of, in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    /// Its parts.
    pub parts: Vec<Part>,
}

/// A part of a computed value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// The text itself.
    Text(String),
    /// The file's name, without its folder.
    File,
    /// The record's first line, 1-based.
    Line,
    /// The record's number in its file, 1-based.
    Record,
    /// The run's id.
    Run,
    /// When the run began, in UTC.
    Now,
    /// Another column, by its place in the kind's columns.
    Column(usize),
    /// A column of the last record of another kind.
    Carried {
        /// The kind, by its place.
        kind: usize,
        /// The column, by its place in that kind's columns.
        column: usize,
    },
}

impl Template {
    /// Whether it takes a value from another record.
    pub fn carries(&self) -> bool {
        let carried = |part: &Part| matches!(part, Part::Carried { .. });
        self.parts.iter().any(carried)
    }
}

/// A total that a file states of itself.
#[derive(Debug)]
pub struct TotalPlan {
    /// What is counted or summed.
    pub of: TotalOf,
    /// The kind of record; none for all.
    pub kind: Option<usize>,
    /// The part of the file that states it.
    pub part: FilePart,
    /// The line of that part, 0-based.
    pub line: usize,
    /// Where on the line.
    pub at: TotalAt,
}

/// What is counted or summed.
#[derive(Debug)]
pub enum TotalOf {
    /// Records.
    Records,
    /// The column at this place of the kind's columns; of so many decimals.
    Sum {
        /// The column's place.
        column: usize,
        /// Its decimals.
        scale: u32,
    },
}

/// Where a line states a total.
#[derive(Debug)]
pub enum TotalAt {
    /// In a field, 0-based.
    Field(usize),
    /// From a character on, 0-based, so many.
    Slice(usize, usize),
    /// In the group `total` of an expression.
    Matches(regex::Regex),
}

/// What the files' bytes mean.
#[derive(Debug)]
pub struct SourcePlan {
    /// The encoding; none where the content decides.
    pub charset: Option<Charset>,
    /// How many bytes of a file decide, at the most.
    pub told_by: u64,
    /// Fields whose bytes do not decode.
    pub when_undecodable: WhenUndecodable,
    /// What stands in for bytes that do not decode.
    pub stand_in: String,
    /// How the files are packed.
    pub packing: Compression,
    /// Files without a record.
    pub when_empty: WhenEmpty,
    /// Names that were loaded before, with other content.
    pub when_changed: WhenChanged,
    /// What becomes of the files once their rows are committed.
    pub afterwards: Afterwards,
}

/// How records are found and split.
#[derive(Debug)]
pub struct RecordPlan {
    /// How a record ends.
    pub ending: RecordEnd,
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
    /// Columns of a file that the spec does not name.
    pub when_new_column: WhenNewColumn,
    /// The longest record, in bytes.
    pub longest: usize,
    /// The layout.
    pub format: RecordFormat,
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
    /// Whether it is loaded, and not read past.
    pub load: bool,
    /// What is done with decimals that SQLite's numbers cannot hold.
    pub when_inexact: WhenInexact,
    /// At which end of its width a value is in a file that is written, if the spec
    /// says so.
    pub align: Option<Align>,
    /// What fills its width up there, if the spec says so.
    pub pad: Option<char>,
    /// Reads its values; there unless the spec is wrong.
    pub reader: Option<ColumnReader>,
    /// What its values are made of, where they do not stand in the record.
    pub value: Option<Template>,
}

/// Which field of the record a column is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// The one under this name in the header.
    Named(String),
    /// The one at this place, 0-based.
    Field(usize),
    /// The one of this number among those that a record names, 0-based.
    Key(usize),
    /// None: its values are computed.
    Computed,
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
    /// Whether the database keeps a ledger of what was loaded.
    pub ledger: bool,
    /// Whether a load that brings no row may empty the table.
    pub may_empty: bool,
    /// What is done where deleting rows takes rows of other tables along.
    pub when_cascading: WhenCascading,
    /// How the table is emptied.
    pub empty_with: EmptyWith,
    /// The column that gets the run's id; none where no row has it.
    pub run_column: Option<String>,
    /// SQL that runs before the rows come, in their transaction where the database can.
    pub before: Vec<String>,
    /// SQL that runs after them, likewise.
    pub after: Vec<String>,
    /// What values stand in keys of other tables.
    pub references: Vec<Reference>,
}

/// Values that stand in a key of another table: a foreign key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reference {
    /// The columns.
    pub columns: Vec<String>,
    /// The other table.
    pub table: String,
    /// Its columns, in the same order.
    pub to: Vec<String>,
}

/// How files are written, beyond what the spec says of reading.
#[derive(Debug, Clone, Default)]
pub struct ExportPlan {
    /// Templates of the lines before the header.
    pub preamble: Vec<String>,
    /// Templates of the lines after the data.
    pub trailer: Vec<String>,
    /// Whether the file starts with a byte order mark.
    pub byte_order_mark: bool,
    /// Rows with a value that cannot be written.
    pub when_unfit: WhenUnfit,
    /// Characters that the encoding lacks.
    pub when_unencodable: WhenUnencodable,
    /// What stands in for them.
    pub stand_in: String,
    /// Which fields are quoted.
    pub quote_when: QuoteWhen,
    /// How null stands in an object.
    pub nulls: Nulls,
}

/// What becomes of records that do not load.
#[derive(Debug, Clone)]
pub struct RejectsPlan {
    /// How many may be.
    pub tolerance: Tolerance,
    /// The folder that holds a folder for each run.
    pub folder: PathBuf,
    /// The table that they are written to as well.
    pub table: Option<String>,
    /// What the tolerance is for.
    pub per: Per,
    /// How many reasons are written in full; those beyond are counted.
    pub keep: u64,
}
