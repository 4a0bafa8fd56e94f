//! Checks columns: their places, their types, and what reads them.

use std::collections::HashMap;

use super::{header, is_fixed, it, json};
use crate::escape::escape_for_display;
use crate::plan::{ColumnPlan, Place};
use crate::problem::{Problem, Spanned};
use crate::spec::raw::{Column, Known, KnownColumn, RawSpec, Shape};
use crate::types::Type;
use crate::values::{ColumnReader, ReaderOptions};
use crate::words::Header;

/// No record has more fields than this.
const MOST_FIELDS: u64 = 1_000_000;

/// The columns of a shape, in the order of the spec.
pub fn columns(shape: &Shape, written: &RawSpec, problems: &mut Vec<Problem>) -> Vec<ColumnPlan> {
    if shape.columns.is_empty() {
        let span = shape.columns_span.clone().unwrap_or(0..0);
        problems.push(
            Problem::new(span, "the spec names no columns", "no columns").help(
                "list them under [columns], such as  delivery_id = \"bigint\"; or name a database \
                 and a table that has them",
            ),
        );
    }
    let header = header(written);
    let mut places = Places::default();
    let columns: Vec<ColumnPlan> = shape
        .columns
        .iter()
        .filter_map(|c| column(c, written, header, &mut places, problems))
        .collect();
    same_name_in_two_cases(&shape.columns, problems);
    if !columns.is_empty() && shape.columns.iter().all(|c| it(&c.load) == Some(false)) {
        problems.push(Problem::new(
            shape.columns_span.clone().unwrap_or(0..0),
            "every column says load = false, so nothing would be loaded",
            "nothing to load",
        ));
    }
    columns
}

/// Databases fold the case of names, so two names that differ only in case are one.
fn same_name_in_two_cases(columns: &[Column], problems: &mut Vec<Problem>) {
    let mut seen: HashMap<String, &str> = HashMap::new();
    for column in columns {
        if let Some(other) = seen.insert(column.name.value.to_lowercase(), &column.name.value) {
            problems.push(
                Problem::new(
                    column.name.span.clone(),
                    format!(
                        "the columns {other} and {} are one to a database",
                        column.name.value
                    ),
                    "differs in case only",
                )
                .help("give one of them another name, and the header's name in `from`"),
            );
        }
    }
}

/// Which fields are taken already, and which one comes next.
#[derive(Default)]
struct Places {
    next: usize,
    by_place: HashMap<usize, String>,
    by_name: HashMap<String, String>,
}

fn column(
    c: &Column,
    written: &RawSpec,
    header: Header,
    places: &mut Places,
    problems: &mut Vec<Problem>,
) -> Option<ColumnPlan> {
    let values = &written.values;
    let place = if c.value.is_some() {
        computed(c, problems);
        Place::Computed
    } else if is_fixed(written) {
        places.next += 1;
        Place::Field(places.next - 1)
    } else if json::is_json(written) {
        json::misplaced(c, problems);
        places.next += 1;
        Place::Key(places.next - 1)
    } else {
        super::fixed::misplaced(c, problems);
        json::only_here(c, problems);
        place(c, header, places, problems)
    };
    let load = it(&c.load).unwrap_or(true);
    let ty = match &c.ty {
        Some(ty) => ty.value,
        None if c.has_type => return None,
        None if load => type_of_table(c, written.known.as_ref(), problems)?,
        None => Type::Text,
    };
    crate::spec::check::inapplicable::keys(c, ty, problems);
    crate::spec::check::inapplicable::policies(c, problems);
    let form = super::fixed::form(c, values, ty, problems);
    let options = ReaderOptions {
        form,
        ..super::values::options(c, written, ty)
    };
    let reader = ColumnReader::new(ty, options).and_then(|reader| match place {
        Place::Key(_) => reader.with_bare_values(),
        _ => Ok(reader),
    });
    let reader = match reader {
        Ok(reader) => Some(reader),
        Err(error) => {
            let span = super::values::span(error.key, c, values, ty);
            problems.push(Problem::new(
                span.unwrap_or_else(|| c.name.span.clone()),
                format!("column {}: {}", c.name.value, error.message),
                error.label,
            ));
            None
        }
    };
    Some(ColumnPlan {
        name: c.name.value.clone(),
        ty,
        place,
        required: it(&c.required).unwrap_or(false),
        load,
        when_inexact: it(&c.when_inexact)
            .or(it(&written.target.when_inexact))
            .unwrap_or_default(),
        align: it(&c.align),
        pad: pad(c, problems),
        reader,
        value: None,
    })
}

/// What fills a value's width up: one character.
fn pad(c: &Column, problems: &mut Vec<Problem>) -> Option<char> {
    let pad = c.pad.as_ref()?;
    let mut characters = pad.value.chars();
    match (characters.next(), characters.next()) {
        (Some(one), None) => Some(one),
        _ => {
            problems.push(Problem::new(
                pad.span.clone(),
                format!("column {}: pad is one character", c.name.value),
                "not one character",
            ));
            None
        }
    }
}

/// The type that the target's table gives a column.
fn type_of_table(c: &Column, known: Option<&Known>, problems: &mut Vec<Problem>) -> Option<Type> {
    let name = &c.name.value;
    let (message, help) = match known {
        None => (
            format!("column {name} has no type"),
            "give it one, such as type = \"text\", or name a database and a table that has it",
        ),
        Some(known) => {
            let same = |column: &&KnownColumn| column.name.eq_ignore_ascii_case(name);
            match known.columns.iter().find(same) {
                Some(KnownColumn { ty: Some(ty), .. }) => return Some(*ty),
                Some(column) => (
                    format!(
                        "column {name} has no type, and {} in the table is none of a spec's",
                        escape_for_display(column.declared.as_bytes())
                    ),
                    "give it one, such as type = \"text\"",
                ),
                None => (
                    format!(
                        "column {name} has no type, and the table {} has no such column",
                        escape_for_display(known.table.as_bytes())
                    ),
                    "give it one, such as type = \"text\"",
                ),
            }
        }
    };
    problems.push(Problem::new(c.name.span.clone(), message, "no type").help(help));
    None
}

/// A column of the target's table as if the spec had named it.
pub fn of_table(column: &KnownColumn) -> Column {
    Column {
        name: Spanned::new(column.name.clone(), 0..0),
        required: column.required.then(|| Spanned::new(true, 0..0)),
        ..Column::default()
    }
}

/// A computed column has no place in the record.
fn computed(c: &Column, problems: &mut Vec<Problem>) {
    let places = [
        ("from", c.from.as_ref().map(|at| &at.span)),
        ("position", c.at.as_ref().map(|at| &at.span)),
        ("start", c.start.as_ref().map(|at| &at.span)),
        ("width", c.width.as_ref().map(|at| &at.span)),
    ];
    for (key, span) in places {
        if let Some(span) = span {
            problems.push(Problem::new(
                span.clone(),
                format!("column {} is computed, so it has no {key}", c.name.value),
                "not with value",
            ));
        }
    }
}

fn place(c: &Column, header: Header, places: &mut Places, problems: &mut Vec<Problem>) -> Place {
    if let (Some(from), Some(at)) = (&c.from, &c.at) {
        problems.push(Problem::new(
            at.span.clone(),
            format!(
                "column {} is found by name (from = \"{}\") and by place (position = {}): \
                 keep one of them",
                c.name.value, from.value, at.value
            ),
            "a second place",
        ));
    }
    if let Some(from) = &c.from
        && header != Header::Names
    {
        problems.push(
            Problem::new(
                from.span.clone(),
                format!(
                    "column {} is found by its header's name, but the header is not read",
                    c.name.value
                ),
                "no header to find it in",
            )
            .help("say [records] header = \"names\", or give its place with `position`"),
        );
    }
    if let Some(at) = &c.at {
        if at.value == 0 {
            problems.push(Problem::new(
                at.span.clone(),
                "places are counted from 1",
                "there is no field 0",
            ));
        }
        if at.value > MOST_FIELDS {
            problems.push(Problem::new(
                at.span.clone(),
                format!("a record has at most {MOST_FIELDS} fields"),
                "too far",
            ));
            return Place::Field(0);
        }
        return by_place(
            (at.value as usize).saturating_sub(1),
            c,
            &at.span,
            places,
            problems,
        );
    }
    if header == Header::Names {
        let name = c.from.as_ref().unwrap_or(&c.name);
        if let Some(other) = places
            .by_name
            .insert(name.value.clone(), c.name.value.clone())
        {
            problems.push(Problem::new(
                name.span.clone(),
                format!(
                    "the columns {other} and {} are the same field \"{}\"",
                    c.name.value, name.value
                ),
                "taken already",
            ));
        }
        return Place::Named(name.value.clone());
    }
    by_place(places.next, c, &c.name.span.clone(), places, problems)
}

fn by_place(
    field: usize,
    c: &Column,
    span: &std::ops::Range<usize>,
    places: &mut Places,
    problems: &mut Vec<Problem>,
) -> Place {
    places.next = field + 1;
    if let Some(other) = places.by_place.insert(field, c.name.value.clone()) {
        problems.push(Problem::new(
            span.clone(),
            format!(
                "the columns {other} and {} are the same field {}",
                c.name.value,
                field + 1
            ),
            "taken already",
        ));
    }
    Place::Field(field)
}
