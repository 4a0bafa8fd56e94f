//! What was seen of a column, in one line.

use super::profile::{MARKS, Profile};
use crate::draft::inferred::Inferred;
use crate::escape::visible_short;

/// How many values, nulls, the smallest and the largest, and some examples.
pub fn line(p: &Profile, choice: &Inferred, distinct: bool) -> String {
    let words: u64 = p.nulls.values().sum();
    let is_text = choice.ty.is_text();
    let values = p.values - if is_text { 0 } else { words };
    let nulls = p.empty + if is_text { 0 } else { words + p.quoted_empty };
    let mut parts = vec![format!(
        "{values} {}, {nulls} null",
        if values == 1 { "value" } else { "values" }
    )];
    match range(p, choice) {
        Some((least, most)) if least == most => parts.push(format!("always {least}")),
        Some((least, most)) => parts.push(format!("{least} to {most}")),
        None => {}
    }
    if is_text {
        parts.push(format!("longest {}", p.longest));
        if p.quoted_empty > 0 {
            parts.push(format!("{} empty in quotes", p.quoted_empty));
        }
    }
    if distinct && values > 1 {
        parts.push(match nulls {
            0 => "all distinct: a key?".into(),
            _ => "all distinct".into(),
        });
    }
    if !p.examples.is_empty() {
        let examples: Vec<String> = p.examples.iter().map(|e| short(e)).collect();
        parts.push(format!("such as {}", examples.join(", ")));
    }
    parts.join("; ")
}

/// The smallest and the largest value.
fn range(p: &Profile, choice: &Inferred) -> Option<(String, String)> {
    if !choice.ty.is_number() {
        // The order of texts is that of days only where the year comes first.
        let is_ordered = choice
            .patterns
            .iter()
            .all(|pattern| pattern.starts_with("%Y"));
        let (least, most) = p.ends.as_ref().filter(|_| is_ordered)?;
        return Some((short(least), short(most)));
    }
    let marks = choice.marks.as_ref().map_or(0, |(decimal, group)| {
        let is = |(d, g): &(&str, &str)| d == decimal && g == group;
        MARKS.iter().position(is).unwrap_or(0)
    });
    let whole = p.range.map(|(least, most)| (least as f64, most as f64));
    let all = [whole, p.marks[marks].range, p.floats];
    let joined = all
        .into_iter()
        .flatten()
        .reduce(|(a, b), (c, d)| (a.min(c), b.max(d)))?;
    match (p.range, p.marks[marks].range, p.floats) {
        // Whole numbers as they are, whatever their size.
        (Some((least, most)), None, None) => Some((least.to_string(), most.to_string())),
        _ => Some((number(joined.0), number(joined.1))),
    }
}

fn number(number: f64) -> String {
    match number.abs() {
        0.0 => "0".into(),
        1e-5..1e17 => format!("{number}"),
        _ => format!("{number:e}"),
    }
}

fn short(text: &str) -> String {
    visible_short(text.as_bytes(), 24)
}
