//! Rows that a table refused, as rejects.

use barrow_core::pipeline::Batch;
use barrow_core::plan::RecordTypePlan;
use barrow_core::reason::{Code, Reject};
use barrow_targets::Refusal;

/// Rows that the table refused as rejects, with the value where it is one column's.
pub fn refused(
    record_types: &[RecordTypePlan],
    batch: &Batch,
    refusals: Vec<Refusal>,
) -> Vec<Reject> {
    let reject = |r: Refusal| {
        let row = r.row as usize;
        let column = r.column.as_deref();
        let value = r.detail.or_else(|| match r.code {
            // Not for a value, but for what it means to the table.
            Code::DuplicateKey | Code::Refused => None,
            _ => batch.shown(record_types.get(r.part)?, r.part, column?, row),
        });
        batch.refuse(r.part, row, r.code, r.column, r.words, value)
    };
    refusals.into_iter().map(reject).collect()
}
