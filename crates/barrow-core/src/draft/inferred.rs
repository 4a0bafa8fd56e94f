//! What a draft proposes for a column.

use crate::draft::remark::Remark;
use crate::types::Type;

/// A column as a draft proposes it.
#[derive(Debug, Clone)]
pub struct Chosen {
    /// Its name, fit for SQL.
    pub name: String,
    /// The header's name, where it is another.
    pub from: Option<String>,
    /// What was chosen.
    pub choice: Inferred,
    /// How many values, nulls, examples and so on, in one line.
    pub evidence: String,
    /// What cannot be decided, or stands against the choice.
    pub remarks: Vec<Remark>,
    /// Whether no record has a value, and the header no name: a delimiter at the end.
    pub is_nothing: bool,
}

/// A type and how its values are written.
#[derive(Debug, Clone, PartialEq)]
pub struct Inferred {
    /// The type.
    pub ty: Type,
    /// Beside an empty field.
    pub null_words: Vec<String>,
    /// Whether spaces around a value are taken off.
    pub trim: bool,
    /// The decimal mark and the group mark, where they are not the usual.
    pub marks: Option<(String, String)>,
    /// What may stand around a number.
    pub take_off: Vec<String>,
    /// Where a number's sign stands, where it is not before it.
    pub sign: Option<&'static str>,
    /// The patterns, where they are not the usual.
    pub patterns: Vec<String>,
    /// The words for true and for false in all of their spellings, the most frequent first,
    /// where they are not the usual.
    pub words: Option<(Vec<String>, Vec<String>)>,
}

impl Inferred {
    /// A type whose values are written in the usual way.
    pub(super) fn new(ty: Type) -> Inferred {
        Inferred {
            ty,
            null_words: Vec::new(),
            trim: false,
            marks: None,
            take_off: Vec::new(),
            sign: None,
            patterns: Vec::new(),
            words: None,
        }
    }
}
