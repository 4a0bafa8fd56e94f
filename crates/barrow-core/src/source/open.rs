//! Opens a source, and counts what is read of it.

use std::fs::File;
use std::io::{self, Read};

use super::files::SourceFile;
use crate::error::Error;

/// Bytes of a file, with a count of those taken from it as stored.
pub struct Input {
    inner: Box<dyn Read + Send>,
    taken: u64,
}

impl Input {
    /// Opens a source.
    ///
    /// # Errors
    /// The file cannot be opened.
    pub fn open(source: &SourceFile) -> Result<Input, Error> {
        let inner: Box<dyn Read + Send> = match source {
            SourceFile::Stdin => Box::new(io::stdin()),
            SourceFile::Path(path) => Box::new(File::open(path).map_err(|error| Error::Read {
                file: source.name(),
                source: error,
            })?),
        };
        Ok(Input { inner, taken: 0 })
    }

    /// Reads from any reader.
    pub fn from_reader(reader: impl Read + Send + 'static) -> Input {
        Input {
            inner: Box::new(reader),
            taken: 0,
        }
    }

    /// Adds up to `most` bytes to `out`. Fewer mean that there are no more.
    ///
    /// # Errors
    /// What the system says.
    pub fn fill(&mut self, most: usize, out: &mut Vec<u8>) -> io::Result<usize> {
        let read = self.inner.by_ref().take(most as u64).read_to_end(out)?;
        self.taken += read as u64;
        Ok(read)
    }

    /// How many bytes of the file as stored were taken since the last call.
    pub fn taken(&mut self) -> u64 {
        std::mem::take(&mut self.taken)
    }
}
