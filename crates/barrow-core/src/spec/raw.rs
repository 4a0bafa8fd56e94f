//! The spec as it is written: every key that was given, with its place.
//!
//! Nothing is decided here. Defaults and contradictions are the business of
//! [`crate::spec::check`].

use std::ops::Range;

use crate::plan::StorePlan;
use crate::problem::Spanned;
use crate::source::Compression;
use crate::types::Type;
use crate::words::Given;
use crate::words::*;

/// A whole spec as written.
#[derive(Debug, Default)]
pub struct RawSpec {
    /// The spec's own text.
    pub text: String,
    /// The target's table, where it was asked for.
    pub known: Option<Known>,
    /// `[source]`
    pub source: Source,
    /// `[records]`
    pub records: Records,
    /// `[delimited]`
    pub delimited: Delimited,
    /// `[fixed] measure`
    pub measure: Option<Spanned<Measure>>,
    /// `[values]`
    pub values: Values,
    /// The columns, and what holds for whole records.
    pub shape: Shape,
    /// `[[record_type]]`, in the order of the spec.
    pub record_types: Vec<Kind>,
    /// `[[control_total]]`
    pub totals: Vec<Total>,
    /// `[[references]]`
    pub references: Vec<References>,
    /// `[target]`
    pub target: Target,
    /// `[rejects]`
    pub rejects: Rejects,
    /// `[export]`
    pub export: Export,
    /// `[stores.NAME]`
    pub stores: Vec<StorePlan>,
}

/// A table of the target, for columns whose types the spec leaves to it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Known {
    /// Its name.
    pub table: String,
    /// Its columns, in order.
    pub columns: Vec<KnownColumn>,
}

/// A column of the target's table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownColumn {
    /// Its name.
    pub name: String,
    /// Its type in the database's own words.
    pub declared: String,
    /// Its type in the spec's words, where there is one.
    pub ty: Option<Type>,
    /// Whether a row must bring a value for it.
    pub required: bool,
    /// Whether the database computes it.
    pub generated: bool,
    /// Whether the database puts a number of its own in place of null.
    pub numbered: bool,
    /// Whether the database takes no null in it.
    pub not_null: bool,
}

/// What a record is made of: of the whole spec, or of one kind.
#[derive(Debug, Default)]
pub struct Shape {
    /// `[columns]`, in the order of the spec.
    pub columns: Vec<Column>,
    /// Where `[columns]` stands, if it is there.
    pub columns_span: Option<Range<usize>>,
    /// The condition for a record to be kept.
    pub keep_if: Option<Spanned<String>>,
    /// `[[check]]`
    pub checks: Vec<Check>,
}

/// One of `[[check]]`
#[derive(Debug)]
pub struct Check {
    /// Where it stands.
    pub span: Range<usize>,
    /// The condition.
    pub that: Option<Spanned<String>>,
    /// What people read where it does not hold.
    pub says: Option<Spanned<String>>,
}

/// One of `[[record_type]]`
#[derive(Debug)]
pub struct Kind {
    /// Where it stands.
    pub span: Range<usize>,
    /// Its name.
    pub name: Option<Spanned<String>>,
    /// Which records are of it.
    pub condition: Option<Spanned<String>>,
    /// The table that they go to.
    pub table: Option<Spanned<String>>,
    /// Whether they are loaded.
    pub load: Option<Spanned<bool>>,
    /// The columns that identify a row.
    pub key: Option<Vec<Spanned<String>>>,
    /// How wide they are in a fixed layout.
    pub record_width: Option<Spanned<u64>>,
    /// Their columns, and what holds for them.
    pub shape: Shape,
}

/// One of `[[control_total]]`
#[derive(Debug)]
pub struct Total {
    /// Where it stands.
    pub span: Range<usize>,
    /// The part of the file that states it.
    pub part: Option<Spanned<FilePart>>,
    /// The line of that part, 1-based.
    pub line: Option<Spanned<u64>>,
    /// The column that is summed; none for a count of records.
    pub sum: Option<Spanned<String>>,
    /// The kind of record; none for all.
    pub kind: Option<Spanned<String>>,
    /// The field of the line, 1-based.
    pub field: Option<Spanned<u64>>,
    /// The first character of the line, 1-based.
    pub start: Option<Spanned<u64>>,
    /// How many characters.
    pub width: Option<Spanned<u64>>,
    /// An expression whose group `total` is it.
    pub matches: Option<Spanned<String>>,
}

/// `[source]`
#[derive(Debug, Default)]
pub struct Source {
    /// Paths and globs.
    pub files: Option<Vec<Spanned<String>>>,
    /// A label of an encoding, or `auto`.
    pub encoding: Option<Spanned<String>>,
    /// Bytes that do not decode.
    pub when_undecodable: Option<Spanned<WhenUndecodable>>,
    /// What stands in for them.
    pub stand_in: Option<Spanned<String>>,
    /// How the files are packed.
    pub packing: Option<Spanned<Compression>>,
    /// A file without a record.
    pub when_empty: Option<Spanned<WhenEmpty>>,
    /// A name that was loaded before, with other content.
    pub when_changed: Option<Spanned<WhenChanged>>,
    /// What becomes of the files once their rows are committed.
    pub afterwards: Option<Spanned<Afterwards>>,
}

/// `[records]`
#[derive(Debug, Default)]
pub struct Records {
    /// How records are laid out.
    pub layout: Option<Spanned<Layout>>,
    /// `auto`, `lf`, `crlf`, `cr`, or the text itself.
    pub ending: Option<Spanned<String>>,
    /// How wide a record without an end is.
    pub record_width: Option<Spanned<u64>>,
    /// Lines before the header.
    pub preamble: Option<Spanned<PreambleKey>>,
    /// What the header is for.
    pub header: Option<Spanned<Header>>,
    /// Lines after the data.
    pub trailer: Option<Spanned<u64>>,
    /// What a comment line starts with.
    pub comment: Option<Spanned<String>>,
    /// Blank lines.
    pub when_blank: Option<Spanned<WhenBlank>>,
    /// Records with too few fields.
    pub when_short: Option<Spanned<WhenShort>>,
    /// Records with too many fields.
    pub when_long: Option<Spanned<WhenLong>>,
    /// Columns that the spec does not name.
    pub when_new_column: Option<Spanned<WhenNewColumn>>,
    /// The longest record, in bytes.
    pub longest: Option<Spanned<u64>>,
}

/// `[delimited]`
#[derive(Debug, Default)]
pub struct Delimited {
    /// What stands between two fields.
    pub delimiter: Option<Spanned<String>>,
    /// What encloses a field that holds a delimiter or a line end.
    pub quote: Option<Spanned<String>>,
    /// `doubled`, or the escape character.
    pub escape: Option<Spanned<String>>,
    /// Spaces between a delimiter and the field after it.
    pub spaces_after_delimiter: Option<Spanned<Spaces>>,
    /// What is done with a record whose quotes may be stray.
    pub when_doubtful: Option<Spanned<WhenDoubtful>>,
    /// Whether a field in quotes may hold a record's end.
    pub span_lines: Option<Spanned<bool>>,
    /// Which fields are quoted in a file that is written.
    pub quote_when: Option<Spanned<QuoteWhen>>,
}

/// `[export]`
#[derive(Debug, Default)]
pub struct Export {
    /// Whether the spec has the section, and so is to write files too.
    pub is_there: bool,
    /// Templates of the lines before the header.
    pub preamble: Option<Vec<Spanned<String>>>,
    /// Templates of the lines after the data.
    pub trailer: Option<Vec<Spanned<String>>>,
    /// Whether the file starts with a byte order mark.
    pub byte_order_mark: Option<Spanned<bool>>,
    /// Rows with a value that cannot be written.
    pub when_unfit: Option<Spanned<WhenUnfit>>,
    /// Characters that the encoding lacks.
    pub when_unencodable: Option<Spanned<WhenUnencodable>>,
    /// What stands in for them.
    pub stand_in: Option<Spanned<String>>,
    /// How null stands in an object.
    pub nulls: Option<Spanned<Nulls>>,
}

/// The keys of `[values]` that may stand on a column too.
#[derive(Debug, Default, Clone)]
pub struct ValueKeys {
    /// Blanks around the value.
    pub trim: Option<Spanned<Trim>>,
    /// Values that mean null.
    pub null_words: Option<Vec<Spanned<String>>>,
    /// An empty field in quotes.
    pub quoted_empty: Option<Spanned<QuotedEmpty>>,
    /// Between a number's whole and its fraction.
    pub decimal_mark: Option<Spanned<String>>,
    /// Between groups of a number's digits.
    pub group_mark: Option<Spanned<String>>,
    /// What stands around a number and says nothing.
    pub take_off: Option<Vec<Spanned<String>>>,
    /// The first year that two digits name.
    pub two_digit_years_from: Option<Spanned<u64>>,
    /// The zone of local times.
    pub zone: Option<Spanned<String>>,
    /// Runs of blanks within a text.
    pub inner_blanks: Option<Spanned<InnerBlanks>>,
    /// Control characters within a text.
    pub controls: Option<Spanned<Controls>>,
    /// How characters are composed.
    pub normal_form: Option<Spanned<NormalForm>>,
    /// Values not written as their type is.
    pub when_unreadable: Option<Spanned<WhenUnreadable>>,
    /// Text beyond its length.
    pub when_too_long: Option<Spanned<WhenTooLong>>,
    /// Numbers and dates beyond their bounds.
    pub when_out_of_range: Option<Spanned<WhenOutOfRange>>,
    /// Numbers with too many digits after the mark.
    pub when_too_precise: Option<Spanned<WhenTooPrecise>>,
    /// Values that are not allowed.
    pub when_not_allowed: Option<Spanned<WhenNotAllowed>>,
}

/// `[values]`
#[derive(Debug, Default)]
pub struct Values {
    /// What may stand on a column too.
    pub keys: ValueKeys,
    /// Patterns of dates.
    pub date: Option<Vec<Spanned<String>>>,
    /// Patterns of times of day.
    pub time: Option<Vec<Spanned<String>>>,
    /// Patterns of timestamps.
    pub timestamp: Option<Vec<Spanned<String>>>,
    /// Patterns of moments in time.
    pub timestamptz: Option<Vec<Spanned<String>>>,
}

/// One column of `[columns]`.
#[derive(Debug, Default)]
pub struct Column {
    /// The table's column.
    pub name: Spanned<String>,
    /// Its type.
    pub ty: Option<Spanned<Type>>,
    /// Whether a type is written, even a wrong one.
    pub has_type: bool,
    /// The header's name, where it is another.
    pub from: Option<Spanned<String>>,
    /// Further names, tried in order.
    pub from_also: Vec<Spanned<String>>,
    /// Whether a record may lack it.
    pub optional: Option<Spanned<bool>>,
    /// Decimals that SQLite's numbers cannot hold.
    pub when_inexact: Option<Spanned<WhenInexact>>,
    /// The field's place in the record, 1-based.
    pub at: Option<Spanned<u64>>,
    /// The first character or byte of a fixed field, 1-based.
    pub start: Option<Spanned<u64>>,
    /// How wide a fixed field is.
    pub width: Option<Spanned<u64>>,
    /// How many of a number's digits come after a mark that is not written.
    pub implied_decimals: Option<Spanned<u64>>,
    /// Where a number's sign stands.
    pub sign: Option<Spanned<Sign>>,
    /// How a number is written.
    pub form: Option<Spanned<Form>>,
    /// At which end of its width a value is in a file that is written.
    pub align: Option<Spanned<Align>>,
    /// What fills its width up there.
    pub pad: Option<Spanned<String>>,
    /// Whether the column is loaded.
    pub load: Option<Spanned<bool>>,
    /// Whether null is a fault.
    pub required: Option<Spanned<bool>>,
    /// What stands in for null.
    pub default: Option<Spanned<Given>>,
    /// A template of what the value is made of.
    pub value: Option<Spanned<String>>,
    /// What letters become.
    pub case: Option<Spanned<Case>>,
    /// Texts that are replaced by others.
    pub swap: Option<Spanned<Vec<(String, String)>>>,
    /// The file's words, each with the value it means.
    pub lookup: Option<Spanned<Vec<(String, String)>>>,
    /// Values that the lookup lacks.
    pub when_not_in_lookup: Option<Spanned<WhenNotListed>>,
    /// A regular expression for the whole of a text.
    pub matches: Option<Spanned<String>>,
    /// All values that are allowed.
    pub one_of: Option<Vec<Spanned<Given>>>,
    /// The smallest.
    pub min: Option<Spanned<Given>>,
    /// The largest.
    pub max: Option<Spanned<Given>>,
    /// What a text's length counts.
    pub length_in: Option<Spanned<LengthIn>>,
    /// Patterns of a date, time or timestamp.
    pub pattern: Option<Vec<Spanned<String>>>,
    /// Words for true.
    pub true_words: Option<Vec<Spanned<String>>>,
    /// Words for false.
    pub false_words: Option<Vec<Spanned<String>>>,
    /// Keys that `[values]` has too.
    pub keys: ValueKeys,
}

/// `[target]`
#[derive(Debug, Default)]
pub struct Target {
    /// The database's URL.
    pub into: Option<Spanned<String>>,
    /// The table.
    pub table: Option<Spanned<String>>,
    /// What becomes of the rows already there.
    pub mode: Option<Spanned<Mode>>,
    /// Whether a missing table is made.
    pub create: Option<Spanned<bool>>,
    /// Commit once, or after so many records.
    pub every: Option<Spanned<Every>>,
    /// The columns that identify a row.
    pub key: Option<Vec<Spanned<String>>>,
    /// Whether the database keeps a ledger of what was loaded.
    pub ledger: Option<Spanned<bool>>,
    /// Whether a load that brings no row may empty the table.
    pub may_empty: Option<Spanned<bool>>,
    /// Rows of other tables that go along with those that are deleted.
    pub when_cascading: Option<Spanned<WhenCascading>>,
    /// Decimals that SQLite's numbers cannot hold.
    pub when_inexact: Option<Spanned<WhenInexact>>,
    /// How the table is emptied.
    pub empty_with: Option<Spanned<EmptyWith>>,
    /// The column that gets the run's id.
    pub run_column: Option<Spanned<String>>,
    /// SQL that runs before the rows come.
    pub before: Option<Vec<Spanned<String>>>,
    /// SQL that runs after them.
    pub after: Option<Vec<Spanned<String>>>,
}

/// `[[references]]`: values that stand in a key of another table.
#[derive(Debug)]
pub struct References {
    /// Where it stands.
    pub span: Range<usize>,
    /// The columns.
    pub columns: Option<Vec<Spanned<String>>>,
    /// The other table.
    pub table: Option<Spanned<String>>,
    /// Its columns, in the same order.
    pub to: Option<Vec<Spanned<String>>>,
}

/// `[rejects]`
#[derive(Debug, Default)]
pub struct Rejects {
    /// How many may be.
    pub tolerance: Option<Spanned<Tolerance>>,
    /// Where they are kept.
    pub folder: Option<Spanned<String>>,
    /// The table that they are written to as well.
    pub table: Option<Spanned<String>>,
    /// What the tolerance is for.
    pub per: Option<Spanned<Per>>,
    /// How many reasons are written in full.
    pub keep: Option<Spanned<u64>>,
}
