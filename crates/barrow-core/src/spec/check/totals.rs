//! Checks the totals that files state of themselves.

use super::conditions::names;
use super::{is_fixed, it};
use crate::nearest::did_you_mean;
use crate::plan::read_columns::also_read;
use crate::plan::{RecordTypePlan, TotalAt, TotalOf, TotalPlan};
use crate::problem::Problem;
use crate::spec::raw::{RawSpec, Total};
use crate::types::Type;
use crate::words::{FilePart, Header, PreambleKey};

/// Every total; the columns that are summed are read.
pub fn totals(
    written: &RawSpec,
    record_types: &mut [RecordTypePlan],
    problems: &mut Vec<Problem>,
) -> Vec<TotalPlan> {
    let one = |total| one(total, written, record_types, problems);
    written.totals.iter().filter_map(one).collect()
}

fn one(
    total: &Total,
    written: &RawSpec,
    record_types: &mut [RecordTypePlan],
    problems: &mut Vec<Problem>,
) -> Option<TotalPlan> {
    let Some(part) = &total.part else {
        problems.push(
            Problem::new(
                total.span.clone(),
                "a total does not say where it is",
                "where?",
            )
            .help("say in = \"trailer\", \"header\" or \"preamble\""),
        );
        return None;
    };
    is_there(part.value, total, written, problems);
    let at = place(total, written, problems)?;
    let kind = kind(total, record_types, problems)?;
    let of = match &total.sum {
        None => TotalOf::Records,
        Some(_) => sum(total, record_types, kind, problems)?,
    };
    Some(TotalPlan {
        of,
        kind,
        part: part.value,
        line: (it(&total.line).unwrap_or(1) as usize).saturating_sub(1),
        at,
    })
}

/// The part must have the line.
fn is_there(part: FilePart, total: &Total, written: &RawSpec, problems: &mut Vec<Problem>) {
    let line = it(&total.line).unwrap_or(1);
    let lines = match part {
        FilePart::Trailer => it(&written.records.trailer).unwrap_or(0),
        FilePart::Header => u64::from(super::header(written) != Header::None),
        FilePart::Preamble => match it(&written.records.preamble) {
            Some(PreambleKey::Auto) => u64::MAX,
            Some(PreambleKey::Lines(lines)) => lines,
            None => 0,
        },
    };
    if line == 0 || line > lines {
        let part_span = total.part.as_ref().map(|at| at.span.clone());
        let span = total.line.as_ref().map(|at| at.span.clone()).or(part_span);
        let word = crate::words::Word::word(part);
        let message = match lines {
            0 => format!("a total is in the {word}, and the spec says there is none"),
            _ => format!("the {word} has no line {line}"),
        };
        let key = if part == FilePart::Header {
            "\"skip\""
        } else {
            "how many lines it has"
        };
        problems.push(
            Problem::new(
                span.unwrap_or_else(|| total.span.clone()),
                message,
                "not there",
            )
            .help(format!("say [records] {word} = {key}")),
        );
    }
}

fn place(total: &Total, written: &RawSpec, problems: &mut Vec<Problem>) -> Option<TotalAt> {
    let mut wrong = |span: &std::ops::Range<usize>, message: &str, label: &str| {
        problems.push(Problem::new(span.clone(), message, label));
        None
    };
    match (&total.field, &total.start, &total.width, &total.matches) {
        (Some(field), None, None, None) if is_fixed(written) => wrong(
            &field.span,
            "a fixed layout has no fields to count: say start and width",
            "only with layout = \"delimited\"",
        ),
        (Some(field), None, None, None) if field.value == 0 => wrong(
            &field.span,
            "places are counted from 1",
            "there is no field 0",
        ),
        (Some(field), None, None, None) => Some(TotalAt::Field(field.value as usize - 1)),
        (None, Some(start), Some(width), None) if start.value > 0 && width.value > 0 => Some(
            TotalAt::Slice(start.value as usize - 1, width.value as usize),
        ),
        (None, None, None, Some(matches)) => match regex::Regex::new(&matches.value) {
            Ok(regex) if regex.capture_names().flatten().any(|name| name == "total") => {
                Some(TotalAt::Matches(regex))
            }
            Ok(_) => wrong(
                &matches.span,
                "the expression has no group named total, such as (?<total>[0-9]+)",
                "names no total",
            ),
            Err(error) => wrong(
                &matches.span,
                &error.to_string(),
                "not a regular expression",
            ),
        },
        _ => wrong(
            &total.span,
            "a total is in a field, at a start with a width, or in what matches: say one",
            "where on the line?",
        ),
    }
}

/// The kind of record that is counted; none for all of them.
fn kind(
    total: &Total,
    record_types: &[RecordTypePlan],
    problems: &mut Vec<Problem>,
) -> Option<Option<usize>> {
    let Some(name) = &total.kind else {
        return Some(None);
    };
    let place = record_types
        .iter()
        .position(|kind| kind.name.as_ref() == Some(&name.value));
    if place.is_none() {
        let known = record_types.iter().filter_map(|kind| kind.name.as_deref());
        let message = format!("there is no record type {}", name.value);
        let help = did_you_mean(&name.value, known);
        problems
            .push(Problem::new(name.span.clone(), message, "not a record type").maybe_help(help));
        return None;
    }
    Some(place)
}

fn sum(
    total: &Total,
    record_types: &mut [RecordTypePlan],
    kind: Option<usize>,
    problems: &mut Vec<Problem>,
) -> Option<TotalOf> {
    let name = total.sum.as_ref()?;
    if kind.is_none() && record_types.len() > 1 {
        let message = "a sum needs one record type, and the total does not name it";
        let problem = Problem::new(name.span.clone(), message, "of which record type?");
        problems.push(problem.help("say record_type = \"…\""));
        return None;
    }
    let plan = &mut record_types[kind.unwrap_or(0)];
    let Some(column) = plan.columns.iter().position(|c| c.name == name.value) else {
        let help = did_you_mean(
            &name.value,
            names(&plan.columns).iter().map(|(name, _)| *name),
        );
        let message = format!("there is no column {}", name.value);
        problems.push(Problem::new(name.span.clone(), message, "not a column").maybe_help(help));
        return None;
    };
    let scale = match plan.columns[column].ty {
        Type::SmallInt | Type::Integer | Type::BigInt => 0,
        Type::Decimal { scale, .. } => u32::from(scale),
        ty => {
            let message = format!(
                "column {} is {ty}: whole numbers and decimals are summed",
                name.value
            );
            problems.push(Problem::new(name.span.clone(), message, "not exact"));
            return None;
        }
    };
    also_read(plan, column);
    Some(TotalOf::Sum { column, scale })
}
