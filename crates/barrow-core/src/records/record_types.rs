//! Tells the kinds of record apart, before a record is split.

use super::json::object;
use super::layout;
use super::rules::Rules;
use crate::conditions::{Condition, Raw};
use crate::format::KeyTree;
use crate::plan::RecordTypePlan;

/// The kind of a record: the first whose condition holds.
///
/// # Errors
/// None holds. What is wrong, if a condition could not be computed.
pub fn kind_of(
    record_types: &[RecordTypePlan],
    rules: &Rules,
    bytes: &[u8],
) -> Result<usize, Option<String>> {
    let record = layout::decoded(rules, bytes);
    let field = |place: usize| {
        let spans = layout::named_fields(&rules.format, bytes, 0..bytes.len());
        spans
            .get(place)
            .map(|span| layout::text_of(rules, bytes, *span))
    };
    let key = |tree: &KeyTree| {
        let mut spans = Vec::new();
        object::split(bytes, 0..bytes.len(), tree, &mut spans).ok()?;
        let span = spans.first().filter(|span| !span.is_missing())?;
        Some(layout::text_of(rules, bytes, *span))
    };
    let raw = Raw {
        record: &record,
        field: &field,
        key: &key,
    };
    for (number, kind) in record_types.iter().enumerate() {
        let holds = kind.condition.as_ref().map(|c: &Condition| c.holds(&raw));
        match holds {
            None | Some(Ok(Some(true))) => return Ok(number),
            Some(Ok(_)) => {}
            Some(Err(why)) => return Err(Some(why.to_string())),
        }
    }
    Err(None)
}
