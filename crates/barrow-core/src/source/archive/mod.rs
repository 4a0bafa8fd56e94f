//! Archives: a zip or a tar is a folder of files, each of which is read where it lies.

mod member;
mod seek;
mod tar;
mod tar_stream;
mod zip;

use std::collections::HashSet;

use glob::Pattern;

use super::file::SourceFile;
use super::names::natural;
use crate::error::Error;
use crate::escape::escape_for_display;

/// The endings of names that are archives, in small letters.
const ENDINGS: [&str; 10] = [
    ".zip", ".tar", ".tgz", ".tar.gz", ".tbz2", ".tar.bz2", ".txz", ".tar.xz", ".tar.zst", ".tzst",
];

/// Whether a name is that of an archive.
///
/// ```
/// use barrow_core::source::archive::is_archive;
/// assert!(is_archive("week.zip") && is_archive("WEEK.TAR.GZ"));
/// assert!(!is_archive("week.csv.gz"));
/// ```
pub fn is_archive(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    ENDINGS.iter().any(|ending| name.ends_with(ending))
}

/// Splits the name of an archive's members from the archive's own: `a/week.zip/*.csv` is
/// `a/week.zip` and `*.csv`. None where no folder on the way is named as an archive.
pub fn split_members(name: &str) -> Option<(&str, &str)> {
    let mut at = 0;
    while let Some(slash) = name[at..].find('/') {
        let slash = at + slash;
        if is_archive(&name[..slash]) && slash + 1 < name.len() {
            return Some((&name[..slash], &name[slash + 1..]));
        }
        at = slash + 1;
    }
    None
}

/// A member as the archive's directory names it.
struct Entry {
    /// Its name with its folders.
    name: String,
    file: SourceFile,
    /// Why it is not read, where it is wanted.
    unread: Option<&'static str>,
}

impl Entry {
    /// A file of the archive.
    fn new(name: String, file: SourceFile) -> Entry {
        Entry {
            name,
            file,
            unread: None,
        }
    }

    /// What is in the archive and cannot be read as a file.
    fn unread(name: String, archive: &SourceFile, why: &'static str) -> Entry {
        Entry {
            name,
            file: archive.clone(),
            unread: Some(why),
        }
    }
}

/// The members of an archive that `wanted` names, a name or a glob; all of them where it
/// is none. In natural order. What a Mac adds beside the files (`__MACOSX/`, `.DS_Store`) is
/// taken only where it is named.
///
/// # Errors
/// It cannot be read, is no archive, or has no such member.
pub fn members(archive: &SourceFile, wanted: Option<&str>) -> Result<Vec<SourceFile>, Error> {
    let is_zip = archive
        .file_name()
        .to_string_lossy()
        .to_ascii_lowercase()
        .ends_with(".zip");
    let pattern = wanted.map(Pattern::new).transpose().map_err(|error| {
        let wanted = escape_for_display(wanted.unwrap_or_default().as_bytes());
        Error::NoFile(format!("{wanted} is not a pattern: {error}"))
    })?;
    let is_wanted = |name: &str| match &pattern {
        None => !is_of_a_mac(name),
        Some(pattern) => wanted == Some(name) || matches(pattern, name),
    };
    let mut entries = match is_zip {
        true => zip::entries(archive, is_wanted)?,
        false => tar::entries(archive)?,
    };
    entries.retain(|entry| is_wanted(&entry.name));
    let mut names = HashSet::new();
    for entry in &entries {
        let is_doubled = !names.insert(entry.name.as_str());
        let doubled = is_doubled.then_some("is there twice: which one is meant is not clear");
        if let Some(why) = entry.unread.or(doubled) {
            let name = escape_for_display(entry.name.as_bytes());
            return Err(Error::NoFile(format!("{}/{name} {why}", archive.name())));
        }
    }
    if entries.is_empty() {
        let what = match wanted {
            Some(wanted) => format!("file {}", escape_for_display(wanted.as_bytes())),
            None => "file".into(),
        };
        return Err(Error::NoFile(format!("{} has no {what}", archive.name())));
    }
    entries.sort_by(|a, b| natural(&a.name, &b.name));
    Ok(entries.into_iter().map(|entry| entry.file).collect())
}

/// Whether a glob means a name: a star stays within a folder.
pub fn matches(pattern: &Pattern, name: &str) -> bool {
    let options = glob::MatchOptions {
        require_literal_separator: true,
        ..glob::MatchOptions::default()
    };
    pattern.matches_with(name, options)
}

fn is_of_a_mac(name: &str) -> bool {
    let own = name.rsplit('/').next().unwrap_or(name);
    name.starts_with("__MACOSX/") || own == ".DS_Store"
}

/// A fault of an archive, in one line.
fn damaged(archive: &SourceFile, says: impl std::fmt::Display) -> Error {
    Error::NoFile(format!(
        "{} cannot be read as an archive: {}",
        archive.name(),
        escape_for_display(says.to_string().as_bytes())
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn members_are_told_from_their_archive() {
        for (name, expected) in [
            ("week.zip/*.csv", Some(("week.zip", "*.csv"))),
            ("a/week.tar.gz/b/c.csv", Some(("a/week.tar.gz", "b/c.csv"))),
            ("week.zip/", None),
            ("week.zip", None),
            ("a/b.csv", None),
        ] {
            assert_eq!(split_members(name), expected, "{name}");
        }
    }
}
