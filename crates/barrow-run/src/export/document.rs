//! The report of an export for programs, as docs/json.md describes it.

use serde::{Serialize, Serializer};
use serde_json::{Value, json};

use super::Exported;
use crate::report::FORMAT;

impl Serialize for Exported {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        document(self).serialize(serializer)
    }
}

fn document(e: &Exported) -> Value {
    let files: Vec<Value> = e
        .made
        .iter()
        .map(|made| {
            json!({
                "file": made.name(), "rows": made.rows, "bytes": made.content.bytes,
                "content": made.content.hash,
            })
        })
        .collect();
    let repairs: Vec<Value> = e
        .counts
        .repairs
        .iter()
        .map(|r| json!({ "what": r.what.to_string(), "column": r.column, "count": r.count }))
        .collect();
    let unfit: Vec<Value> = e
        .counts
        .told
        .iter()
        .map(|one| {
            json!({
                "row": one.row, "column": one.column, "code": one.why.code.word(),
                "says": one.why.says, "value": one.why.value,
            })
        })
        .collect();
    json!({
        "format": FORMAT, "kind": "export",
        "reading": e.reading,
        "from": e.from, "spec": e.spec, "files": files, "read": e.counts.rows + e.counts.unfit,
        "written": if e.beyond.is_some() { 0 } else { e.counts.rows }, "unfit": e.counts.unfit,
        "unfit_rows": unfit, "replaced": e.counts.replaced, "repairs": repairs,
        "finished": e.beyond.is_none(), "seconds": e.elapsed.as_secs_f64(),
    })
}
