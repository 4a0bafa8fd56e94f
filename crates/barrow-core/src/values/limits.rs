//! What a typed value must be: within bounds, one of a list, like a pattern.

use std::cmp::Ordering;

use regex::Regex;

use super::cell::{Cell, Piece};

/// A cell of the spec's own, with the bytes that it names.
#[derive(Debug)]
pub struct Constant {
    /// The cell; its pieces are of the store.
    pub cell: Cell,
    /// Its bytes.
    pub store: Vec<u8>,
}

/// A cell with the bytes that its pieces are of.
#[derive(Clone, Copy)]
pub struct Valued<'b> {
    /// The cell.
    pub cell: Cell,
    /// The block's bytes.
    pub block: &'b [u8],
    /// The store's bytes.
    pub store: &'b [u8],
}

impl Constant {
    fn valued(&self) -> Valued<'_> {
        Valued {
            cell: self.cell,
            block: &[],
            store: &self.store,
        }
    }

    /// The cell, with its bytes put into `store`.
    pub fn put(&self, store: &mut Vec<u8>) -> Cell {
        let mut moved = |piece: Piece| {
            let at = store.len();
            let bytes = piece.of(&[], &self.store);
            store.extend_from_slice(bytes);
            Piece::in_store(at, bytes.len())
        };
        match self.cell {
            Cell::Text(piece) => Cell::Text(moved(piece)),
            Cell::Bytes(piece) => Cell::Bytes(moved(piece)),
            Cell::LongDecimal(piece) => Cell::LongDecimal(moved(piece)),
            cell => cell,
        }
    }
}

impl<'b> Valued<'b> {
    /// A text's or a run of bytes' own bytes.
    pub fn bytes(self) -> Option<&'b [u8]> {
        match self.cell {
            Cell::Text(piece) | Cell::Bytes(piece) => Some(piece.of(self.block, self.store)),
            _ => None,
        }
    }

    /// A decimal's digits, times ten to the power of its column's scale.
    pub fn decimal(self) -> Option<i128> {
        match self.cell {
            Cell::Decimal(n) => Some(i128::from(n)),
            Cell::LongDecimal(piece) => {
                let bytes = piece.of(self.block, self.store).try_into().ok()?;
                Some(i128::from_le_bytes(bytes))
            }
            _ => None,
        }
    }

    /// How two values of one column compare; none where one is null.
    pub fn compare(self, other: Valued<'_>) -> Option<Ordering> {
        Some(match (self.cell, other.cell) {
            (Cell::Bool(a), Cell::Bool(b)) => a.cmp(&b),
            (Cell::Int(a), Cell::Int(b)) => a.cmp(&b),
            (Cell::Float(a), Cell::Float(b)) => a.partial_cmp(&b)?,
            (Cell::Date(a), Cell::Date(b)) => a.cmp(&b),
            (Cell::Time(a), Cell::Time(b)) => a.cmp(&b),
            (Cell::Timestamp(a, m), Cell::Timestamp(b, n)) => (a, m).cmp(&(b, n)),
            _ => match (self.decimal(), other.decimal()) {
                (Some(a), Some(b)) => a.cmp(&b),
                _ => self.bytes()?.cmp(other.bytes()?),
            },
        })
    }
}

/// A longer list of what is allowed is not written out in a message.
const LONGEST_LIST: usize = 40;

/// What a value must be.
#[derive(Debug)]
pub struct Limits {
    /// The smallest, and as it is written.
    pub min: Option<(Constant, String)>,
    /// The largest, and as it is written.
    pub max: Option<(Constant, String)>,
    /// All that are allowed, and how they are written.
    pub one_of: Option<(Vec<Constant>, String)>,
    /// What the whole of a text must be like.
    pub matches: Option<Regex>,
}

/// What limits say of a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// It is within them.
    Fine,
    /// It is smaller than the smallest.
    Below,
    /// It is larger than the largest.
    Above,
    /// It is none of those allowed, or unlike the expression.
    NotAllowed,
}

impl Limits {
    /// Whether there are any.
    pub fn any(&self) -> bool {
        self.min.is_some() || self.max.is_some() || self.one_of.is_some() || self.matches.is_some()
    }

    /// Whether a value is within them; null is.
    pub fn verdict(&self, value: Valued<'_>) -> Verdict {
        if value.cell == Cell::Null {
            return Verdict::Fine;
        }
        let compared =
            |bound: &Option<(Constant, String)>| value.compare(bound.as_ref()?.0.valued());
        if compared(&self.min) == Some(Ordering::Less) {
            return Verdict::Below;
        }
        if compared(&self.max) == Some(Ordering::Greater) {
            return Verdict::Above;
        }
        let allowed = |one: &Constant| value.compare(one.valued()) == Some(Ordering::Equal);
        if let Some((all, _)) = &self.one_of
            && !all.iter().any(allowed)
        {
            return Verdict::NotAllowed;
        }
        if let Some(regex) = &self.matches
            && !value
                .bytes()
                .and_then(|text| std::str::from_utf8(text).ok())
                .is_some_and(|text| regex.is_match(text))
        {
            return Verdict::NotAllowed;
        }
        Verdict::Fine
    }

    /// The bounds, as a message names them.
    pub fn bounds(&self) -> Option<String> {
        match (&self.min, &self.max) {
            (Some((_, min)), Some((_, max))) => Some(format!("{min} to {max}")),
            (Some((_, min)), None) => Some(format!("{min} or more")),
            (None, Some((_, max))) => Some(format!("{max} or less")),
            (None, None) => None,
        }
    }

    /// What is allowed, as a message names it.
    pub fn allowed(&self) -> Option<String> {
        match (&self.one_of, &self.matches) {
            (Some((all, words)), _) if words.chars().count() > LONGEST_LIST => {
                Some(format!("one of the {} that are allowed", all.len()))
            }
            (Some((_, words)), _) => Some(format!("one of {words}")),
            (None, Some(regex)) => {
                let inner = regex.as_str().strip_prefix("^(?:");
                let inner = inner.and_then(|inner| inner.strip_suffix(")$"));
                Some(format!("like {}", inner.unwrap_or(regex.as_str())))
            }
            (None, None) => None,
        }
    }
}
