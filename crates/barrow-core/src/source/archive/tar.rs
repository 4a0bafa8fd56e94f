//! Tar archives (POSIX.1-1988 ustar, pax and GNU long names), packed or not.

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
    for entry in Archive::new(reader).entries().map_err(fault)? {
        let mut entry = entry.map_err(fault)?;
        match entry.header().entry_type() {
            EntryType::Regular | EntryType::Continuous => {}
            EntryType::GNUSparse => {
                return Err(damaged(archive, "it has a sparse file, which is not read"));
            }
            _ => continue,
        }
        let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
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
        let name = name.strip_prefix("./").map_or(name.clone(), str::to_string);
        let file = SourceFile::new(Member::new(archive, name.clone(), size, lies));
        entries.push(Entry { name, file });
    }
    Ok(entries)
}

/// Where a member lies in the unpacked archive.
#[derive(Debug)]
struct Lies {
    start: u64,
    size: u64,
    stream: Arc<TarStream>,
    sampled: Option<Fingerprint>,
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
