//! Names of files as a spec in another folder has them: its paths are from its own folder.

use std::path::{Component, Path, PathBuf};

use barrow_core::escape::visible_path;
use barrow_core::source::files::is_address;
use barrow_stores::for_a_spec;

use crate::error::Error;

/// The words that name files, from `folder`.
pub(super) fn files(words: &[String], folder: &Path) -> Result<Vec<String>, Error> {
    let each = words.iter().map(|word| match word.strip_prefix('@') {
        Some(path) => Ok(format!("@{}", relative(path, folder)?)),
        None => relative(word, folder),
    });
    each.collect()
}

/// A database's address: where it is a file, from `folder`.
pub(super) fn database(url: &str, folder: &Path) -> Result<String, Error> {
    match url.strip_prefix("sqlite:") {
        Some(path) if !path.starts_with("//") && !path.contains("${") => {
            Ok(format!("sqlite:{}", relative(path, folder)?))
        }
        _ => Ok(url.to_string()),
    }
}

/// A table's name as that of a file.
pub(super) fn file_name(table: &str) -> String {
    let fit = |c: char| {
        if c.is_alphanumeric() || matches!(c, '_' | '-' | '.') {
            c
        } else {
            '_'
        }
    };
    table.chars().map(fit).collect()
}

/// A path from the current folder, as one from `folder`. Whole paths stay.
fn relative(path: &str, folder: &Path) -> Result<String, Error> {
    if is_address(path) {
        return Ok(for_a_spec(path));
    }
    let is_here = folder.as_os_str().is_empty() || folder == Path::new(".");
    if is_here || Path::new(path).is_absolute() {
        return Ok(path.to_string());
    }
    let whole = |path: &Path| {
        std::path::absolute(path)
            .map(|path| plain(&path))
            .map_err(|e| Error::failed(format!("{}: {e}", visible_path(path))))
    };
    let (to, from) = (whole(Path::new(path))?, whole(folder)?);
    let common = to
        .components()
        .zip(from.components())
        .take_while(|(a, b)| a == b)
        .count();
    let up = from.components().skip(common).map(|_| Component::ParentDir);
    let down = to.components().skip(common);
    let found: PathBuf = up.chain(down).collect();
    Ok(found.to_string_lossy().into_owned())
}

/// A whole path without steps back.
fn plain(path: &Path) -> PathBuf {
    let mut out = PathBuf::new();
    for component in path.components() {
        match component {
            Component::ParentDir => {
                out.pop();
            }
            Component::CurDir => {}
            other => out.push(other),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_from_the_specs_folder() {
        let from = |path: &str, folder: &str| relative(path, Path::new(folder)).unwrap();
        assert_eq!(from("a.csv", ""), "a.csv");
        assert_eq!(from("a.csv", "."), "a.csv");
        assert_eq!(from("a.csv", "specs"), "../a.csv");
        assert_eq!(from("data/a*.csv", "specs/new"), "../../data/a*.csv");
        assert_eq!(from("specs/a.csv", "specs"), "a.csv");
        assert_eq!(from("./x/../a.csv", "specs"), "../a.csv");
        assert_eq!(from("/whole/a.csv", "specs"), "/whole/a.csv");
        let database = database("sqlite:m.db", Path::new("specs")).unwrap();
        assert_eq!(database, "sqlite:../m.db");
        let other = crate::draft::relative::database("postgres://h/d", Path::new("specs")).unwrap();
        assert_eq!(other, "postgres://h/d");
    }
}
