//! Where rejects are kept: a folder of this machine, or an address. What is kept at an address
//! is written to a folder of this machine first, and sent before the rows are committed.

use std::collections::HashSet;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use barrow_core::source::files::is_address;
use barrow_core::source::{Elsewhere, SourceFile};
use barrow_stores::Stores;
use tempfile::TempDir;

use crate::error::Error;

/// Where rejects are kept.
#[derive(Clone)]
pub(crate) struct RejectsPlace {
    /// The folder that they are written to.
    pub folder: PathBuf,
    /// The address that the folder stands for, if it does.
    pub mirror: Option<Arc<Mirror>>,
}

impl RejectsPlace {
    /// A folder, or an address with the stores that it is asked by.
    ///
    /// # Errors
    /// The settings of the stores are wrong; there is no room for temporary files.
    pub fn new(
        place: PathBuf,
        stores: impl FnOnce() -> Result<Arc<Stores>, Error>,
    ) -> Result<RejectsPlace, Error> {
        let Some(address) = place.to_str().filter(|place| is_address(place)) else {
            return Ok(RejectsPlace {
                folder: place,
                mirror: None,
            });
        };
        let local = tempfile::tempdir().map_err(|e| Error::file(&place, &e))?;
        Ok(RejectsPlace {
            folder: local.path().to_path_buf(),
            mirror: Some(Arc::new(Mirror {
                stores: stores()?,
                address: address.trim_end_matches('/').to_string(),
                local,
            })),
        })
    }

    /// A file of rejects as a source.
    pub fn source(&self, path: &Path) -> SourceFile {
        match &self.mirror {
            Some(mirror) => SourceFile::copy_of(mirror.address_of(path), path),
            None => SourceFile::local(path),
        }
    }

    /// A folder as people know it.
    pub fn shown(&self, folder: &Path) -> PathBuf {
        match &self.mirror {
            Some(mirror) => mirror.address_of(folder).into(),
            None => folder.to_path_buf(),
        }
    }
}

/// A folder of this machine that stands for an address.
pub(crate) struct Mirror {
    stores: Arc<Stores>,
    /// Without a slash at its end.
    address: String,
    local: TempDir,
}

impl Mirror {
    /// The address of a path in the folder.
    pub fn address_of(&self, path: &Path) -> String {
        match path.strip_prefix(self.local.path()) {
            Ok(inner) if !inner.as_os_str().is_empty() => {
                format!("{}/{}", self.address, inner.to_string_lossy())
            }
            _ => self.address.clone(),
        }
    }

    /// The objects whose addresses begin so.
    fn under(&self, start: &str) -> Vec<SourceFile> {
        // One that has none says so as if it were not there.
        self.stores.find(start).unwrap_or_default()
    }

    /// Brings everything whose name begins so: `3f2a`, or nothing for all.
    ///
    /// # Errors
    /// An object cannot be read, or the folder cannot be written.
    pub fn pull(&self, start: &str) -> Result<(), Error> {
        let all = self.under(&format!("{}/", self.address));
        let wanted = format!("{}/{start}", self.address);
        for object in all {
            let address = object.identity().to_string_lossy().into_owned();
            let Some(inner) = address.strip_prefix(&format!("{}/", self.address)) else {
                continue;
            };
            let is_within = Path::new(inner)
                .components()
                .all(|part| matches!(part, std::path::Component::Normal(_)));
            if !address.starts_with(&wanted) || !is_within {
                continue;
            }
            let path = self.local.path().join(inner);
            let brought = bring(&object, &path);
            brought.map_err(|e| Error::failed(format!("{}: {e}", object.name())))?;
        }
        Ok(())
    }

    /// Sends what is in a folder, and deletes there what the folder no longer has.
    ///
    /// # Errors
    /// The store refuses.
    pub fn push(&self, folder: &Path) -> Result<(), Error> {
        let failed = |e: io::Error| {
            let address = self.address_of(folder);
            Error::failed(format!("{address}: {e}"))
        };
        let mut sent = HashSet::new();
        for path in files_in(folder).map_err(failed)? {
            let address = self.address_of(&path);
            self.send(&path, &address).map_err(failed)?;
            sent.insert(PathBuf::from(address));
        }
        for object in self.under(&format!("{}/", self.address_of(folder))) {
            if !sent.contains(&object.identity()) {
                object.delete().map_err(failed)?;
            }
        }
        Ok(())
    }

    fn send(&self, path: &Path, address: &str) -> io::Result<()> {
        let mut upload = self.stores.upload(address)?;
        io::copy(&mut fs::File::open(path)?, &mut upload)?;
        upload.flush()?;
        upload.finish()
    }
}

fn bring(object: &SourceFile, path: &Path) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    io::copy(&mut object.open()?, &mut fs::File::create(path)?)?;
    Ok(())
}

/// Every file in a folder and its folders; none where it is not there.
fn files_in(folder: &Path) -> io::Result<Vec<PathBuf>> {
    let mut found = Vec::new();
    let mut waiting = vec![folder.to_path_buf()];
    while let Some(next) = waiting.pop() {
        let entries = match fs::read_dir(&next) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
            entries => entries?,
        };
        for entry in entries {
            let path = entry?.path();
            match path.is_dir() {
                true => waiting.push(path),
                false => found.push(path),
            }
        }
    }
    Ok(found)
}
