//! Files whose records have different numbers of fields.

use super::super::remark::Remark;
use super::delimited::Candidate;
use super::header::Verdict;
use super::{Heading, Shape, delimited, headed, header};
use std::collections::HashSet;

/// Whether a first line that lacks its last fields is a record all the same.
pub(super) fn is_record(head: &[String], width: usize, rows: &[&[String]]) -> bool {
    let mut filled = head.to_vec();
    filled.resize(width, String::new());
    head.len() < width
        && matches!(
            header::judge(&filled, rows),
            Verdict::Record | Verdict::Unknown
        )
}

/// The names in a comment, if they are as many as there are fields.
pub(super) fn commented(line: &str, candidate: &Candidate) -> Option<Vec<String>> {
    let text = [line.trim_start_matches('#').trim_start().to_string()];
    let records = delimited::cut(&text, &candidate.how.plan());
    let names = records.into_iter().next()?.fields?;
    let fits = names.len() == candidate.width && names.iter().all(|name| delimited::is_name(name));
    fits.then_some(names)
}

/// A first line with one field more or less than the records, or one of a ragged file.
pub(super) fn uneven(head: Vec<String>, width: usize, rows: &[&[String]], shape: &mut Shape) {
    let mut names = head.clone();
    let is_last_empty = rows
        .iter()
        .all(|row| row.last().is_none_or(|text| text.trim().is_empty()));
    let first_differ = {
        let mut seen = HashSet::new();
        rows.len() > 1 && rows.iter().all(|row| seen.insert(row[0].as_str()))
    };
    if head.len() + 1 == width && !is_last_empty && first_differ {
        // Names of rows stand before the first column, which the header does not name.
        names.insert(0, String::new());
    }
    names.resize(width, String::new());
    let verdict = header::judge(&names, rows);
    let is_header = matches!(verdict, Verdict::Header | Verdict::LikelyHeader(_));
    let many = head.len() > width;
    headed(verdict, names, shape);
    if is_header {
        shape.heading = Heading::Skip;
        shape
            .remarks
            .retain(|remark| !remark.says.starts_with("the header has"));
        shape.remarks.push(Remark::of_file(
            format!(
                "the header has {} names and the records {width} fields, so columns are found by \
                 their place",
                if many {
                    head.iter().filter(|name| !name.is_empty()).count()
                } else {
                    head.len()
                }
            ),
            "`position` of each column",
        ));
    }
}
