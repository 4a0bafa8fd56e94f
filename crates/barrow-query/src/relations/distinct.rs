//! The different values of columns, as fingerprints of 128 bits in order. What does not fit in
//! memory is on disk, so that they need no more than [`ROOM`] fingerprints however many there
//! are.
//!
//! Of 10¹² values, two that differ have the same fingerprint with a chance below 10⁻¹⁴.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};

use rusqlite::types::Value;
use xxhash_rust::xxh3::xxh3_128_with_seed;

/// How many fingerprints stay in memory, over all columns that are looked at in one reading: at
/// most 64 MiB, since what grows may have room for twice as many.
pub const ROOM: usize = 2 << 20;

/// How many are written to disk at once.
const WRITTEN_AT_ONCE: usize = 1 << 16;

/// How many of a column stay in memory at least.
const LEAST: usize = 1024;

/// How many are read from disk at once.
const AT_ONCE: usize = 512;

/// Bytes of a fingerprint.
const WIDTH: usize = 16;

/// A value's fingerprint; none of null.
pub fn of_value(value: &Value) -> Option<u128> {
    match value {
        Value::Null => None,
        Value::Integer(n) => Some(xxh3_128_with_seed(&n.to_le_bytes(), 1)),
        Value::Real(n) => Some(xxh3_128_with_seed(&n.to_bits().to_le_bytes(), 2)),
        Value::Text(text) => Some(xxh3_128_with_seed(text.as_bytes(), 3)),
        Value::Blob(bytes) => Some(xxh3_128_with_seed(bytes, 4)),
    }
}

/// The fingerprint of several values; none where one of them is null.
pub fn of_several(each: &[Option<u128>], places: &[usize]) -> Option<u128> {
    if let [place] = places {
        return each[*place];
    }
    let mut bytes = Vec::with_capacity(places.len() * WIDTH);
    for place in places {
        bytes.extend_from_slice(&each[*place]?.to_le_bytes());
    }
    Some(xxh3_128_with_seed(&bytes, 5))
}

/// A file of fingerprints, which is gone when nobody has it any more.
pub struct Scratch {
    file: File,
    end: u64,
}

impl Scratch {
    /// An empty one.
    ///
    /// # Errors
    /// The system's folder for such files cannot be written.
    pub fn new() -> io::Result<Scratch> {
        Ok(Scratch {
            file: tempfile::tempfile()?,
            end: 0,
        })
    }

    fn write(&mut self, some: &[u128]) -> io::Result<Stretch> {
        let stretch = Stretch {
            at: self.end,
            count: some.len() as u64,
        };
        self.file.seek(SeekFrom::Start(self.end))?;
        for part in some.chunks(WRITTEN_AT_ONCE) {
            let bytes: Vec<u8> = part.iter().flat_map(|one| one.to_le_bytes()).collect();
            self.file.write_all(&bytes)?;
            self.end += bytes.len() as u64;
        }
        Ok(stretch)
    }
}

/// A stretch of a file that has sorted fingerprints, one after the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Stretch {
    at: u64,
    count: u64,
}

/// Reads a stretch from its beginning.
struct Reader {
    rest: Stretch,
    ahead: Vec<u128>,
    next: usize,
}

impl Reader {
    fn new(stretch: Stretch) -> Reader {
        Reader {
            rest: stretch,
            ahead: Vec::new(),
            next: 0,
        }
    }

    fn next(&mut self, scratch: &Scratch) -> io::Result<Option<u128>> {
        if self.next == self.ahead.len() {
            if self.rest.count == 0 {
                return Ok(None);
            }
            self.fill(scratch)?;
        }
        self.next += 1;
        Ok(Some(self.ahead[self.next - 1]))
    }

    fn fill(&mut self, scratch: &Scratch) -> io::Result<()> {
        let wanted = usize::try_from(self.rest.count).map_or(AT_ONCE, |rest| rest.min(AT_ONCE));
        let mut bytes = vec![0; wanted * WIDTH];
        let mut file = &scratch.file;
        file.seek(SeekFrom::Start(self.rest.at))?;
        file.read_exact(&mut bytes)?;
        self.rest.at += bytes.len() as u64;
        self.rest.count -= wanted as u64;
        self.ahead.clear();
        let each = bytes.as_chunks::<WIDTH>().0.iter();
        self.ahead.extend(each.map(|one| u128::from_le_bytes(*one)));
        self.next = 0;
        Ok(())
    }
}

/// The different values of a column, or of several together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Distinct {
    stretch: Stretch,
}

impl Distinct {
    /// How many there are.
    pub fn count(self) -> u64 {
        self.stretch.count
    }

    /// How many of them are not among others.
    ///
    /// # Errors
    /// The file cannot be read.
    pub fn missing_in(self, other: Distinct, scratch: &Scratch) -> io::Result<u64> {
        let (mut own, mut others) = (Reader::new(self.stretch), Reader::new(other.stretch));
        let (mut missing, mut there) = (0, others.next(scratch)?);
        while let Some(one) = own.next(scratch)? {
            while there.is_some_and(|other| other < one) {
                there = others.next(scratch)?;
            }
            missing += u64::from(there != Some(one));
        }
        Ok(missing)
    }
}

/// What came of taking the values of a column, or of several together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Collected {
    /// How many there were that are not null.
    pub values: u64,
    /// Those that differ; none where it was to end with a value that comes twice, and one did.
    pub distinct: Option<Distinct>,
}

/// Takes the values of a column, or of several together, as they come.
pub struct Collector {
    held: Vec<u128>,
    /// How many are held before they are sorted.
    next: usize,
    room: usize,
    stretches: Vec<Stretch>,
    values: u64,
    ends_when_doubled: bool,
    is_doubled: bool,
}

impl Collector {
    /// One of so many that are at work at once.
    pub fn one_of(count: usize) -> Collector {
        Collector {
            held: Vec::new(),
            next: LEAST,
            room: (ROOM / count.max(1)).max(LEAST),
            stretches: Vec::new(),
            values: 0,
            ends_when_doubled: false,
            is_doubled: false,
        }
    }

    /// Takes no more once a value has come twice.
    pub fn ends_when_doubled(self) -> Collector {
        Collector {
            ends_when_doubled: true,
            ..self
        }
    }

    /// Takes a value.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn take(&mut self, value: u128, scratch: &mut Scratch) -> io::Result<()> {
        self.values += 1;
        if self.ends_when_doubled && self.is_doubled {
            return Ok(());
        }
        self.held.push(value);
        if self.held.len() < self.next {
            return Ok(());
        }
        self.put_in_order();
        if self.held.len() > self.room / 2 {
            self.stretches.push(scratch.write(&self.held)?);
            self.held.clear();
        }
        self.next = (2 * self.held.len()).clamp(LEAST, self.room);
        Ok(())
    }

    fn put_in_order(&mut self) {
        let before = self.held.len();
        self.held.sort_unstable();
        self.held.dedup();
        self.is_doubled |= self.held.len() < before;
        if self.ends_when_doubled && self.is_doubled {
            self.held = Vec::new();
        }
    }

    /// What came of it.
    ///
    /// # Errors
    /// The file cannot be written or read.
    pub fn finish(mut self, scratch: &mut Scratch) -> io::Result<Collected> {
        self.put_in_order();
        let stretch = match self.stretches.is_empty() {
            true => scratch.write(&self.held)?,
            false => {
                self.stretches.push(scratch.write(&self.held)?);
                self.merge(scratch)?
            }
        };
        let is_over = self.ends_when_doubled && self.is_doubled;
        Ok(Collected {
            values: self.values,
            distinct: (!is_over).then_some(Distinct { stretch }),
        })
    }

    /// Merges the sorted stretches into one.
    fn merge(&mut self, scratch: &mut Scratch) -> io::Result<Stretch> {
        let mut readers: Vec<Reader> = self.stretches.drain(..).map(Reader::new).collect();
        let mut heap = BinaryHeap::with_capacity(readers.len());
        for (place, reader) in readers.iter_mut().enumerate() {
            if let Some(first) = reader.next(scratch)? {
                heap.push(Reverse((first, place)));
            }
        }
        let mut whole: Option<Stretch> = None;
        let mut last = None;
        self.held.clear();
        while let Some(Reverse((value, place))) = heap.pop() {
            match last == Some(value) {
                true => self.is_doubled = true,
                false => self.held.push(value),
            }
            last = Some(value);
            if let Some(next) = readers[place].next(scratch)? {
                heap.push(Reverse((next, place)));
            }
            if self.held.len() == self.room || heap.is_empty() {
                let part = scratch.write(&self.held)?;
                let count = whole.map_or(0, |whole| whole.count) + part.count;
                let at = whole.map_or(part.at, |whole| whole.at);
                whole = Some(Stretch { at, count });
                self.held.clear();
            }
        }
        Ok(whole.unwrap_or(Stretch { at: 0, count: 0 }))
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    fn collected(values: &[u64], at_once: usize, scratch: &mut Scratch) -> (u64, Distinct) {
        let mut collector = Collector::one_of(at_once);
        for value in values {
            let print = of_value(&Value::Integer(*value as i64)).expect("not null");
            collector.take(print, scratch).expect("room");
        }
        let Collected { values, distinct } = collector.finish(scratch).expect("room");
        (values, distinct.expect("it does not end"))
    }

    #[test]
    fn different_values_are_counted_and_compared_in_memory_and_on_disk() {
        let mut random = fastrand::Rng::with_seed(7);
        // One of a million that are at work has room for the least: the rest is on disk.
        for at_once in [1, 1_000_000] {
            for (count, range) in [(0, 1), (1, 1), (5000, 40), (20_000, 9000), (9000, 1 << 40)] {
                let mut scratch = Scratch::new().expect("a file");
                let a: Vec<u64> = (0..count).map(|_| random.u64(0..range)).collect();
                let b: Vec<u64> = (0..count).map(|_| random.u64(0..range)).collect();
                let (taken, own) = collected(&a, at_once, &mut scratch);
                let (_, other) = collected(&b, at_once, &mut scratch);
                let sets: [HashSet<&u64>; 2] = [a.iter().collect(), b.iter().collect()];
                assert_eq!((taken, own.count()), (count, sets[0].len() as u64));
                let wanted = sets[0].difference(&sets[1]).count() as u64;
                assert_eq!(own.missing_in(other, &scratch).expect("read"), wanted);
                assert_eq!(own.missing_in(own, &scratch).expect("read"), 0);
            }
        }
    }

    #[test]
    fn what_is_to_tell_rows_apart_ends_with_the_first_value_that_comes_twice() {
        for at_once in [1, 1_000_000] {
            // The second one of a value comes soon, or after others went to disk.
            for (doubled, wanted) in [(None, Some(6000)), (Some(5), None), (Some(5999), None)] {
                let mut scratch = Scratch::new().expect("a file");
                let mut collector = Collector::one_of(at_once).ends_when_doubled();
                for value in (0..6000).chain(doubled) {
                    let print = of_value(&Value::Integer(value)).expect("not null");
                    collector.take(print, &mut scratch).expect("room");
                }
                let found = collector.finish(&mut scratch).expect("room");
                assert_eq!(found.distinct.map(Distinct::count), wanted);
            }
        }
    }

    #[test]
    fn several_values_are_as_they_stand_and_null_is_none() {
        let text = |text: &str| of_value(&Value::Text(text.to_string()));
        let each = [text("ab"), text("c"), None, text("a"), text("bc")];
        assert_eq!(of_several(&each, &[1]), each[1]);
        assert_ne!(of_several(&each, &[0, 1]), of_several(&each, &[3, 4]));
        assert_ne!(of_several(&each, &[0, 1]), of_several(&each, &[1, 0]));
        assert_eq!(of_several(&each, &[0, 2]), None);
        assert_ne!(of_value(&Value::Integer(1)), text("1"));
    }
}
