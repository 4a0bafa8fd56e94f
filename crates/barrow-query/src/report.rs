//! What a query says of what it read.

use std::time::Duration;

use barrow_core::counts::RunCounts;
use barrow_run::report::grouped;
use serde_json::{Value, json};

use crate::shared::Scan;

/// What was read of one table.
#[derive(Debug)]
pub struct TableReport {
    /// The table.
    pub table: String,
    /// The columns that were read: those that the query uses, and those that conditions of the
    /// spec need.
    pub columns: Vec<String>,
    /// What was counted. A rejected record is one whose columns that were read are wrong.
    pub counts: RunCounts,
    /// Whether the files were read to their ends: a query may have had enough before.
    pub is_whole: bool,
    /// Rows that were kept on disk for a join.
    pub kept: Option<u64>,
    /// Whether the rejects are within the limit of the spec.
    pub is_within: bool,
}

/// What a query says of what it read.
#[derive(Debug)]
pub struct QueryReport {
    /// The tables that were read.
    pub tables: Vec<TableReport>,
    /// What people should know beforehand.
    pub notes: Vec<String>,
    /// How many rows the answer has.
    pub rows: u64,
    /// How long it took.
    pub elapsed: Duration,
}

impl QueryReport {
    /// Whether the rejects of each table are within the limit of its spec.
    pub fn is_within(&self) -> bool {
        self.tables.iter().all(|table| table.is_within)
    }

    /// The report for programs, as `docs/json.md` describes it; the rows stand beside it.
    pub fn document(&self) -> Value {
        let table = |table: &TableReport| {
            let counts = &table.counts;
            json!({
                "table": table.table, "columns_read": table.columns,
                "files": counts.files.len(), "records": counts.all_records(),
                "rows": counts.loaded(), "rejected": counts.rejected(),
                "filtered": counts.left_out().filtered(), "whole": table.is_whole,
                "kept_for_a_join": table.kept, "within_the_limit": table.is_within,
                "reasons": grouped(counts),
            })
        };
        json!({
            "tables": self.tables.iter().map(table).collect::<Vec<_>>(),
            "notes": self.notes, "seconds": self.elapsed.as_secs_f64(),
        })
    }
}

/// What is said of a table that stands in several places of a query: the look that found most.
pub fn most(scans: Vec<Scan>) -> Vec<Scan> {
    let mut most: Vec<Scan> = Vec::new();
    for scan in scans {
        let weight = |scan: &Scan| (scan.counts.rejected(), scan.counts.all_records());
        match most.iter_mut().find(|other| other.table == scan.table) {
            Some(other) if weight(other) < weight(&scan) => *other = scan,
            Some(_) => {}
            None => most.push(scan),
        }
    }
    most
}
