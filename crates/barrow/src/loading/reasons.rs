//! A run's reasons: of rows that a table refused, and all of them in groups.

use barrow_core::flow::Batch;
use barrow_core::plan::KindPlan;
use barrow_core::reason::{Code, Reject};
use barrow_core::tally::Tally;
use barrow_targets::Refusal;
use serde_json::{Value, json};

/// Rows that the table refused as rejects, with the value where it is one column's.
pub fn refused(kinds: &[KindPlan], batch: &Batch, refusals: Vec<Refusal>) -> Vec<Reject> {
    let reject = |r: Refusal| {
        let row = r.row as usize;
        let column = r.column.as_deref();
        let value = r.detail.or_else(|| match r.code {
            // Not for a value, but for what it means to the table.
            Code::DuplicateKey | Code::Refused => None,
            _ => batch.shown(kinds.get(r.part)?, r.part, column?, row),
        });
        batch.refuse(r.part, row, r.code, r.column, r.words, value)
    };
    refusals.into_iter().map(reject).collect()
}

/// As JSON, in the summary and in the ledger: each kind of reason, the most frequent first, with its first place.
pub fn grouped(tally: &Tally) -> Value {
    let kinds = tally.kinds();
    let kinds = kinds.iter().map(|kind| {
        json!({
            "code": kind.code.word(), "column": kind.column, "says": kind.says, "count": kind.count,
            "first": { "file": kind.file, "line": kind.line, "value": kind.value },
        })
    });
    Value::Array(kinds.collect())
}
