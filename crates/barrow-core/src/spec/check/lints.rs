//! What is allowed in a spec, but suspicious.

use crate::spec::check::values;
use std::collections::HashMap;

use crate::plan::{ColumnPlan, RecordTypePlan};
use crate::problem::{Problem, Spanned};
use crate::spec::raw::{Column, RawSpec};
use crate::values::{Cell, ColumnReader, LimitOptions, ReaderOptions};

/// Everything suspicious, in the order of the text.
pub fn oddities(written: &RawSpec, record_types: &[RecordTypePlan]) -> Vec<Problem> {
    let mut odd = Vec::new();
    for (column, plan) in columns(written, record_types) {
        odd.extend(year_without_a_century(column, written, plan.ty));
        odd.extend(null_that_is_a_value(column, written, plan.ty));
        if !written.export.is_there {
            odd.extend(two_words_for_one(
                column,
                plan,
                "that is fine for a spec that only loads",
            ));
        }
    }
    odd.sort_by_key(|problem| problem.span.start);
    odd.dedup_by(|a, b| a.span == b.span && a.message == b.message);
    odd
}

/// What no export could write. It is a problem where the spec says how to write.
pub fn unwritable(written: &RawSpec, record_types: &[RecordTypePlan]) -> Vec<Problem> {
    let help = "keep one word for each meaning; a spec that only loads has no [export]";
    let columns = columns(written, record_types).filter(|_| written.export.is_there);
    columns
        .filter_map(|(column, plan)| two_words_for_one(column, plan, help))
        .collect()
}

/// The columns as written, with their plans.
fn columns<'w>(
    written: &'w RawSpec,
    record_types: &'w [RecordTypePlan],
) -> impl Iterator<Item = (&'w Column, &'w ColumnPlan)> {
    let shapes = written.record_types.iter().map(|kind| &kind.shape);
    let shapes = std::iter::once(&written.shape).chain(shapes);
    let mut plans: HashMap<&str, &ColumnPlan> = HashMap::new();
    for plan in record_types.iter().flat_map(|kind| &kind.columns) {
        plans.entry(plan.name.as_str()).or_insert(plan);
    }
    shapes
        .flat_map(|shape| &shape.columns)
        .filter_map(move |column| Some((column, *plans.get(column.name.value.as_str())?)))
}

/// Two digits of a year, where the spec does not say of which hundred.
fn year_without_a_century(
    column: &Column,
    written: &RawSpec,
    ty: crate::types::Type,
) -> Option<Problem> {
    let own = column.keys.two_digit_years_from.as_ref();
    if own
        .or(written.values.keys.two_digit_years_from.as_ref())
        .is_some()
    {
        return None;
    }
    let short =
        |pattern: &&Spanned<String>| pattern.value.contains("%y") || pattern.value.contains("%D");
    let pattern = values::patterns(column, &written.values, ty)?
        .iter()
        .find(short)?;
    Some(
        Problem::new(
            pattern.span.clone(),
            format!(
                "column {}: a year of two digits is one of 1969 to 2068",
                column.name.value
            ),
            "which hundred years?",
        )
        .help("for example two_digit_years_from = 1950"),
    )
}

/// A lookup or a swap that an export could not write backwards.
fn two_words_for_one(column: &Column, plan: &ColumnPlan, help: &str) -> Option<Problem> {
    let found = plan.reader.as_ref()?.ambiguous().into_iter().next()?;
    let lookup = column.lookup.as_ref().map(|at| &at.span);
    let span = lookup.or(column.swap.as_ref().map(|at| &at.span))?;
    Some(
        Problem::new(
            span.clone(),
            format!(
                "column {}: {found}; an export does not know which to write",
                column.name.value
            ),
            "not to be written",
        )
        .help(help),
    )
}

/// A word that means null, and would be a value of the column too.
fn null_that_is_a_value(
    column: &Column,
    written: &RawSpec,
    ty: crate::types::Type,
) -> Option<Problem> {
    if ty.is_text() {
        return None;
    }
    let own = column.keys.null_words.as_deref();
    let words = own.or(written.values.keys.null_words.as_deref())?;
    let options = ReaderOptions {
        null_words: Vec::new(),
        limits: LimitOptions::default(),
        ..values::options(column, written, ty)
    };
    let reader = ColumnReader::new(ty, options).ok()?;
    let is_value = |word: &&Spanned<String>| {
        let mut cell = Cell::Null;
        let mut changed = false;
        let read = reader.read_text(word.value.as_bytes(), &mut Vec::new(), &mut cell, |_| {
            changed = true
        });
        read.is_ok() && !changed && cell != Cell::Null
    };
    let word = words.iter().find(is_value)?;
    Some(Problem::new(
        word.span.clone(),
        format!(
            "\"{}\" means null, and would be a value of column {} ({ty}) too",
            word.value, column.name.value
        ),
        "null, or a value?",
    ))
}

#[cfg(test)]
mod tests {
    use crate::spec::read_plan;

    #[test]
    fn what_is_odd_is_told_and_no_problem() {
        let spec = "[values]\nnull_values = [\"\", \"0\"]\n[columns]\na = \"smallint\"\n\
            b = { type = \"date\", format = \"%d/%m/%y\" }\nc = \"text\"\n\
            d = { type = \"date\", format = \"%d/%m/%y\", two_digit_years_from = 1950 }\n";
        let odd = read_plan(spec).unwrap().oddities;
        let messages: Vec<&str> = odd.iter().map(|p| p.message.as_str()).collect();
        assert_eq!(
            messages,
            [
                "\"0\" means null, and would be a value of column a (smallint) too",
                "column b: a year of two digits is one of 1969 to 2068",
            ]
        );
    }

    #[test]
    fn what_an_export_could_not_write_is_a_problem_where_the_spec_says_how_to_write() {
        let spec = "[columns]\na = \"text\"\n\
            b = { type = \"text\", lookup = { yes = \"Y\", yep = \"Y\", no = \"N\" } }\n";
        let odd = read_plan(spec).unwrap().oddities;
        assert_eq!(odd.len(), 1);
        assert!(odd[0].message.starts_with("column b: "), "{odd:?}");
        let writes = format!("[export]\nwhen_unfit = \"reject\"\n{spec}");
        let problems = read_plan(&writes).unwrap_err();
        assert_eq!(problems.len(), 1);
        assert_eq!(problems[0].message, odd[0].message);
        // The caret stands at the lookup.
        assert_eq!(&writes[problems[0].span.clone()][..1], "{");
    }
}
