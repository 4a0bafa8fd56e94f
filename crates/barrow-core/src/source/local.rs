//! Files of this machine.

use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use super::content::{Fingerprint, fingerprint};
use super::names::is_address;
use super::place::Source;
use crate::escape::{escape_for_display, visible_path};

/// A file of this machine.
#[derive(Debug)]
pub struct LocalFile {
    path: PathBuf,
    /// The address that it is a copy of, if it is one.
    copy_of: Option<String>,
}

impl LocalFile {
    /// The file at a path.
    pub fn new(path: PathBuf) -> LocalFile {
        LocalFile {
            path,
            copy_of: None,
        }
    }

    /// A copy of what is at an address, by which people and the ledger know it.
    pub fn copy_of(address: String, path: PathBuf) -> LocalFile {
        LocalFile {
            path,
            copy_of: Some(address),
        }
    }
}

impl Source for LocalFile {
    fn name(&self) -> String {
        match &self.copy_of {
            Some(address) => escape_for_display(address.as_bytes()),
            None => visible_path(&self.path),
        }
    }

    fn file_name(&self) -> PathBuf {
        let name = self.path.file_name();
        name.map_or_else(|| self.path.clone(), PathBuf::from)
    }

    fn identity(&self) -> PathBuf {
        match &self.copy_of {
            Some(address) => address.into(),
            None => std::path::absolute(&self.path).unwrap_or_else(|_| self.path.clone()),
        }
    }

    fn path(&self) -> Option<&Path> {
        Some(&self.path)
    }

    fn exists(&self) -> bool {
        self.path.exists()
    }

    fn size(&self) -> Option<u64> {
        let found = self.path.metadata().ok()?;
        found.is_file().then_some(found.len())
    }

    fn modified(&self) -> Option<SystemTime> {
        self.path.metadata().ok()?.modified().ok()
    }

    /// A pipe that has a name can be read only once.
    fn is_repeatable(&self) -> bool {
        let kind = self.path.metadata().map(|found| found.file_type());
        kind.map_or(true, |kind| kind.is_file() || kind.is_dir())
    }

    fn open(&self) -> io::Result<Box<dyn Read + Send>> {
        Ok(Box::new(File::open(&self.path)?))
    }

    fn open_at(&self, from: u64) -> io::Result<Box<dyn Read + Send>> {
        let mut file = File::open(&self.path)?;
        file.seek(SeekFrom::Start(from))?;
        Ok(Box::new(file))
    }

    fn fingerprint(&self) -> io::Result<Option<Fingerprint>> {
        // A pipe that has a name can be read only once.
        match self.path.is_file() {
            true => fingerprint(&self.path).map(Some),
            false => Ok(None),
        }
    }

    fn delete(&self) -> io::Result<()> {
        fs::remove_file(&self.path)
    }

    fn move_to(&self, folder: &str, base: &Path) -> io::Result<String> {
        if is_address(folder) {
            return Err(io::Error::other(
                "a file of this machine moves to a folder of it",
            ));
        }
        move_to(&self.path, &base.join(folder)).map(|to| visible_path(&to))
    }
}

/// Moves a file to a folder. A file of that name that is there stays, and the moved one
/// is numbered.
fn move_to(path: &Path, folder: &Path) -> io::Result<PathBuf> {
    fs::create_dir_all(folder)?;
    let stem = path.file_stem().unwrap_or_default().to_string_lossy();
    let ending = path
        .extension()
        .map_or(String::new(), |e| format!(".{}", e.to_string_lossy()));
    let own = path.file_name().map(PathBuf::from).unwrap_or_default();
    let numbered = (2..).map(|n| PathBuf::from(format!("{stem}-{n}{ending}")));
    for name in std::iter::once(own).chain(numbered) {
        let to = folder.join(name);
        // Made first, so that nothing that is there is ever written over.
        match File::options().write(true).create_new(true).open(&to) {
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => continue,
            made => made?,
        };
        let moved = fs::rename(path, &to).or_else(|e| match e.kind() {
            io::ErrorKind::CrossesDevices => copy_over(path, &to),
            _ => Err(e),
        });
        if let Err(error) = moved {
            let _ = fs::remove_file(&to);
            return Err(error);
        }
        return Ok(to);
    }
    Err(io::Error::other("no name is free"))
}

/// To another disk: the copy is whole before the file goes.
fn copy_over(path: &Path, to: &Path) -> io::Result<()> {
    fs::copy(path, to)?;
    File::open(to)?.sync_all()?;
    fs::remove_file(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moved_file_never_takes_anothers_place() {
        let folder = tempfile::tempdir().unwrap();
        let done = folder.path().join("done");
        for text in ["first", "second", "third"] {
            let path = folder.path().join("w.csv");
            fs::write(&path, text).unwrap();
            LocalFile::new(path.clone())
                .move_to("done", folder.path())
                .unwrap();
            assert!(!path.exists());
        }
        for (name, text) in [
            ("w.csv", "first"),
            ("w-2.csv", "second"),
            ("w-3.csv", "third"),
        ] {
            assert_eq!(fs::read_to_string(done.join(name)).unwrap(), text);
        }
    }

    #[test]
    fn a_name_of_two_ways_is_one_identity() {
        let here = LocalFile::new("w.csv".into());
        let whole = LocalFile::new(std::env::current_dir().unwrap().join("w.csv"));
        assert_eq!(here.identity(), whole.identity());
        assert_eq!(here.name(), "w.csv");
    }
}
