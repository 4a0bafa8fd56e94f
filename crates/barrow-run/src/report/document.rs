//! A report for programs, as docs/json.md describes it.

use std::time::Duration;

use barrow_core::counts::RunCounts;
use barrow_core::escape::visible_path;
use barrow_core::problem::Problem;
use barrow_core::records::block::LeftOut;
use barrow_targets::secret;
use serde::{Serialize, Serializer};
use serde_json::{Value, json};

use super::{Outcome, Shared, Skipped, Summary, Together};
use crate::error::Error;

/// The version of the documents. It changes where a key goes or means something else, and
/// not where one is added.
pub const FORMAT: u64 = 1;

/// An error as a document: what a program gets in place of a report.
pub fn error_document(error: &Error) -> Value {
    let problems = error.wrong_spec().map(|spec| {
        let paths: Vec<String> = spec.texts.paths().map(visible_path).collect();
        let problem = |problem: &Problem| {
            let (part, place) = spec.texts.place(&problem.span);
            let text = spec.texts.text(part);
            let before = &text[..place.start.min(text.len())];
            let line = before.matches('\n').count() + 1;
            let column = before.chars().rev().take_while(|c| *c != '\n').count() + 1;
            json!({
                "file": paths.get(part), "line": line, "column": column,
                "says": hidden(&problem.message), "help": problem.help.as_deref().map(hidden),
            })
        };
        let problems: Vec<Value> = spec.problems.iter().map(problem).collect();
        json!({ "spec": paths.first(), "problems": problems })
    });
    json!({
        "format": FORMAT, "kind": "error",
        "error": {
            "kind": error.kind().word(), "says": secret::hide_in_message(error.message()),
            "advice": error.advice().map(hidden), "spec": problems,
        },
    })
}

/// Words that may repeat what a spec says, and so a secret.
fn hidden(words: &str) -> String {
    secret::hide(words).into_owned()
}

impl Serialize for Error {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        error_document(self).serialize(serializer)
    }
}

impl Serialize for Shared {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let skipped = |s: &Skipped| json!({ "file": s.file, "run": s.run, "when": s.when });
        let loads: Vec<Value> = self.loads.iter().map(document).collect();
        let skipped: Vec<Value> = self.skipped.iter().map(skipped).collect();
        json!({ "format": FORMAT, "kind": "shared", "loads": loads, "skipped": skipped })
            .serialize(serializer)
    }
}

impl Serialize for Together {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let loads: Vec<Value> = self.loads.iter().map(document).collect();
        json!({
            "format": FORMAT, "kind": "together", "database": self.into,
            "committed": self.is_kept, "made": self.made, "loads": loads,
            "seconds": self.elapsed.as_secs_f64(),
        })
        .serialize(serializer)
    }
}

impl Serialize for Summary {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        document(self).serialize(serializer)
    }
}

fn document(s: &Summary) -> Value {
    let filtered = |l: &LeftOut| {
        json!({
            "by_keep_if": l.unmet, "by_record_type": l.other_kinds, "all": l.filtered(),
        })
    };
    let other_lines = |l: &LeftOut| {
        json!({
            "preamble": l.preamble, "header": l.header, "trailer": l.trailer,
            "comments": l.comments, "empty": l.blank, "all": l.lines(),
        })
    };
    let files: Vec<Value> = s
        .tally
        .files
        .iter()
        .enumerate()
        .map(|(index, file)| {
            json!({
                "file": file.name, "bytes": file.bytes, "records": file.all_records(),
                "good": file.loaded + file.not_kept, "rejected": file.rejected,
                "filtered": filtered(&file.left_out), "other_lines": other_lines(&file.left_out),
                "notes": file.notes, "seconds": s.times.get(index).map(Duration::as_secs_f64),
            })
        })
        .collect();
    let reasons = grouped(&s.tally);
    let repairs: Vec<Value> = s
        .tally
        .repairs
        .iter()
        .map(|repair| {
            json!({
                "what": repair.what.to_string(), "column": repair.column, "count": repair.count,
                "first": { "file": repair.file, "line": repair.line },
            })
        })
        .collect();
    let twice: Vec<Value> = s
        .twice
        .iter()
        .map(|t| json!({ "key": t.key, "count": t.count, "first": { "line": t.first.0, "same_as_line": t.first.1 } }))
        .collect();
    let tables: Vec<Value> = s
        .tables
        .iter()
        .map(|t| json!({ "table": t.name, "rows_before": t.before, "rows_after": t.after }))
        .collect();
    let differences: Vec<Value> = s
        .tally
        .differences
        .iter()
        .map(|d| {
            json!({
                "file": d.file, "of": d.of, "place": d.place,
                "stated": d.stated, "found": d.found,
            })
        })
        .collect();
    json!({
        "format": FORMAT, "kind": "load",
        "run": s.run, "spec": s.spec, "database": s.into, "tables": tables,
        "outcome": s.outcome.word(),
        "max_rejects": s.tolerance.to_string(),
        "records": s.tally.all_records(), "loaded": s.loaded(),
        "merged": s.merged.filter(|_| s.outcome == Outcome::Kept).map(|m| {
            json!({ "new": m.new, "changed": m.changed, "same": m.same })
        }),
        "rolled_back": s.not_kept(), "rejected": s.rejected(), "rehearsal": s.rehearsal,
        "keys_twice": twice,
        "filtered": filtered(&s.tally.left_out()),
        "other_lines": other_lines(&s.tally.left_out()),
        "in_rejects": s.tally.left_out().in_rejects,
        "repaired": s.tally.repairs.all(), "repairs": repairs, "reasons": reasons,
        "rejects": s.folder(), "files": files,
        "skipped_files": s.skipped.iter().map(|f| json!({
            "file": f.file, "run": f.run,
            "when": f.run.is_some().then_some(&f.when),
            "same_as": f.run.is_none().then_some(&f.when),
            "open_rejects": f.open.map_or(0, |(open, _)| open),
            "spec_has_changed": f.open.is_some_and(|(_, changed)| changed),
        })).collect::<Vec<_>>(),
        "resumed": s.resumed_from, "made": s.made, "remarks": s.remarks, "reasons_not_written": s.untold,
        "rejected_files": s.rejected_files.iter().map(|f| json!({
            "file": f.file, "rejected": f.rejected, "records": f.records, "totals_differ": f.differs,
        })).collect::<Vec<_>>(),
        "after_load": s.disposed.iter().map(|d| json!({
            "file": d.file, "says": d.words, "failed": d.failed,
        })).collect::<Vec<_>>(),
        "mended": s.mended.as_ref().map(|m| json!({
            "run": m.run, "open_before": m.open_before, "mended": m.mended,
            "still_open": m.still_open, "given_up": m.given_up,
        })),
        "totals_that_differ": differences, "seconds": s.elapsed.as_secs_f64(),
    })
}

/// As JSON, in the report and in the ledger: each kind of reason, the most frequent first, with its first place.
pub fn grouped(tally: &RunCounts) -> Value {
    let reason_kinds = tally.reason_kinds();
    let reason_kinds = reason_kinds.iter().map(|kind| {
        json!({
            "code": kind.code.word(), "column": kind.column, "says": kind.says, "count": kind.count,
            "first": { "file": kind.file, "line": kind.line, "value": kind.value },
        })
    });
    Value::Array(reason_kinds.collect())
}
