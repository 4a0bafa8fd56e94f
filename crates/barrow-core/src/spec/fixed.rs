//! Checks what only fixed layouts and numbers in special forms have.

use super::plan::{EndingPlan, FixedPlan, Form, Header, Measure, Sign};
use super::problem::{At, Problem};
use super::types::Type;
use super::written::{Column, Written};
use crate::values::NumberForm;

/// Where the fields of a fixed layout stand.
pub fn layout(written: &Written, ending: &EndingPlan, problems: &mut Vec<Problem>) -> FixedPlan {
    let mut slices = Vec::new();
    let mut next = 0;
    for column in &written.columns {
        let slice = slice(column, next, problems);
        next = slice.0 + slice.1;
        slices.push(slice);
    }
    overlaps(&written.columns, &slices, problems);
    let last = slices
        .iter()
        .map(|(start, width)| start + width)
        .max()
        .unwrap_or(0);
    if let Some(at) = &written.records.header
        && at.it == Header::Names
    {
        problems.push(Problem::new(
            at.span.clone(),
            "a fixed layout finds its columns by their places, not by names",
            "say \"skip\" or \"none\"",
        ));
    }
    let width = match &written.records.record_width {
        Some(at) if (at.it as usize) < last => {
            problems.push(Problem::new(
                at.span.clone(),
                format!(
                    "the columns reach to {last}, and the record is only {} wide",
                    at.it
                ),
                "too narrow",
            ));
            last
        }
        Some(at) => at.it as usize,
        None => last,
    };
    if *ending == EndingPlan::None && width == 0 {
        let span = written
            .records
            .ending
            .as_ref()
            .map_or(0..0, |at| at.span.clone());
        problems.push(
            Problem::new(span, "records without an end need a width", "how wide?")
                .help("say [records] record_width, or give the columns their widths"),
        );
    }
    let measure = written
        .measure
        .as_ref()
        .map_or(Measure::Characters, |at| at.it);
    FixedPlan {
        measure,
        slices,
        width,
    }
}

fn slice(column: &Column, next: usize, problems: &mut Vec<Problem>) -> (usize, usize) {
    if let Some(at) = column
        .from
        .as_ref()
        .map(|f| &f.span)
        .or(column.at.as_ref().map(|a| &a.span))
    {
        problems.push(Problem::new(
            at.clone(),
            format!(
                "column {} of a fixed layout is found by start and width",
                column.name.it
            ),
            "not in a fixed layout",
        ));
    }
    let width = match &column.width {
        Some(width) if width.it > 0 => width.it as usize,
        Some(width) => {
            problems.push(Problem::new(
                width.span.clone(),
                "a field is at least 1 wide",
                "too narrow",
            ));
            0
        }
        None => {
            problems.push(
                Problem::new(
                    column.name.span.clone(),
                    format!("column {} has no width", column.name.it),
                    "no width",
                )
                .help("a fixed layout needs the width of every column"),
            );
            0
        }
    };
    match &column.start {
        Some(start) if start.it > 0 => (start.it as usize - 1, width),
        Some(start) => {
            problems.push(Problem::new(
                start.span.clone(),
                "places are counted from 1",
                "there is no place 0",
            ));
            (next, width)
        }
        None => (next, width),
    }
}

/// Two columns on the same bytes.
fn overlaps(columns: &[Column], slices: &[(usize, usize)], problems: &mut Vec<Problem>) {
    for (i, (start, width)) in slices.iter().enumerate() {
        let over = slices[..i]
            .iter()
            .position(|(s, w)| *s < start + width && *start < s + w);
        if let Some(other) = over {
            let column = &columns[i];
            let span = column
                .start
                .as_ref()
                .or(column.width.as_ref())
                .map_or(&column.name.span, span);
            problems.push(Problem::new(
                span.clone(),
                format!(
                    "the columns {} and {} both have place {}",
                    columns[other].name.it,
                    column.name.it,
                    start.max(&slices[other].0) + 1
                ),
                "taken already",
            ));
        }
    }
}

fn span<T>(at: &At<T>) -> &std::ops::Range<usize> {
    &at.span
}

/// Keys of a fixed layout on a column of another one.
pub fn misplaced(column: &Column, problems: &mut Vec<Problem>) {
    let bytes = column
        .form
        .as_ref()
        .filter(|form| form.it != Form::Text)
        .map(span);
    for (key, at) in [
        ("start", column.start.as_ref().map(span)),
        ("width", column.width.as_ref().map(span)),
        ("form", bytes),
    ] {
        if let Some(at) = at {
            problems.push(Problem::new(
                at.clone(),
                format!("column {}: {key} is for fixed layouts", column.name.it),
                "only with layout = \"fixed\"",
            ));
        }
    }
}

/// How a column's numbers are written, where that is not plain text.
pub fn form(column: &Column, ty: Type, problems: &mut Vec<Problem>) -> Option<NumberForm> {
    let given = [
        (
            "implied_decimals",
            column.implied_decimals.as_ref().map(span),
        ),
        ("sign", column.sign.as_ref().map(span)),
        ("form", column.form.as_ref().map(span)),
    ];
    let (key, at) = given.iter().find_map(|(key, at)| at.map(|at| (*key, at)))?;
    if !ty.is_number() {
        problems.push(Problem::new(
            at.clone(),
            format!(
                "column {} is {ty}, and {key} is for numbers",
                column.name.it
            ),
            format!("not for {ty}"),
        ));
        return None;
    }
    let implied = column.implied_decimals.as_ref().map_or(0, |at| at.it);
    if implied > 38 {
        problems.push(Problem::new(
            at.clone(),
            "a number has at most 38 digits",
            "too many",
        ));
    }
    let sign = column.sign.as_ref().map_or(Sign::Leading, |at| at.it);
    let form = column.form.as_ref().map_or(Form::Text, |at| at.it);
    if let (Some(sign), Form::Packed | Form::Binary) = (&column.sign, form) {
        problems.push(Problem::new(
            sign.span.clone(),
            format!(
                "column {}: a packed or binary number has its sign in itself",
                column.name.it
            ),
            "only for form = \"text\"",
        ));
    }
    Some(NumberForm::new(form, sign, implied as usize))
}
