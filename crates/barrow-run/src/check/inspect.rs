//! What the workers find out of a batch, beside its rows.

use std::collections::HashSet;

use barrow_core::column_stats::ColumnStats;
use barrow_core::duplicates;
use barrow_core::pipeline::{Batch, Encoded};
use barrow_core::plan::Plan;
use barrow_targets::{EncodedBatch, EncodedPart, Foresight, Refusal};

use crate::check::compared::Key;

/// What the workers find out of a batch beside its rows.
#[derive(Default)]
pub(super) struct Looked {
    pub parts: Vec<LookedPart>,
    /// Rows that the table would refuse.
    pub refused: Vec<Refusal>,
    /// Room for the rows in the form of the database.
    pub ahead: Vec<EncodedPart>,
}

/// What they find out of a part of it.
#[derive(Default)]
pub(super) struct LookedPart {
    pub seen: Vec<ColumnStats>,
    /// For each key the hashes of its values, with the lines.
    pub keys: Vec<Vec<(u128, u64)>>,
}

/// Looks at the good rows of a batch, in the worker that typed them.
pub(super) fn look(
    plan: &Plan,
    unique: &[Vec<Key>],
    foresight: &Foresight,
    batch: &mut Encoded<Looked>,
) {
    let mut ahead = EncodedBatch {
        batch: std::mem::take(&mut batch.batch),
        encoded: std::mem::take(&mut batch.encoded.ahead),
    };
    let refused = foresight.refusals(&mut ahead);
    batch.batch = ahead.batch;
    batch.encoded.ahead = ahead.encoded;
    let Encoded { batch, encoded } = batch;
    let Batch { block, parts, .. } = batch;
    encoded.parts.clear();
    for (number, (kind, rows)) in plan.record_types.iter().zip(parts).enumerate() {
        let own = refused.iter().filter(|refusal| refusal.part == number);
        let own: HashSet<u32> = own.map(|refusal| refusal.row).collect();
        let mut looked = LookedPart {
            seen: vec![ColumnStats::default(); kind.read.len()],
            ..LookedPart::default()
        };
        for (slot, seen) in looked.seen.iter_mut().enumerate() {
            seen.column(slot, rows, &block.bytes);
        }
        for key in &unique[number] {
            let hashes = duplicates::hashes(&key.slots, rows, block, &own);
            looked.keys.push(hashes);
        }
        encoded.parts.push(looked);
    }
    encoded.refused = refused;
}
