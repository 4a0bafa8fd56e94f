//! What came of an undo, for programs.

use serde::{Serialize, Serializer};
use serde_json::json;

use super::Undone;
use crate::report::FORMAT;

impl Serialize for Undone {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let tables: Vec<_> = self
            .tables
            .iter()
            .map(|(table, rows)| json!({ "table": table, "rows_deleted": rows }))
            .collect();
        json!({
            "format": FORMAT, "kind": "undone", "run": self.run, "database": self.database,
            "rehearsal": self.rehearsal, "forgotten": self.forgotten, "tables": tables,
            "loaded": self.loaded, "files_new_again": self.files, "mends_undone": self.mends,
            "open_rejects": self.open_rejects, "remarks": self.remarks,
        })
        .serialize(serializer)
    }
}
