//! Why something could not be done.

use std::fmt;
use std::path::Path;

use barrow_core::escape::visible_path;
use barrow_core::problem::Problem;
use barrow_core::spec::SpecTexts;

/// The kind of failure, for callers that act on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ErrorKind {
    /// The spec is wrong: [`Error::problems`] has everything that is.
    Spec,
    /// What was asked for cannot be: an option, or what spec, files and table make together.
    Request,
    /// A file could not be read, or is not what the spec says.
    Input,
    /// The database failed, or refused a statement.
    Database,
    /// Whoever read what was written to standard output went away.
    OutputClosed,
    /// Anything else: a disk, a folder, a thread.
    Failed,
}

impl ErrorKind {
    /// The kind as one word.
    pub fn word(self) -> &'static str {
        match self {
            ErrorKind::Spec => "spec",
            ErrorKind::Request => "request",
            ErrorKind::Input => "input",
            ErrorKind::Database => "database",
            ErrorKind::OutputClosed => "output-closed",
            ErrorKind::Failed => "failed",
        }
    }
}

/// Why something could not be done: what people read of it, and what to do about it.
#[derive(Debug)]
pub struct Error(Box<Inner>);

#[derive(Debug)]
struct Inner {
    kind: ErrorKind,
    message: String,
    advice: Option<String>,
    /// Whether a right is missing, and it is not known which.
    is_denied: bool,
    spec: Option<WrongSpec>,
}

/// A spec and everything that is wrong with it.
#[derive(Debug)]
pub struct WrongSpec {
    /// Its texts: its own, and those that it builds on.
    pub texts: SpecTexts,
    /// Everything that is wrong, each with its place in the texts.
    pub problems: Vec<Problem>,
}

impl Error {
    fn new(kind: ErrorKind, message: String) -> Error {
        Error(Box::new(Inner {
            kind,
            message,
            advice: None,
            is_denied: false,
            spec: None,
        }))
    }

    /// Something that was asked for and cannot be, with what to do instead.
    pub fn request(message: impl Into<String>, advice: impl Into<String>) -> Error {
        Error::new(ErrorKind::Request, message.into()).advised(advice)
    }

    /// Something that could not be done.
    pub fn failed(message: impl Into<String>) -> Error {
        Error::new(ErrorKind::Failed, without_numbers(message.into()))
    }

    /// A file that could not be read or written.
    pub fn file(path: &Path, error: &dyn fmt::Display) -> Error {
        let shown = visible_path(path);
        Error::failed(format!("{shown}: {error}"))
    }

    /// A wrong spec.
    pub fn spec(texts: &SpecTexts, problems: Vec<Problem>) -> Error {
        let shown = texts.paths().next().map(visible_path);
        let message = format!("{} is wrong", shown.unwrap_or_default());
        let mut error = Error::new(ErrorKind::Spec, message);
        error.0.spec = Some(WrongSpec {
            texts: texts.clone(),
            problems,
        });
        error
    }

    /// Whoever read standard output went away.
    pub fn output_closed() -> Error {
        Error::new(ErrorKind::OutputClosed, String::new())
    }

    /// The same error with what to do about it.
    pub fn advised(mut self, advice: impl Into<String>) -> Error {
        self.0.advice = Some(advice.into());
        self
    }

    /// The same error with more said on a line of its own.
    pub fn and(mut self, more: &str) -> Error {
        if !matches!(self.kind(), ErrorKind::Spec | ErrorKind::OutputClosed) {
            self.0.message += &format!("\n{more}");
        }
        self
    }

    /// The same error with other advice, where a right is missing and `lacks` can say which.
    pub(crate) fn naming_rights(mut self, lacks: impl FnOnce() -> Option<String>) -> Error {
        if self.0.is_denied
            && let Some(lacks) = lacks()
        {
            self.0.advice = Some(lacks);
        }
        self
    }

    /// What kind of failure it is.
    pub fn kind(&self) -> ErrorKind {
        self.0.kind
    }

    /// What people read of it, without advice.
    pub fn message(&self) -> &str {
        &self.0.message
    }

    /// What to do about it, where that is known.
    pub fn advice(&self) -> Option<&str> {
        self.0.advice.as_deref()
    }

    /// The spec, where it is wrong.
    pub fn wrong_spec(&self) -> Option<&WrongSpec> {
        self.0.spec.as_ref()
    }

    /// Everything that is wrong with the spec; nothing where it is not the spec.
    pub fn problems(&self) -> &[Problem] {
        self.0.spec.as_ref().map_or(&[], |spec| &spec.problems)
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.message)
    }
}

impl std::error::Error for Error {}

/// The words without the system's own number for them, `(os error 2)`, which says nothing
/// to people.
fn without_numbers(mut message: String) -> String {
    const SIGN: &str = " (os error ";
    while let Some(at) = message.find(SIGN) {
        let Some(end) = message[at..].find(')') else {
            break;
        };
        message.replace_range(at..=at + end, "");
    }
    message
}

impl From<barrow_core::Error> for Error {
    fn from(error: barrow_core::Error) -> Error {
        let message = error.to_string();
        match error {
            barrow_core::Error::Header { .. } => Error::request(
                message,
                "correct the names in the spec (from = \"…\" names the header's), or the file's header",
            ),
            barrow_core::Error::TooShort { .. } | barrow_core::Error::EndlessHeader { .. } => {
                Error::new(ErrorKind::Input, message)
                    .advised("is the file whole, and is it of this spec's format?")
            }
            _ => Error::new(ErrorKind::Input, without_numbers(message)),
        }
    }
}

impl From<barrow_targets::Error> for Error {
    fn from(error: barrow_targets::Error) -> Error {
        let kind = match error.in_spec {
            true => ErrorKind::Request,
            false => ErrorKind::Database,
        };
        let message = match error.in_spec {
            true => error.message,
            false => without_numbers(error.message),
        };
        let mut own = Error::new(kind, message);
        own.0.is_denied = error.advice.as_deref() == Some(barrow_targets::error::NO_RIGHT);
        own.0.advice = error.advice;
        own
    }
}

impl From<barrow_core::pipeline::Failure<Error>> for Error {
    fn from(failure: barrow_core::pipeline::Failure<Error>) -> Error {
        match failure {
            barrow_core::pipeline::Failure::Source(error) => error.into(),
            barrow_core::pipeline::Failure::Sink(error) => error,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_systems_numbers_are_not_shown() {
        let error = Error::failed("a: no such file (os error 2)\nb: full (os error 28)");
        assert_eq!(error.message(), "a: no such file\nb: full");
    }
}
