//! What every member of an archive is, as a file.

use std::fmt;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::SystemTime;

use super::super::content::Fingerprint;
use super::super::file::SourceFile;
use super::super::names::safe_name;
use super::super::place::Source;
use crate::escape::escape_for_display;

/// How a member's bytes are read.
pub trait Extract: fmt::Debug + Send + Sync + 'static {
    /// Its bytes, as they were before they were put into the archive.
    ///
    /// # Errors
    /// The archive cannot be read, or the member is packed in a way that is not known.
    fn open(&self, archive: &SourceFile) -> io::Result<Box<dyn Read + Send>>;

    /// Its size and what tells its content from others.
    ///
    /// # Errors
    /// The archive cannot be read.
    fn fingerprint(&self, archive: &SourceFile) -> io::Result<Fingerprint>;
}

/// A file in an archive.
#[derive(Debug)]
pub struct Member<E> {
    archive: SourceFile,
    /// Its name in the archive, with its folders.
    name: String,
    size: u64,
    extract: E,
    fingerprint: OnceLock<Fingerprint>,
}

impl<E: Extract> Member<E> {
    /// A member of an archive.
    pub fn new(archive: &SourceFile, name: String, size: u64, extract: E) -> Member<E> {
        Member {
            archive: archive.clone(),
            name,
            size,
            extract,
            fingerprint: OnceLock::new(),
        }
    }
}

impl<E: Extract> Source for Member<E> {
    fn name(&self) -> String {
        let name = escape_for_display(self.name.as_bytes());
        format!("{}/{name}", self.archive.name())
    }

    fn file_name(&self) -> PathBuf {
        safe_name(&self.name)
    }

    fn identity(&self) -> PathBuf {
        let mut identity = self.archive.identity().into_os_string();
        identity.push("/");
        identity.push(&self.name);
        identity.into()
    }

    fn exists(&self) -> bool {
        self.archive.exists()
    }

    fn size(&self) -> Option<u64> {
        Some(self.size)
    }

    fn modified(&self) -> Option<SystemTime> {
        self.archive.modified()
    }

    fn version(&self) -> Option<String> {
        self.archive.version()
    }

    fn is_repeatable(&self) -> bool {
        true
    }

    fn open(&self) -> io::Result<Box<dyn Read + Send>> {
        self.extract.open(&self.archive)
    }

    fn fingerprint(&self) -> io::Result<Option<Fingerprint>> {
        if let Some(known) = self.fingerprint.get() {
            return Ok(Some(known.clone()));
        }
        let found = self.extract.fingerprint(&self.archive)?;
        Ok(Some(self.fingerprint.get_or_init(|| found).clone()))
    }

    fn delete(&self) -> io::Result<()> {
        Err(stays())
    }

    fn move_to(&self, _: &str, _: &Path) -> io::Result<String> {
        Err(stays())
    }
}

fn stays() -> io::Error {
    io::Error::other("it is in an archive, which stays as it is")
}
