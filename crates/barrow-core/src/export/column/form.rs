//! How a value is written, by its type.

use super::super::moment::MomentForm;
use super::How;
use crate::types::Type;
use crate::values::{Cell, ColumnReader, Valued};

/// Whether a word has nothing that could be a mark: letters of ASCII and digits.
pub(super) fn is_word(word: &[u8]) -> bool {
    !word.is_empty() && word.iter().all(u8::is_ascii_alphanumeric)
}

/// A number without an exponent, unless that is very long.
pub(super) fn float(plain: &str, exponent: String) -> String {
    match plain.len() > 24 {
        true => exponent,
        false => plain.to_string(),
    }
}

pub(super) fn how(ty: Type, reader: &ColumnReader) -> Result<How, String> {
    let options = reader.options();
    let word = |words: &Option<Vec<String>>, usual: &str, other: bool| {
        match words {
            Some(words) => words.first().cloned(),
            // Where only the other's words are given, this one has none.
            None => (!other).then(|| usual.to_string()),
        }
    };
    Ok(match ty {
        Type::SmallInt | Type::Integer | Type::BigInt => How::Whole,
        Type::Decimal { scale, .. } => How::Decimal(usize::from(scale)),
        Type::Real => How::Real,
        Type::Double => How::Double,
        Type::Boolean => {
            let yes = word(&options.true_words, "true", options.false_words.is_some());
            let no = word(&options.false_words, "false", options.true_words.is_some());
            match (yes, no) {
                (Some(yes), Some(no)) => How::Boolean(yes.into_bytes(), no.into_bytes()),
                _ => {
                    return Err("a boolean needs true_values and false_values to be written".into());
                }
            }
        }
        Type::Char(_) | Type::VarChar(_) | Type::Text | Type::Json => How::Text,
        Type::Date | Type::Time | Type::Timestamp | Type::TimestampTz => {
            How::Moment(MomentForm::new(&options.patterns, options.zone.as_deref()))
        }
        Type::Uuid => How::Uuid,
        Type::Bytes if options.base64 => How::Base64,
        Type::Bytes => How::Hexadecimal,
    })
}

/// Whether two values of one column are the same.
pub(super) fn is_same(ty: Type, a: Valued<'_>, b: Valued<'_>) -> bool {
    match (a.cell, b.cell) {
        (Cell::Null, Cell::Null) => true,
        (Cell::Text(_), Cell::Text(_)) if matches!(ty, Type::Char(_)) => {
            a.bytes().map(unpadded) == b.bytes().map(unpadded)
        }
        // A `real` is told apart by the digits it was written with: 0.1 of four bytes is the
        // 0.1 of eight, once both are of four.
        (Cell::Float(a), Cell::Float(b)) if ty == Type::Real => a as f32 == b as f32,
        _ => a.compare(b) == Some(std::cmp::Ordering::Equal),
    }
}

/// A text without the spaces at its end.
pub(super) fn unpadded(text: &[u8]) -> &[u8] {
    let spaces = text.iter().rev().take_while(|b| **b == b' ').count();
    &text[..text.len() - spaces]
}
