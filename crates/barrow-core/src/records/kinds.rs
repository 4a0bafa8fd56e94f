//! Tells the kinds of record apart, before a record is split.

use super::fields::{self, Span};
use super::start::Rules;
use crate::conditions::{Condition, Raw};
use crate::plan::KindPlan;

/// The kind of a record: the first whose condition holds.
///
/// # Errors
/// None holds. What is wrong, if a condition could not be computed.
pub fn kind_of(kinds: &[KindPlan], rules: &Rules, bytes: &[u8]) -> Result<usize, Option<String>> {
    let record = text(rules, bytes);
    let field = |place| field(rules, bytes, place);
    let raw = Raw {
        record: &record,
        field: &field,
    };
    for (number, kind) in kinds.iter().enumerate() {
        let holds = kind.condition.as_ref().map(|c: &Condition| c.holds(&raw));
        match holds {
            None | Some(Ok(Some(true))) => return Ok(number),
            Some(Ok(_)) => {}
            Some(Err(why)) => return Err(Some(why.to_string())),
        }
    }
    Err(None)
}

/// Bytes as text. What does not decode is one character that no condition names.
fn text(rules: &Rules, bytes: &[u8]) -> String {
    let mut text = Vec::with_capacity(bytes.len());
    let _ = rules.charset.decode(bytes, Some("\u{FFFD}"), &mut text);
    String::from_utf8_lossy(&text).into_owned()
}

/// A field's text without its quotes and escapes.
fn field(rules: &Rules, record: &[u8], place: usize) -> Option<String> {
    let delimited = &rules.delimited;
    if delimited.delimiter.is_empty() {
        return None;
    }
    let mut spans: Vec<Span> = Vec::new();
    let _ = fields::split_range(delimited, record, 0..record.len(), &mut spans);
    let span = spans.get(place)?;
    let bytes = &record[span.range()];
    if !span.is_escaped() {
        return Some(text(rules, bytes));
    }
    let mut plain = Vec::new();
    fields::unescape(delimited, span.is_quoted(), bytes, &mut plain);
    Some(text(rules, &plain))
}
