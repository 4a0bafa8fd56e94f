//! Reads the lists of tables that stand beside the sections of a spec.

use std::cell::RefCell;

use toml::de::DeTable;

use crate::problem::{Problem, Spanned};
use crate::spec::raw::{References, Total};
use crate::spec::toml_table::Section;

/// `[[control_total]]`.
pub fn totals<'s>(top: &mut Section<'s>, problems: &'s RefCell<Vec<Problem>>) -> Vec<Total> {
    let read = |table: Spanned<&'s DeTable<'s>>| {
        let mut s = Section::new("[[control_total]]", Some(table.value), problems);
        let total = Total {
            span: table.span,
            part: s.word("in"),
            line: s.count("line"),
            sum: s.text("sum"),
            kind: s.text("record_type"),
            field: s.count("field"),
            start: s.count("start"),
            width: s.count("width"),
            matches: s.text("matches"),
        };
        s.finish();
        total
    };
    top.tables("control_total").into_iter().map(read).collect()
}

/// `[[references]]`.
pub fn references<'s>(
    top: &mut Section<'s>,
    problems: &'s RefCell<Vec<Problem>>,
) -> Vec<References> {
    let read = |table: Spanned<&'s DeTable<'s>>| {
        let mut s = Section::new("[[references]]", Some(table.value), problems);
        let references = References {
            span: table.span,
            columns: s.texts("columns"),
            table: s.text("table"),
            to: s.texts("to"),
        };
        s.finish();
        references
    };
    top.tables("references").into_iter().map(read).collect()
}
