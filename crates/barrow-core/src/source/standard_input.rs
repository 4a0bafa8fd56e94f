//! Standard input as a source: it can be read once.

use std::io::{self, Read};
use std::path::{Path, PathBuf};

use super::content::Fingerprint;
use super::place::Source;

/// Standard input.
#[derive(Debug)]
pub struct StandardInput;

impl Source for StandardInput {
    fn name(&self) -> String {
        "standard input".into()
    }

    fn file_name(&self) -> PathBuf {
        PathBuf::from("standard-input")
    }

    fn identity(&self) -> PathBuf {
        PathBuf::from("-")
    }

    fn exists(&self) -> bool {
        true
    }

    fn size(&self) -> Option<u64> {
        None
    }

    fn is_repeatable(&self) -> bool {
        false
    }

    fn open(&self) -> io::Result<Box<dyn Read + Send>> {
        Ok(Box::new(io::stdin()))
    }

    fn fingerprint(&self) -> io::Result<Option<Fingerprint>> {
        Ok(None)
    }

    fn delete(&self) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }

    fn move_to(&self, _: &str, _: &Path) -> io::Result<String> {
        Err(io::ErrorKind::Unsupported.into())
    }
}
