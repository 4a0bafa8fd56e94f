//! Checks what a spec says of the table beyond its rows: SQL around them, the run's column, and
//! foreign keys.

use std::ops::Range;

use super::{it, words_span};
use crate::nearest::did_you_mean;
use crate::plan::{RecordTypePlan, Reference};
use crate::problem::{Problem, Spanned};
use crate::spec::raw::{Column, RawSpec, References};
use crate::types::Type;
use crate::words::{Every, Mode, WhenChanged};

/// Statements that would end the transaction of the load, or open another.
const OF_TRANSACTIONS: [&str; 8] = [
    "ABORT",
    "BEGIN",
    "COMMIT",
    "PREPARE",
    "RELEASE",
    "ROLLBACK",
    "SAVEPOINT",
    "START",
];

/// How long a run's id may be.
const RUN: u32 = 40;

/// Adds the column that gets the run's id, to every record type that is loaded.
pub fn add_run_column(written: &mut RawSpec, problems: &mut Vec<Problem>) {
    let Some(name) = written.target.run_column.clone() else {
        return;
    };
    let shapes = written.record_types.iter().map(|kind| &kind.shape);
    let shapes = shapes.chain([&written.shape]);
    let is_it = |column: &Column| column.name.value.eq_ignore_ascii_case(&name.value);
    let is_taken = shapes.flat_map(|shape| &shape.columns).any(is_it);
    if is_taken {
        problems.push(
            Problem::new(
                name.span.clone(),
                format!(
                    "[target] run_column is {}, which is a column of the file",
                    name.value
                ),
                "has values of its own",
            )
            .help("give it a name of its own, such as loaded_by"),
        );
        return;
    }
    let at = |value: &str| Spanned::new(value.to_string(), name.span.clone());
    let column = || Column {
        name: name.clone(),
        ty: Some(Spanned::new(Type::VarChar(RUN), name.span.clone())),
        has_type: true,
        value: Some(at("{run}")),
        ..Column::default()
    };
    if written.record_types.is_empty() {
        written.shape.columns.push(column());
    }
    let kinds = written.record_types.iter_mut();
    for kind in kinds.filter(|kind| it(&kind.load) != Some(false)) {
        kind.shape.columns.push(column());
    }
}

/// What replacing the rows of a file's earlier content needs.
pub fn replaces(written: &RawSpec, every: Every, mode: Mode, problems: &mut Vec<Problem>) {
    let Some(at) = &written.source.when_changed else {
        return;
    };
    if at.value != WhenChanged::Replace {
        return;
    }
    let lacks = match (&written.target.run_column, every, mode) {
        (None, _, _) => "say [target] run_column, the column that gets the run's id",
        (_, Every::Records(_), _) => "say commit_every = \"all\": the old rows go with the new",
        (_, _, Mode::Append) => return,
        (_, _, _) => "the other modes already handle the earlier rows: leave when_changed out",
    };
    problems.push(
        Problem::new(
            at.span.clone(),
            "when_changed = \"replace\" takes the rows of the file's earlier content out again",
            "not so",
        )
        .help(lacks),
    );
}

/// SQL without its comments (ISO/IEC 9075-2, 5.2), so that its first word is seen. Those of
/// MySQL that are run all the same are left in, without their signs.
fn without_comments(sql: &str) -> String {
    let mut plain = String::new();
    let mut rest = sql;
    while let Some(c) = rest.chars().next() {
        let (length, keeps) = match c {
            '\'' | '"' | '`' => {
                let close = rest[1..].find(c).map_or(rest.len(), |at| at + 2);
                (close, true)
            }
            '-' if rest.starts_with("--") => (rest.find('\n').unwrap_or(rest.len()), false),
            '#' => (rest.find('\n').unwrap_or(rest.len()), false),
            '/' if rest.starts_with("/*!") => {
                let digits = rest[3..].find(|c: char| !c.is_ascii_digit());
                (digits.map_or(rest.len(), |at| at + 3), false)
            }
            '/' if rest.starts_with("/*") => {
                (rest.find("*/").map_or(rest.len(), |at| at + 2), false)
            }
            c => (c.len_utf8(), true),
        };
        match keeps {
            true => plain.push_str(&rest[..length]),
            false => plain.push(' '),
        }
        rest = &rest[length..];
    }
    plain
}

/// SQL that runs around the rows.
pub fn statements(
    key: &str,
    statements: Option<&[Spanned<String>]>,
    problems: &mut Vec<Problem>,
) -> Vec<String> {
    let mut texts = Vec::new();
    for statement in statements.unwrap_or_default() {
        let word = |text: &str| text.split_whitespace().next().unwrap_or("").to_uppercase();
        let is_end = |text: &str| OF_TRANSACTIONS.contains(&word(text).as_str());
        // END ends a transaction, too, and the body of a trigger or a function that is made.
        let plain = without_comments(&statement.value);
        let makes_body = word(&plain) == "CREATE";
        let ends = plain
            .split(';')
            .any(|piece| is_end(piece) || (word(piece) == "END" && !makes_body));
        if ends || statement.value.trim().is_empty() {
            problems.push(
                Problem::new(
                    statement.span.clone(),
                    format!("a statement of [target] {key} runs in the load's own transaction"),
                    "not here",
                )
                .help("the load begins and ends it: leave statements out that do"),
            );
        }
        texts.push(statement.value.clone());
    }
    texts
}

/// The foreign keys.
pub fn references(
    written: &RawSpec,
    record_types: &[RecordTypePlan],
    problems: &mut Vec<Problem>,
) -> Vec<Reference> {
    let one = |said: &References| reference(said, written, record_types, problems);
    written.references.iter().filter_map(one).collect()
}

fn reference(
    said: &References,
    written: &RawSpec,
    record_types: &[RecordTypePlan],
    problems: &mut Vec<Problem>,
) -> Option<Reference> {
    let mut wrong = |span: &Range<usize>, message: String, label: &str| {
        problems.push(Problem::new(span.clone(), message, label));
    };
    let [kind] = record_types else {
        let message = "[[references]] belong to one table, and the spec has several record types";
        wrong(&said.span, message.into(), "not with [[record_type]]");
        return None;
    };
    let (Some(columns), Some(table)) = (&said.columns, &said.table) else {
        let message = "[[references]] says columns, and the table whose key has their values";
        wrong(&said.span, message.into(), "incomplete");
        return None;
    };
    for column in columns {
        let is_it = |c: &&crate::plan::ColumnPlan| c.name == column.value && c.load;
        if kind.loaded().find(is_it).is_none() {
            let names = written.shape.columns.iter().map(|c| c.name.value.as_str());
            let message = format!("[[references]] names {}, which is not loaded", column.value);
            problems.push(
                Problem::new(column.span.clone(), message, "no such column")
                    .maybe_help(did_you_mean(&column.value, names)),
            );
        }
    }
    let to = said.to.as_ref().unwrap_or(columns);
    if to.len() != columns.len() || columns.is_empty() {
        let message = format!("{} columns refer to {}", columns.len(), to.len());
        problems.push(Problem::new(words_span(to), message, "not as many"));
    }
    let names = |texts: &[Spanned<String>]| texts.iter().map(|t| t.value.clone()).collect();
    Some(Reference {
        columns: names(columns),
        table: table.value.clone(),
        to: names(to),
    })
}
