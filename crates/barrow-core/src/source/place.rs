//! Where a file comes from: what every place for files can do.

use std::fmt;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use super::content::{Content, Fingerprint};

/// One file in one place. A new place for files is a new implementation, and its words in
/// [`super::files`].
pub trait Source: fmt::Debug + Send + Sync {
    /// The file as people named it, with control characters made visible.
    fn name(&self) -> String;

    /// The file's own name, without its folder: for a file of the same name elsewhere.
    fn file_name(&self) -> PathBuf;

    /// What tells it from every other file: an absolute path, or an address.
    fn identity(&self) -> PathBuf;

    /// Its path on this machine, where it has one.
    fn path(&self) -> Option<&Path> {
        None
    }

    /// Whether it is there.
    fn exists(&self) -> bool;

    /// How many bytes it has as stored, where that can be known without reading it.
    fn size(&self) -> Option<u64>;

    /// When it was last written, where its place says that.
    fn modified(&self) -> Option<SystemTime> {
        None
    }

    /// What changes whenever its content does, where its place has such a thing: then a file
    /// of the same identity, size and version is the same file, and need not be read.
    fn version(&self) -> Option<String> {
        None
    }

    /// Whether it can be opened again, from its start.
    fn is_repeatable(&self) -> bool;

    /// Opens it at its start.
    ///
    /// # Errors
    /// It is not there, or may not be read.
    fn open(&self) -> io::Result<Box<dyn Read + Send>>;

    /// Opens it at a byte, 0-based.
    ///
    /// # Errors
    /// As [`Source::open`].
    fn open_at(&self, from: u64) -> io::Result<Box<dyn Read + Send>> {
        let mut reader = self.open()?;
        io::copy(&mut reader.by_ref().take(from), &mut io::sink())?;
        Ok(reader)
    }

    /// Its size and a sample of it, as stored; none where it can be read only once.
    ///
    /// # Errors
    /// It cannot be read.
    fn fingerprint(&self) -> io::Result<Option<Fingerprint>>;

    /// The hash of all of it, as stored.
    ///
    /// # Errors
    /// It cannot be read.
    fn content(&self) -> io::Result<Content> {
        Content::of(self.open()?)
    }

    /// Whether it still is what it was when its fingerprint was taken.
    ///
    /// # Errors
    /// It cannot be read.
    fn is_still(&self, then: &Fingerprint) -> io::Result<bool> {
        Ok(self.fingerprint()?.as_ref() == Some(then))
    }

    /// Deletes it.
    ///
    /// # Errors
    /// It cannot be deleted, or there is nothing to delete.
    fn delete(&self) -> io::Result<()>;

    /// Moves it to a folder of its own place, which is made where it is missing, and returns
    /// its new name. `base` is the folder from which relative folders of this machine count.
    /// A file of that name that is there stays; the moved one is numbered.
    ///
    /// # Errors
    /// It cannot be moved; then it is where it was.
    fn move_to(&self, folder: &str, base: &Path) -> io::Result<String>;
}
