//! A value that the spec gives.

/// A value that the spec gives: as the file would write it, or as TOML does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Given {
    /// Text in quotes: read as a field of the file is.
    AsInFile(String),
    /// A number, date or truth value of TOML: in the standard notation, with a
    /// decimal point and ISO 8601 dates, however the file writes them.
    Standard(String),
}

impl Given {
    /// The text itself.
    pub fn text(&self) -> &str {
        match self {
            Given::AsInFile(text) | Given::Standard(text) => text,
        }
    }
}
