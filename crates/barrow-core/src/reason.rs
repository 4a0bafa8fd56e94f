//! Why a record did not load.

use std::path::Path;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

/// The name of the file of reasons in a folder of rejects.
pub const REASONS: &str = "reasons.jsonl";

/// Whether the file at `path` stands in a folder of rejects, beside their reasons.
pub fn has_reasons_beside(path: &Path) -> bool {
    path.with_file_name(REASONS).is_file()
}

/// What is wrong, as a word. The words stand in `reasons.jsonl`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Code {
    /// The record has fewer fields than the format has.
    TooFewFields,
    /// The record has more fields than the format has.
    TooManyFields,
    /// A quote opens a field and nothing closes it.
    UnclosedQuote,
    /// A well-formed record whose lines look like records, so that a quote may be stray.
    DoubtfulQuote,
    /// There is text between a closing quote and the next delimiter.
    TextAfterQuote,
    /// The record is longer than `max_record_size`.
    RecordTooLong,
    /// A record of a fixed layout ends too soon.
    RecordTooShort,
    /// A record of a fixed layout goes on too long.
    RecordTooWide,
    /// The line is blank, and blank lines are rejected.
    BlankLine,
    /// A record that is no JSON object, or is cut off.
    NotAnObject,
    /// Text stands after the record's object.
    TextAfterObject,
    /// An object has a key twice.
    DoubledKey,
    /// Objects and arrays go deeper than 128 within each other.
    TooDeep,
    /// Half of a surrogate pair stands by itself.
    LoneSurrogate,
    /// The record lacks a key that it must have.
    NoSuchKey,
    /// Bytes that mean nothing in the file's encoding.
    BadBytes,
    /// Not a number.
    NotANumber,
    /// Not a date in the column's patterns.
    NotADate,
    /// Not a time of day in the column's patterns.
    NotATime,
    /// Not a timestamp in the column's patterns.
    NotATimestamp,
    /// Written as a date, yet the calendar has no such day.
    NoSuchDate,
    /// A local time that the zone's clocks skip.
    NoSuchTime,
    /// A local time that the zone's clocks show twice.
    AmbiguousTime,
    /// Neither a word for true nor one for false.
    NotABoolean,
    /// Not a JSON document.
    NotJson,
    /// Not a UUID.
    NotAUuid,
    /// Not bytes in the column's writing.
    NotBytes,
    /// Not one of `one_of`, or unlike `matches`.
    NotAllowed,
    /// Not a word of the column's lookup.
    NotInLookup,
    /// A number beyond what the column holds.
    OutOfRange,
    /// Text longer than the column holds.
    TooLong,
    /// More digits after the mark than the column holds.
    TooPrecise,
    /// A decimal that the table's numbers cannot hold.
    Inexact,
    /// Null where the column needs a value.
    Required,
    /// A check on the record does not hold.
    CheckFailed,
    /// The record is of no kind that the spec names.
    NoRecordType,
    /// The record that a value is carried from did not load.
    NothingToCarry,
    /// A NUL character in text, which the database has no room for.
    NulCharacter,
    /// The table has a row with this key.
    DuplicateKey,
    /// The table refused the row.
    Refused,
}

impl Code {
    /// The code's word, as it stands in `reasons.jsonl`.
    pub fn word(self) -> &'static str {
        match self {
            Code::TooFewFields => "too-few-fields",
            Code::TooManyFields => "too-many-fields",
            Code::UnclosedQuote => "unclosed-quote",
            Code::DoubtfulQuote => "doubtful-quote",
            Code::TextAfterQuote => "text-after-quote",
            Code::RecordTooLong => "record-too-long",
            Code::RecordTooShort => "record-too-short",
            Code::RecordTooWide => "record-too-wide",
            Code::BlankLine => "blank-line",
            Code::NotAnObject => "not-an-object",
            Code::TextAfterObject => "text-after-object",
            Code::DoubledKey => "doubled-key",
            Code::TooDeep => "too-deep",
            Code::LoneSurrogate => "lone-surrogate",
            Code::NoSuchKey => "no-such-key",
            Code::BadBytes => "bad-bytes",
            Code::NotANumber => "not-a-number",
            Code::NotADate => "not-a-date",
            Code::NotATime => "not-a-time",
            Code::NotATimestamp => "not-a-timestamp",
            Code::NoSuchDate => "no-such-date",
            Code::NoSuchTime => "no-such-time",
            Code::AmbiguousTime => "ambiguous-time",
            Code::NotABoolean => "not-a-boolean",
            Code::NotJson => "not-json",
            Code::NotAUuid => "not-a-uuid",
            Code::NotBytes => "not-bytes",
            Code::NotAllowed => "not-allowed",
            Code::NotInLookup => "not-in-lookup",
            Code::OutOfRange => "out-of-range",
            Code::TooLong => "too-long",
            Code::TooPrecise => "too-precise",
            Code::Inexact => "inexact",
            Code::Required => "required",
            Code::CheckFailed => "check-failed",
            Code::NoRecordType => "no-record-type",
            Code::NothingToCarry => "nothing-to-carry",
            Code::NulCharacter => "nul-character",
            Code::DuplicateKey => "duplicate-key",
            Code::Refused => "refused",
        }
    }

    /// What is wrong, as people read it.
    pub fn words(self) -> &'static str {
        match self {
            Code::TooFewFields => "too few fields",
            Code::TooManyFields => "too many fields",
            Code::UnclosedQuote => "a quote that nothing closes",
            Code::DoubtfulQuote => "doubtful quote: the lines of the record look like records",
            Code::TextAfterQuote => "text after a closing quote",
            Code::RecordTooLong => "the record is too long",
            Code::RecordTooShort => "the record is too short",
            Code::RecordTooWide => "the record is too wide",
            Code::BlankLine => "a blank line",
            Code::NotAnObject => "no JSON object",
            Code::TextAfterObject => "text after the object",
            Code::DoubledKey => "a key that comes twice",
            Code::TooDeep => "objects within objects, deeper than 128",
            Code::LoneSurrogate => "half of a surrogate pair",
            Code::NoSuchKey => "the record has no such key",
            Code::BadBytes => "bytes that do not decode",
            Code::NotANumber => "not a number",
            Code::NotADate => "not a date",
            Code::NotATime => "not a time",
            Code::NotATimestamp => "not a timestamp",
            Code::NoSuchDate => "no such date",
            Code::NoSuchTime => "a time that the zone's clocks skip",
            Code::AmbiguousTime => "a time that the zone's clocks show twice",
            Code::NotABoolean => "neither a word for true nor one for false",
            Code::NotJson => "not a JSON document",
            Code::NotAUuid => "not a UUID",
            Code::NotBytes => "not bytes",
            Code::NotAllowed => "not allowed",
            Code::NotInLookup => "not in the lookup",
            Code::OutOfRange => "out of range",
            Code::TooLong => "too long",
            Code::TooPrecise => "too precise",
            Code::Inexact => "the table's numbers cannot hold it",
            Code::Required => "required, but null",
            Code::CheckFailed => "a check does not hold",
            Code::NoRecordType => "a record of no record type",
            Code::NothingToCarry => "nothing to carry a value from",
            Code::NulCharacter => "a NUL character",
            Code::DuplicateKey => "duplicate key",
            Code::Refused => "refused by the table",
        }
    }
}

/// One thing wrong with one record. Its words are shared: a file may have the same thing
/// wrong with it millions of times.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reason {
    /// What is wrong.
    pub code: Code,
    /// The column it is about; none where it is the whole record.
    pub column: Option<Arc<str>>,
    /// The field's place in the record, 1-based, where there is one.
    pub field: Option<u32>,
    /// Where the field (or the record) starts: bytes from the file's start, 0-based.
    pub offset: u64,
    /// The value as text, shortened where it is very long.
    pub value: Option<String>,
    /// What is wrong, in one plain line; the summary groups by it.
    pub says: Arc<str>,
    /// What was expected instead.
    pub expected: Arc<str>,
}

/// A record that did not load: its reasons, and its bytes as they came.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reject {
    /// The record's number in its file, 1-based.
    pub record: u64,
    /// The physical line on which it starts, 1-based.
    pub line: u64,
    /// Where it starts: bytes from the file's start, 0-based.
    pub offset: u64,
    /// As how many records it counts: one, unless its quotes are doubtful; none if it is a
    /// later part of a record that is too long to be held at once.
    pub records: u64,
    /// All that is wrong with it. Empty only for a later part of a record that
    /// is too long to be held at once.
    pub reasons: Vec<Reason>,
    /// Its bytes, with its end.
    pub raw: Vec<u8>,
}
