//! What holds for every record of one file: decided once, when it is opened.

use crate::records::ending::FileEnding;
use crate::records::rules::Rules;

/// The fields of a kind of record in one file.
#[derive(Debug, PartialEq, Eq)]
pub struct FieldBinding {
    /// How many fields a record has.
    pub fields: usize,
    /// For each column of the kind, the field that it is, 0-based; none for a
    /// column that is computed.
    pub binding: Vec<Option<usize>>,
}

/// How one file is read.
#[derive(Debug, PartialEq, Eq)]
pub struct FileFormat {
    /// The file's place in the list of files, 0-based.
    pub index: usize,
    /// The file as people named it.
    pub name: String,
    /// Its encoding, and what sets fields apart, as the bytes that are split.
    pub rules: Rules,
    /// How its records end.
    pub ending: FileEnding,
    /// Its bytes before the first record: byte order mark, preamble, header.
    pub lead: Vec<u8>,
    /// The file's own name, without its folder.
    pub file_name: String,
    /// Whether it holds the rejects of another file, whose totals it then states.
    pub is_rejects: bool,
    /// Where its records are to be taken from, 0-based: those before are in the table.
    pub from: u64,
    /// For each kind of record, its fields.
    pub shapes: Vec<FieldBinding>,
    /// What people should know of how the file was bound to the spec.
    pub notes: Vec<String>,
}
