//! Rows as bytes in a server's wire form, one after the other.

use std::ops::{Deref, Range};
use std::sync::Arc;

use barrow_core::reason::Code;
use barrow_core::types::Type;

/// A batch's good rows in a server's form.
#[derive(Debug, Default)]
pub struct Lines {
    /// The rows' bytes. They are shared while they are sent, and not copied.
    pub bytes: Arc<Vec<u8>>,
    /// Where each row ends; a row that the table has no room for is empty.
    pub ends: Vec<usize>,
    /// The rows that the table has no room for, in order.
    pub unfit: Vec<Unfit>,
}

/// The bytes of some rows of a batch.
#[derive(Debug, Clone)]
pub struct Bytes {
    all: Arc<Vec<u8>>,
    place: Range<usize>,
}

impl Deref for Bytes {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.all[self.place.clone()]
    }
}

/// A row that the table has no room for.
#[derive(Debug)]
pub struct Unfit {
    /// The row, as a place among the good ones.
    pub place: usize,
    /// The column, as a place in the part.
    pub column: usize,
    /// What is wrong.
    pub fault: Fault,
}

/// Whether a value could be put into a column of the table.
pub type Encoded = Result<(), Fault>;

/// Why a value cannot be put into a column of the table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// The reason's code.
    pub code: Code,
    /// In plain words.
    pub words: String,
}

impl Fault {
    /// A fault in plain words.
    pub fn new(code: Code, words: impl Into<String>) -> Fault {
        Fault {
            code,
            words: words.into(),
        }
    }

    /// The column does not take values of the type.
    #[cold]
    pub fn strange(ty: Type) -> Fault {
        Fault::new(
            Code::Refused,
            format!("a value of {ty} does not go into the table's column"),
        )
    }
}

impl Lines {
    /// Where the bytes of the row at a place start.
    pub fn start(&self, place: usize) -> usize {
        if place == 0 { 0 } else { self.ends[place - 1] }
    }

    /// The bytes of the row at a place; none where it is not sent.
    pub fn row(&self, place: usize) -> &[u8] {
        &self.bytes[self.start(place)..self.ends[place]]
    }

    /// The bytes of some rows, and how many rows they are.
    pub fn rows(&self, places: Range<usize>) -> (Bytes, u64) {
        let bytes = Bytes {
            all: self.bytes.clone(),
            place: self.start(places.start)..self.start(places.end),
        };
        let unfit = self
            .unfit
            .iter()
            .filter(|unfit| places.contains(&unfit.place));
        (bytes, (places.len() - unfit.count()) as u64)
    }

    /// Whether the table has no room for the row at a place.
    pub fn is_unfit(&self, place: usize) -> bool {
        let found = self.unfit.binary_search_by_key(&place, |unfit| unfit.place);
        found.is_ok()
    }
}
