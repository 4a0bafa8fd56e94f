//! Opens a source: unpacks it, and counts what is taken of it as stored.

use std::io::{self, Cursor, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use super::content::{Content, RunningHash};
use super::file::SourceFile;
use super::tree_hash::WholePieces;
use crate::error::Error;
use crate::source::compression::{Compression, TELLING};
use crate::words::Word;

/// The bytes of a file, unpacked.
pub struct Input {
    name: String,
    /// Bytes that told the packing, and are still to be given.
    first: Vec<u8>,
    inner: Box<dyn Read + Send>,
    packing: Compression,
    /// Bytes taken of a packed file as stored.
    stored: Arc<AtomicU64>,
    /// How many bytes as stored were told already.
    told: u64,
    /// Bytes given, unpacked.
    given: u64,
    /// The hash of the bytes as stored, if it is asked for.
    hash: Option<RunningHash>,
}

/// Counts what is read through it.
struct Counted<R> {
    inner: R,
    count: Arc<AtomicU64>,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.count.fetch_add(read as u64, Ordering::Relaxed);
        Ok(read)
    }
}

/// Whether bytes have a control character before the tab, which text has not.
fn is_binary(first: &[u8]) -> bool {
    first.iter().any(|byte| *byte < b'\t')
}

impl Input {
    /// Opens a source that is packed as the spec says.
    ///
    /// # Errors
    /// The file cannot be opened, or is packed in another way.
    pub fn open(source: &SourceFile, packing: Compression) -> Result<Input, Error> {
        Input::open_as(source, packing, None)
    }

    /// The same, and hashes the bytes as stored.
    ///
    /// # Errors
    /// As [`Input::open`].
    pub fn open_hashed(source: &SourceFile, packing: Compression) -> Result<Input, Error> {
        Input::open_as(source, packing, Some(RunningHash::default()))
    }

    fn open_as(
        source: &SourceFile,
        packing: Compression,
        hash: Option<RunningHash>,
    ) -> Result<Input, Error> {
        let name = source.name();
        let failed = |error| Error::Read {
            file: name.clone(),
            source: error,
        };
        let reader = source.open().map_err(failed)?;
        let mut input = match &hash {
            None => Input::from_reader(name.clone(), reader, packing),
            Some(hash) => Input::from_reader(name.clone(), hash.through(reader), packing),
        }?;
        input.hash = hash;
        Ok(input)
    }

    fn from_reader(
        name: String,
        mut reader: impl Read + Send + 'static,
        packing: Compression,
    ) -> Result<Input, Error> {
        let failed = |source| Error::Read {
            file: name.clone(),
            source,
        };
        let stored = Arc::new(AtomicU64::new(0));
        let mut first = Vec::with_capacity(TELLING);
        if packing != Compression::None {
            reader
                .by_ref()
                .take(TELLING as u64)
                .read_to_end(&mut first)
                .map_err(failed)?;
        }
        let found = if packing == Compression::None {
            packing
        } else {
            Compression::of(&first)
        };
        // What is not packed at all is read as it is, and said: kept rejects are
        // plain, so that people can correct them, and the same spec reads them.
        if packing != Compression::Auto && found != Compression::None && packing != found {
            return Err(Error::Compression {
                file: name,
                said: packing.word(),
                found: found.word(),
            });
        }
        if found == Compression::None
            && let Some(named) = Compression::of_name(&name)
            && packing != Compression::None
            && (is_binary(&first) || named.is_cut(&first))
        {
            return Err(Error::NotPacked {
                file: name,
                packing: named.word(),
            });
        }
        // What is not packed is read without a layer between.
        let inner: Box<dyn Read + Send> = match found {
            Compression::None => Box::new(reader),
            packed => {
                let whole = Cursor::new(std::mem::take(&mut first)).chain(reader);
                let counted = Counted {
                    inner: whole,
                    count: stored.clone(),
                };
                packed.unpack(counted).map_err(failed)?
            }
        };
        Ok(Input {
            name,
            first,
            inner,
            packing: found,
            stored,
            told: 0,
            given: 0,
            hash: None,
        })
    }

    /// Adds up to `most` bytes to `out`. Fewer mean that there are no more.
    ///
    /// # Errors
    /// The file cannot be read, or its packing is damaged.
    pub fn fill(&mut self, most: usize, out: &mut Vec<u8>) -> Result<usize, Error> {
        let before = out.len();
        let told = self.first.len().min(most);
        out.extend(self.first.drain(..told));
        let filled = self
            .inner
            .by_ref()
            .take((most - told) as u64)
            .read_to_end(out);
        self.given += (out.len() - before) as u64;
        match filled {
            Ok(_) => Ok(out.len() - before),
            Err(source) if self.packing == Compression::None => Err(Error::Read {
                file: self.name.clone(),
                source,
            }),
            Err(source) => Err(Error::Damaged {
                file: self.name.clone(),
                packing: self.packing.word(),
                stored: self.stored.load(Ordering::Relaxed),
                unpacked: self.given,
                source,
            }),
        }
    }

    /// Goes on at a place further on, 0-based, where the pieces before it end; they are not
    /// read. Of what is packed nothing can be passed over.
    ///
    /// # Errors
    /// The file cannot be read there.
    pub fn jump(&mut self, source: &SourceFile, pieces: &WholePieces) -> Result<(), Error> {
        let reader = source.open_at(pieces.bytes).map_err(|error| Error::Read {
            file: self.name.clone(),
            source: error,
        })?;
        self.first.clear();
        self.given = pieces.bytes;
        self.inner = match &mut self.hash {
            None => reader,
            Some(hash) => {
                *hash = RunningHash::go_on(pieces);
                Box::new(hash.through(reader))
            }
        };
        Ok(())
    }

    /// How many bytes of the file as stored were taken since the last call.
    pub fn taken(&mut self) -> u64 {
        let all = match self.packing {
            Compression::None => self.given,
            _ => self.stored.load(Ordering::Relaxed),
        };
        let new = all - self.told;
        self.told = all;
        new
    }

    /// What was read of the file so far, as stored; none unless it is hashed.
    pub fn content(&self) -> Option<Content> {
        self.hash.as_ref().map(RunningHash::content)
    }

    /// How the file is packed.
    pub fn packing(&self) -> Compression {
        self.packing
    }
}
