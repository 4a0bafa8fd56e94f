//! Checks what belongs to records that name their fields.

use std::ops::Range;

use super::it;
use crate::format::{KeyField, KeyPath, KeyTree};
use crate::plan::{ColumnPlan, Place};
use crate::problem::{Problem, Spanned};
use crate::source::Charset;
use crate::spec::raw::{Column, RawSpec};
use crate::types::Type;
use crate::values::ColumnReader;
use crate::words::Layout;

/// Whether the spec's records name their fields.
pub fn is_json(written: &RawSpec) -> bool {
    it(&written.records.layout) == Some(Layout::Json)
}

fn span<T>(at: &Option<Spanned<T>>) -> Option<Range<usize>> {
    at.as_ref().map(|at| at.span.clone())
}

/// Keys that mean nothing where records name their fields.
pub fn other_keys(written: &RawSpec) -> Vec<(&'static str, Option<Range<usize>>)> {
    let (d, r) = (&written.delimited, &written.records);
    vec![
        ("[delimited] delimiter", span(&d.delimiter)),
        ("[delimited] quote", span(&d.quote)),
        ("[delimited] escape", span(&d.escape)),
        ("[fixed] measure", span(&written.measure)),
        ("[records] record_width", span(&r.record_width)),
        ("[records] ending", span(&r.ending)),
        ("[records] preamble", span(&r.preamble)),
        ("[records] header", span(&r.header)),
        ("[records] trailer", span(&r.trailer)),
        ("[records] when_short", span(&r.when_short)),
        ("[records] when_long", span(&r.when_long)),
    ]
}

/// JSON is UTF-8 between programs (RFC 8259, section 8.1), and was UTF-16 or UTF-32 before
/// (RFC 7159, section 8.1).
pub fn encoding(charset: Option<&Charset>, written: &RawSpec, problems: &mut Vec<Problem>) {
    let is_unicode = |charset: &Charset| charset.name().to_ascii_lowercase().starts_with("utf-");
    if let (Some(charset), Some(at)) = (charset, &written.source.encoding)
        && !is_unicode(charset)
    {
        problems.push(Problem::new(
            at.span.clone(),
            format!(
                "JSON is UTF-8, UTF-16 or UTF-32, and not {}",
                charset.name()
            ),
            "not for layout = \"json\"",
        ));
    }
}

/// A column has a key, and no place.
pub fn misplaced(c: &Column, problems: &mut Vec<Problem>) {
    for (key, span) in [
        ("position", span(&c.at)),
        ("start", span(&c.start)),
        ("width", span(&c.width)),
    ] {
        if let Some(span) = span {
            problems.push(Problem::new(
                span,
                format!(
                    "column {}: {key} is for records whose fields have places",
                    c.name.value
                ),
                "not with layout = \"json\"",
            ));
        }
    }
}

/// Keys of a column that only records have which name their fields.
pub fn only_here(c: &Column, problems: &mut Vec<Problem>) {
    let several = c.from_also.first().map(|at| at.span.clone());
    for (what, span) in [("several names", several), ("optional", span(&c.optional))] {
        if let Some(span) = span {
            problems.push(Problem::new(
                span,
                format!("column {}: {what} is for layout = \"json\"", c.name.value),
                "has no meaning here",
            ));
        }
    }
}

/// What the columns of a record type ask for.
pub fn keys(written: &[Column], columns: &[ColumnPlan]) -> KeyTree {
    let named = columns
        .iter()
        .filter(|column| column.place != Place::Computed);
    let fields = named.map(|column| {
        let own = written.iter().find(|c| c.name.value == column.name);
        let given = own.and_then(|c| c.from.as_ref());
        let also = own.map_or(&[][..], |c| c.from_also.as_slice());
        let names = given
            .into_iter()
            .chain(also)
            .map(|name| name.value.as_str());
        let mut paths: Vec<KeyPath> = names.map(KeyPath::parse).collect();
        if paths.is_empty() {
            paths.push(KeyPath {
                steps: vec![column.name.clone()],
            });
        }
        KeyField {
            paths,
            optional: own.is_some_and(|c| it(&c.optional) == Some(true)),
            is_document: column.ty == Type::Json,
            tells_bare_values: column
                .reader
                .as_ref()
                .is_some_and(ColumnReader::tells_bare_values),
        }
    });
    KeyTree::new(fields.collect())
}
