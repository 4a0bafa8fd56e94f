//! Comments, and lines that may be some.

use super::super::remark::Remark;
use super::delimited::Candidate;
use super::{Shape, delimited};

/// What comment lines start with, if there are some among others, or above them.
pub(super) fn comment(lines: &[String]) -> Option<String> {
    let starts = |line: &&String| line.starts_with('#');
    let hashes = lines.iter().filter(starts).count();
    let at_top = lines
        .iter()
        .take_while(|line| line.starts_with('#') || line.trim().is_empty());
    let top = at_top.filter(|line| line.starts_with('#')).count();
    let is_comment =
        hashes > 0 && hashes < lines.len() && (hashes * 4 < lines.len() || top == hashes);
    is_comment.then(|| "#".to_string())
}

/// Lines among the records that start as a comment does may be records: those that have as
/// many fields are, unless comments stand above the records too.
pub(super) fn doubt_comments(
    candidate: Option<&Candidate>,
    marked: &[String],
    has_comments_above: bool,
    shape: &mut Shape,
) {
    let alike = candidate.map_or(marked.len(), |candidate| {
        let records = delimited::cut(marked, &candidate.how.plan());
        let fields = records.iter().filter_map(|record| record.fields.as_ref());
        fields
            .filter(|fields| fields.len() == candidate.width)
            .count()
    });
    if alike == 0 {
        return;
    }
    let lines = match alike {
        1 => "1 line that starts with # looks".to_string(),
        many => format!("{many} lines that start with # look"),
    };
    let is_kept = !has_comments_above && candidate.is_some();
    let (read, key) = match (is_kept, alike) {
        (true, 1) => ("is read as a record", "comment = \"#\""),
        (true, _) => ("are read as records", "comment = \"#\""),
        (false, 1) => ("is skipped as a comment", "no comment"),
        (false, _) => ("are skipped as comments", "no comment"),
    };
    if is_kept {
        shape.comment = None;
    }
    shape.remarks.push(Remark::of_file(
        format!("{lines} like a record, and {read}"),
        key,
    ));
}
