//! What a column's reader is told: its own keys, else those of `[values]`.

use std::ops::Range;

use super::{is_fixed, it, texts, words_span};
use crate::problem::{Problem, Spanned};
use crate::spec::raw::{Column, RawSpec, Values};
use crate::types::Type;
use crate::values::{LimitOptions, Policies, ReaderOptions, StepOptions};
use crate::words::{Controls, InnerBlanks, LengthIn, NormalForm};
use crate::words::{Form, Trim, WhenUndecodable};

/// The column's own key, else that of `[values]`.
fn either<T: Clone>(own: &Option<Spanned<T>>, shared: &Option<Spanned<T>>) -> Option<T> {
    it(own).or_else(|| it(shared))
}

/// All that the reader of a column of type `ty` is told, but for its number form.
pub fn options(c: &Column, written: &RawSpec, ty: Type) -> ReaderOptions {
    let (own, shared) = (&c.keys, &written.values.keys);
    // In a fixed layout blanks are how a field is filled up.
    let usual_trim = if is_fixed(written) && c.value.is_none() {
        Trim::Both
    } else {
        Trim::None
    };
    let null_words = own.null_words.as_deref().or(shared.null_words.as_deref());
    let years_from = either(&own.two_digit_years_from, &shared.two_digit_years_from);
    ReaderOptions {
        trim: either(&own.trim, &shared.trim).unwrap_or(usual_trim),
        null_words: null_words.map_or_else(|| vec![String::new()], |words| texts(Some(words))),
        quoted_empty: either(&own.quoted_empty, &shared.quoted_empty).unwrap_or_default(),
        patterns: texts(patterns(c, &written.values, ty)),
        // One that is none is a problem, which `years` tells.
        years_from: years_from.and_then(|year| i16::try_from(year).ok()),
        zone: either(&own.zone, &shared.zone).filter(|_| ty == Type::TimestampTz),
        true_words: c.true_words.as_deref().map(|w| texts(Some(w))),
        false_words: c.false_words.as_deref().map(|w| texts(Some(w))),
        required: it(&c.required).unwrap_or(false),
        default: it(&c.default),
        form: None,
        base64: it(&c.form) == Some(Form::Base64),
        length_in_bytes: it(&c.length_in) == Some(LengthIn::Bytes),
        undecodable: it(&written.source.when_undecodable).unwrap_or(WhenUndecodable::Reject),
        stand_in: it(&written.source.stand_in).unwrap_or_else(|| "\u{FFFD}".into()),
        steps: steps(c, written, ty),
        limits: LimitOptions {
            min: it(&c.min),
            max: it(&c.max),
            one_of: c
                .one_of
                .as_ref()
                .map(|all| all.iter().map(|one| one.value.clone()).collect()),
            matches: it(&c.matches),
        },
        policies: Policies {
            unreadable: either(&own.when_unreadable, &shared.when_unreadable).unwrap_or_default(),
            too_long: either(&own.when_too_long, &shared.when_too_long).unwrap_or_default(),
            out_of_range: either(&own.when_out_of_range, &shared.when_out_of_range)
                .unwrap_or_default(),
            too_precise: either(&own.when_too_precise, &shared.when_too_precise)
                .unwrap_or_default(),
            not_allowed: either(&own.when_not_allowed, &shared.when_not_allowed)
                .unwrap_or_default(),
        },
    }
}

/// The first year that two digits name is one of the calendar, and so is the last.
pub fn years(written: &RawSpec, problems: &mut Vec<Problem>) {
    let shapes = written.record_types.iter().map(|kind| &kind.shape);
    let columns = shapes.chain([&written.shape]).flat_map(|s| &s.columns);
    let own = columns.map(|column| &column.keys);
    let all = own.chain([&written.values.keys]);
    for year in all.filter_map(|keys| keys.two_digit_years_from.as_ref()) {
        if !(1..=9900).contains(&year.value) {
            problems.push(Problem::new(
                year.span.clone(),
                "two_digit_years_from is a year from 1 to 9900",
                "not such a year",
            ));
        }
    }
}

/// What is done to the text first. What `[values]` says of texts is for columns of
/// text alone.
fn steps(c: &Column, written: &RawSpec, ty: Type) -> StepOptions {
    let (own, shared) = (&c.keys, &written.values.keys);
    let is_text = ty.is_text();
    let blanks = either(&own.inner_blanks, &shared.inner_blanks);
    let controls = either(&own.controls, &shared.controls);
    let form = either(&own.normal_form, &shared.normal_form);
    StepOptions {
        swap: it(&c.swap).unwrap_or_default(),
        remove_controls: is_text && controls == Some(Controls::Remove),
        collapse_blanks: is_text && blanks == Some(InnerBlanks::Collapse),
        compose: is_text && form == Some(NormalForm::Nfc),
        case: it(&c.case).unwrap_or_default(),
        lookup: it(&c.lookup),
        when_not_listed: it(&c.when_not_in_lookup).unwrap_or_default(),
    }
}

/// The patterns that the spec gives a column, if it gives any.
pub fn patterns<'w>(c: &'w Column, values: &'w Values, ty: Type) -> Option<&'w [Spanned<String>]> {
    // The time of a run comes in the standard notation.
    if c.value.as_ref().is_some_and(|value| value.value == "{now}") {
        return None;
    }
    let shared = match ty {
        Type::Date => values.date.as_deref(),
        Type::Time => values.time.as_deref(),
        Type::Timestamp => values.timestamp.as_deref(),
        Type::TimestampTz => values.timestamptz.as_deref(),
        _ => None,
    };
    c.pattern.as_deref().or(shared)
}

/// Where the key stands that the reader complains of.
pub fn span(key: &str, c: &Column, values: &Values, ty: Type) -> Option<Range<usize>> {
    let at = |at: &Option<Spanned<_>>| at.as_ref().map(|at: &Spanned<_>| at.span.clone());
    match key {
        "format" => patterns(c, values, ty).map(words_span),
        "time_zone" => c
            .keys
            .zone
            .as_ref()
            .or(values.keys.zone.as_ref())
            .map(|at| at.span.clone()),
        "default" => at(&c.default),
        "min" => at(&c.min),
        "max" => at(&c.max),
        "one_of" => c.one_of.as_deref().map(words_span),
        "matches" => c.matches.as_ref().map(|at| at.span.clone()),
        "replace" => c.swap.as_ref().map(|at| at.span.clone()),
        "true_values" => c.true_words.as_deref().map(words_span),
        _ => None,
    }
}
