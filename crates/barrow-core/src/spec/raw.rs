//! The spec as it is written: every key that was given, with its place.
//!
//! Nothing is decided here. Defaults and contradictions are the business of
//! [`crate::spec::check`].

use std::ops::Range;

use crate::problem::At;
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
    pub measure: Option<At<Measure>>,
    /// `[values]`
    pub values: Values,
    /// The columns, and what holds for whole records.
    pub shape: Shape,
    /// `[[record_type]]`, in the order of the spec.
    pub record_types: Vec<Kind>,
    /// `[[control_total]]`
    pub totals: Vec<Total>,
    /// `[target]`
    pub target: Target,
    /// `[rejects]`
    pub rejects: Rejects,
    /// `[export]`
    pub export: Export,
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
    pub keep_if: Option<At<String>>,
    /// `[[check]]`
    pub checks: Vec<Check>,
}

/// One of `[[check]]`
#[derive(Debug)]
pub struct Check {
    /// Where it stands.
    pub span: Range<usize>,
    /// The condition.
    pub that: Option<At<String>>,
    /// What people read where it does not hold.
    pub says: Option<At<String>>,
}

/// One of `[[record_type]]`
#[derive(Debug)]
pub struct Kind {
    /// Where it stands.
    pub span: Range<usize>,
    /// Its name.
    pub name: Option<At<String>>,
    /// Which records are of it.
    pub condition: Option<At<String>>,
    /// The table that they go to.
    pub table: Option<At<String>>,
    /// Whether they are loaded.
    pub load: Option<At<bool>>,
    /// The columns that tell one row from another.
    pub key: Option<Vec<At<String>>>,
    /// How wide they are in a fixed layout.
    pub record_width: Option<At<u64>>,
    /// Their columns, and what holds for them.
    pub shape: Shape,
}

/// One of `[[control_total]]`
#[derive(Debug)]
pub struct Total {
    /// Where it stands.
    pub span: Range<usize>,
    /// The part of the file that states it.
    pub part: Option<At<FilePart>>,
    /// The line of that part, 1-based.
    pub line: Option<At<u64>>,
    /// The column that is summed; none for a count of records.
    pub sum: Option<At<String>>,
    /// The kind of record; none for all.
    pub kind: Option<At<String>>,
    /// The field of the line, 1-based.
    pub field: Option<At<u64>>,
    /// The first character of the line, 1-based.
    pub start: Option<At<u64>>,
    /// How many characters.
    pub width: Option<At<u64>>,
    /// An expression whose group `total` is it.
    pub matches: Option<At<String>>,
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
    pub packing: Option<At<Compression>>,
    /// A file without a record.
    pub when_empty: Option<At<WhenEmpty>>,
    /// A name that was loaded before, with other content.
    pub when_changed: Option<At<WhenChanged>>,
    /// What becomes of the files once their rows are committed.
    pub afterwards: Option<At<Afterwards>>,
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
    /// Columns that the spec does not name.
    pub when_new_column: Option<At<WhenNewColumn>>,
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
    /// Spaces between a delimiter and the field after it.
    pub spaces_after_delimiter: Option<At<Spaces>>,
    /// Which fields are quoted in a file that is written.
    pub quote_when: Option<At<QuoteWhen>>,
}

/// `[export]`
#[derive(Debug, Default)]
pub struct Export {
    /// Whether the spec has the section, and so is to write files too.
    pub is_there: bool,
    /// Templates of the lines before the header.
    pub preamble: Option<Vec<At<String>>>,
    /// Templates of the lines after the data.
    pub trailer: Option<Vec<At<String>>>,
    /// Whether the file starts with a byte order mark.
    pub byte_order_mark: Option<At<bool>>,
    /// Rows with a value that cannot be written.
    pub when_unfit: Option<At<WhenUnfit>>,
    /// Characters that the encoding lacks.
    pub when_unencodable: Option<At<WhenUnencodable>>,
    /// What stands in for them.
    pub stand_in: Option<At<String>>,
}

/// The keys of `[values]` that may stand on a column too.
#[derive(Debug, Default, Clone)]
pub struct ValueKeys {
    /// Blanks around the value.
    pub trim: Option<At<Trim>>,
    /// Values that mean null.
    pub null_words: Option<Vec<At<String>>>,
    /// An empty field in quotes.
    pub quoted_empty: Option<At<QuotedEmpty>>,
    /// Between a number's whole and its fraction.
    pub decimal_mark: Option<At<String>>,
    /// Between groups of a number's digits.
    pub group_mark: Option<At<String>>,
    /// What stands around a number and says nothing.
    pub take_off: Option<Vec<At<String>>>,
    /// The first year that two digits name.
    pub two_digit_years_from: Option<At<u64>>,
    /// The zone of local times.
    pub zone: Option<At<String>>,
    /// Runs of blanks within a text.
    pub inner_blanks: Option<At<InnerBlanks>>,
    /// Control characters within a text.
    pub controls: Option<At<Controls>>,
    /// How characters are composed.
    pub normal_form: Option<At<NormalForm>>,
    /// Values not written as their type is.
    pub when_unreadable: Option<At<WhenUnreadable>>,
    /// Text beyond its length.
    pub when_too_long: Option<At<WhenTooLong>>,
    /// Numbers and dates beyond their bounds.
    pub when_out_of_range: Option<At<WhenOutOfRange>>,
    /// Numbers with too many digits after the mark.
    pub when_too_precise: Option<At<WhenTooPrecise>>,
    /// Values that are not allowed.
    pub when_not_allowed: Option<At<WhenNotAllowed>>,
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
    /// Patterns of moments in time.
    pub timestamptz: Option<Vec<At<String>>>,
}

/// One column of `[columns]`.
#[derive(Debug, Default)]
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
    /// At which end of its width a value stands in a file that is written.
    pub align: Option<At<Align>>,
    /// What fills its width up there.
    pub pad: Option<At<String>>,
    /// Whether the column is loaded.
    pub load: Option<At<bool>>,
    /// Whether null is a fault.
    pub required: Option<At<bool>>,
    /// What stands in for null.
    pub default: Option<At<Given>>,
    /// A template of what the value is made of.
    pub value: Option<At<String>>,
    /// What letters become.
    pub case: Option<At<Case>>,
    /// Texts that give way to others.
    pub swap: Option<At<Vec<(String, String)>>>,
    /// What stands in the file, and what it means.
    pub lookup: Option<At<Vec<(String, String)>>>,
    /// Values that the lookup lacks.
    pub when_not_in_lookup: Option<At<WhenNotListed>>,
    /// A regular expression for the whole of a text.
    pub matches: Option<At<String>>,
    /// All values that are allowed.
    pub one_of: Option<Vec<At<Given>>>,
    /// The smallest.
    pub min: Option<At<Given>>,
    /// The largest.
    pub max: Option<At<Given>>,
    /// What a text's length counts.
    pub length_in: Option<At<LengthIn>>,
    /// Patterns of a date, time or timestamp.
    pub pattern: Option<Vec<At<String>>>,
    /// Words for true.
    pub true_words: Option<Vec<At<String>>>,
    /// Words for false.
    pub false_words: Option<Vec<At<String>>>,
    /// Keys that `[values]` has too.
    pub keys: ValueKeys,
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
    /// The columns that tell one row from another.
    pub key: Option<Vec<At<String>>>,
    /// Whether the database keeps a ledger of what was loaded.
    pub ledger: Option<At<bool>>,
    /// Whether a load that brings no row may empty the table.
    pub may_empty: Option<At<bool>>,
}

/// `[rejects]`
#[derive(Debug, Default)]
pub struct Rejects {
    /// How many may be.
    pub tolerance: Option<At<Tolerance>>,
    /// Where they are kept.
    pub folder: Option<At<String>>,
    /// The table that they are written to as well.
    pub table: Option<At<String>>,
    /// What the tolerance is for.
    pub per: Option<At<Per>>,
    /// How many reasons are written in full.
    pub keep: Option<At<u64>>,
}
