//! What becomes of a file once its rows are committed. A failure here never undoes a load.

use std::fs;
use std::path::{Path, PathBuf};

use barrow_core::source::Outline;
use barrow_core::source::content::outline;
use barrow_core::visible::visible;
use barrow_core::words::{Afterwards, Disposal};

/// A file whose rows are in the table.
pub struct Done {
    /// Where it is.
    pub path: PathBuf,
    /// What it was when it was read.
    pub outline: Option<Outline>,
    /// Whether some of its records were rejected.
    pub has_rejects: bool,
}

/// What was done with a file.
#[derive(Debug, PartialEq, Eq)]
pub struct Disposed {
    /// The file.
    pub file: String,
    /// In plain words.
    pub words: String,
    /// Whether it could not be done.
    pub failed: bool,
}

/// Does with each file what the spec says. `base` is the spec's folder.
pub fn dispose(afterwards: &Afterwards, base: &Path, files: &[Done]) -> Vec<Disposed> {
    if afterwards.what == Disposal::Keep {
        return Vec::new();
    }
    files
        .iter()
        .map(|file| {
            let (words, failed) = match one(afterwards, base, file) {
                Ok(words) => (words, false),
                Err(words) => (words, true),
            };
            Disposed {
                file: shown(&file.path),
                words,
                failed,
            }
        })
        .collect()
}

fn one(afterwards: &Afterwards, base: &Path, file: &Done) -> Result<String, String> {
    if file.has_rejects && !afterwards.even_with_rejects {
        return Ok("left where it is, for some of its records were rejected".into());
    }
    // What was written to it since is in no table.
    let now = outline(&file.path).map_err(|e| format!("left where it is: {e}"))?;
    if file.outline.as_ref().is_some_and(|then| *then != now) {
        return Err("left where it is: it has changed since it was read".into());
    }
    match &afterwards.what {
        Disposal::Keep => Ok(String::new()),
        Disposal::Delete => fs::remove_file(&file.path)
            .map(|()| "deleted".to_string())
            .map_err(|e| format!("could not be deleted: {e}")),
        Disposal::MoveTo(folder) => {
            let folder = base.join(folder);
            move_to(&file.path, &folder)
                .map(|to| format!("moved to {}", shown(&to)))
                .map_err(|e| format!("could not be moved to {}: {e}", shown(&folder)))
        }
    }
}

/// Moves a file to a folder. A file of that name that is there stays, and the moved one
/// is numbered.
fn move_to(path: &Path, folder: &Path) -> std::io::Result<PathBuf> {
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
        match fs::File::options().write(true).create_new(true).open(&to) {
            Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => continue,
            made => made?,
        };
        let moved = fs::rename(path, &to).or_else(|e| match e.kind() {
            std::io::ErrorKind::CrossesDevices => copy_over(path, &to),
            _ => Err(e),
        });
        if let Err(error) = moved {
            let _ = fs::remove_file(&to);
            return Err(error);
        }
        return Ok(to);
    }
    Err(std::io::Error::other("no name is free"))
}

/// To another disk: the copy is whole before the file goes.
fn copy_over(path: &Path, to: &Path) -> std::io::Result<()> {
    fs::copy(path, to)?;
    fs::File::open(to)?.sync_all()?;
    fs::remove_file(path)
}

fn shown(path: &Path) -> String {
    visible(path.as_os_str().as_encoded_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moved_file_never_takes_anothers_place() {
        let folder = tempfile::tempdir().unwrap();
        let base = folder.path();
        let afterwards = Afterwards {
            what: Disposal::MoveTo("done".into()),
            even_with_rejects: false,
        };
        for text in ["first", "second", "third"] {
            let path = base.join("w.csv");
            fs::write(&path, text).unwrap();
            let done = Done {
                outline: Some(outline(&path).unwrap()),
                path,
                has_rejects: false,
            };
            let disposed = dispose(&afterwards, base, &[done]);
            assert!(!disposed[0].failed, "{disposed:?}");
        }
        for (name, text) in [
            ("w.csv", "first"),
            ("w-2.csv", "second"),
            ("w-3.csv", "third"),
        ] {
            assert_eq!(
                fs::read_to_string(base.join("done").join(name)).unwrap(),
                text
            );
        }
    }

    #[test]
    fn what_was_written_to_since_or_has_rejects_stays() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("w.csv");
        fs::write(&path, "first").unwrap();
        let then = Some(outline(&path).unwrap());
        let delete = Afterwards {
            what: Disposal::Delete,
            even_with_rejects: false,
        };
        let done = |has_rejects| Done {
            path: path.clone(),
            outline: then.clone(),
            has_rejects,
        };
        assert!(!dispose(&delete, folder.path(), &[done(true)])[0].failed);
        fs::write(&path, "second").unwrap();
        assert!(dispose(&delete, folder.path(), &[done(false)])[0].failed);
        assert!(path.exists());
        fs::write(&path, "first").unwrap();
        assert!(!dispose(&delete, folder.path(), &[done(false)])[0].failed);
        assert!(!path.exists());
    }
}
