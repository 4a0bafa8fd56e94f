//! A run's reasons in groups, as JSON: in the summary, and in the ledger.

use barrow_core::tally::Tally;
use serde_json::{Value, json};

/// Each kind of reason, the most frequent first, with its first place.
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
