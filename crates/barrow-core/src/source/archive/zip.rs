//! Zip archives (APPNOTE of the ZIP file format, with its 64-bit extension).

use std::io::{self, Read, Seek, SeekFrom};

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

/// The files of a zip. One that is not wanted is not lost by a damaged name: of a local
/// archive, its own header must have the name that the directory has.
pub fn entries(
    archive: &SourceFile,
    is_wanted: impl Fn(&str) -> bool,
) -> Result<Vec<Entry>, Error> {
    let Some(size) = archive.size().filter(|_| archive.is_repeatable()) else {
        let says = "it can be read only once; give it as a file";
        return Err(damaged(archive, says));
    };
    let reader = SeekReader::new(archive, size);
    let zip = ZipArchive::new(reader).map_err(|error| damaged(archive, error))?;
    if zip.offset() > 0 && begins_with_member(archive)? {
        return Err(damaged(
            archive,
            "another archive stands before it, which is not read",
        ));
    }
    if zip.has_duplicate_names() {
        return Err(damaged(
            archive,
            "two of its files have one name: which is meant is not clear",
        ));
    }
    let listed = listed(
        SeekReader::new(archive, size),
        zip.central_directory_start(),
    )
    .map_err(|error| damaged(archive, error))?;
    if listed.len() != zip.len() {
        return Err(damaged(
            archive,
            "its directory has another number of files than it says",
        ));
    }
    let mut entries = Vec::new();
    for (number, listed) in listed.into_iter().enumerate() {
        let data = zip.by_index_data(number);
        let data = data.map_err(|error| damaged(archive, error))?;
        if data.is_dir() {
            continue;
        }
        let name = data.name().map_err(|error| damaged(archive, error))?;
        if listed.is_link {
            let why = "is a symbolic link, which is not read";
            entries.push(Entry::unread(name.to_string(), archive, why));
            continue;
        }
        let packed = Packed {
            name: listed.name,
            header_start: data.header_start(),
            size: data.size(),
            packed_size: data.compressed_size(),
            crc: data.crc32(),
            method: data.compression(),
            is_encrypted: data.encrypted(),
        };
        if archive.path().is_some() && !is_wanted(&name) {
            let checked = packed.at_content(archive);
            checked.map_err(|error| damaged(archive, error))?;
        }
        let file = Member::new(archive, name.to_string(), packed.size, packed);
        entries.push(Entry::new(name.to_string(), SourceFile::new(file)));
    }
    Ok(entries)
}

/// What the archive's directory says of a member.
struct Listed {
    /// Its name, as it stands there.
    name: Vec<u8>,
    is_link: bool,
}

/// The first bytes of a member in the directory, and how long its fixed part is (APPNOTE,
/// 4.3.12).
const DIRECTORY_HEADER: (&[u8; 4], usize) = (b"PK\x01\x02", 46);

/// The system of an archive's writer, and the bits of its modes that tell a symbolic link
/// (APPNOTE, 4.4.2 and 4.4.15; POSIX, sys/stat.h).
const UNIX: u8 = 3;
const MODE_OF_LINK: u32 = 0o120_000;
const MODE_OF_KIND: u32 = 0o170_000;

/// The members that the directory at `start` has, whatever number of them the archive states.
fn listed(mut reader: SeekReader, start: u64) -> io::Result<Vec<Listed>> {
    let mut listed = Vec::new();
    reader.seek(SeekFrom::Start(start))?;
    loop {
        let mut header = [0; DIRECTORY_HEADER.1];
        let mut sign = [0; DIRECTORY_HEADER.0.len()];
        reader.read_exact(&mut sign)?;
        if &sign != DIRECTORY_HEADER.0 {
            return Ok(listed);
        }
        reader.read_exact(&mut header[sign.len()..])?;
        let length = |at: usize| usize::from(u16::from_le_bytes([header[at], header[at + 1]]));
        let mut name = vec![0; length(28)];
        reader.read_exact(&mut name)?;
        reader.seek(SeekFrom::Current((length(30) + length(32)) as i64))?;
        let mode = u32::from(u16::from_le_bytes([header[40], header[41]]));
        listed.push(Listed {
            name,
            is_link: header[5] == UNIX && mode & MODE_OF_KIND == MODE_OF_LINK,
        });
    }
}

/// Whether a file's first bytes are a member of a zip.
fn begins_with_member(archive: &SourceFile) -> Result<bool, Error> {
    let mut first = Vec::new();
    let reader = archive.open().map_err(|error| damaged(archive, error))?;
    let read = reader.take(4).read_to_end(&mut first);
    read.map_err(|error| damaged(archive, error))?;
    Ok(first == LOCAL_HEADER.0)
}

/// Where a member is and how it is packed.
#[derive(Debug)]
struct Packed {
    /// Its name, as the directory has it.
    name: Vec<u8>,
    header_start: u64,
    size: u64,
    packed_size: u64,
    crc: u32,
    method: CompressionMethod,
    is_encrypted: bool,
}

impl Packed {
    /// Reads the member's own header, which must have the name that the directory has: a
    /// name that is damaged in one of them is no other file's.
    fn at_content(&self, archive: &SourceFile) -> io::Result<Box<dyn Read + Send>> {
        let damaged = || io::Error::other("its header in the archive is damaged");
        let mut reader = archive.open_at(self.header_start)?;
        let mut header = [0; LOCAL_HEADER.1];
        reader.read_exact(&mut header)?;
        let length = |at: usize| usize::from(u16::from_le_bytes([header[at], header[at + 1]]));
        if !header.starts_with(LOCAL_HEADER.0) || length(26) != self.name.len() {
            return Err(damaged());
        }
        let mut name = vec![0; length(26)];
        reader.read_exact(&mut name)?;
        if name != self.name {
            return Err(damaged());
        }
        let extra = length(28) as u64;
        io::copy(&mut reader.by_ref().take(extra), &mut io::sink())?;
        Ok(reader)
    }
}

impl Extract for Packed {
    fn open(&self, archive: &SourceFile) -> io::Result<Box<dyn Read + Send>> {
        if self.is_encrypted {
            return Err(io::Error::other("it is encrypted with a password"));
        }
        let reader = self.at_content(archive)?;
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
