//! Files of one column.

use super::super::value_kind::ValueKind;
use super::delimited::Candidate;
use super::{Delimited, Layout, Shape, headed, header, nearly_all};

/// Whether each line is one number, date or time, rather than several fields.
pub(super) fn one_column(lines: &[String], candidate: Option<&Candidate>) -> bool {
    // `12:30` is a time, and `1,5` a number, where the header has no such mark.
    let is_divided = candidate.is_some() && lines[0].contains([',', ':']);
    !is_divided
        && nearly_all(lines, &|line| match ValueKind::of(line) {
            ValueKind::Moment => true,
            ValueKind::Number => candidate.is_none() || !line.contains(' '),
            _ => false,
        })
}

/// Whether each line is a word or a few.
pub(super) fn one_text(lines: &[String]) -> bool {
    let is_short = |line: &str| {
        !line.contains(['\t', '|', ';'])
            && line.chars().count() <= 64
            && line.split_whitespace().count() <= 4
    };
    let ends = |line: &&String| line.contains(", ") || line.ends_with(['.', ',']);
    nearly_all(lines, &is_short) && lines.iter().filter(ends).count() * 10 <= lines.len()
}

pub(super) fn unquoted(line: &str) -> &str {
    let line = line.trim();
    line.strip_prefix('"')
        .and_then(|rest| rest.strip_suffix('"'))
        .unwrap_or(line)
}

pub(super) fn single(lines: &[String], shape: &mut Shape) {
    let values: Vec<Vec<String>> = lines
        .iter()
        .map(|line| vec![unquoted(line).to_string()])
        .collect();
    let rows: Vec<&[String]> = values[1..].iter().map(Vec::as_slice).collect();
    let verdict = header::judge(&values[0], &rows);
    let free = [",", "\t", "|", ";"]
        .iter()
        .find(|mark| !lines.iter().any(|line| line.contains(**mark)));
    shape.layout = Layout::Delimited(Delimited {
        delimiter: free.unwrap_or(&"\u{1f}").to_string(),
        quote: "\"".into(),
        escape: "doubled".into(),
        skips_spaces: false,
    });
    let name = values[0][0].clone();
    headed(verdict, vec![name], shape);
}
