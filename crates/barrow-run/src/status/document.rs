//! What is waiting, for programs, as docs/json.md describes it.

use jiff::Timestamp;
use serde::{Serialize, Serializer};
use serde_json::{Value, json};

use super::{FileStatus, State, StatusReport};
use crate::report::FORMAT;

impl Serialize for StatusReport {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let files: Vec<Value> = self.files.iter().map(document).collect();
        json!({
            "format": FORMAT, "kind": "status", "spec": self.spec, "database": self.database,
            "tables": self.tables, "loads_all_again": self.mode, "files": files,
        })
        .serialize(serializer)
    }
}

fn document(file: &FileStatus) -> Value {
    let modified = file.modified.and_then(|at| Timestamp::try_from(at).ok());
    json!({
        "file": file.file, "size": file.size,
        "modified": modified.map(|at| at.strftime("%Y-%m-%d %H:%M:%S").to_string()),
        "state": file.state.word(),
        "same_as": match &file.state {
            State::SameAs(other) => Some(other),
            _ => None,
        },
        "run": file.run, "when": file.when, "loaded": file.loaded,
        "open_rejects": file.open_rejects, "given_up": file.given_up,
    })
}
