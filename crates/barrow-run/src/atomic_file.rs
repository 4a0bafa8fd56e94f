//! Files that are written whole or not at all.

use std::io::{self, Write};
use std::path::Path;

use tempfile::Builder;

/// Puts bytes into a file's place at once: whoever looks sees the old file or the new one,
/// and never a part. One that is there is written over only with `overwrites`, and keeps its
/// permissions.
///
/// # Errors
/// The file is there and may not be written over, or its folder cannot be written.
pub fn write(path: &Path, bytes: &[u8], overwrites: bool) -> io::Result<()> {
    let folder = path
        .parent()
        .filter(|folder| !folder.as_os_str().is_empty());
    let mut builder = Builder::new();
    builder.prefix(".barrow-");
    as_any_new_file(&mut builder);
    let mut file = builder.tempfile_in(folder.unwrap_or(Path::new(".")))?;
    file.write_all(bytes)?;
    if let Ok(found) = path.metadata() {
        file.as_file().set_permissions(found.permissions())?;
    }
    file.as_file().sync_all()?;
    match overwrites {
        true => file.persist(path)?,
        false => file.persist_noclobber(path)?,
    };
    Ok(())
}

/// A temporary file is its owner's alone; this one is to be as any new file, as far as the
/// process's mask of permissions lets it.
#[cfg(unix)]
fn as_any_new_file(builder: &mut Builder<'_, '_>) {
    use std::os::unix::fs::PermissionsExt;
    builder.permissions(std::fs::Permissions::from_mode(0o666));
}

#[cfg(not(unix))]
fn as_any_new_file(_: &mut Builder<'_, '_>) {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_that_is_there_stays_unless_it_may_be_written_over() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("plums.spec.toml");
        write(&path, b"first", false).unwrap();
        assert!(write(&path, b"second", false).is_err());
        assert_eq!(std::fs::read(&path).unwrap(), b"first");
        write(&path, b"second", true).unwrap();
        assert_eq!(std::fs::read(&path).unwrap(), b"second");
        assert_eq!(folder.path().read_dir().unwrap().count(), 1);
    }
}
