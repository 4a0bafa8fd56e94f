//! Keeps rejects: their bytes in files of the source's format, and the reasons.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use serde::Serialize;

use super::reason::Reject;
use crate::error::Error;
use crate::records::block::FileEnd;
use crate::records::file::FileReading;

/// The name of the file of reasons.
pub const REASONS: &str = "reasons.jsonl";

/// Keeps the rejects of one run in a folder of its own. The folder is made with
/// the first reject; a run without any leaves nothing behind.
pub struct Keeper {
    folder: PathBuf,
    reasons: Option<BufWriter<File>>,
    current: Option<Current>,
    names: HashSet<PathBuf>,
}

/// The file of rejects that is being written.
struct Current {
    index: usize,
    name: PathBuf,
    out: BufWriter<File>,
}

/// A line of `reasons.jsonl`.
#[derive(Serialize)]
struct Line<'a> {
    file: &'a str,
    record: u64,
    line: u64,
    offset: u64,
    column: Option<&'a str>,
    field: Option<u32>,
    value: Option<&'a str>,
    code: &'a str,
    says: &'a str,
    expected: &'a str,
    kept_in: &'a str,
}

impl Keeper {
    /// Keeps rejects in `folder`.
    pub fn new(folder: PathBuf) -> Keeper {
        let names = HashSet::from([PathBuf::from(REASONS)]);
        Keeper {
            folder,
            reasons: None,
            current: None,
            names,
        }
    }

    /// The folder, if anything was kept in it.
    pub fn folder(&self) -> Option<&Path> {
        self.reasons.is_some().then_some(self.folder.as_path())
    }

    /// Keeps rejects of one file. `file_name` is the source's own name.
    ///
    /// # Errors
    /// The folder cannot be written.
    pub fn keep<'r>(
        &mut self,
        file: &FileReading,
        file_name: &Path,
        rejects: impl IntoIterator<Item = &'r Reject>,
    ) -> Result<(), Error> {
        for reject in rejects {
            self.open(file, file_name)?;
            let (Some(current), Some(reasons)) = (&mut self.current, &mut self.reasons) else {
                continue;
            };
            let path = || self.folder.join(&current.name);
            current
                .out
                .write_all(&reject.raw)
                .map_err(|e| cannot_write(path(), e))?;
            let kept_in = current.name.to_string_lossy();
            for reason in &reject.reasons {
                let line = Line {
                    file: &file.name,
                    record: reject.record,
                    line: reject.line,
                    offset: reason.offset,
                    column: reason.column.as_deref(),
                    field: reason.field,
                    value: reason.value.as_deref(),
                    code: reason.code.word(),
                    says: &reason.says,
                    expected: &reason.expected,
                    kept_in: &kept_in,
                };
                serde_json::to_writer(&mut *reasons, &line)
                    .map_err(std::io::Error::from)
                    .and_then(|()| reasons.write_all(b"\n"))
                    .map_err(|e| cannot_write(self.folder.join(REASONS), e))?;
            }
        }
        Ok(())
    }

    /// Opens the file of rejects for `file`, under the same lead.
    fn open(&mut self, file: &FileReading, file_name: &Path) -> Result<(), Error> {
        if self
            .current
            .as_ref()
            .is_some_and(|current| current.index == file.index)
        {
            return Ok(());
        }
        if self.reasons.is_none() {
            fs::create_dir_all(&self.folder).map_err(|e| cannot_write(self.folder.clone(), e))?;
            self.reasons = Some(create(&self.folder.join(REASONS))?);
        }
        let name = self.free_name(file_name);
        let path = self.folder.join(&name);
        let mut out = create(&path)?;
        out.write_all(&file.lead)
            .map_err(|e| cannot_write(path, e))?;
        self.current = Some(Current {
            index: file.index,
            name,
            out,
        });
        Ok(())
    }

    /// Two sources of the same name, from two folders, are kept side by side.
    fn free_name(&mut self, name: &Path) -> PathBuf {
        let mut free = name.to_path_buf();
        let mut number = 2;
        while !self.names.insert(free.clone()) {
            let stem = name.file_stem().unwrap_or_default().to_string_lossy();
            let ending = name
                .extension()
                .map(|e| format!(".{}", e.to_string_lossy()));
            free = PathBuf::from(format!("{stem}-{number}{}", ending.unwrap_or_default()));
            number += 1;
        }
        free
    }

    /// Closes the rejects of a file, with its trailer.
    ///
    /// # Errors
    /// The folder cannot be written.
    pub fn end_file(&mut self, index: usize, end: &FileEnd) -> Result<(), Error> {
        let Some(mut current) = self.current.take_if(|current| current.index == index) else {
            return Ok(());
        };
        let written = current
            .out
            .write_all(&end.trailer)
            .and_then(|()| current.out.flush());
        written.map_err(|e| cannot_write(self.folder.join(&current.name), e))
    }

    /// Writes out what is not written yet.
    ///
    /// # Errors
    /// The folder cannot be written.
    pub fn finish(&mut self) -> Result<(), Error> {
        if let Some(mut current) = self.current.take() {
            let path = self.folder.join(&current.name);
            current.out.flush().map_err(|e| cannot_write(path, e))?;
        }
        match &mut self.reasons {
            Some(reasons) => reasons
                .flush()
                .map_err(|e| cannot_write(self.folder.join(REASONS), e)),
            None => Ok(()),
        }
    }
}

fn create(path: &Path) -> Result<BufWriter<File>, Error> {
    let file = File::options().write(true).create_new(true).open(path);
    file.map(BufWriter::new)
        .map_err(|e| cannot_write(path.to_path_buf(), e))
}

fn cannot_write(path: PathBuf, source: std::io::Error) -> Error {
    Error::Write { path, source }
}
