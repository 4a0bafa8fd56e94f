//! How a record ends, as the spec says it.

/// How a record ends, before a file has been looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RecordEnd {
    /// As the file's first line ends.
    Auto,
    /// With this text.
    Text(String),
    /// Not at all: each is as wide as the fixed layout says.
    None,
}
