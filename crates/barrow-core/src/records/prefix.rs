//! What a file is like up to a place: a hash of its bytes, to go on there another time.

use super::block::Block;
use crate::error::Error;

/// Hashes the bytes of one file, block by block.
pub struct Prefix {
    hasher: Box<blake3::Hasher>,
    /// What the hash is to be at a place, if that is not passed yet.
    expected: Option<(u64, String)>,
}

impl Prefix {
    /// From the start of a file. Up to `expected`'s place, 0-based, its hash is to be the
    /// one there.
    pub fn new(expected: Option<(u64, String)>) -> Prefix {
        Prefix {
            hasher: Box::default(),
            expected,
        }
    }

    /// Takes a block's bytes into the hash, and holds that against what it should be where
    /// the place is passed. Returns the hash up to the block's end.
    ///
    /// # Errors
    /// The file has changed before the place, or ends before it.
    pub fn pass(&mut self, block: &Block, file: &str) -> Result<String, Error> {
        let raw = block.raw(0..block.bytes.len());
        // A byte order mark is no part of the text.
        let begins = block.place(0);
        let ends = begins + raw.len() as u64;
        let changed = |bytes| Error::Changed {
            file: file.into(),
            bytes,
        };
        let until = self.expected.as_ref().map(|(at, _)| *at);
        match (until, self.expected.take_if(|(at, _)| *at <= ends)) {
            (_, Some((at, expected))) => {
                let (before, after) = raw.split_at(at.saturating_sub(begins) as usize);
                self.hasher.update(before);
                if self.so_far() != expected {
                    return Err(changed(at));
                }
                self.hasher.update(after);
            }
            (Some(at), None) if block.last.is_some() => return Err(changed(at)),
            _ => {
                self.hasher.update(raw);
            }
        }
        Ok(self.so_far())
    }

    /// The first 128 bits, as hexadecimal digits.
    fn so_far(&self) -> String {
        self.hasher.finalize().to_hex()[..32].to_string()
    }
}
