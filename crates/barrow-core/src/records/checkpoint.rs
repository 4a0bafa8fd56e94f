//! Where reading a file can go on another time, and what the file was like up to there.

use serde::{Deserialize, Serialize};

use crate::source::tree_hash::{TreeHash, WholePieces};

/// What a file was like up to the end of a block.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Checkpoint {
    /// The hash of the bytes up to there.
    pub hash: String,
    /// The pieces of that hash that are whole.
    pub pieces: WholePieces,
    /// The line that comes next, and the record, 1-based; none where a record is cut there.
    pub next: Option<(u64, u64)>,
}

/// Hashes the bytes of one file, block by block.
pub struct Checkpoints {
    hash: TreeHash,
    /// What the hash is to be at a place, if that is not passed yet.
    expected: Option<(u64, String)>,
}

impl Checkpoints {
    /// From the start of a file. Up to `expected`'s place, 0-based, its hash is to be the
    /// one there.
    pub fn new(expected: Option<(u64, String)>) -> Checkpoints {
        Checkpoints {
            hash: TreeHash::default(),
            expected,
        }
    }

    /// From a checkpoint on; `bytes` are those between its last whole piece and its place.
    /// None where they are not what they were.
    pub fn go_on(from: &Checkpoint, bytes: &[u8]) -> Option<Checkpoints> {
        let mut hash = TreeHash::go_on(&from.pieces);
        hash.add(bytes);
        (hash.digits() == from.hash).then_some(Checkpoints {
            hash,
            expected: None,
        })
    }

    /// Takes a block's bytes, which begin at a place in the file, into the hash, and holds that
    /// against what it should be where the expected place is passed; if it is not passed by the
    /// last block, the file is another.
    ///
    /// # Errors
    /// The file has changed before this place, or ends before it.
    pub fn pass(&mut self, begins: u64, bytes: &[u8], is_last: bool) -> Result<(), u64> {
        let ends = begins + bytes.len() as u64;
        let until = self.expected.as_ref().map(|(at, _)| *at);
        match (until, self.expected.take_if(|(at, _)| *at <= ends)) {
            (_, Some((at, expected))) => {
                let (before, after) = bytes.split_at(at.saturating_sub(begins) as usize);
                self.hash.add(before);
                if self.hash.digits() != expected {
                    return Err(at);
                }
                self.hash.add(after);
            }
            (Some(at), None) if is_last => return Err(at),
            _ => self.hash.add(bytes),
        }
        Ok(())
    }

    /// What the file is like up to the end of the last block; what comes `next` is known to
    /// whoever cut it.
    pub fn here(&self, next: Option<(u64, u64)>) -> Checkpoint {
        Checkpoint {
            hash: self.hash.digits(),
            pieces: self.hash.whole_pieces(),
            next,
        }
    }
}
