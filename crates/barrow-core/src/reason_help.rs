//! What each code of a reject means, and the key that changes what happens.

use crate::reason::Code;

/// What people should know of a code.
#[derive(Debug, Clone, Copy)]
pub struct CodeHelp {
    /// The code.
    pub code: Code,
    /// What is wrong.
    pub meaning: &'static str,
    /// Keys of the spec that change it, as `section.key`.
    pub keys: &'static [&'static str],
}

const fn help(code: Code, meaning: &'static str, keys: &'static [&'static str]) -> CodeHelp {
    CodeHelp {
        code,
        meaning,
        keys,
    }
}

/// All codes.
pub const CODES: &[CodeHelp] = &[
    help(
        Code::TooFewFields,
        "The record has fewer fields than the format has.",
        &["records.when_short"],
    ),
    help(
        Code::TooManyFields,
        "The record has more fields than the format has: often a delimiter within a value that is not quoted.",
        &[
            "records.when_long",
            "delimited.delimiter",
            "delimited.quote",
        ],
    ),
    help(
        Code::UnclosedQuote,
        "A quote opens a field, and nothing closes it. The one line is rejected, and reading goes on at the next.",
        &["delimited.quote"],
    ),
    help(
        Code::DoubtfulQuote,
        "The record is well-formed, but its first line, its last line and at least half of those between look like records themselves, as they would if a quote were stray. It is rejected whole, no line of it loads, and it counts as that many records.",
        &[
            "delimited.when_doubtful",
            "delimited.span_lines",
            "delimited.quote",
        ],
    ),
    help(
        Code::TextAfterQuote,
        "There is text between a closing quote and the next delimiter.",
        &["delimited.quote", "delimited.escape"],
    ),
    help(
        Code::RecordTooLong,
        "The record is longer than may be.",
        &["records.max_record_size"],
    ),
    help(
        Code::RecordTooShort,
        "A record of a fixed layout ends too soon.",
        &["records.when_short", "records.record_width"],
    ),
    help(
        Code::RecordTooWide,
        "A record of a fixed layout goes on too long.",
        &["records.when_long", "records.record_width"],
    ),
    help(
        Code::BlankLine,
        "The line is blank, and the spec rejects blank lines.",
        &["records.when_blank"],
    ),
    help(
        Code::NotAnObject,
        "The record is not a JSON object, or is cut off.",
        &["records.layout"],
    ),
    help(
        Code::TextAfterObject,
        "There is text after the record's JSON object.",
        &[],
    ),
    help(
        Code::DoubledKey,
        "A JSON object has a key twice, so it is not clear which value is meant.",
        &[],
    ),
    help(
        Code::TooDeep,
        "Objects and lists go deeper than 128 within each other.",
        &[],
    ),
    help(
        Code::LoneSurrogate,
        "Half of a surrogate pair is alone, which is not a character.",
        &[],
    ),
    help(
        Code::NoSuchKey,
        "The record lacks a key that the spec names.",
        &["columns.optional", "columns.from"],
    ),
    help(
        Code::BadBytes,
        "Bytes that mean nothing in the file's encoding: often the file is in another one.",
        &["source.encoding", "source.when_undecodable"],
    ),
    help(
        Code::NotANumber,
        "The value is not a number as the column writes them.",
        &[
            "values.decimal_mark",
            "values.group_mark",
            "values.strip",
            "columns.sign",
            "values.null_values",
            "values.when_unreadable",
        ],
    ),
    help(
        Code::NotADate,
        "The value is not a date in the column's formats.",
        &[
            "columns.format",
            "values.date",
            "values.null_values",
            "values.when_unreadable",
        ],
    ),
    help(
        Code::NotATime,
        "The value is not a time of day in the column's formats.",
        &["columns.format", "values.time", "values.when_unreadable"],
    ),
    help(
        Code::NotATimestamp,
        "The value is not a timestamp in the column's formats.",
        &[
            "columns.format",
            "values.timestamp",
            "values.timestamptz",
            "values.when_unreadable",
        ],
    ),
    help(
        Code::NoSuchDate,
        "It is written as a date, and the calendar has no such day.",
        &["values.when_unreadable"],
    ),
    help(
        Code::NoSuchTime,
        "A local time that the zone's clocks skip.",
        &["values.time_zone", "values.when_unreadable"],
    ),
    help(
        Code::AmbiguousTime,
        "A local time that the zone's clocks show twice.",
        &["values.time_zone", "values.when_unreadable"],
    ),
    help(
        Code::NotABoolean,
        "The value is neither a word for true nor one for false.",
        &[
            "columns.true_values",
            "columns.false_values",
            "values.when_unreadable",
        ],
    ),
    help(
        Code::NotJson,
        "The value is not a JSON document.",
        &["values.when_unreadable"],
    ),
    help(
        Code::NotAUuid,
        "The value is not a UUID.",
        &["values.when_unreadable"],
    ),
    help(
        Code::NotBytes,
        "The value is not bytes as the column writes them.",
        &["columns.stored_as", "values.when_unreadable"],
    ),
    help(
        Code::NotAllowed,
        "The value is not one of those that are allowed, or is unlike the expression.",
        &[
            "columns.one_of",
            "columns.matches",
            "values.when_not_allowed",
        ],
    ),
    help(
        Code::NotInLookup,
        "The lookup lacks the value.",
        &["columns.lookup", "columns.when_not_in_lookup"],
    ),
    help(
        Code::OutOfRange,
        "The number is beyond its type, or the value beyond min or max.",
        &[
            "columns.type",
            "columns.min",
            "columns.max",
            "values.when_out_of_range",
        ],
    ),
    help(
        Code::TooLong,
        "The text is longer than its type.",
        &["columns.type", "columns.length_in", "values.when_too_long"],
    ),
    help(
        Code::TooPrecise,
        "The number has more digits after the mark than its type.",
        &["columns.type", "values.when_too_precise"],
    ),
    help(
        Code::Inexact,
        "A decimal that the numbers of SQLite cannot hold: they hold decimals of 15 digits, and whole ones of 64 bits.",
        &[
            "target.when_inexact",
            "columns.when_inexact",
            "columns.type",
        ],
    ),
    help(
        Code::Required,
        "The value is null, and the column needs one.",
        &["columns.required", "columns.default", "values.null_values"],
    ),
    help(
        Code::CheckFailed,
        "A condition of the spec does not hold for the record.",
        &["check.that"],
    ),
    help(
        Code::NoRecordType,
        "The record has no record type that the spec names.",
        &["record_type.if"],
    ),
    help(
        Code::NothingToCarry,
        "The record that a value is carried from is not there, or was rejected.",
        &["columns.value"],
    ),
    help(
        Code::NulCharacter,
        "A NUL character in text, which PostgreSQL has no room for.",
        &["values.control_characters"],
    ),
    help(
        Code::DuplicateKey,
        "The table has a row with this key already.",
        &["target.mode", "target.key"],
    ),
    help(
        Code::Refused,
        "The table refused the row: a check, a foreign key, a trigger. The reason in its own words is beside it.",
        &["rejects.max_rejects"],
    ),
];

/// What is known of a code by its word.
pub fn of_code(word: &str) -> Option<&'static CodeHelp> {
    CODES.iter().find(|help| help.code.word() == word)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::spec::keys;

    #[test]
    fn every_code_is_told_and_its_keys_are_keys() {
        for help in CODES {
            for key in help.keys {
                assert_eq!(keys::find(key).len(), 1, "{} {key}", help.code.word());
            }
            assert_eq!(
                CODES.iter().filter(|other| other.code == help.code).count(),
                1
            );
        }
        // The words stand in the documents, all of them.
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/spec.md");
        let text = std::fs::read_to_string(path).expect("the document");
        let list = text
            .split("\nCodes: ")
            .nth(1)
            .and_then(|t| t.split("\n\n").next())
            .unwrap_or("");
        let words: Vec<&str> = list.split('`').skip(1).step_by(2).collect();
        for word in &words {
            assert!(of_code(word).is_some(), "{word}");
        }
        assert_eq!(words.len(), CODES.len());
    }
}
