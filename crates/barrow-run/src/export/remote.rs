//! Exports to object stores: every object is uploaded while it is written, and completed when
//! all of them are whole.

use std::io::{self, Seek, Write};
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use barrow_core::escape::visible_path;
use barrow_core::source::files::is_address;
use barrow_stores::{Stores, Upload};

use super::may_write::may_write;
use crate::error::Error;

/// The stores that an export may go to.
#[derive(Clone, Default)]
pub struct Remote(Arc<Stores>);

impl Remote {
    /// With the settings of a spec.
    pub fn new(stores: Arc<Stores>) -> Remote {
        Remote(stores)
    }

    /// Whether a name is an address of a store.
    pub fn has(path: &Path) -> bool {
        path.to_str().is_some_and(is_address)
    }

    /// What is there is written over only if that is said.
    ///
    /// # Errors
    /// It is there, is a folder, or the store does not answer.
    pub fn may_write(&self, path: &Path, overwrites: bool) -> Result<(), Error> {
        let Some(address) = path.to_str().filter(|path| is_address(path)) else {
            return may_write(path, overwrites);
        };
        let is_there = self.0.exists(address).map_err(|e| Error::file(path, &e))?;
        match is_there && !overwrites {
            false => Ok(()),
            true => Err(Error::request(
                format!("{} is there already", visible_path(path)),
                "name another object, or say --overwrite",
            )),
        }
    }

    /// Begins an object.
    ///
    /// # Errors
    /// The address is none that can be written to.
    pub fn begin(&self, path: &Path) -> io::Result<SharedUpload> {
        let address = path.to_str().ok_or(io::ErrorKind::InvalidInput)?;
        let upload = self.0.upload(address)?;
        Ok(SharedUpload(Arc::new(Mutex::new(Some(upload)))))
    }

    /// Sends a whole file, as an object that is still to be completed.
    ///
    /// # Errors
    /// The file cannot be read, or the store refuses.
    pub fn send(&self, path: &Path, mut file: &std::fs::File) -> io::Result<SharedUpload> {
        let mut upload = self.begin(path)?;
        file.rewind()?;
        io::copy(&mut file, &mut upload)?;
        upload.settle()?;
        Ok(upload)
    }

    /// Writes a small object at once.
    ///
    /// # Errors
    /// The store refuses.
    pub fn write(&self, path: &Path, bytes: &[u8]) -> io::Result<()> {
        let mut upload = self.begin(path)?;
        upload.write_all(bytes)?;
        upload.finish()
    }
}

/// An upload that is written to in one place and completed in another.
#[derive(Clone)]
pub struct SharedUpload(Arc<Mutex<Option<Upload>>>);

impl SharedUpload {
    fn upload(&self) -> MutexGuard<'_, Option<Upload>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sends what there is.
    ///
    /// # Errors
    /// The store refuses.
    pub fn settle(&self) -> io::Result<()> {
        self.upload().as_mut().map_or(Ok(()), Upload::settle)
    }

    /// Completes it.
    ///
    /// # Errors
    /// The store refuses; then there is no object.
    pub fn finish(self) -> io::Result<()> {
        self.upload().take().map_or(Ok(()), Upload::finish)
    }
}

impl Write for SharedUpload {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self.upload().as_mut() {
            Some(upload) => upload.write(bytes),
            None => Err(io::ErrorKind::BrokenPipe.into()),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
