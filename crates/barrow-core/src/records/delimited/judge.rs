//! Tells lines that look like records from text that runs over lines.
//!
//! RFC 4180 lets a quoted field hold line ends (section 2, rule 6), so two stray quotes may
//! enclose any number of records. A record over several lines is doubtful only where its
//! first line, its last, and at least half of those between look like records themselves.

use super::fields;
use crate::format::DelimitedFormat;
use crate::plan::{Plan, RecordTypePlan};
use crate::records::file_format::{FieldBinding, FileFormat};
use crate::records::record_types::kind_of;
use crate::records::rules::Rules;
use crate::records::span::Span;
use crate::repair::RepairKind;
use crate::values::{Cell, ColumnReader};
use crate::words::WhenDoubtful;

/// Judges the lines of one file.
#[derive(Debug)]
pub struct Judge<'r> {
    plan: &'r Plan,
    rules: &'r Rules,
    delimited: &'r DelimitedFormat,
    shapes: &'r [FieldBinding],
    /// The same delimiters, where no quote means anything.
    unquoted: DelimitedFormat,
    /// Whether more than the number of fields tells a record: a column that is not text,
    /// or the condition of a kind.
    has_evidence: bool,
}

impl<'r> Judge<'r> {
    /// For a file as it is read by a plan; none where quotes mean nothing, or where a
    /// record has one field, so that any line may be one.
    pub fn new(plan: &'r Plan, file: &'r FileFormat) -> Option<Judge<'r>> {
        let delimited = file.rules.format.delimited()?;
        let has_fields = file.shapes.iter().any(|shape| shape.fields > 1);
        if delimited.quote.is_empty() || !has_fields {
            return None;
        }
        let typed = |kind: &RecordTypePlan| {
            let mut read = kind.read.iter().map(|place| &kind.columns[*place]);
            read.any(|column| !column.ty.is_text() && column.value.is_none())
        };
        Some(Judge {
            plan,
            rules: &file.rules,
            delimited,
            shapes: &file.shapes,
            unquoted: DelimitedFormat {
                quote: Vec::new(),
                ..delimited.clone()
            },
            has_evidence: plan.has_kinds() || plan.record_types.iter().any(typed),
        })
    }

    /// Whether a record whose lines look like records is to be rejected: where more than
    /// the number of fields tells a record, and the spec does not say to believe quotes.
    pub fn doubts(&self) -> bool {
        self.has_evidence && self.delimited.when_doubtful == WhenDoubtful::Reject
    }

    /// Whether all fields of a record are quoted: what writes so quotes by rule, and leaves
    /// no quote stray.
    pub fn is_quoted_throughout(&self, record: &[u8]) -> bool {
        let mut spans = Vec::new();
        let split = fields::split_range(self.delimited, record, 0..record.len(), &mut spans);
        split.is_ok() && spans.into_iter().all(Span::is_quoted)
    }

    /// Whether a line alone looks like a record: with its quotes as text it has the right
    /// number of fields, and each can be read as its column's type.
    pub fn looks_whole(&self, line: &[u8]) -> bool {
        let Some(kind) = self.kind(line) else {
            return false;
        };
        let wanted = self.shapes[kind].fields;
        if wanted < 2 {
            return false;
        }
        let mut spans = Vec::new();
        let split = fields::split_range(&self.unquoted, line, 0..line.len(), &mut spans);
        split.is_ok() && spans.len() == wanted && self.reads(kind, line, &spans)
    }

    fn kind(&self, record: &[u8]) -> Option<usize> {
        match self.plan.has_kinds() {
            true => kind_of(&self.plan.record_types, self.rules, record).ok(),
            false => Some(0),
        }
    }

    /// Whether every field can be read as its column's type.
    fn reads(&self, kind: usize, line: &[u8], spans: &[Span]) -> bool {
        if !self.has_evidence {
            // Text alone: what follows a delimiter in prose begins with a space.
            let starts = |span: &Span| line[span.range()].first() == Some(&b' ');
            return !spans.iter().skip(1).any(starts);
        }
        let binding = &self.shapes[kind].binding;
        let kind = &self.plan.record_types[kind];
        kind.read.iter().all(|place| {
            let column = &kind.columns[*place];
            match (&column.reader, binding[*place]) {
                (Some(reader), Some(field)) if !column.ty.is_text() => spans
                    .get(field)
                    .is_some_and(|span| self.can_be(reader, &line[span.range()])),
                _ => true,
            }
        })
    }

    fn can_be(&self, reader: &ColumnReader, field: &[u8]) -> bool {
        if reader.reads_bytes() {
            return true;
        }
        // A quote at an end may be the stray one.
        let quote = self.delimited.quote.as_slice();
        let field = field.strip_prefix(quote).unwrap_or(field);
        let field = field.strip_suffix(quote).unwrap_or(field);
        let mut text = Vec::new();
        if self.rules.charset.decode(field, None, &mut text).is_err() {
            return false;
        }
        let mut is_changed = false;
        let note = |what| {
            is_changed |= matches!(
                what,
                RepairKind::UnreadableNulled
                    | RepairKind::UnreadableDefaulted
                    | RepairKind::NotListedNulled
                    | RepairKind::NotAllowedNulled
                    | RepairKind::NotAllowedDefaulted
            );
        };
        let read = reader.read_text(&text, &mut Vec::new(), &mut Cell::Null, note);
        read.is_ok() && !is_changed
    }
}
