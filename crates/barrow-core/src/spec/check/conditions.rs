//! Checks conditions, and points at the place in the spec where one is wrong.

use std::ops::Range;

use crate::conditions::{Condition, Scope};
use crate::plan::{CheckPlan, ColumnPlan};
use crate::problem::{Problem, Spanned};
use crate::spec::raw::Check;
use crate::types::Type;

/// Reads a condition; what is wrong with it becomes a problem of the spec.
pub fn condition(
    text: &str,
    written: &Spanned<String>,
    scope: Scope<'_>,
    problems: &mut Vec<Problem>,
) -> Option<Condition> {
    match Condition::new(&written.value, scope) {
        Ok(condition) => Some(condition),
        Err(wrong) => {
            let span = inner(text, written, &wrong.span);
            problems.push(Problem::new(span, wrong.message, "here").maybe_help(wrong.help));
            None
        }
    }
}

/// Where a part of a text stands in the spec: within its quotes, unless it holds
/// escapes, which shift what follows them.
pub fn inner(text: &str, written: &Spanned<String>, part: &Range<usize>) -> Range<usize> {
    let raw = text.get(written.span.clone()).unwrap_or("");
    let quotes = ["\"\"\"", "'''", "\"", "'"];
    let opening = quotes.iter().find(|quote| raw.starts_with(**quote));
    let mut start = opening.map_or(0, |quote| quote.len());
    // A line end right after three quotes is no part of the text.
    for end in ["\r\n", "\n"] {
        if start == 3 && raw[start..].starts_with(end) {
            start += end.len();
            break;
        }
    }
    if !raw
        .get(start..)
        .is_some_and(|rest| rest.starts_with(&written.value))
    {
        return written.span.clone();
    }
    let from = written.span.start + start;
    // A place that has no width is shown by what stands beside it.
    let value = &written.value;
    let end = part.end.max(part.start + 1).min(value.len().max(1));
    let start = part.start.min(end.saturating_sub(1));
    let end = if value.is_empty() {
        end
    } else {
        value.ceil_char_boundary(end)
    };
    from + value.floor_char_boundary(start)..from + end
}

/// The checks of a shape.
pub fn checks(
    text: &str,
    checks: &[Check],
    columns: &[ColumnPlan],
    problems: &mut Vec<Problem>,
) -> Vec<CheckPlan> {
    let names = names(columns);
    let mut plans = Vec::new();
    for check in checks {
        let Some(that) = &check.that else {
            problems.push(
                Problem::new(
                    check.span.clone(),
                    "a check has no condition",
                    "says nothing",
                )
                .help("for example that = \"picked_on <= delivered_on\""),
            );
            continue;
        };
        let condition = condition(text, that, Scope::Columns(&names), problems);
        plans.extend(condition.map(|condition| CheckPlan {
            condition,
            says: check.says.as_ref().map(|says| says.value.clone()),
        }));
    }
    plans
}

/// The names that conditions on these columns may use.
pub fn names(columns: &[ColumnPlan]) -> Vec<(&str, Type)> {
    columns.iter().map(|c| (c.name.as_str(), c.ty)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_of_a_text_is_found_within_its_quotes() {
        let cases = [
            ("k = \"abc = 1\"", 4..13, 0..3, 5..8),
            ("k = 'abc = 1'", 4..13, 6..7, 11..12),
            ("k = \"\"\"\nabc = 1\"\"\"", 4..18, 0..3, 8..11),
            // At its end, where something is missing.
            ("k = \"abc = 1\"", 4..13, 7..7, 11..12),
        ];
        for (text, span, part, wanted) in cases {
            let written = Spanned::new("abc = 1".to_string(), span);
            assert_eq!(inner(text, &written, &part), wanted, "{text}");
        }
        let escaped = Spanned::new("a\" = 1".to_string(), 4..13);
        assert_eq!(inner("k = \"a\\\" = 1\"", &escaped, &(0..1)), 4..13);
    }

    #[test]
    fn places_are_within_the_text_and_between_characters() {
        let spec = "keep_if = \"(ᢀ\" # a remark";
        let written = Spanned {
            value: "(ᢀ".to_string(),
            span: 10..16,
        };
        for (part, wanted) in [
            (4..4, "ᢀ"),
            (1..4, "ᢀ"),
            (2..3, "ᢀ"),
            (0..1, "("),
            (0..4, "(ᢀ"),
        ] {
            let place = inner(spec, &written, &part);
            assert_eq!(spec.get(place.clone()), Some(wanted), "{part:?} {place:?}");
        }
        let spec = "keep_if = \"\"";
        let written = Spanned {
            value: String::new(),
            span: 10..12,
        };
        assert_eq!(inner(spec, &written, &(0..0)), 11..12);
    }
}
