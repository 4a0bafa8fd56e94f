//! Drafts of many files at once: a spec for each kind of file.
//!
//! Files are of one kind where their columns are the same, and their names too but for digits,
//! as those of `sales-w14.csv` and `sales-w15.csv`. Two lists of the same two columns with
//! names of their own are two tables.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use barrow_core::draft::{self, Chosen, Draft as Drafted, Wanted};
use barrow_core::escape::visible_path;
use barrow_core::source::SourceFile;

use super::{Draft, database_in, keeps_no_password, options, relative};
use crate::atomic_file;
use crate::error::Error;
use crate::named_files;
use crate::observer::{Observer, Watch, Watcher};
use crate::spec_file::settings::Settings;

/// Drafts of many files that are to be made.
pub struct DraftEach<'d> {
    files: Vec<String>,
    folder: PathBuf,
    database: Option<String>,
    tight: bool,
    threads: Option<usize>,
    observer: Option<&'d mut dyn Observer>,
}

/// A kind of file, and its spec.
pub struct FileKind {
    /// The table.
    pub table: String,
    /// Where the spec will be.
    pub path: PathBuf,
    /// The spec's text.
    pub text: String,
    /// The files.
    pub files: Vec<String>,
    /// What was found in them.
    pub drafted: Drafted,
}

/// What came of drafting each kind of file.
pub struct Drafts {
    /// The kinds, in the order of their files.
    pub kinds: Vec<FileKind>,
    /// Files that no spec could be drafted for, and why.
    pub failed: Vec<(String, Error)>,
    /// The database that all of them name.
    pub database: String,
}

impl<'d> DraftEach<'d> {
    /// Drafts for these files, to be written into a folder.
    pub fn new(files: Vec<String>, folder: PathBuf) -> DraftEach<'d> {
        DraftEach {
            files,
            folder,
            database: None,
            tight: false,
            threads: None,
            observer: None,
        }
    }

    /// The database that the specs name; one file in their folder unless said.
    pub fn database(self, database: Option<String>) -> Self {
        DraftEach { database, ..self }
    }

    /// Takes the narrowest types that hold every value.
    pub fn tight(self, tight: bool) -> Self {
        DraftEach { tight, ..self }
    }

    /// How many threads read values; as many as the machine has unless said.
    pub fn threads(self, threads: Option<usize>) -> Self {
        DraftEach { threads, ..self }
    }

    /// Tells an observer what happens on the way.
    pub fn observe(self, observer: &'d mut dyn Observer) -> Self {
        DraftEach {
            observer: Some(observer),
            ..self
        }
    }

    /// Reads all of the files, and proposes a spec for each kind. Nothing is written.
    ///
    /// # Errors
    /// No file is found, the database's address has a password, or no file is a table.
    pub fn run(mut self) -> Result<Drafts, Error> {
        if let Some(database) = &self.database {
            keeps_no_password(database)?;
        }
        let settings = Settings::of(&self.folder)?;
        let said = self.database.as_ref();
        let own = database_in(&self.folder, said, &settings, &self.folder_name())?;
        let database = own
            .clone()
            .unwrap_or_else(|| format!("the database of {}", settings.name()));
        let usual = Wanted {
            into: own,
            stated: settings.value_keys(),
            tight: self.tight,
            ..Wanted::default()
        };
        let files = named_files::find(&self.files, Path::new(""), settings.stores()?.as_ref())?;
        let watch = Watcher::new(self.observer.take());
        let mut found: Vec<(Signature, Vec<SourceFile>, FileKind)> = Vec::new();
        let mut failed = Vec::new();
        for file in files {
            let one = std::slice::from_ref(&file);
            match self.kind(one, table_of(one), &usual, &watch) {
                Err(error) => failed.push((file.name(), error)),
                Ok(kind) => {
                    let signature = Signature::of(&file, &kind.drafted);
                    match found.iter_mut().find(|(other, ..)| *other == signature) {
                        Some((_, files, _)) => files.push(file),
                        None => found.push((signature, vec![file], kind)),
                    }
                }
            }
        }
        let mut kinds = Vec::new();
        let mut names = HashSet::new();
        for (_, files, kind) in found {
            let table = unused(table_of(&files), &mut names);
            // What was drafted of one file is its spec; several are judged together.
            if files.len() == 1 && table == kind.table {
                kinds.push(kind);
                continue;
            }
            match self.kind(&files, table, &usual, &watch) {
                Ok(kind) => kinds.push(kind),
                Err(error) => failed.push((kind.files.join(", "), error)),
            }
        }
        match (kinds.is_empty(), failed.pop()) {
            (true, Some((_, error))) => Err(error),
            (_, last) => {
                failed.extend(last);
                Ok(Drafts {
                    kinds,
                    failed,
                    database,
                })
            }
        }
    }

    /// A spec for files of one kind.
    fn kind(
        &self,
        files: &[SourceFile],
        table: String,
        usual: &Wanted,
        watch: &dyn Watch,
    ) -> Result<FileKind, Error> {
        let words: Vec<String> = files.iter().map(word).collect();
        let wanted = Wanted {
            files: relative::files(&words, &self.folder)?,
            table: table.clone(),
            ..usual.clone()
        };
        let drafted = Draft::read(files, &wanted, options(self.threads), watch)?;
        let file = format!("{}.spec.toml", relative::file_name(&table));
        Ok(FileKind {
            table,
            path: self.folder.join(file),
            text: drafted.text.clone(),
            files: words,
            drafted,
        })
    }

    /// The folder's own name, which a database beside the specs gets.
    fn folder_name(&self) -> String {
        let whole = std::path::absolute(&self.folder).unwrap_or_default();
        let name = whole
            .file_name()
            .map(|name| name.to_string_lossy().into_owned());
        name.unwrap_or_else(|| "tables".to_string())
    }
}

impl Drafts {
    /// Writes the specs. One that is there already is not written over: then none is written.
    ///
    /// # Errors
    /// A spec is there, or cannot be written.
    pub fn write(&self) -> Result<(), Error> {
        if let Some(kind) = self.kinds.iter().find(|kind| kind.path.exists()) {
            return Err(Error::request(
                format!("{} is there already", visible_path(&kind.path)),
                "name another folder with -o; a spec is never written over",
            ));
        }
        for kind in &self.kinds {
            if let Some(folder) = kind.path.parent() {
                std::fs::create_dir_all(folder).map_err(|e| Error::file(folder, &e))?;
            }
            let written = atomic_file::write(&kind.path, kind.text.as_bytes(), false);
            written.map_err(|e| Error::file(&kind.path, &e))?;
        }
        Ok(())
    }
}

/// What files of one kind have in common.
#[derive(Debug, PartialEq, Eq)]
struct Signature {
    columns: Vec<String>,
    stem: String,
}

impl Signature {
    fn of(file: &SourceFile, drafted: &Drafted) -> Signature {
        let name = file.file_name().to_string_lossy().to_lowercase();
        let columns = drafted.columns.iter();
        let name_of = |c: &Chosen| c.from.clone().unwrap_or(c.name.clone());
        let mut columns: Vec<String> = columns.map(name_of).collect();
        // Columns are found by their names, so their order does not matter.
        columns.sort_unstable();
        Signature {
            columns,
            stem: name.chars().filter(|c| !c.is_numeric()).collect(),
        }
    }
}

/// The table that files go to, by their names.
fn table_of(files: &[SourceFile]) -> String {
    let name = |file: &SourceFile| file.file_name().to_string_lossy().into_owned();
    draft::table_name(&files.iter().map(name).collect::<Vec<_>>())
}

/// A file as a spec names it: by its path, or by its address. (The name is for people, and has
/// what is invisible written out.)
fn word(file: &SourceFile) -> String {
    let own = |path: &&Path| std::path::absolute(path).is_ok_and(|whole| whole == file.identity());
    match file.path().filter(own) {
        Some(path) => path.to_string_lossy().into_owned(),
        None => file.name(),
    }
}

/// A name that no other table has.
fn unused(name: String, taken: &mut HashSet<String>) -> String {
    let mut free = name.clone();
    let mut number = 2;
    while !taken.insert(free.to_lowercase()) {
        free = format!("{name}_{number}");
        number += 1;
    }
    free
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_of_one_kind_share_a_spec_and_tables_of_the_same_columns_do_not() {
        let folder = tempfile::tempdir().expect("a folder");
        let mut words = Vec::new();
        for (name, text) in [
            ("sales-w1.csv", "id,crop\n1,kale\n"),
            ("sales-w2.csv", "id,crop\n2,leek\n"),
            ("crops.csv", "id,crop\n1,kale\n"),
            ("notes.csv", "id,note\n1,x\n"),
        ] {
            let path = folder.path().join(name);
            std::fs::write(&path, text).expect("room");
            words.push(path.display().to_string());
        }
        let drafts = DraftEach::new(words, folder.path().join("specs"))
            .run()
            .expect("drafts");
        let found: Vec<(&str, usize)> = drafts
            .kinds
            .iter()
            .map(|kind| (kind.table.as_str(), kind.files.len()))
            .collect();
        assert_eq!(found, [("sales", 2), ("crops", 1), ("notes", 1)]);
        assert_eq!(drafts.database, "sqlite:specs.db");
        drafts.write().expect("they are written");
        assert!(drafts.write().is_err(), "and not written over");
    }
}
