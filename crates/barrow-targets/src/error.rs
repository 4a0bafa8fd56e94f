//! What can go wrong with a database, in the words that people read.

/// What to do about a right that is missing, where it is not known which.
pub const NO_RIGHT: &str =
    "ask the table's owner for it; barrow check --connect says which rights are missing";

/// The kind of failure, for callers that act on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ErrorKind {
    /// Any other.
    #[default]
    Other,
    /// What was to be made is there already, or has the key of another.
    Duplicate,
    /// A right is missing.
    Denied,
    /// Another session holds a lock.
    Locked,
    /// The connection is gone.
    Gone,
}

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
    /// What kind it is.
    pub kind: ErrorKind,
}

impl Error {
    /// A failure of the database.
    pub fn new(message: impl Into<String>) -> Error {
        Error {
            message: without_secrets(message.into()),
            advice: None,
            in_spec: false,
            kind: ErrorKind::Other,
        }
    }

    /// A fault of the command line or the spec.
    pub fn spec(message: impl Into<String>) -> Error {
        Error {
            message: without_secrets(message.into()),
            advice: None,
            in_spec: true,
            kind: ErrorKind::Other,
        }
    }

    /// The same failure, of a kind.
    pub fn kind(mut self, kind: ErrorKind) -> Error {
        self.kind = kind;
        self
    }

    /// The same failure with advice.
    pub fn advice(mut self, advice: impl Into<String>) -> Error {
        self.advice = Some(without_secrets(advice.into()));
        self
    }
}

/// A server repeats what it was given, and an address that is written wrong has its
/// password where a name is shown.
fn without_secrets(text: String) -> String {
    match crate::secret::hide(&text) {
        std::borrow::Cow::Borrowed(_) => text,
        std::borrow::Cow::Owned(hidden) => hidden,
    }
}
