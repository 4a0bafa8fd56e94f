//! A file, whatever place it is in.

use std::hash::{Hash, Hasher};
use std::ops::Deref;
use std::path::PathBuf;
use std::sync::Arc;

use super::local::LocalFile;
use super::place::Source;
use super::standard_input::StandardInput;

/// A file in whatever place. Two are equal where their identities are.
#[derive(Debug, Clone)]
pub struct SourceFile(Arc<dyn Source>);

impl SourceFile {
    /// A file in a place of its own kind.
    pub fn new(source: impl Source + 'static) -> SourceFile {
        SourceFile(Arc::new(source))
    }

    /// A file of this machine.
    ///
    /// ```
    /// use barrow_core::source::SourceFile;
    /// let file = SourceFile::local("market/growers.csv");
    /// assert_eq!(file.file_name().to_str(), Some("growers.csv"));
    /// ```
    pub fn local(path: impl Into<PathBuf>) -> SourceFile {
        SourceFile::new(LocalFile::new(path.into()))
    }

    /// A copy of what is at an address, by which people and the ledger know it.
    pub fn copy_of(address: String, path: impl Into<PathBuf>) -> SourceFile {
        SourceFile::new(LocalFile::copy_of(address, path.into()))
    }

    /// Standard input.
    pub fn standard_input() -> SourceFile {
        SourceFile::new(StandardInput)
    }
}

impl Deref for SourceFile {
    type Target = dyn Source;

    fn deref(&self) -> &Self::Target {
        &*self.0
    }
}

impl PartialEq for SourceFile {
    fn eq(&self, other: &SourceFile) -> bool {
        self.identity() == other.identity()
    }
}

impl Eq for SourceFile {}

impl Hash for SourceFile {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.identity().hash(state);
    }
}
