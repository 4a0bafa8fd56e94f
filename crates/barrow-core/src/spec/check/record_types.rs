//! Checks the kinds of record, each a shape of its own; one where none is named.

use std::collections::HashMap;

use super::template::{Names, template};
use super::{columns, conditions, fixed, header, is_fixed, it, json};
use crate::conditions::Scope;
use crate::format::RecordEnd;
use crate::nearest::did_you_mean;
use crate::plan::read_columns::{also_read, carried, read_columns};
use crate::plan::{ColumnPlan, RecordTypePlan};
use crate::problem::{Problem, Spanned};
use crate::spec::raw::{Kind, RawSpec, Shape};
use crate::words::Header;

/// Every kind of record.
pub fn record_types(
    written: &RawSpec,
    ending: &RecordEnd,
    problems: &mut Vec<Problem>,
) -> Vec<RecordTypePlan> {
    if is_fixed(written) {
        fixed::header(written, problems);
    }
    if written.record_types.is_empty() {
        let said = &written.records.record_width;
        let mut plan = shape(&written.shape, said, written, &[], problems);
        plan.key = key(written.target.key.as_deref(), &plan, problems);
        return vec![plan];
    }
    beside_kinds(written, problems);
    let mut plans: Vec<RecordTypePlan> = Vec::new();
    for kind in &written.record_types {
        let plan = one(kind, written, &plans, ending, problems);
        for (source, column) in carried(&plan) {
            also_read(&mut plans[source], column);
        }
        plans.push(plan);
    }
    if plans.iter().all(|kind| !kind.load) {
        problems.push(Problem::new(
            written.record_types[0].span.clone(),
            "every record type says load = false, so nothing would be loaded",
            "nothing to load",
        ));
    }
    plans
}

/// What stands beside the kinds and belongs into them.
fn beside_kinds(written: &RawSpec, problems: &mut Vec<Problem>) {
    let shape = &written.shape;
    let keep_if = shape.keep_if.as_ref().map(|at| at.span.clone());
    let check = shape.checks.first().map(|check| check.span.clone());
    for (what, span) in [
        ("[columns]", shape.columns_span.clone()),
        ("[records] keep_if", keep_if),
        ("[[check]]", check),
        (
            "[target] key",
            written.target.key.as_deref().map(super::words_span),
        ),
    ] {
        if let Some(span) = span {
            problems.push(Problem::new(
                span,
                format!("the spec names record types, and {what} is for one record type"),
                "belongs into a [[record_type]]",
            ));
        }
    }
    if header(written) == Header::Names {
        let at = written.records.header.as_ref().map(|at| at.span.clone());
        let span = at.unwrap_or_else(|| written.record_types[0].span.clone());
        problems.push(
            Problem::new(
                span,
                "record types find their columns by place, and the header's names are read",
                "not with [[record_type]]",
            )
            .help("say [records] header = \"none\", or \"skip\""),
        );
    }
}

fn one(
    kind: &Kind,
    written: &RawSpec,
    before: &[RecordTypePlan],
    ending: &RecordEnd,
    problems: &mut Vec<Problem>,
) -> RecordTypePlan {
    let said = if *ending == RecordEnd::None {
        &written.records.record_width
    } else {
        &kind.record_width
    };
    let mut plan = shape(&kind.shape, said, written, before, problems);
    plan.name = it(&kind.name);
    match &kind.name {
        None => problems.push(Problem::new(
            kind.span.clone(),
            "a record type has no name",
            "no name",
        )),
        Some(name)
            if before
                .iter()
                .any(|other| other.name.as_ref() == Some(&name.value)) =>
        {
            let message = format!("there are two record types {}", name.value);
            problems.push(Problem::new(name.span.clone(), message, "named already"));
        }
        Some(name) if name.value.contains('.') => {
            let message = "a record type's name has no point, which parts it from a column's";
            problems.push(Problem::new(name.span.clone(), message, "holds a point"));
        }
        Some(_) => {}
    }
    match &kind.condition {
        None => problems.push(
            Problem::new(
                kind.span.clone(),
                "a record type does not say which records belong to it",
                "no if",
            )
            .help("say if = \"slice(1, 1) = 'T'\", or if = \"field(1) = 'T'\""),
        ),
        Some(at) => {
            plan.condition = conditions::condition(&written.text, at, Scope::Raw, problems);
        }
    }
    plan.key = key(kind.key.as_deref(), &plan, problems);
    plan.table = it(&kind.table);
    plan.load = it(&kind.load).unwrap_or(true);
    if let (false, Some(table)) = (plan.load, &kind.table) {
        let message = "a record type that is not loaded has no table";
        problems.push(Problem::new(
            table.span.clone(),
            message,
            "not with load = false",
        ));
    }
    if let (Some(at), false) = (&kind.record_width, is_fixed(written)) {
        let message = "[[record_type]] record_width is for layout = \"fixed\"";
        problems.push(Problem::new(
            at.span.clone(),
            message,
            "has no meaning here",
        ));
    }
    plan
}

/// The columns of a shape, and what holds for its records.
fn shape(
    shape: &Shape,
    said: &Option<Spanned<u64>>,
    written: &RawSpec,
    before: &[RecordTypePlan],
    problems: &mut Vec<Problem>,
) -> RecordTypePlan {
    let text = &written.text;
    let mut columns = columns::columns(shape, written, problems);
    templates(shape, &mut columns, written, before, problems);
    let fixed = is_fixed(written).then(|| {
        let mut layout = fixed::layout(&shape.columns, &columns, problems);
        layout.width = fixed::width(said, layout.width, problems);
        layout
    });
    let keys = json::is_json(written).then(|| json::keys(&shape.columns, &columns));
    let checks = conditions::checks(text, &shape.checks, &columns, problems);
    let keep_if = shape.keep_if.as_ref().and_then(|at| {
        let names = conditions::names(&columns);
        conditions::condition(text, at, Scope::Columns(&names), problems)
    });
    let mut plan = RecordTypePlan {
        name: None,
        condition: None,
        columns,
        read: Vec::new(),
        fixed,
        keys,
        load: true,
        table: None,
        key: Vec::new(),
        keep_if,
        checks,
    };
    plan.read = read_columns(&plan);
    plan
}

/// The key's columns, which must be loaded.
fn key(
    written: Option<&[Spanned<String>]>,
    plan: &RecordTypePlan,
    problems: &mut Vec<Problem>,
) -> Vec<usize> {
    let mut places = Vec::new();
    for name in written.unwrap_or_default() {
        let found = plan.columns.iter().position(|c| c.name == name.value);
        match found {
            Some(place) if places.contains(&place) => problems.push(Problem::new(
                name.span.clone(),
                format!("the key names {} twice", name.value),
                "a second time",
            )),
            Some(place) if plan.columns[place].load => places.push(place),
            Some(_) => problems.push(Problem::new(
                name.span.clone(),
                format!("the key's column {} is not loaded", name.value),
                "not loaded",
            )),
            None => {
                let known = plan.loaded().map(|c| c.name.as_str());
                let help = did_you_mean(&name.value, known);
                let message = format!("the key names {}, and there is no such column", name.value);
                let problem = Problem::new(name.span.clone(), message, "not a column");
                problems.push(problem.maybe_help(help));
            }
        }
    }
    places
}

fn templates(
    shape: &Shape,
    columns: &mut [ColumnPlan],
    written: &RawSpec,
    before: &[RecordTypePlan],
    problems: &mut Vec<Problem>,
) {
    let mut values = HashMap::new();
    for column in &shape.columns {
        if let Some(value) = &column.value {
            values.entry(column.name.value.as_str()).or_insert(value);
        }
    }
    for place in 0..columns.len() {
        let value = values.get(columns[place].name.as_str());
        let Some(value) = value else { continue };
        let names = Names {
            text: &written.text,
            before: &columns[..place],
            all: columns,
            record_types: before,
        };
        columns[place].value = template(value, &names, problems);
    }
}

/// How wide records without an end are.
pub fn width(
    written: &RawSpec,
    record_types: &[RecordTypePlan],
    ending: &RecordEnd,
    problems: &mut Vec<Problem>,
) -> usize {
    if !is_fixed(written) {
        return 0;
    }
    let widths = record_types.iter().filter_map(|kind| kind.fixed.as_ref());
    let width = widths.map(|fixed| fixed.width).max().unwrap_or(0);
    if let (Some(at), false, true) = (
        &written.records.record_width,
        written.record_types.is_empty(),
        *ending != RecordEnd::None,
    ) {
        problems.push(Problem::new(
            at.span.clone(),
            "each record type has its own width",
            "say record_width in the [[record_type]]",
        ));
    }
    if *ending == RecordEnd::None && (width == 0 || several_widths(written)) {
        let at = written.records.ending.as_ref();
        problems.push(
            Problem::new(
                at.map_or(0..0, |at| at.span.clone()),
                "records without an end need a width",
                "how wide?",
            )
            .help("say [records] record_width, or give the columns their widths"),
        );
    }
    width
}

/// Kinds have each their own width, so records without an end need one for all.
fn several_widths(written: &RawSpec) -> bool {
    !written.record_types.is_empty() && written.records.record_width.is_none()
}
