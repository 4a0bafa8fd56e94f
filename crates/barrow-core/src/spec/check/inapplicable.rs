//! Keys that mean nothing for a column, and policies that contradict each other.

use std::ops::Range;

use crate::problem::{Problem, Spanned};
use crate::spec::check::{it, words_span};
use crate::spec::raw::Column;
use crate::types::Type;
use crate::words::{WhenNotAllowed, WhenOutOfRange, WhenTooLong, WhenTooPrecise, WhenUnreadable};

fn span<T>(at: &Option<Spanned<T>>) -> Option<Range<usize>> {
    at.as_ref().map(|at| at.span.clone())
}

/// Keys that mean nothing for the column's type.
pub fn keys(c: &Column, ty: Type, problems: &mut Vec<Problem>) {
    let is_bounded = ty.is_number() || ty.is_temporal();
    let has_length = matches!(ty, Type::Char(_) | Type::VarChar(_));
    let is_number = ty.is_number();
    let words = |words: &Option<Vec<Spanned<String>>>| words.as_deref().map(words_span);
    let k = &c.keys;
    let checks = [
        (
            "format",
            words(&c.pattern),
            ty.is_temporal(),
            "dates, times and timestamps",
        ),
        (
            "true_values",
            words(&c.true_words),
            ty == Type::Boolean,
            "booleans",
        ),
        (
            "false_values",
            words(&c.false_words),
            ty == Type::Boolean,
            "booleans",
        ),
        ("case", span(&c.case), ty.is_text(), "text"),
        ("inner_spaces", span(&k.inner_blanks), ty.is_text(), "text"),
        (
            "control_characters",
            span(&k.controls),
            ty.is_text(),
            "text",
        ),
        ("unicode_form", span(&k.normal_form), ty.is_text(), "text"),
        ("matches", span(&c.matches), ty.is_text(), "text"),
        (
            "when_inexact",
            span(&c.when_inexact),
            matches!(ty, Type::Decimal { .. }),
            "decimals",
        ),
        (
            "length_in",
            span(&c.length_in),
            has_length,
            "char and varchar",
        ),
        (
            "when_too_long",
            span(&k.when_too_long),
            has_length,
            "char and varchar",
        ),
        ("min", span(&c.min), is_bounded, "numbers, dates and times"),
        ("max", span(&c.max), is_bounded, "numbers, dates and times"),
        ("decimal_mark", span(&k.decimal_mark), is_number, "numbers"),
        ("group_mark", span(&k.group_mark), is_number, "numbers"),
        ("strip", words(&k.take_off), is_number, "numbers"),
        (
            "when_too_precise",
            span(&k.when_too_precise),
            is_number,
            "numbers",
        ),
        (
            "when_out_of_range",
            span(&k.when_out_of_range),
            is_bounded,
            "numbers, dates and times",
        ),
        (
            "two_digit_years_from",
            span(&k.two_digit_years_from),
            ty.is_temporal() && ty != Type::Time,
            "dates and timestamps",
        ),
        (
            "time_zone",
            span(&k.zone),
            ty == Type::TimestampTz,
            "timestamptz",
        ),
        (
            "when_not_in_lookup",
            span(&c.when_not_in_lookup),
            c.lookup.is_some(),
            "columns with a lookup",
        ),
    ];
    for (key, span, fits, record_types) in checks {
        if let Some(span) = span
            && !fits
        {
            problems.push(Problem::new(
                span,
                format!(
                    "column {} is {ty}, and {key} is for {record_types}",
                    c.name.value
                ),
                format!("not for {ty}"),
            ));
        }
    }
}

/// A column that must not be null cannot be made null; a default must be there.
pub fn policies(c: &Column, problems: &mut Vec<Problem>) {
    let k = &c.keys;
    let nulls = [
        (
            "when_unreadable",
            nulling(&k.when_unreadable, WhenUnreadable::Null),
        ),
        (
            "when_too_long",
            nulling(&k.when_too_long, WhenTooLong::Null),
        ),
        (
            "when_out_of_range",
            nulling(&k.when_out_of_range, WhenOutOfRange::Null),
        ),
        (
            "when_too_precise",
            nulling(&k.when_too_precise, WhenTooPrecise::Null),
        ),
        (
            "when_not_allowed",
            nulling(&k.when_not_allowed, WhenNotAllowed::Null),
        ),
    ];
    for (key, span) in nulls {
        if let (Some(span), Some(true)) = (span, it(&c.required)) {
            problems.push(Problem::new(
                span,
                format!(
                    "column {} is required, and {key} would make it null",
                    c.name.value
                ),
                "null, and required",
            ));
        }
    }
    let defaults = [
        (
            "when_unreadable",
            nulling(&k.when_unreadable, WhenUnreadable::Default),
        ),
        (
            "when_not_allowed",
            nulling(&k.when_not_allowed, WhenNotAllowed::Default),
        ),
    ];
    for (key, span) in defaults {
        if let (Some(span), None) = (span, &c.default) {
            problems.push(Problem::new(
                span,
                format!("column {} has no default for {key} to put in", c.name.value),
                "needs a default",
            ));
        }
    }
}

/// Where a policy says `word`.
fn nulling<T: PartialEq>(at: &Option<Spanned<T>>, word: T) -> Option<Range<usize>> {
    at.as_ref()
        .filter(|at| at.value == word)
        .map(|at| at.span.clone())
}
