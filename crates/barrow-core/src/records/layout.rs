//! What every layout can do with a record: one answer for each.
//!
//! How records are found is in [`super::framing`]; what only one layout does is in its own
//! folder.

use std::ops::Range;

use super::delimited::fields;
use super::fixed::characters;
use super::json;
use super::mark::{Mark, State};
use super::rules::Rules;
use super::span::Span;
use crate::format::RecordFormat;
use crate::plan::RecordTypePlan;

/// Writes a field's text without its escapes to `out`.
pub fn unescape(format: &RecordFormat, span: Span, field: &[u8], out: &mut Vec<u8>) {
    match format {
        RecordFormat::Delimited(delimited) => {
            fields::unescape(delimited, span.is_quoted(), field, out);
        }
        // Nothing is escaped.
        RecordFormat::Fixed(_) => out.extend_from_slice(field),
        RecordFormat::Json => json::unescape(field, out),
    }
}

/// The fields of the record at `range`, before its record type is known: what can be told
/// from the record alone. None in a fixed layout, where widths belong to a record type.
pub fn named_fields(format: &RecordFormat, bytes: &[u8], range: Range<usize>) -> Vec<Span> {
    let mut spans = Vec::new();
    match format {
        RecordFormat::Delimited(delimited) => {
            // Text after a closing quote is told where the record is read.
            let _ = fields::split_range(delimited, bytes, range, &mut spans);
        }
        // Fields have no order there, and no names here.
        RecordFormat::Fixed(_) | RecordFormat::Json => {}
    }
    spans
}

/// A header record's names; none in a layout where nothing sets them apart.
pub fn header_names(rules: &Rules, bytes: &[u8], mark: &Mark) -> Vec<String> {
    let spans = named_fields(&rules.format, bytes, mark.range());
    let name = |span| text_of(rules, bytes, span);
    spans.into_iter().map(name).collect()
}

/// A field's text, without quotes and escapes. What does not decode is one character that
/// no name has and no condition names.
pub fn text_of(rules: &Rules, bytes: &[u8], span: Span) -> String {
    let field = &bytes[span.range()];
    if !span.is_escaped() {
        return decoded(rules, field);
    }
    let mut plain = Vec::new();
    unescape(&rules.format, span, field, &mut plain);
    decoded(rules, &plain)
}

/// Bytes as text, as [`text_of`] does it.
pub fn decoded(rules: &Rules, bytes: &[u8]) -> String {
    let mut text = Vec::with_capacity(bytes.len());
    let _ = rules.charset.decode(bytes, Some("\u{FFFD}"), &mut text);
    String::from_utf8_lossy(&text).into_owned()
}

/// Where the fields of a record stand in its block, to be shown: also of a record that is
/// not as it should be.
pub fn field_ranges(
    rules: &Rules,
    kind: &RecordTypePlan,
    bytes: &[u8],
    mark: &Mark,
) -> Vec<Range<usize>> {
    if let (RecordFormat::Fixed(_), Some(fixed)) = (&rules.format, &kind.fixed) {
        let start = mark.start as usize;
        let text = &bytes[mark.range()];
        let border = |place: usize| match rules.counts_characters() {
            true => characters::place_of(text, place).unwrap_or(text.len()),
            false => place.min(text.len()),
        };
        let slices = fixed.slices.iter();
        return slices
            .map(|(s, w)| start + border(*s)..start + border(s + w))
            .collect();
    }
    if matches!(
        mark.state,
        State::TooLong | State::TooLongRest | State::Blank | State::Doubtful(_)
    ) {
        return Vec::new();
    }
    if let Some(keys) = &kind.keys {
        let mut spans = Vec::new();
        let _ = json::object::split(bytes, mark.range(), keys, &mut spans);
        return spans.into_iter().map(Span::range).collect();
    }
    let spans = named_fields(&rules.format, bytes, mark.range());
    spans.into_iter().map(Span::range).collect()
}
