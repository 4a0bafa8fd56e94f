//! Checks what only fixed layouts and numbers in special forms have.

use crate::format::FieldSlices;
use crate::plan::{ColumnPlan, Place};
use crate::problem::{Problem, Spanned};
use crate::spec::raw::{Column, RawSpec, Values};
use crate::types::Type;
use crate::values::NumberForm;
use crate::words::{Form, Header};

/// The widest record of a fixed layout: as long as any record may be.
const WIDEST: u64 = 256 << 20;

fn too_wide(at: &Spanned<u64>) -> Problem {
    Problem::new(
        at.span.clone(),
        format!("a record reaches to {WIDEST} at the most"),
        "too far",
    )
}

/// Where the fields of a fixed layout stand.
pub fn layout(
    columns: &[Column],
    plans: &[ColumnPlan],
    problems: &mut Vec<Problem>,
) -> FieldSlices {
    let columns: Vec<&Column> = columns.iter().filter(|c| c.value.is_none()).collect();
    let mut slices = Vec::new();
    let mut next = 0;
    for column in &columns {
        let slice = slice(column, next, problems);
        next = slice.0 + slice.1;
        slices.push(slice);
    }
    overlaps(&columns, &slices, problems);
    let text = plans.iter().filter(|p| p.place != Place::Computed);
    FieldSlices {
        width: slices.iter().map(|(s, w)| s + w).max().unwrap_or(0),
        text: text.map(|p| p.ty.is_text()).collect(),
        slices,
    }
}

/// A fixed layout has no names to find columns by.
pub fn header(written: &RawSpec, problems: &mut Vec<Problem>) {
    if let Some(at) = &written.records.header
        && at.value == Header::Names
    {
        problems.push(Problem::new(
            at.span.clone(),
            "a fixed layout finds its columns by their places, not by names",
            "say \"skip\" or \"none\"",
        ));
    }
}

/// How wide a record is that the spec says to be `said` wide.
pub fn width(said: &Option<Spanned<u64>>, last: usize, problems: &mut Vec<Problem>) -> usize {
    match said {
        Some(at) if (at.value as usize) < last => {
            problems.push(Problem::new(
                at.span.clone(),
                format!(
                    "the columns reach to {last}, and the record is only {} wide",
                    at.value
                ),
                "too narrow",
            ));
            last
        }
        Some(at) if at.value > WIDEST => {
            problems.push(too_wide(at));
            last
        }
        Some(at) => at.value as usize,
        None => last,
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
                column.name.value
            ),
            "not in a fixed layout",
        ));
    }
    let width = match &column.width {
        Some(width) if width.value > WIDEST => {
            problems.push(too_wide(width));
            0
        }
        Some(width) if width.value > 0 => width.value as usize,
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
                    format!("column {} has no width", column.name.value),
                    "no width",
                )
                .help("a fixed layout needs the width of every column"),
            );
            0
        }
    };
    match &column.start {
        Some(start) if start.value > WIDEST => {
            problems.push(too_wide(start));
            (next, width)
        }
        Some(start) if start.value > 0 => (start.value as usize - 1, width),
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
fn overlaps(columns: &[&Column], slices: &[(usize, usize)], problems: &mut Vec<Problem>) {
    for (i, (start, width)) in slices.iter().enumerate() {
        let over = slices[..i]
            .iter()
            .position(|(s, w)| *s < start + width && *start < s + w);
        if let Some(other) = over {
            let column = columns[i];
            let span = column
                .start
                .as_ref()
                .or(column.width.as_ref())
                .map_or(&column.name.span, span);
            problems.push(Problem::new(
                span.clone(),
                format!(
                    "the columns {} and {} both have place {}",
                    columns[other].name.value,
                    column.name.value,
                    start.max(&slices[other].0) + 1
                ),
                "taken already",
            ));
        }
    }
}

fn span<T>(at: &Spanned<T>) -> &std::ops::Range<usize> {
    &at.span
}

/// Keys of a fixed layout on a column of another one.
pub fn misplaced(column: &Column, problems: &mut Vec<Problem>) {
    let bytes = column
        .form
        .as_ref()
        .filter(|form| matches!(form.value, Form::Packed | Form::Binary))
        .map(span);
    for (key, at) in [
        ("start", column.start.as_ref().map(span)),
        ("width", column.width.as_ref().map(span)),
        ("stored_as", bytes),
    ] {
        if let Some(at) = at {
            problems.push(Problem::new(
                at.clone(),
                format!("column {}: {key} is for fixed layouts", column.name.value),
                "only with layout = \"fixed\"",
            ));
        }
    }
}

/// How a column's numbers are written, where that is not plain text.
pub fn form(
    column: &Column,
    values: &Values,
    ty: Type,
    problems: &mut Vec<Problem>,
) -> Option<NumberForm> {
    if ty == Type::Bytes {
        form_of_bytes(column, problems);
        return None;
    }
    let given = [
        (
            "implied_decimals",
            column.implied_decimals.as_ref().map(span),
        ),
        ("sign", column.sign.as_ref().map(span)),
        ("stored_as", column.form.as_ref().map(span)),
    ];
    let own = given.iter().find_map(|(key, at)| at.map(|at| (*key, at)));
    if !ty.is_number() {
        if let Some((key, at)) = own {
            problems.push(Problem::new(
                at.clone(),
                format!(
                    "column {} is {ty}, and {key} is for numbers",
                    column.name.value
                ),
                format!("not for {ty}"),
            ));
        }
        return None;
    }
    let (keys, shared) = (&column.keys, &values.keys);
    let mark = keys.decimal_mark.as_ref().or(shared.decimal_mark.as_ref());
    let group = keys.group_mark.as_ref().or(shared.group_mark.as_ref());
    let take_off = keys.take_off.as_ref().or(shared.take_off.as_ref());
    let form = NumberForm {
        form: super::it(&column.form).unwrap_or_default(),
        sign: super::it(&column.sign).unwrap_or_default(),
        implied: super::it(&column.implied_decimals).unwrap_or(0) as usize,
        decimal_mark: mark.map_or_else(String::new, |at| at.value.clone()),
        group_mark: group.map_or_else(String::new, |at| at.value.clone()),
        take_off: super::texts(take_off.map(Vec::as_slice)),
    };
    if let Some((_, at)) = own {
        contradictions(column, &form, ty, at, problems);
    }
    marks(column, mark, group, problems);
    (form != NumberForm::default()).then_some(form)
}

fn contradictions(
    column: &Column,
    form: &NumberForm,
    ty: Type,
    at: &std::ops::Range<usize>,
    problems: &mut Vec<Problem>,
) {
    let mut problem = |span: &std::ops::Range<usize>, message: String, label: &str| {
        problems.push(Problem::new(span.clone(), message, label));
    };
    let name = &column.name.value;
    if form.implied > 38 {
        problem(at, "a number has at most 38 digits".into(), "too many");
    }
    if let (Some(sign), Form::Packed | Form::Binary) = (&column.sign, form.form) {
        problem(
            &sign.span,
            format!("column {name}: a packed or binary number has its sign in itself"),
            "only for stored_as = \"text\"",
        );
    }
    let whole = matches!(ty, Type::SmallInt | Type::Integer | Type::BigInt);
    let at = column.form.as_ref().map_or(at, span);
    match form.form {
        Form::Hexadecimal if !whole => problem(
            at,
            format!("column {name} is {ty}, and hexadecimal numbers are whole"),
            "not for this type",
        ),
        Form::Base64 => problem(
            at,
            format!("column {name} is {ty}, and base64 is for bytes"),
            "not for this type",
        ),
        _ => {}
    }
}

fn form_of_bytes(column: &Column, problems: &mut Vec<Problem>) {
    if let Some(form) = &column.form
        && !matches!(form.value, Form::Hexadecimal | Form::Base64)
    {
        problems.push(Problem::new(
            form.span.clone(),
            format!(
                "column {} is bytes: its form is \"hexadecimal\" or \"base64\"",
                column.name.value
            ),
            "not for bytes",
        ));
    }
}

/// Marks must be told from digits and from each other.
fn marks(
    column: &Column,
    mark: Option<&Spanned<String>>,
    group: Option<&Spanned<String>>,
    problems: &mut Vec<Problem>,
) {
    let digits = |text: &str| {
        text.chars()
            .any(|c| c.is_ascii_digit() || matches!(c, '+' | '-'))
    };
    if let Some(at) = mark
        && (at.value.chars().count() != 1 || digits(&at.value))
    {
        let message = format!(
            "column {}: the decimal mark is one character",
            column.name.value
        );
        problems.push(Problem::new(at.span.clone(), message, "not a mark"));
    }
    if let Some(at) = group
        && (at.value.chars().count() > 1 || digits(&at.value))
    {
        let message = format!(
            "column {}: the group mark is one character, or \"\" for none",
            column.name.value
        );
        problems.push(Problem::new(at.span.clone(), message, "not a mark"));
    }
    let point = ".".to_string();
    let mark = mark.map_or(&point, |at| &at.value);
    if let Some(at) = group
        && at.value == *mark
    {
        let message = format!(
            "column {}: \"{mark}\" would be the decimal mark and the group mark",
            column.name.value
        );
        problems.push(
            Problem::new(at.span.clone(), message, "both marks").help("say the other mark too"),
        );
    }
}
