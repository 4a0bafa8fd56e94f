//! The counts, which balance.

use barrow_core::records::block::LeftOut;
use barrow_run::report::{Outcome, Summary};
use barrow_run::words::number;
use barrow_targets::Merged;
use owo_colors::OwoColorize;
use std::io::{self, Write};

pub(super) fn merged_words(merged: &Merged) -> String {
    format!(
        "{} new, {} changed, {} the same",
        number(merged.new),
        number(merged.changed),
        number(merged.same)
    )
}

pub(super) fn counts(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    let rejected = s.rejected();
    let left_out = s.tally.left_out();
    let mut lines = vec![("records", s.tally.all_records(), String::new())];
    let (loaded, rejects, repairs) = match s.rehearsal {
        true => ("would load", "would reject", "would repair"),
        false => ("loaded", "rejected", "repaired"),
    };
    let merged = s.merged.filter(|_| s.outcome == Outcome::Kept);
    lines.push((
        loaded,
        s.loaded(),
        merged.as_ref().map(merged_words).unwrap_or_default(),
    ));
    if s.outcome != Outcome::Kept || s.not_kept() > 0 {
        let of = match s.outcome {
            Outcome::Kept if s.rehearsal => "good records of files that would be skipped whole",
            _ if s.rehearsal => "good records of a load that would be rolled back",
            Outcome::Kept => "good records of files that were skipped whole",
            _ => "good records of a load that was rolled back",
        };
        let word = if s.rehearsal {
            "would roll back"
        } else {
            "rolled back"
        };
        lines.push((word, s.not_kept(), of.into()));
    }
    lines.push((rejects, rejected, verdict(s)));
    if left_out.filtered() > 0 {
        lines.push(("filtered", left_out.filtered(), filtered_words(&left_out)));
    }
    if s.tally.repairs.all() > 0 {
        lines.push((repairs, s.tally.repairs.all(), String::new()));
    }
    let digits = lines
        .iter()
        .map(|(_, n, _)| number(*n).len())
        .max()
        .unwrap_or(0);
    let words = lines.iter().map(|(word, ..)| word.len() + 2);
    let width = words.max().unwrap_or(0).max(10);
    for (word, n, remark) in lines {
        let shown = format!("{:>digits$}", number(n));
        let shown = match word {
            "rejected" | "would reject" if n > 0 => shown.red().bold().to_string(),
            "loaded" | "would load" if n > 0 => shown.green().bold().to_string(),
            _ => shown,
        };
        let line = format!("  {word:<width$}{shown}   {remark}");
        writeln!(out, "{}", line.trim_end())?;
    }
    let besides = besides(&left_out);
    if !besides.is_empty() {
        writeln!(out, "  {}", format!("other lines: {besides}").dimmed())?;
    }
    writeln!(out)
}

pub(super) fn verdict(s: &Summary) -> String {
    match (s.outcome, s.rejected()) {
        (Outcome::Kept, 0) => String::new(),
        _ if s.mended.is_some() => String::new(),
        (Outcome::Kept, _) if !s.rejected_files.is_empty() => String::new(),
        (Outcome::Kept, _) => format!("within the limit of {}", s.tolerance),
        (Outcome::BeyondTolerance { .. }, _) => {
            format!("more than the limit of {}", s.tolerance)
        }
        (Outcome::TotalsDiffer { .. } | Outcome::WithOthers { .. }, _) => String::new(),
    }
}

pub(super) fn filtered_words(left_out: &LeftOut) -> String {
    let (unmet, others) = ("by keep_if", "of record types that are not loaded");
    match (left_out.unmet, left_out.other_kinds) {
        (_, 0) => unmet.into(),
        (0, _) => others.into(),
        (some, more) => listed(&[(some, unmet), (more, others)]),
    }
}

/// What of the files is counted nowhere else.
pub(super) fn besides(left_out: &LeftOut) -> String {
    listed(&[
        (left_out.preamble, "preamble"),
        (left_out.header, "header"),
        (left_out.trailer, "trailer"),
        (left_out.comments, "comment"),
        (left_out.blank, "empty"),
        (
            left_out.in_rejects,
            "whose corrected form is among the rejects",
        ),
    ])
}

pub(super) fn listed(parts: &[(u64, &str)]) -> String {
    let some = parts.iter().filter(|(n, _)| *n > 0);
    let words: Vec<String> = some
        .map(|(n, what)| format!("{} {what}", number(*n)))
        .collect();
    words.join(", ")
}
