//! Records that are not rows since their shape is wrong.

use std::ops::Range;

use crate::pipeline::batch::Batch;
use crate::pipeline::reasons::readable;
use crate::reason::{Code, Reason, Reject};
use crate::records::block::Block;
use crate::records::fixed::cut::Misfit;
use crate::records::json::object::ObjectFault;
use crate::records::mark::Mark;
use crate::records::span::Span;
use crate::source::Charset;

/// What is wrong with the shape of a record.
pub struct Shape {
    /// None for a later part of a record that has been told already.
    pub code: Option<Code>,
    /// What is wrong.
    pub says: String,
    /// What was expected.
    pub expected: String,
    /// The field it is about, 0-based, and where that stands.
    pub field: Option<(usize, Span)>,
    /// Where the fault is in the block, where it is no field's.
    pub at: Option<Range<usize>>,
}

impl From<ObjectFault> for Shape {
    fn from(fault: ObjectFault) -> Shape {
        Shape {
            says: fault.says,
            at: Some(fault.at),
            ..Shape::new(fault.code, "one JSON object")
        }
    }
}

impl From<Misfit> for Shape {
    fn from(misfit: Misfit) -> Shape {
        Shape {
            says: misfit.says,
            ..Shape::new(misfit.code, &misfit.expected)
        }
    }
}

impl Shape {
    /// What `code` says.
    pub fn new(code: Code, expected: &str) -> Shape {
        Shape {
            code: Some(code),
            says: code.words().into(),
            expected: expected.into(),
            field: None,
            at: None,
        }
    }

    /// A later part of a record that has been told already.
    pub fn rest() -> Shape {
        Shape {
            code: None,
            says: String::new(),
            expected: String::new(),
            field: None,
            at: None,
        }
    }

    /// The record as a reject.
    pub fn reject(self, block: &Block, charset: &Charset, index: usize, mark: &Mark) -> Reject {
        let text = match (self.field, self.at) {
            (Some((_, span)), _) => span.range(),
            (None, Some(at)) => at,
            (None, None) => mark.range(),
        };
        let reasons = self.code.map(|code| Reason {
            code,
            column: None,
            field: self.field.map(|(field, _)| field as u32 + 1),
            offset: block.place(text.start),
            value: Some(readable(charset, &block.bytes[text])),
            says: self.says.into(),
            expected: self.expected.into(),
        });
        Batch::reject(block, index, reasons.into_iter().collect())
    }
}

/// A quote that nothing closes.
pub fn unclosed() -> Shape {
    Shape::new(
        Code::UnclosedQuote,
        "a closing quote before the record's end",
    )
}

/// A record of which so many lines look like records themselves.
pub fn doubtful(lines: u32) -> Shape {
    Shape::new(
        Code::DoubtfulQuote,
        &format!(
            "{lines} records without the quote, or one record over these lines: \
             then say [delimited] when_doubtful = \"believe\""
        ),
    )
}

/// A record longer than it may be.
pub fn too_long(longest: usize) -> Shape {
    Shape {
        says: format!("the record is longer than {longest} bytes"),
        ..Shape::new(
            Code::RecordTooLong,
            &format!("at most {longest} bytes, as [records] max_record_size says"),
        )
    }
}
