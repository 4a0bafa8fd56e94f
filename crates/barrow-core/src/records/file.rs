//! What holds for every record of one file: decided once, when it is opened.

use super::ending::FileEnding;
use super::start::Rules;

/// How one file is read.
#[derive(Debug, PartialEq, Eq)]
pub struct FileReading {
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
    /// How many fields a record has.
    pub fields: usize,
    /// For each column of the plan, the field that it is, 0-based.
    pub binding: Vec<usize>,
    /// What people should know of how the file was bound to the spec.
    pub notes: Vec<String>,
}
