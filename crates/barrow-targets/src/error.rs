//! What can go wrong with a database, in the words that people read.

/// A failure of the database. Nothing since the last commit is kept.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct Error {
    /// What went wrong, in a plain sentence.
    pub message: String,
    /// What to do about it, where that is known.
    pub advice: Option<String>,
    /// Whether the command line or the spec is at fault, and not the database.
    pub in_spec: bool,
}

impl Error {
    /// A failure of the database.
    pub fn new(message: impl Into<String>) -> Error {
        Error {
            message: message.into(),
            advice: None,
            in_spec: false,
        }
    }

    /// A fault of the command line or the spec.
    pub fn spec(message: impl Into<String>) -> Error {
        Error {
            message: message.into(),
            advice: None,
            in_spec: true,
        }
    }

    /// The same failure with advice.
    pub fn advice(mut self, advice: impl Into<String>) -> Error {
        self.advice = Some(advice.into());
        self
    }
}
