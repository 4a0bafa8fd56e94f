//! What is wrong with a spec, and where it stands in it.

use std::ops::Range;

/// One thing wrong (or odd) in a spec. A spec's problems are all gathered and
/// shown together, so that it is mended in one go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// What is wrong, in one plain line.
    pub message: String,
    /// The bytes of the spec's text (0-based) that it is about.
    pub span: Range<usize>,
    /// A few words set beside the caret.
    pub label: String,
    /// What to do about it, where that is known.
    pub help: Option<String>,
}

impl Problem {
    /// A problem at `span`, with the words beside the caret.
    pub fn new(
        span: Range<usize>,
        message: impl Into<String>,
        label: impl Into<String>,
    ) -> Problem {
        Problem {
            message: message.into(),
            span,
            label: label.into(),
            help: None,
        }
    }

    /// The same problem with advice.
    pub fn help(mut self, help: impl Into<String>) -> Problem {
        self.help = Some(help.into());
        self
    }

    /// The same problem with advice, where there is some.
    pub fn maybe_help(mut self, help: Option<String>) -> Problem {
        self.help = help;
        self
    }
}

/// A value together with the bytes of the spec that it was read from.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Spanned<T> {
    /// The value itself.
    pub value: T,
    /// Its bytes in the spec's text (0-based).
    pub span: Range<usize>,
}

impl<T> Spanned<T> {
    /// A value at a place.
    pub fn new(value: T, span: Range<usize>) -> Spanned<T> {
        Spanned { value, span }
    }
}
