//! Everything that ends a command before its end, with its exit code.

use std::path::PathBuf;
use std::process::ExitCode;

use barrow_core::problem::Problem;

/// The exit code of what could not be done: a file, a database, a disk.
const NOT_DONE: u8 = 1;
/// The exit code of a wrong command line or spec.
const WRONG: u8 = 2;
/// The exit code of more rejects than the tolerance.
pub const BEYOND_TOLERANCE: u8 = 3;
/// The exit code where it was asked whether files and spec are alike, and they are not.
pub const NOT_ALIKE: u8 = 4;

/// Why a command ended before its end.
#[derive(Debug)]
pub enum Failure {
    /// The spec is wrong: its path, its text, and everything wrong with it.
    Spec {
        path: PathBuf,
        text: String,
        problems: Vec<Problem>,
    },
    /// The command line, or what spec and table make together, is wrong.
    Wrong {
        message: String,
        advice: Option<String>,
    },
    /// It could not be done.
    NotDone {
        message: String,
        advice: Option<String>,
    },
    /// Whoever read standard output went away: nothing is said.
    ReaderGone,
}

impl Failure {
    /// A wrong command line, with advice.
    pub fn wrong(message: impl Into<String>, advice: impl Into<String>) -> Failure {
        Failure::Wrong {
            message: message.into(),
            advice: Some(advice.into()),
        }
    }

    /// Something that could not be done.
    pub fn not_done(message: impl Into<String>) -> Failure {
        Failure::NotDone {
            message: without_numbers(message.into()),
            advice: None,
        }
    }

    /// The same failure with other advice, where a right is missing and `lacks` can say
    /// which.
    pub fn naming_rights(self, lacks: impl FnOnce() -> Option<String>) -> Failure {
        match self {
            Failure::NotDone { message, advice }
                if advice.as_deref() == Some(barrow_targets::error::NO_RIGHT) =>
            {
                Failure::NotDone {
                    message,
                    advice: lacks().or(advice),
                }
            }
            other => other,
        }
    }

    /// What people read of it, without advice.
    pub fn message(&self) -> String {
        match self {
            Failure::Spec { path, .. } => format!("{} is wrong", path.display()),
            Failure::Wrong { message, .. } | Failure::NotDone { message, .. } => message.clone(),
            Failure::ReaderGone => String::new(),
        }
    }

    /// The same failure with more said on a line of its own.
    pub fn and(self, more: &str) -> Failure {
        match self {
            Failure::Wrong { message, advice } => Failure::Wrong {
                message: format!("{message}\n{more}"),
                advice,
            },
            Failure::NotDone { message, advice } => Failure::NotDone {
                message: format!("{message}\n{more}"),
                advice,
            },
            other @ (Failure::Spec { .. } | Failure::ReaderGone) => other,
        }
    }

    /// The exit code.
    pub fn exit_code(&self) -> ExitCode {
        ExitCode::from(match self {
            Failure::Spec { .. } | Failure::Wrong { .. } => WRONG,
            Failure::NotDone { .. } => NOT_DONE,
            Failure::ReaderGone => 0,
        })
    }
}

/// The words without the system's own number for them, `(os error 2)`, which says nothing
/// to people.
pub fn without_numbers(mut message: String) -> String {
    const SIGN: &str = " (os error ";
    while let Some(at) = message.find(SIGN) {
        let Some(end) = message[at..].find(')') else {
            break;
        };
        message.replace_range(at..=at + end, "");
    }
    message
}

impl From<barrow_core::Error> for Failure {
    fn from(error: barrow_core::Error) -> Failure {
        let message = error.to_string();
        match error {
            barrow_core::Error::Header { .. } => Failure::wrong(
                message,
                "correct the names in the spec (from = \"…\" names the header's), or the file's header",
            ),
            barrow_core::Error::TooShort { .. } | barrow_core::Error::EndlessHeader { .. } => {
                Failure::NotDone {
                    message,
                    advice: Some("is the file whole, and is it of this spec's format?".into()),
                }
            }
            _ => Failure::not_done(message),
        }
    }
}

impl From<barrow_targets::Error> for Failure {
    fn from(error: barrow_targets::Error) -> Failure {
        let barrow_targets::Error {
            message,
            advice,
            in_spec,
            ..
        } = error;
        if in_spec {
            Failure::Wrong { message, advice }
        } else {
            Failure::NotDone {
                message: without_numbers(message),
                advice,
            }
        }
    }
}
