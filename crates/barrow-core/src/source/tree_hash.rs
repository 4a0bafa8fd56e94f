//! BLAKE3 of bytes that come one after the other, which can be put away and gone on with.

use std::mem;

use blake3::Hasher;
use blake3::hazmat::{self, ChainingValue, HasherExt, Mode};
use serde::{Deserialize, Serialize};

/// Bytes are hashed in pieces of this size: what comes in other sizes has its chunks, of
/// which the hash makes many at once, made one by one at either end. Without, hashing took
/// 1.7 times as long.
pub const PIECE: usize = 64 * 1024;

/// How many digits of a hash are kept: 128 bits, which no two contents share in practice.
const DIGITS: usize = 32;

/// The hash of all bytes so far, as a tree of pieces (BLAKE3, section 2.1): a piece of 64
/// chunks is a whole subtree of it.
///
/// ```
/// use barrow_core::source::tree_hash::TreeHash;
/// let mut hash = TreeHash::default();
/// hash.add(b"plums");
/// let later = TreeHash::go_on(&hash.whole_pieces());
/// // The bytes after the last whole piece are to be added again.
/// assert_eq!(later.bytes(), 0);
/// ```
#[derive(Clone, Default)]
pub struct TreeHash {
    /// Whole subtrees, the largest first: one for each bit of the number of pieces, but for
    /// the last, which is joined to those before once another follows.
    subtrees: Vec<ChainingValue>,
    /// How many pieces are in them.
    pieces: u64,
    /// The last piece, whole or not: the root is made from it.
    waiting: Vec<u8>,
}

/// What is known of the pieces that are whole: all that is needed to go on after them.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct WholePieces {
    /// How many bytes they are.
    pub bytes: u64,
    subtrees: Vec<ChainingValue>,
}

impl TreeHash {
    /// Goes on after the pieces that were whole.
    pub fn go_on(from: &WholePieces) -> TreeHash {
        TreeHash {
            subtrees: from.subtrees.clone(),
            pieces: from.bytes / PIECE as u64,
            waiting: Vec::new(),
        }
    }

    /// What is known of the pieces that are whole. The bytes after them are to be added again.
    pub fn whole_pieces(&self) -> WholePieces {
        WholePieces {
            bytes: self.pieces * PIECE as u64,
            subtrees: self.subtrees.clone(),
        }
    }

    /// Adds bytes.
    pub fn add(&mut self, mut bytes: &[u8]) {
        // The last piece waits until another byte comes.
        while self.waiting.len() + bytes.len() > PIECE {
            let (more, rest) = bytes.split_at(PIECE - self.waiting.len());
            match self.waiting.is_empty() {
                true => self.add_piece(more),
                false => {
                    let mut piece = mem::take(&mut self.waiting);
                    piece.extend_from_slice(more);
                    self.add_piece(&piece);
                    piece.clear();
                    self.waiting = piece;
                }
            }
            bytes = rest;
        }
        self.waiting.extend_from_slice(bytes);
    }

    fn add_piece(&mut self, piece: &[u8]) {
        join(&mut self.subtrees, self.pieces);
        self.subtrees.push(self.subtree(piece));
        self.pieces += 1;
    }

    /// The subtree of the piece that comes next.
    fn subtree(&self, piece: &[u8]) -> ChainingValue {
        let mut hasher = Hasher::new();
        hasher.set_input_offset(self.pieces * PIECE as u64);
        hasher.update(piece);
        hasher.finalize_non_root()
    }

    /// How many bytes were added.
    pub fn bytes(&self) -> u64 {
        self.pieces * PIECE as u64 + self.waiting.len() as u64
    }

    /// The first 128 bits of the hash of all bytes, as hexadecimal digits.
    pub fn digits(&self) -> String {
        let mut subtrees = self.subtrees.clone();
        join(&mut subtrees, self.pieces);
        let mut right = match subtrees.is_empty() {
            true => return digits(&blake3::hash(&self.waiting)),
            false => self.subtree(&self.waiting),
        };
        let first = subtrees.remove(0);
        for left in subtrees.iter().rev() {
            right = hazmat::merge_subtrees_non_root(left, &right, Mode::Hash);
        }
        digits(&hazmat::merge_subtrees_root(&first, &right, Mode::Hash))
    }
}

/// Joins subtrees of one size, until there is one for each bit of the number of pieces.
fn join(subtrees: &mut Vec<ChainingValue>, pieces: u64) {
    while subtrees.len() > pieces.count_ones() as usize {
        if let (Some(right), Some(left)) = (subtrees.pop(), subtrees.pop()) {
            subtrees.push(hazmat::merge_subtrees_non_root(&left, &right, Mode::Hash));
        }
    }
}

/// The digits of a hash that are kept.
pub fn digits(hash: &blake3::Hash) -> String {
    hash.to_hex()[..DIGITS].to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bytes(size: usize) -> Vec<u8> {
        (0..size).map(|n| (n * 31 / 7 + n / 1000) as u8).collect()
    }

    #[test]
    fn the_tree_of_pieces_is_the_hash_of_the_whole() {
        let all = bytes(9 * PIECE + 5);
        let mut sizes = vec![0, 1, PIECE - 1, 777];
        sizes.extend((1..=9).flat_map(|n| [n * PIECE, n * PIECE + 1]));
        for size in sizes {
            let whole = digits(&blake3::hash(&all[..size]));
            for step in [1000, PIECE, PIECE + 1, 3 * PIECE] {
                let mut hash = TreeHash::default();
                all[..size].chunks(step).for_each(|piece| hash.add(piece));
                assert_eq!(hash.digits(), whole, "{size} bytes by {step}");
                assert_eq!(hash.bytes(), size as u64);
            }
        }
    }

    #[test]
    fn what_was_put_away_goes_on_wherever_it_stopped() {
        let all = bytes(7 * PIECE + 100);
        let whole = digits(&blake3::hash(&all));
        for at in [
            0,
            5,
            PIECE,
            PIECE + 1,
            4 * PIECE - 1,
            4 * PIECE,
            7 * PIECE,
            all.len(),
        ] {
            let mut first = TreeHash::default();
            first.add(&all[..at]);
            let text = serde_json::to_string(&first.whole_pieces()).unwrap();
            let kept: WholePieces = serde_json::from_str(&text).unwrap();
            assert!(kept.bytes <= at as u64 && kept.bytes + PIECE as u64 >= at as u64);
            let mut later = TreeHash::go_on(&kept);
            later.add(&all[kept.bytes as usize..at]);
            assert_eq!(later.digits(), first.digits(), "{at}");
            later.add(&all[at..]);
            assert_eq!(later.digits(), whole, "{at}");
        }
    }
}
