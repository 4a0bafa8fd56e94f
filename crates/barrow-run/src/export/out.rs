//! Where records are written to, as it is asked for.

use std::path::{Path, PathBuf};

use barrow_core::plan::Plan;
use barrow_core::source::Compression;

use super::files::{Destination, Files, Made};
use super::may_write::may_write;
use super::output::Parting;
use super::remote::Remote;
use crate::atomic_file;
use crate::error::Error;
use crate::spec_file::Spec;

/// Where records are written to.
#[derive(Debug, Clone)]
pub struct Out {
    /// The files.
    pub destination: Destination,
    /// Whether a file that is there is written over.
    pub overwrites: bool,
    /// How the records are parted into files.
    pub parting: Parting,
    /// The file that gets the files' names, as `@LIST` reads them.
    pub list: Option<PathBuf>,
}

impl Out {
    /// The files that are to be written by a plan.
    pub(crate) fn files(&self, plan: &Plan, remote: &Remote) -> Result<Files, Error> {
        if let Some(list) = &self.list {
            if self.destination == Destination::Stdout {
                return Err(Error::request(
                    "standard output has no name that a list could have",
                    "name the file with -o, or leave --list out",
                ));
            }
            remote.may_write(list, self.overwrites)?;
        }
        let packing = match (plan.source.packing, &self.destination) {
            (Compression::Auto, Destination::Path(path)) => packing_of(path),
            (Compression::Auto, Destination::Stdout) => Compression::None,
            (said, _) => said,
        };
        let parted = self.parting.is_parted();
        let destination = self.destination.clone();
        Files::new(
            destination,
            packing,
            parted,
            self.overwrites,
            remote.clone(),
        )
    }

    /// The stores that it needs, with the settings of a spec.
    pub(crate) fn remote(&self, spec: Option<&Spec>) -> Result<Remote, Error> {
        let path = match &self.destination {
            Destination::Path(path) => Some(path),
            Destination::Stdout => None,
        };
        let needs = path
            .into_iter()
            .chain(&self.list)
            .any(|path| Remote::has(path));
        match spec.filter(|_| needs) {
            Some(spec) => Ok(Remote::new(spec.stores()?)),
            None => Ok(Remote::default()),
        }
    }

    /// Writes the names of the files, as `@LIST` reads them: from the list's own folder.
    pub(crate) fn write_list(&self, made: &[Made], remote: &Remote) -> Result<(), Error> {
        let Some(list) = &self.list else {
            return Ok(());
        };
        let folder = list.parent().unwrap_or(Path::new(""));
        let folder = std::path::absolute(folder).unwrap_or_default();
        let mut text = String::new();
        for path in made.iter().filter_map(|made| made.path.as_ref()) {
            let path = full(path);
            let near = path.strip_prefix(&folder).unwrap_or(&path);
            text += &near.to_string_lossy();
            text.push('\n');
        }
        if Remote::has(list) {
            remote.may_write(list, self.overwrites)?;
            let written = remote.write(list, text.as_bytes());
            return written.map_err(|e| Error::file(list, &e));
        }
        write_out(list, &text, self.overwrites)
    }
}

/// A file's path from the root; an address as it is.
pub(super) fn full(path: &Path) -> PathBuf {
    match Remote::has(path) {
        true => path.to_path_buf(),
        false => std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf()),
    }
}

/// A spec that goes by the content when it reads goes by the name when it writes.
fn packing_of(path: &Path) -> Compression {
    let ending = path.extension().and_then(|e| e.to_str()).unwrap_or("");
    match ending.to_ascii_lowercase().as_str() {
        "gz" => Compression::Gzip,
        "zst" => Compression::Zstd,
        "bz2" => Compression::Bzip2,
        "xz" => Compression::Xz,
        _ => Compression::None,
    }
}

/// Writes a file that is made at once; one that was made meanwhile is not written over.
pub(super) fn write_out(path: &Path, text: &str, overwrites: bool) -> Result<(), Error> {
    may_write(path, overwrites)?;
    let written = atomic_file::write(path, text.as_bytes(), overwrites);
    written.map_err(|e| Error::file(path, &e))
}
