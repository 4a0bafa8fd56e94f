//! A value that is not written as it is.

use crate::repair::RepairKind;
use crate::values::{Cell, Piece, Valued};

/// A value that is written in another's place, with bytes of its own.
#[derive(Debug, Clone)]
pub struct Changed {
    /// The policy that asked for it; none where the database's own notation was read.
    pub what: Option<RepairKind>,
    cell: Cell,
    store: Vec<u8>,
}

impl Changed {
    pub(super) fn to(value: Valued<'_>, what: Option<RepairKind>) -> Changed {
        let bytes = |piece: Piece| piece.of(value.block, value.store).to_vec();
        let in_store = |store: &Vec<u8>| Piece::in_store(0, store.len());
        let (cell, store) = match value.cell {
            Cell::Text(piece) => {
                let store = bytes(piece);
                (Cell::Text(in_store(&store)), store)
            }
            Cell::Bytes(piece) => {
                let store = bytes(piece);
                (Cell::Bytes(in_store(&store)), store)
            }
            Cell::LongDecimal(piece) => {
                let store = bytes(piece);
                (Cell::LongDecimal(in_store(&store)), store)
            }
            cell => (cell, Vec::new()),
        };
        Changed { what, cell, store }
    }

    /// The value.
    pub fn value(&self) -> Valued<'_> {
        Valued {
            cell: self.cell,
            block: &[],
            store: &self.store,
        }
    }
}

/// Whether a policy of the spec asked for the change, and not a step of reading.
pub(super) fn is_policy(what: RepairKind) -> bool {
    !matches!(
        what,
        RepairKind::Swapped
            | RepairKind::ControlsRemoved
            | RepairKind::BlanksCollapsed
            | RepairKind::Composed
            | RepairKind::CaseChanged
            | RepairKind::NotListedKept
    )
}
