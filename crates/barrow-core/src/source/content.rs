//! What tells one file from another, whatever its name: its size, a sample of its
//! bytes, and the hash of all of them, as they are stored.
//!
//! A file that nobody has seen is hashed while it is read. Only a file whose size and
//! sample are known already is read beforehand, to be sure.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::ops::Range;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use super::tree_hash::{PIECE, TreeHash, WholePieces, digits};

/// How many places of a file are in its sample.
const PLACES: u64 = 64;

/// How many bytes are read at each of them.
const AT_EACH: u64 = 4096;

/// A file's size and sample: all that can be had of a large file in a moment.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Fingerprint {
    /// Its size in bytes, as stored.
    pub size: u64,
    /// The hash of bytes at places spread evenly over it; 32 hexadecimal digits.
    pub sample: String,
}

/// What a sample begins with that was taken of an archive's checksum, and not of bytes.
const OF_CHECKSUM: &str = "zip-";

impl Fingerprint {
    /// What tells a member of an archive from others without a byte of it being unpacked: the
    /// checksum that the archive has of it.
    pub fn of_checksum(size: u64, checksum: u32) -> Fingerprint {
        let hash = hash_of(format!("{checksum:08x}\n{size}").as_bytes());
        Fingerprint {
            size,
            sample: format!("{OF_CHECKSUM}{}", &hash[OF_CHECKSUM.len()..]),
        }
    }

    /// Whether a file with a size and a sample may have the same content: samples of
    /// different kinds say nothing of that.
    pub fn may_be(&self, size: u64, sample: &str) -> bool {
        let of_checksum = |sample: &str| sample.starts_with(OF_CHECKSUM);
        self.size == size
            && (self.sample == sample || of_checksum(&self.sample) != of_checksum(sample))
    }
}

/// The hash of all bytes that were read of a file.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Content {
    /// How many they are.
    pub bytes: u64,
    /// The hash; 32 hexadecimal digits.
    pub hash: String,
}

/// Looks at a file here and there.
///
/// # Errors
/// It cannot be read.
pub fn fingerprint(path: &Path) -> io::Result<Fingerprint> {
    let mut file = File::open(path)?;
    let size = file.metadata()?.len();
    let mut hasher = blake3::Hasher::new();
    hasher.update(&size.to_le_bytes());
    if size <= PLACES * AT_EACH {
        hasher.update_reader(&mut file)?;
    } else {
        let mut buffer = Vec::with_capacity(AT_EACH as usize);
        for place in sample_places(size) {
            file.seek(SeekFrom::Start(place.start))?;
            buffer.clear();
            file.by_ref().take(AT_EACH).read_to_end(&mut buffer)?;
            hasher.update(&buffer);
        }
    }
    Ok(Fingerprint {
        size,
        sample: digits(&hasher.finalize()),
    })
}

/// Takes the sample of a file while its bytes are read in order.
pub struct Sampler {
    size: u64,
    /// How many bytes have been read.
    passed: u64,
    /// The next place of the sample.
    next: u64,
    hasher: blake3::Hasher,
}

impl Sampler {
    /// Of a file of so many bytes.
    pub fn new(size: u64) -> Sampler {
        let mut hasher = blake3::Hasher::new();
        hasher.update(&size.to_le_bytes());
        Sampler {
            size,
            passed: 0,
            next: 0,
            hasher,
        }
    }

    /// Takes the next bytes.
    pub fn add(&mut self, bytes: &[u8]) {
        let end = self.passed + bytes.len() as u64;
        if self.size <= PLACES * AT_EACH {
            self.hasher.update(bytes);
        }
        while self.size > PLACES * AT_EACH && self.next < PLACES {
            let place = place(self.size, self.next);
            let from = place.start.max(self.passed);
            let to = place.end.min(end);
            if from < to {
                let piece = (from - self.passed) as usize..(to - self.passed) as usize;
                self.hasher.update(&bytes[piece]);
            }
            if end < place.end {
                break;
            }
            self.next += 1;
        }
        self.passed = end;
    }

    /// What tells the file from others.
    pub fn finish(self) -> Fingerprint {
        Fingerprint {
            size: self.size,
            sample: digits(&self.hasher.finalize()),
        }
    }
}

/// The size and sample of a file of `size` bytes that a reader gives.
///
/// # Errors
/// It cannot be read to its end.
pub fn sample_of(mut reader: impl Read, size: u64) -> io::Result<Fingerprint> {
    let mut sampler = Sampler::new(size);
    let mut buffer = vec![0; PIECE];
    loop {
        match reader.read(&mut buffer) {
            Ok(0) => return Ok(sampler.finish()),
            Ok(read) => sampler.add(&buffer[..read]),
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
}

/// The places of a file's sample, in order; one, all of it, where it is small.
pub fn sample_places(size: u64) -> Vec<Range<u64>> {
    if size <= PLACES * AT_EACH {
        return std::iter::once(0..size).collect();
    }
    (0..PLACES).map(|number| place(size, number)).collect()
}

/// The bytes of a place; the last one ends where the file does.
fn place(size: u64, number: u64) -> Range<u64> {
    let at = u128::from(size - AT_EACH) * u128::from(number) / u128::from(PLACES - 1);
    at as u64..at as u64 + AT_EACH
}

/// The size and sample of a file from the bytes at [`sample_places`].
pub fn fingerprint_of_places<'b>(
    size: u64,
    places: impl IntoIterator<Item = &'b [u8]>,
) -> Fingerprint {
    let mut hasher = blake3::Hasher::new();
    hasher.update(&size.to_le_bytes());
    for bytes in places {
        hasher.update(bytes);
    }
    Fingerprint {
        size,
        sample: digits(&hasher.finalize()),
    }
}

impl Content {
    /// Hashes all that a reader gives.
    ///
    /// # Errors
    /// It cannot be read to its end.
    pub fn of(reader: impl Read) -> io::Result<Content> {
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(reader)?;
        Ok(Content {
            bytes: hasher.count(),
            hash: digits(&hasher.finalize()),
        })
    }
}

/// The hash of a text, such as a spec.
pub fn hash_of(text: &[u8]) -> String {
    let mut hasher = blake3::Hasher::new();
    hasher.update(text);
    digits(&hasher.finalize())
}

/// The hash of what was read so far.
#[derive(Clone, Default)]
pub struct RunningHash(Arc<Mutex<TreeHash>>);

impl RunningHash {
    /// Hashes what is read through the reader.
    pub fn through<R: Read>(&self, inner: R) -> HashingReader<R> {
        HashingReader {
            inner,
            running: self.clone(),
        }
    }

    /// Of bytes of which some pieces were hashed another time.
    pub fn go_on(from: &WholePieces) -> RunningHash {
        RunningHash(Arc::new(Mutex::new(TreeHash::go_on(from))))
    }

    /// Hashes bytes that were written.
    pub fn add(&self, bytes: &[u8]) {
        let mut hash = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        hash.add(bytes);
    }

    /// What was read so far.
    pub fn content(&self) -> Content {
        let hash = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        Content {
            bytes: hash.bytes(),
            hash: hash.digits(),
        }
    }
}

/// A reader whose bytes are hashed on the way.
pub struct HashingReader<R> {
    inner: R,
    running: RunningHash,
}

impl<R: Read> Read for HashingReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.running.add(&buffer[..read]);
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(bytes: &[u8]) -> tempfile::NamedTempFile {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), bytes).unwrap();
        file
    }

    #[test]
    fn what_is_read_bit_by_bit_has_the_hash_of_the_file() {
        let bytes: Vec<u8> = (0..300_000u32).flat_map(u32::to_le_bytes).collect();
        let file = file(&bytes);
        let running = RunningHash::default();
        let mut reader = running.through(File::open(file.path()).unwrap());
        let mut piece = [0; 3 * PIECE];
        // Less than a piece, a piece, what ends one and begins the next, and several.
        for size in [777, PIECE - 777, 1, PIECE, 2 * PIECE + 5, 3, 5, 3 * PIECE] {
            assert!(reader.read(&mut piece[..size]).unwrap() > 0);
        }
        while reader.read(&mut piece[..777]).unwrap() > 0 {}
        assert_eq!(
            running.content(),
            Content::of(File::open(file.path()).unwrap()).unwrap()
        );
        assert_eq!(running.content().bytes, bytes.len() as u64);
        assert_eq!(running.content().hash.len(), 32);
    }

    #[test]
    fn a_sample_is_the_same_however_it_is_taken() {
        for size in [0, 5, 4096, 262_144, 262_145, 300_000, 1_000_003] {
            let bytes: Vec<u8> = (0..size).map(|n: u32| (n * 31 / 7) as u8).collect();
            let whole = fingerprint(file(&bytes).path()).unwrap();
            assert_eq!(
                sample_of(&bytes[..], u64::from(size)).unwrap(),
                whole,
                "{size}"
            );
            let mut sampler = Sampler::new(u64::from(size));
            bytes.chunks(777).for_each(|piece| sampler.add(piece));
            assert_eq!(sampler.finish(), whole, "{size}");
            let places = sample_places(u64::from(size));
            let at = places
                .iter()
                .map(|p| &bytes[p.start as usize..p.end as usize]);
            assert_eq!(fingerprint_of_places(u64::from(size), at), whole, "{size}");
        }
    }

    #[test]
    fn outlines_differ_where_the_start_the_end_or_the_size_does() {
        let bytes = vec![b'x'; 1_000_000];
        let plain = fingerprint(file(&bytes).path()).unwrap();
        assert_eq!(plain, fingerprint(file(&bytes).path()).unwrap());
        for at in [0, 999_999] {
            let mut other = bytes.clone();
            other[at] = b'y';
            assert_ne!(plain, fingerprint(file(&other).path()).unwrap());
        }
        assert_ne!(plain, fingerprint(file(&bytes[1..]).path()).unwrap());
        // Of a small file every byte is in the sample.
        let small = fingerprint(file(b"plums").path()).unwrap();
        assert_ne!(small, fingerprint(file(b"plumb").path()).unwrap());
    }
}
