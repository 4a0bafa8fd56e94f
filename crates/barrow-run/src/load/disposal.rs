//! What becomes of a file once its rows are committed. A failure here never undoes a load.

use std::path::Path;

use barrow_core::escape::escape_for_display;
use barrow_core::source::{Fingerprint, SourceFile};
use barrow_core::words::{Afterwards, Disposal};

use crate::report::Disposed;

/// A file whose rows are in the table.
pub struct Done {
    /// The file.
    pub source: SourceFile,
    /// What it was when it was read.
    pub fingerprint: Option<Fingerprint>,
    /// Whether some of its records were rejected.
    pub has_rejects: bool,
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
                file: file.source.name(),
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
    if let Some(then) = &file.fingerprint {
        let is_still = file.source.is_still(then);
        if !is_still.map_err(|e| format!("left where it is: {e}"))? {
            return Err("left where it is: it has changed since it was read".into());
        }
    }
    match &afterwards.what {
        Disposal::Keep => Ok(String::new()),
        Disposal::Delete => file
            .source
            .delete()
            .map(|()| "deleted".to_string())
            .map_err(|e| format!("could not be deleted: {e}")),
        Disposal::MoveTo(folder) => {
            let moved = file.source.move_to(folder, base);
            let folder = escape_for_display(folder.as_bytes());
            moved
                .map(|to| format!("moved to {to}"))
                .map_err(|e| format!("could not be moved to {folder}: {e}"))
        }
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn what_was_written_to_since_or_has_rejects_stays() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("w.csv");
        fs::write(&path, "first").unwrap();
        let then = SourceFile::local(&path).fingerprint().unwrap();
        let delete = Afterwards {
            what: Disposal::Delete,
            even_with_rejects: false,
        };
        let done = |has_rejects| Done {
            source: SourceFile::local(&path),
            fingerprint: then.clone(),
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
