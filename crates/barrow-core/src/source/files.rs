//! From paths, globs, lists and `-` to the files themselves, in a fixed order.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use super::archive::{is_archive, members, split_members};
use super::file::SourceFile;
pub use super::names::{is_address, natural, safe_name};
use crate::error::Error;
use crate::escape::{visible_address, visible_path};
use crate::nearest::nearest;

/// A path as somebody gave it: an address with a slip in it is taken for one.
fn shown(path: &Path) -> String {
    match path.to_str() {
        Some(given) => visible_address(given),
        None => visible_path(path),
    }
}

/// Finds the files that are not on this machine, by their addresses.
pub trait Elsewhere {
    /// The files that an address names: one, or all that its glob or prefix means, in
    /// natural order.
    ///
    /// # Errors
    /// There is none, or the place does not answer.
    fn find(&self, address: &str) -> Result<Vec<SourceFile>, Error>;
}

/// Nothing is elsewhere: for programs that read the files of this machine alone.
pub struct Nowhere;

impl Elsewhere for Nowhere {
    fn find(&self, address: &str) -> Result<Vec<SourceFile>, Error> {
        Err(Error::NoFile(format!(
            "{} is elsewhere, and only files of this machine are read",
            shown(Path::new(address))
        )))
    }
}

/// Finds every file that `words` name: paths, globs (in natural order), addresses, members
/// of archives (`week.zip/*.csv`), `-` for standard input, and `@LIST` for a text file that
/// names one file a line. An archive is all of its files. Relative paths are from `base`,
/// those of a list from the list's folder. A file that is named twice is taken once.
///
/// # Errors
/// A path without a file, a glob that matches none, a list that cannot be read.
pub fn find(
    words: &[String],
    base: &Path,
    elsewhere: &dyn Elsewhere,
) -> Result<Vec<SourceFile>, Error> {
    let mut files = Vec::new();
    for word in words {
        add(word, base, elsewhere, &mut files)?;
    }
    let mut seen = HashSet::new();
    files.retain(|file| {
        let real = file.path().and_then(|path| path.canonicalize().ok());
        seen.insert(real.unwrap_or_else(|| file.identity()))
    });
    Ok(files)
}

fn add(
    word: &str,
    base: &Path,
    elsewhere: &dyn Elsewhere,
    files: &mut Vec<SourceFile>,
) -> Result<(), Error> {
    if word == "-" {
        files.push(SourceFile::standard_input());
        return Ok(());
    }
    if let Some(list) = word.strip_prefix('@') {
        return add_list(&base.join(list), elsewhere, files);
    }
    let found = match split_members(word).filter(|_| is_address(word) || !base.join(word).exists())
    {
        Some((archive, wanted)) => {
            let mut found = Vec::new();
            for archive in named(archive, base, elsewhere)? {
                found.extend(members(&archive, Some(wanted))?);
            }
            found
        }
        None => named(word, base, elsewhere)?,
    };
    for file in found {
        match is_archive(&file.file_name().to_string_lossy()) {
            true => files.extend(members(&file, None)?),
            false => files.push(file),
        }
    }
    Ok(())
}

/// The files that a path, a glob or an address names, archives as they are.
fn named(word: &str, base: &Path, elsewhere: &dyn Elsewhere) -> Result<Vec<SourceFile>, Error> {
    if is_address(word) {
        return elsewhere.find(word);
    }
    // A name that has a glob's characters and is there is meant as it stands.
    let path = base.join(word);
    if !word.contains(['*', '?', '[']) || path.is_file() {
        return match path.metadata() {
            Ok(found) if found.is_dir() => Err(Error::NoFile(format!(
                "{} is a folder; name the files in it, such as {}",
                shown(&path),
                shown(&path.join("*.csv"))
            ))),
            Ok(_) => Ok(vec![SourceFile::local(path)]),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                Err(Error::NoFile(match near(&path) {
                    Some(near) => format!("there is no file {}; is it {near}?", shown(&path)),
                    None => format!("there is no file {}", shown(&path)),
                }))
            }
            Err(source) => Err(Error::Read {
                file: shown(&path),
                source,
            }),
        };
    }
    let mut found = matches(&path, base)?;
    if found.is_empty() {
        return Err(Error::NoFile(format!("no file matches {}", shown(&path))));
    }
    found.sort_by(|a, b| natural(&a.to_string_lossy(), &b.to_string_lossy()));
    Ok(found.into_iter().map(SourceFile::local).collect())
}

/// The file whose name is most like one that is not there, in the same folder.
fn near(path: &Path) -> Option<String> {
    let folder = path
        .parent()
        .filter(|folder| !folder.as_os_str().is_empty());
    let entries = std::fs::read_dir(folder.unwrap_or(Path::new("."))).ok()?;
    let names: Vec<String> = entries
        .flatten()
        .filter(|entry| entry.path().is_file())
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .collect();
    let wanted = path.file_name()?.to_string_lossy().into_owned();
    let near = nearest(&wanted, names.iter().map(String::as_str))?;
    Some(shown(&path.with_file_name(near)))
}

fn matches(path: &Path, base: &Path) -> Result<Vec<PathBuf>, Error> {
    // The base is a folder that is there, whatever characters its name has.
    let pattern = match path.strip_prefix(base) {
        Ok(relative) if !base.as_os_str().is_empty() => {
            Path::new(&glob::Pattern::escape(&base.to_string_lossy())).join(relative)
        }
        _ => path.to_path_buf(),
    };
    let pattern = pattern.to_string_lossy();
    // As in a shell: such names are those of systems and editors, and no data.
    let options = glob::MatchOptions {
        require_literal_leading_dot: true,
        ..glob::MatchOptions::default()
    };
    let found = glob::glob_with(&pattern, options)
        .map_err(|e| Error::NoFile(format!("{} is not a pattern: {e}", shown(path))))?;
    found
        .filter(|path| path.as_ref().map_or(true, |p| p.is_file()))
        .map(|path| {
            path.map_err(|e| Error::Read {
                file: shown(e.path()),
                source: e.into(),
            })
        })
        .collect()
}

fn add_list(
    list: &Path,
    elsewhere: &dyn Elsewhere,
    files: &mut Vec<SourceFile>,
) -> Result<(), Error> {
    let text = std::fs::read_to_string(list).map_err(|source| Error::Read {
        file: shown(list),
        source,
    })?;
    let base = list.parent().unwrap_or(Path::new(""));
    for (number, line) in text.lines().enumerate() {
        let line = line.trim();
        if line.is_empty() {
            continue;
        }
        if line.starts_with('@') {
            return Err(Error::NoFile(format!(
                "{}, line {}: a list cannot name another list",
                shown(list),
                number + 1
            )));
        }
        add(line, base, elsewhere, files)
            .map_err(|e| Error::NoFile(format!("{}, line {}: {e}", shown(list), number + 1)))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn globs_lists_and_names() {
        let folder = tempfile::tempdir().unwrap();
        let base = folder.path();
        for name in ["w10.csv", "w2.csv", "odd[1].csv", ".hidden.csv"] {
            std::fs::write(base.join(name), "x").unwrap();
        }
        std::fs::write(base.join("list"), "w10.csv\n\nw2.csv\n").unwrap();
        let names = |words: &[&str]| -> Vec<String> {
            let words: Vec<String> = words.iter().map(|w| (*w).to_string()).collect();
            let found = find(&words, base, &Nowhere).unwrap();
            found
                .iter()
                .map(|f| f.file_name().display().to_string())
                .collect()
        };
        assert_eq!(names(&["w*.csv"]), ["w2.csv", "w10.csv"]);
        assert_eq!(names(&["@list"]), ["w10.csv", "w2.csv"]);
        assert_eq!(
            names(&["odd[1].csv", "w2.csv", "w*.csv"]),
            ["odd[1].csv", "w2.csv", "w10.csv"]
        );
        // A name that begins with a dot is meant by itself alone.
        assert_eq!(names(&["*.csv"]), ["odd[1].csv", "w2.csv", "w10.csv"]);
        assert_eq!(names(&[".hidden.csv"]), [".hidden.csv"]);
        assert_eq!(names(&["-"]), ["standard-input"]);
        for missing in ["none.csv", "none*.csv", "@none", "."] {
            let found = find(&[missing.to_string()], base, &Nowhere);
            assert!(found.is_err(), "{missing}");
        }
    }
}
