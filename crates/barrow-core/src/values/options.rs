//! What a spec says of a column's values, in one place for its reader.

use super::form::NumberForm;
use crate::words::{
    Case, Given, QuotedEmpty, Trim, WhenNotAllowed, WhenNotListed, WhenOutOfRange, WhenTooLong,
    WhenTooPrecise, WhenUndecodable, WhenUnreadable,
};

/// What a spec says of a column's values.
#[derive(Debug, Clone, Default)]
pub struct ReaderOptions {
    /// Blanks around the value.
    pub trim: Trim,
    /// Values that mean null.
    pub null_words: Vec<String>,
    /// An empty field in quotes.
    pub quoted_empty: QuotedEmpty,
    /// Date and time patterns; empty for the usual ones.
    pub patterns: Vec<String>,
    /// The first of the hundred years that two digits name.
    pub years_from: Option<i16>,
    /// The zone of local times (an IANA name), for moments in time.
    pub zone: Option<String>,
    /// Words for true.
    pub true_words: Option<Vec<String>>,
    /// Words for false.
    pub false_words: Option<Vec<String>>,
    /// Whether null is a fault.
    pub required: bool,
    /// What stands in for null.
    pub default: Option<Given>,
    /// How numbers are written, where that is not plain text.
    pub form: Option<NumberForm>,
    /// Whether bytes are written in base64, and not in hexadecimal.
    pub base64: bool,
    /// Whether a text's length counts bytes of UTF-8, and not characters.
    pub length_in_bytes: bool,
    /// Fields whose bytes do not decode.
    pub undecodable: WhenUndecodable,
    /// What stands in for bytes that do not decode.
    pub stand_in: String,
    /// What is done to text before it is read.
    pub steps: StepOptions,
    /// What the value must be.
    pub limits: LimitOptions,
    /// What becomes of values that cannot be used.
    pub policies: Policies,
}

/// What is done to text before it is read, in this order.
#[derive(Debug, Clone, Default)]
pub struct StepOptions {
    /// Texts that are replaced by others.
    pub swap: Vec<(String, String)>,
    /// Whether control characters are removed.
    pub remove_controls: bool,
    /// Whether each run of blanks becomes one space.
    pub collapse_blanks: bool,
    /// Whether characters are composed (Unicode's form NFC).
    pub compose: bool,
    /// What letters become.
    pub case: Case,
    /// The file's words, each with the value it means.
    pub lookup: Option<Vec<(String, String)>>,
    /// Values that the lookup lacks.
    pub when_not_listed: WhenNotListed,
}

/// What a value must be.
#[derive(Debug, Clone, Default)]
pub struct LimitOptions {
    /// The smallest.
    pub min: Option<Given>,
    /// The largest.
    pub max: Option<Given>,
    /// All that are allowed.
    pub one_of: Option<Vec<Given>>,
    /// A regular expression for the whole of it.
    pub matches: Option<String>,
}

/// What becomes of values that cannot be used.
#[derive(Debug, Clone, Copy, Default)]
pub struct Policies {
    /// Not written as the type is.
    pub unreadable: WhenUnreadable,
    /// Text beyond its length.
    pub too_long: WhenTooLong,
    /// Numbers and dates beyond their bounds.
    pub out_of_range: WhenOutOfRange,
    /// Numbers with too many digits after the mark.
    pub too_precise: WhenTooPrecise,
    /// Values that `one_of` or `matches` does not allow.
    pub not_allowed: WhenNotAllowed,
}

/// An option that is wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BadOption {
    /// The spec's key.
    pub key: &'static str,
    /// What is wrong, in a plain line.
    pub message: String,
    /// A few words for the place itself.
    pub label: &'static str,
}

impl BadOption {
    /// What is wrong with `key`.
    pub fn new(key: &'static str, message: impl Into<String>, label: &'static str) -> BadOption {
        BadOption {
            key,
            message: message.into(),
            label,
        }
    }
}
