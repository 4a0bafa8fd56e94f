//! Finds keys that come twice, in bounded memory.
//!
//! Each row's key is known by 128 bits of a hash. Up to a set number of them are
//! held; beyond, they are parted by their first bits into temporary files, each of
//! which is looked through by itself.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Seek, Write};

use xxhash_rust::xxh3::Xxh3;

use crate::pipeline::Rows;
use crate::records::block::Block;
use crate::values::{Cell, Valued};

/// How many keys are held at once: 24 MiB of them.
const HELD: usize = 750_000;

/// How many temporary files the keys are parted into.
const FILES: usize = 64;

/// Keys that have so many bits in common are no longer parted.
const ALIKE: u32 = 36;

/// A key, and where its record stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Key {
    /// The key's hash.
    pub hash: u128,
    /// The file, 0-based.
    pub file: u32,
    /// The record's first line, 1-based.
    pub line: u64,
}

/// A key that came before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Duplicate {
    /// Its first record.
    pub first: Key,
    /// A later one.
    pub again: Key,
}

/// The keys of a run.
#[derive(Debug)]
pub struct KeyIndex {
    held: Vec<Key>,
    most: usize,
    files: Vec<BufWriter<File>>,
    /// How many bits of the hash have parted the keys already.
    bits: u32,
}

impl Default for KeyIndex {
    fn default() -> KeyIndex {
        KeyIndex::with_room(HELD)
    }
}

/// A key's bytes in a temporary file.
const WIDTH: usize = 16 + 4 + 8;

impl KeyIndex {
    /// With room for so many keys in memory.
    pub fn with_room(most: usize) -> KeyIndex {
        KeyIndex {
            held: Vec::new(),
            most: most.max(1),
            files: Vec::new(),
            bits: 0,
        }
    }

    /// Adds a key.
    ///
    /// # Errors
    /// A temporary file cannot be written.
    pub fn add(&mut self, key: Key) -> io::Result<()> {
        if self.held.len() >= self.most {
            self.spill()?;
        }
        self.held.push(key);
        Ok(())
    }

    fn spill(&mut self) -> io::Result<()> {
        if self.files.is_empty() {
            let file = || tempfile::tempfile().map(BufWriter::new);
            self.files = (0..FILES).map(|_| file()).collect::<Result<_, _>>()?;
        }
        for key in self.held.drain(..) {
            let part = (key.hash >> (128 - 6 - self.bits)) as usize % FILES;
            let out = &mut self.files[part];
            out.write_all(&key.hash.to_le_bytes())?;
            out.write_all(&key.file.to_le_bytes())?;
            out.write_all(&key.line.to_le_bytes())?;
        }
        Ok(())
    }

    /// Calls `each` for every key that came before, in no set order.
    ///
    /// # Errors
    /// A temporary file cannot be written or read.
    pub fn finish(mut self, each: &mut impl FnMut(Duplicate)) -> io::Result<()> {
        if self.files.is_empty() {
            twice(&mut self.held, each);
            return Ok(());
        }
        self.spill()?;
        for file in std::mem::take(&mut self.files) {
            let mut file = file.into_inner().map_err(io::IntoInnerError::into_error)?;
            file.rewind()?;
            let mut part = KeyIndex {
                bits: self.bits + 6,
                ..KeyIndex::with_room(self.most)
            };
            let mut reader = BufReader::new(file);
            let mut bytes = [0; WIDTH];
            // Keys that have so many bits in common are mostly one and the same,
            // and cannot be parted any further.
            let mut firsts: HashMap<u128, Key> = HashMap::new();
            while read_whole(&mut reader, &mut bytes)? {
                let again = key(&bytes);
                if part.bits < ALIKE {
                    part.add(again)?;
                } else if let Some(first) = firsts.get(&again.hash) {
                    each(Duplicate {
                        first: *first,
                        again,
                    });
                } else {
                    firsts.insert(again.hash, again);
                }
            }
            part.finish(each)?;
        }
        Ok(())
    }
}

fn read_whole(reader: &mut impl Read, bytes: &mut [u8; WIDTH]) -> io::Result<bool> {
    match reader.read_exact(bytes) {
        Ok(()) => Ok(true),
        Err(e) if e.kind() == io::ErrorKind::UnexpectedEof => Ok(false),
        Err(e) => Err(e),
    }
}

fn key(bytes: &[u8; WIDTH]) -> Key {
    let mut hash = [0; 16];
    let mut file = [0; 4];
    let mut line = [0; 8];
    hash.copy_from_slice(&bytes[..16]);
    file.copy_from_slice(&bytes[16..20]);
    line.copy_from_slice(&bytes[20..]);
    Key {
        hash: u128::from_le_bytes(hash),
        file: u32::from_le_bytes(file),
        line: u64::from_le_bytes(line),
    }
}

/// Keys that come twice among those that are held.
fn twice(held: &mut [Key], each: &mut impl FnMut(Duplicate)) {
    held.sort_unstable();
    for same in held.chunk_by(|a, b| a.hash == b.hash) {
        for again in &same[1..] {
            each(Duplicate {
                first: same[0],
                again: *again,
            });
        }
    }
}

/// The hashes of the keys of the good rows in a block, each with its record's line, 1-based.
/// `slots` are the key's columns among the loaded ones; rows that `passed` names, and those
/// whose key is null, have none.
pub fn hashes(
    slots: &[usize],
    rows: &Rows,
    block: &Block,
    passed: &HashSet<u32>,
) -> Vec<(u128, u64)> {
    let good = rows.good.iter().filter(|row| !passed.contains(row));
    let hashed = good.filter_map(|row| {
        let mark = &block.marks[rows.marks[*row as usize] as usize];
        let hash = hash(slots, rows, *row as usize, &block.bytes)?;
        Some((hash, block.first_line + u64::from(mark.line)))
    });
    hashed.collect()
}

/// The hash of a row's key; none where a part of it is null, which is no key in SQL.
fn hash(slots: &[usize], rows: &Rows, row: usize, block: &[u8]) -> Option<u128> {
    let mut hash = Xxh3::new();
    for slot in slots {
        let valued = Valued {
            cell: rows.cell(*slot, row),
            block,
            store: &rows.store,
        };
        // The length or the kind of each part goes first, so that ("ab", "c") is
        // not ("a", "bc").
        match valued.cell {
            Cell::Null => return None,
            Cell::Bool(truth) => hash.update(&[1, u8::from(truth)]),
            Cell::Int(n) => hash.update(&n.to_le_bytes()),
            Cell::Float(n) => hash.update(&n.to_bits().to_le_bytes()),
            Cell::Decimal(_) | Cell::LongDecimal(_) => {
                hash.update(&valued.decimal().unwrap_or(0).to_le_bytes());
            }
            Cell::Date(day) => hash.update(&day_bytes(day)),
            Cell::Time(nanos) => hash.update(&nanos.to_le_bytes()),
            Cell::Timestamp(day, nanos) => {
                hash.update(&day_bytes(day));
                hash.update(&nanos.to_le_bytes());
            }
            Cell::Text(_) | Cell::Bytes(_) => {
                let bytes = valued.bytes().unwrap_or_default();
                hash.update(&(bytes.len() as u64).to_le_bytes());
                hash.update(bytes);
            }
        }
    }
    Some(hash.digest128())
}

fn day_bytes(day: crate::values::Day) -> [u8; 4] {
    let [a, b] = day.year.to_le_bytes();
    [a, b, day.month, day.day]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn found(keys: &[u128], room: usize) -> Vec<(u64, u64)> {
        let mut all = KeyIndex::with_room(room);
        for (line, hash) in keys.iter().enumerate() {
            let line = line as u64;
            all.add(Key {
                hash: *hash,
                file: 0,
                line,
            })
            .unwrap();
        }
        let mut found = Vec::new();
        all.finish(&mut |t| found.push((t.first.line, t.again.line)))
            .unwrap();
        found.sort_unstable();
        found
    }

    #[test]
    fn keys_that_are_all_the_same_come_to_an_end() {
        assert_eq!(found(&[7; 50], 3).len(), 49);
    }

    proptest! {
        // Each case makes dozens of temporary files.
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn any_room_finds_the_same(
            keys in proptest::collection::vec((0u128..40).prop_map(|k| k << 100 | k), 0..200),
            room in 1usize..60,
        ) {
            let mut wanted = Vec::new();
            for (line, key) in keys.iter().enumerate() {
                let first = keys.iter().position(|k| k == key).unwrap();
                if first < line { wanted.push((first as u64, line as u64)); }
            }
            wanted.sort_unstable();
            prop_assert_eq!(found(&keys, room), wanted);
        }
    }
}
