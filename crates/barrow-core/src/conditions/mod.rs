//! The small language of `[[check]]`, `keep_if` and `[[record_type]] if`.
//!
//! ```text
//! text → words (lex) → tree (parse) → bound to columns and types (bind) → values (eval)
//! ```
//!
//! Its grammar stands in `docs/spec.md`. Comparison with null is neither true nor
//! false, as in SQL (ISO/IEC 9075-2, 8.1): a check fails only where it is false,
//! and `keep_if` and `if` hold only where they are true.

mod bind;
mod eval;
mod lex;
mod number;
mod parse;
mod value;

use std::ops::Range;

pub use bind::{Condition, Scope};
pub use eval::{Environment, Raw, Row, Uncomputable};
pub use value::Value;

/// What is wrong with a condition, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wrong {
    /// The bytes of the condition's text (0-based) that it is about.
    pub span: Range<usize>,
    /// What is wrong, in one plain line.
    pub message: String,
    /// What to do about it, where that is known.
    pub help: Option<String>,
}

impl Wrong {
    fn new(span: Range<usize>, message: impl Into<String>) -> Wrong {
        Wrong {
            span,
            message: message.into(),
            help: None,
        }
    }

    fn help(mut self, help: impl Into<String>) -> Wrong {
        self.help = Some(help.into());
        self
    }
}
