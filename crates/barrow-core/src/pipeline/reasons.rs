//! What is wrong with a value, in words.

use std::collections::HashMap;
use std::sync::Arc;

use crate::columns::Fault;
use crate::escape::visible_short;
use crate::plan::ColumnPlan;
use crate::reason::{Code, Reason};
use crate::records::block::Block;
use crate::records::file_format::FileFormat;
use crate::source::Charset;
use crate::values::ColumnReader;

/// A value in a reason is cut after so many characters; the reject's own bytes
/// are whole.
pub const LONGEST_SHOWN: usize = 200;

/// Where a fault is: in which block and file, at which mark, in which column.
pub struct Here<'h> {
    /// The block.
    pub block: &'h Block,
    /// The file.
    pub file: &'h FileFormat,
    /// The record, as a place in the block's marks.
    pub mark: usize,
    /// The column.
    pub column: &'h ColumnPlan,
    /// The field that the column is, 0-based; none for one that is computed.
    pub field: Option<usize>,
    /// The bytes of values that do not stand in the block.
    pub store: &'h [u8],
}

/// The words of reasons, made once for a column and what is wrong with it.
#[derive(Default)]
pub struct Phrases(HashMap<(u32, Code), Phrase>);

/// What is wrong with a column's values.
#[derive(Clone)]
struct Phrase {
    column: Arc<str>,
    says: Arc<str>,
    expected: Arc<str>,
}

impl Phrases {
    fn of(&mut self, here: &Here<'_>, fault: &Fault) -> Phrase {
        let make = || {
            let (says, expected) = match &here.column.reader {
                Some(reader) => (reader.sentence(fault.code), reader.expected(fault.code)),
                None => (fault.code.words().to_string(), String::new()),
            };
            let expected = match fault.code {
                Code::NoSuchKey => "its key, or optional = true in the spec".into(),
                _ => expected,
            };
            let says = match fault.code {
                Code::BadBytes => format!(
                    "bytes that do not decode as {}",
                    here.file.rules.charset.name()
                ),
                _ => says,
            };
            Phrase {
                column: here.column.name.as_str().into(),
                says: says.into(),
                expected: expected.into(),
            }
        };
        self.0
            .entry((fault.column, fault.code))
            .or_insert_with(make)
            .clone()
    }
}

/// What is wrong with one value.
pub fn reason(here: &Here<'_>, fault: &Fault, phrases: &mut Phrases) -> Reason {
    let Here { block, column, .. } = here;
    let phrase = phrases.of(here, fault);
    // A field that is missing is told at the place of its record.
    let present = !fault.span.is_missing();
    let at = match present {
        true => fault.span.start(),
        false => block.marks[here.mark].start as usize,
    };
    let made = fault.made.map(|piece| piece.of(&block.bytes, here.store));
    Reason {
        code: fault.code,
        column: Some(phrase.column),
        field: here.field.map(|field| field as u32 + 1),
        offset: block.place(at),
        value: match (made, present) {
            (Some(text), _) => Some(visible_short(text, LONGEST_SHOWN)),
            (None, true) => Some(shown(block, here.file, column, fault)),
            (None, false) => None,
        },
        says: phrase.says,
        expected: phrase.expected,
    }
}

/// A value as people read it; bytes that do not decode, and numbers that are
/// bytes, stand in hexadecimal.
fn shown(block: &Block, file: &FileFormat, column: &ColumnPlan, fault: &Fault) -> String {
    let raw = block.raw(fault.span.range());
    if column
        .reader
        .as_ref()
        .is_some_and(ColumnReader::reads_bytes)
    {
        return hexadecimal(raw);
    }
    match fault.code {
        Code::BadBytes if block.map.is_some() => visible_short(raw, LONGEST_SHOWN),
        _ => readable(&file.rules.charset, &block.bytes[fault.span.range()]),
    }
}

fn hexadecimal(bytes: &[u8]) -> String {
    let shown = bytes.iter().take(LONGEST_SHOWN / 4);
    shown.map(|b| format!("\\x{b:02X}")).collect()
}

/// A field's text, or its bytes in hexadecimal where they mean nothing.
pub fn readable(charset: &Charset, value: &[u8]) -> String {
    let mut text = Vec::new();
    match charset.decode(
        &value[..value.len().min(LONGEST_SHOWN * 4)],
        None,
        &mut text,
    ) {
        Ok(_) => visible_short(&text, LONGEST_SHOWN),
        Err(_) if charset.reads_as_ascii() => visible_short(value, LONGEST_SHOWN),
        Err(_) => hexadecimal(value),
    }
}
