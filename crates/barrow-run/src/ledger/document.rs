//! The ledger for programs, as docs/json.md describes it.

use barrow_targets::ledger::{Counts, File, Run};
use serde::{Serialize, Serializer};
use serde_json::{Value, json};

use super::{RunInFull, Runs};
use crate::report::FORMAT;

impl Serialize for Runs {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let runs: Vec<Value> = self.runs.iter().map(run_json).collect();
        let document = json!({
            "format": FORMAT, "kind": "runs",
            "database": self.database, "has_ledger": self.has_ledger, "runs": runs,
            "has_more": self.has_more,
        });
        document.serialize(serializer)
    }
}

impl Serialize for RunInFull {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut document = json!({ "format": FORMAT, "kind": "run" });
        if let (Value::Object(all), Value::Object(run)) = (&mut document, run_json(&self.run)) {
            all.extend(run);
        }
        document["files_of_the_run"] = self.files.iter().map(file_json).collect();
        document["mends"] = self.mends.iter().map(run_json).collect();
        document.serialize(serializer)
    }
}

fn counts_json(c: &Counts) -> Value {
    json!({
        "records": c.records, "loaded": c.loaded, "rejected": c.rejected, "filtered": c.filtered,
        "rolled_back": c.rolled_back, "repaired": c.repaired, "other_lines": c.other_lines,
    })
}

fn run_json(run: &Run) -> Value {
    let reasons = run.reasons.as_deref().unwrap_or("[]");
    json!({
        "run": run.run, "outcome": run.outcome.word(), "message": run.message, "spec": run.spec,
        "spec_hash": run.spec_hash, "table": run.table, "mode": run.mode, "who": run.who,
        "host": run.host, "started_at": run.started_at, "ended_at": run.ended_at,
        "files": run.files, "counts": counts_json(&run.counts), "mended": run.mended,
        "given_up": run.given_up, "still_open": run.still_open, "mend_of": run.mend_of,
        "rejects": run.rejects_folder, "version": run.version,
        "reasons": serde_json::from_str::<Value>(reasons).unwrap_or_default(),
    })
}

fn file_json(file: &File) -> Value {
    json!({
        "number": file.number, "path": file.path, "bytes": file.bytes, "content": file.content,
        "outcome": file.outcome.word(), "committed_to": file.committed_to,
        "counts": counts_json(&file.counts),
    })
}
