//! The unpacked bytes of a tar. The files of a packed one are read one after the other: the
//! next goes on where the last ended, so that all of them are unpacked once and not once a
//! file.

use std::io::{self, Read};
use std::sync::{Arc, Mutex, PoisonError};

use super::super::compression::Compression;
use super::super::file::SourceFile;

/// A tar, and the place where its last reader stopped.
#[derive(Debug)]
pub struct TarStream {
    archive: SourceFile,
    compression: Compression,
    idle: Mutex<Option<Cursor>>,
}

/// Unpacked bytes, and where they stand.
struct Cursor {
    reader: Box<dyn Read + Send>,
    at: u64,
}

impl std::fmt::Debug for Cursor {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Cursor at {}", self.at)
    }
}

impl TarStream {
    /// Of an archive that is packed so.
    pub fn new(archive: &SourceFile, compression: Compression) -> TarStream {
        TarStream {
            archive: archive.clone(),
            compression,
            idle: Mutex::new(None),
        }
    }

    /// The bytes from `start` on, `size` of them.
    ///
    /// # Errors
    /// The archive cannot be read or unpacked.
    pub fn open(
        stream: &Arc<TarStream>,
        start: u64,
        size: u64,
    ) -> io::Result<Box<dyn Read + Send>> {
        let cursor = match stream.compression {
            Compression::None => Cursor {
                reader: stream.archive.open_at(start)?,
                at: start,
            },
            _ => stream.unpacked_at(start)?,
        };
        Ok(Box::new(Piece {
            stream: stream.clone(),
            cursor: Some(cursor),
            end: start + size,
        }))
    }

    fn unpacked_at(&self, start: u64) -> io::Result<Cursor> {
        let idle = self.idle().take().filter(|cursor| cursor.at <= start);
        let mut cursor = match idle {
            Some(cursor) => cursor,
            None => Cursor {
                reader: self.compression.unpack(self.archive.open()?)?,
                at: 0,
            },
        };
        let between = start - cursor.at;
        io::copy(&mut cursor.reader.by_ref().take(between), &mut io::sink())?;
        cursor.at = start;
        Ok(cursor)
    }

    fn idle(&self) -> std::sync::MutexGuard<'_, Option<Cursor>> {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The bytes of one file.
struct Piece {
    stream: Arc<TarStream>,
    cursor: Option<Cursor>,
    end: u64,
}

impl Read for Piece {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let Some(cursor) = &mut self.cursor else {
            return Ok(0);
        };
        let left = self.end - cursor.at;
        if left == 0 || buffer.is_empty() {
            return Ok(0);
        }
        let most = buffer
            .len()
            .min(usize::try_from(left).unwrap_or(usize::MAX));
        let read = cursor.reader.read(&mut buffer[..most])?;
        if read == 0 {
            return Err(io::Error::other("the archive ends within it"));
        }
        cursor.at += read as u64;
        Ok(read)
    }
}

impl Drop for Piece {
    fn drop(&mut self) {
        if self.stream.compression != Compression::None {
            *self.stream.idle() = self.cursor.take();
        }
    }
}
