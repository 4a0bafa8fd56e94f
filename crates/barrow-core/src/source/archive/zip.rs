//! Zip archives (APPNOTE of the ZIP file format, with its 64-bit extension).

use std::io::{self, Read};

use ::zip::{CompressionMethod, ZipArchive};

use super::super::compression::Compression;
use super::super::content::Fingerprint;
use super::super::file::SourceFile;
use super::member::{Extract, Member};
use super::seek::SeekReader;
use super::{Entry, damaged};
use crate::error::Error;

/// The first bytes of a member's local header, and how long its fixed part is.
const LOCAL_HEADER: (&[u8; 4], usize) = (b"PK\x03\x04", 30);

/// The files of a zip.
pub fn entries(archive: &SourceFile) -> Result<Vec<Entry>, Error> {
    let Some(size) = archive.size().filter(|_| archive.is_repeatable()) else {
        let says = "it can be read only once; give it as a file";
        return Err(damaged(archive, says));
    };
    let reader = SeekReader::new(archive, size);
    let zip = ZipArchive::new(reader).map_err(|error| damaged(archive, error))?;
    let mut entries = Vec::new();
    for number in 0..zip.len() {
        let data = zip.by_index_data(number);
        let data = data.map_err(|error| damaged(archive, error))?;
        if data.is_dir() {
            continue;
        }
        let name = data.name().map_err(|error| damaged(archive, error))?;
        let packed = Packed {
            header_start: data.header_start(),
            size: data.size(),
            packed_size: data.compressed_size(),
            crc: data.crc32(),
            method: data.compression(),
            is_encrypted: data.encrypted(),
        };
        let file = Member::new(archive, name.to_string(), packed.size, packed);
        entries.push(Entry {
            name: name.to_string(),
            file: SourceFile::new(file),
        });
    }
    Ok(entries)
}

/// Where a member is and how it is packed.
#[derive(Debug)]
struct Packed {
    header_start: u64,
    size: u64,
    packed_size: u64,
    crc: u32,
    method: CompressionMethod,
    is_encrypted: bool,
}

impl Extract for Packed {
    fn open(&self, archive: &SourceFile) -> io::Result<Box<dyn Read + Send>> {
        if self.is_encrypted {
            return Err(io::Error::other("it is encrypted with a password"));
        }
        let mut reader = archive.open_at(self.header_start)?;
        let mut header = [0; LOCAL_HEADER.1];
        reader.read_exact(&mut header)?;
        if !header.starts_with(LOCAL_HEADER.0) {
            return Err(io::Error::other("its header in the archive is damaged"));
        }
        let length = |at: usize| u64::from(u16::from_le_bytes([header[at], header[at + 1]]));
        let names = length(26) + length(28);
        io::copy(&mut reader.by_ref().take(names), &mut io::sink())?;
        let packed = reader.take(self.packed_size);
        let unpacked: Box<dyn Read + Send> = match self.method {
            CompressionMethod::Stored => Box::new(packed),
            CompressionMethod::DEFLATE => Box::new(flate2::read::DeflateDecoder::new(packed)),
            CompressionMethod::BZIP2 => Compression::Bzip2.unpack(packed)?,
            CompressionMethod::ZSTD => Compression::Zstd.unpack(packed)?,
            CompressionMethod::XZ => Compression::Xz.unpack(packed)?,
            other => {
                return Err(io::Error::other(format!(
                    "it is packed by a method that is not known here ({other})"
                )));
            }
        };
        Ok(Box::new(Checked {
            inner: unpacked,
            left: self.size,
            crc: self.crc,
            hasher: crc32fast::Hasher::new(),
        }))
    }

    /// The archive's directory has a checksum of every member: no byte needs reading.
    fn fingerprint(&self, _: &SourceFile) -> io::Result<Fingerprint> {
        Ok(Fingerprint::of_checksum(self.size, self.crc))
    }
}

/// Compares a member with the size and the checksum that the archive states.
struct Checked<R> {
    inner: R,
    left: u64,
    crc: u32,
    hasher: crc32fast::Hasher,
}

impl<R: Read> Read for Checked<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.hasher.update(&buffer[..read]);
        let Some(left) = self.left.checked_sub(read as u64) else {
            return Err(io::Error::other("it is longer than the archive says"));
        };
        self.left = left;
        if read == 0 && !buffer.is_empty() {
            if left > 0 {
                return Err(io::Error::other(format!(
                    "it ends {left} bytes before the archive says"
                )));
            }
            if self.hasher.clone().finalize() != self.crc {
                return Err(io::Error::other("its checksum is not the archive's"));
            }
        }
        Ok(read)
    }
}
