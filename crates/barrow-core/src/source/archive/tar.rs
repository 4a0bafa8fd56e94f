//! Tar archives (POSIX.1-1988 ustar, pax and GNU long names), packed or not.

use std::collections::HashMap;
use std::io::{self, Read};
use std::sync::Arc;

use ::tar::{Archive, EntryType};

use super::super::compression::{Compression, TELLING};
use super::super::content::{Fingerprint, sample_of};
use super::super::file::SourceFile;
use super::member::{Extract, Member};
use super::tar_stream::TarStream;
use super::{Entry, damaged};
use crate::error::Error;

/// The files of a tar. One that is packed is read to its end once, which tells the samples
/// of its files as well.
pub fn entries(archive: &SourceFile) -> Result<Vec<Entry>, Error> {
    let fault = |error: io::Error| damaged(archive, error);
    if !archive.is_repeatable() {
        let says = "it can be read only once; give it as a file";
        return Err(damaged(archive, says));
    }
    let mut first = Vec::with_capacity(TELLING);
    let telling = archive.open().map_err(fault)?.take(TELLING as u64);
    io::Read::read_to_end(&mut { telling }, &mut first).map_err(fault)?;
    let compression = Compression::of(&first);
    let reader = compression
        .unpack(archive.open().map_err(fault)?)
        .map_err(fault)?;
    let stream = Arc::new(TarStream::new(archive, compression));
    let mut entries = Vec::new();
    let mut places: HashMap<String, Lies> = HashMap::new();
    let mut tar = Archive::new(Ending::new(reader));
    for entry in tar.entries().map_err(fault)? {
        let mut entry = entry.map_err(fault)?;
        let name = own_name(&entry.path_bytes());
        match entry.header().entry_type() {
            EntryType::Regular | EntryType::Continuous => {}
            EntryType::GNUSparse => {
                return Err(damaged(archive, "it has a sparse file, which is not read"));
            }
            // Another name of a file that stands before it (POSIX, ustar, type 1).
            EntryType::Link => {
                let target = entry.link_name_bytes().map(|name| own_name(&name));
                let lies = target.and_then(|target| places.get(&target)).cloned();
                entries.push(match lies {
                    Some(lies) => lies.entry(archive, name),
                    None => Entry::unread(name, archive, "is a link to a file that is not there"),
                });
                continue;
            }
            EntryType::Symlink => {
                entries.push(Entry::unread(
                    name,
                    archive,
                    "is a symbolic link, which is not read",
                ));
                continue;
            }
            _ => continue,
        }
        let size = entry.size();
        let lies = Lies {
            start: entry.raw_file_position(),
            size,
            stream: stream.clone(),
            // What is packed has to be unpacked to go on: the sample comes with that.
            sampled: match compression {
                Compression::None => None,
                _ => Some(sample_of(&mut entry, size).map_err(fault)?),
            },
        };
        places.insert(name.clone(), lies.clone());
        entries.push(lies.entry(archive, name));
    }
    tar.into_inner().finish().map_err(fault)?;
    Ok(entries)
}

/// A member's name, from the archive's own folder.
fn own_name(bytes: &[u8]) -> String {
    let name = String::from_utf8_lossy(bytes);
    name.strip_prefix("./").unwrap_or(&name).to_string()
}

/// Reads a tar, and sees whether it has its end mark: a block of zeros, behind which nothing
/// else follows (POSIX, ustar: the archive ends with two of them).
struct Ending<R> {
    inner: R,
    has_ended: bool,
}

impl<R: Read> Ending<R> {
    fn new(inner: R) -> Ending<R> {
        Ending {
            inner,
            has_ended: false,
        }
    }

    /// Reads what is behind the end mark to the end, which also verifies the checksum of
    /// what is packed.
    fn finish(mut self) -> io::Result<()> {
        if self.has_ended {
            return Err(io::Error::other(
                "it ends without the blocks of zeros that end a tar, so it may be cut off",
            ));
        }
        let mut others = 0;
        let mut piece = [0; 16 << 10];
        loop {
            match self.inner.read(&mut piece) {
                Ok(0) => break,
                Ok(read) => others += piece[..read].iter().filter(|byte| **byte != 0).count(),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        match others {
            0 => Ok(()),
            _ => Err(io::Error::other(
                "there is more behind its end, such as a second archive, which is not read",
            )),
        }
    }
}

impl<R: Read> Read for Ending<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.has_ended |= read == 0 && !buffer.is_empty();
        Ok(read)
    }
}

/// Where a member lies in the unpacked archive.
#[derive(Debug, Clone)]
struct Lies {
    start: u64,
    size: u64,
    stream: Arc<TarStream>,
    sampled: Option<Fingerprint>,
}

impl Lies {
    /// As a file of this name.
    fn entry(self, archive: &SourceFile, name: String) -> Entry {
        let file = Member::new(archive, name.clone(), self.size, self);
        Entry::new(name, SourceFile::new(file))
    }
}

impl Extract for Lies {
    fn open(&self, _: &SourceFile) -> io::Result<Box<dyn Read + Send>> {
        TarStream::open(&self.stream, self.start, self.size)
    }

    fn fingerprint(&self, archive: &SourceFile) -> io::Result<Fingerprint> {
        match &self.sampled {
            Some(sampled) => Ok(sampled.clone()),
            None => sample_of(self.open(archive)?, self.size),
        }
    }
}
