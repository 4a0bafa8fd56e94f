//! Keeps rejects: their bytes in files of the source's format, and the reasons.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::error::Error;
use crate::reason::{REASONS, Reject};
use crate::records::block::FileEnd;
use crate::records::file_format::FileFormat;

/// The name of the file that says which load the rejects are of.
pub const MANIFEST: &str = "run.json";

/// Keeps the rejects of one run in a folder of its own. The folder is made with
/// the first reject; a run without any leaves nothing behind.
pub struct RejectWriter {
    folder: PathBuf,
    reasons: Option<BufWriter<File>>,
    current: Option<Current>,
    names: HashSet<PathBuf>,
    /// How many reasons are written in full; those beyond are counted.
    most: u64,
    /// Reasons so far.
    told: u64,
    /// Files that are complete, and not yet on the disk.
    unsynced: Vec<PathBuf>,
}

/// How far the rejects of a run were written, to go on from there.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Written {
    /// Bytes of the reasons.
    pub reasons: u64,
    /// Reasons, those that are only counted as well.
    pub told: u64,
    /// The files of rejects that are there.
    pub names: Vec<String>,
    /// The last one, if its source is not read to its end, and its bytes.
    pub last: Option<(String, u64)>,
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

impl RejectWriter {
    /// Keeps rejects in `folder`, and the first `most` of their reasons in full.
    pub fn new(folder: PathBuf, most: u64) -> RejectWriter {
        let names = HashSet::from([PathBuf::from(REASONS), PathBuf::from(MANIFEST)]);
        RejectWriter {
            folder,
            reasons: None,
            current: None,
            names,
            most,
            told: 0,
            unsynced: Vec::new(),
        }
    }

    /// Goes on where a run was interrupted; what was written after that is removed.
    ///
    /// # Errors
    /// The folder is not as it was, or cannot be written.
    pub fn go_on(folder: PathBuf, most: u64, written: &Written) -> Result<RejectWriter, Error> {
        let mut keeper = RejectWriter::new(folder, most);
        if written.reasons == 0 {
            // Nothing counts that may be there.
            match fs::remove_dir_all(&keeper.folder) {
                Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                    return Err(cannot_write(keeper.folder, e));
                }
                _ => return Ok(keeper),
            }
        }
        keeper.told = written.told;
        keeper.names.extend(written.names.iter().map(PathBuf::from));
        keeper.reasons = Some(reopen(&keeper.folder.join(REASONS), written.reasons)?);
        if let Some((name, bytes)) = &written.last {
            keeper.current = Some(Current {
                index: 0,
                out: reopen(&keeper.folder.join(name), *bytes)?,
                name: PathBuf::from(name),
            });
        }
        let known = |path: &Path| {
            path.file_name()
                .is_some_and(|n| keeper.names.contains(Path::new(n)))
        };
        let found =
            fs::read_dir(&keeper.folder).map_err(|e| cannot_write(keeper.folder.clone(), e))?;
        for entry in found {
            let path = entry
                .map_err(|e| cannot_write(keeper.folder.clone(), e))?
                .path();
            if !known(&path) && path.is_file() {
                fs::remove_file(&path).map_err(|e| cannot_write(path.clone(), e))?;
            }
        }
        Ok(keeper)
    }

    /// Writes out what there is, so that it outlasts the program, and says how far it is.
    ///
    /// # Errors
    /// The folder cannot be written.
    pub fn written(&mut self) -> Result<Written, Error> {
        let Some(reasons) = &mut self.reasons else {
            return Ok(Written::default());
        };
        let reasons = written_out(reasons, &self.folder.join(REASONS))?;
        let last = match &mut self.current {
            None => None,
            Some(current) => {
                let bytes = written_out(&mut current.out, &self.folder.join(&current.name))?;
                Some((current.name.to_string_lossy().into_owned(), bytes))
            }
        };
        let mut names: Vec<String> = self
            .names
            .iter()
            .map(|name| name.to_string_lossy().into_owned())
            .collect();
        names.sort();
        self.sync()?;
        Ok(Written {
            reasons,
            told: self.told,
            names,
            last,
        })
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
        file: &FileFormat,
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
                self.told += 1;
                if self.told > self.most {
                    continue;
                }
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
    fn open(&mut self, file: &FileFormat, file_name: &Path) -> Result<(), Error> {
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

    /// The name of the file of rejects that is being written.
    pub fn current(&self) -> Option<&Path> {
        self.current.as_ref().map(|current| current.name.as_path())
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
        written.map_err(|e| cannot_write(self.folder.join(&current.name), e))?;
        self.unsynced.push(current.name);
        Ok(())
    }

    /// Reasons that were counted and not written.
    pub fn untold(&self) -> u64 {
        self.told.saturating_sub(self.most)
    }

    /// Sees to it that complete files, and the folder's entries, outlast a power cut. Many
    /// are taken in one go: a call for each of 20,000 files took four times as long as
    /// loading them.
    fn sync(&mut self) -> Result<(), Error> {
        let files = std::mem::take(&mut self.unsynced);
        sync_all(&self.folder, &files).map_err(|e| cannot_write(self.folder.clone(), e))
    }

    /// Writes out what is not written yet.
    ///
    /// # Errors
    /// The folder cannot be written.
    pub fn finish(&mut self) -> Result<(), Error> {
        if let Some(mut current) = self.current.take() {
            written_out(&mut current.out, &self.folder.join(&current.name))?;
        }
        let untold = self.untold();
        let Some(reasons) = &mut self.reasons else {
            return Ok(());
        };
        let path = self.folder.join(REASONS);
        if untold > 0 {
            let line = serde_json::json!({
                "more": untold,
                "says": "more reasons, which are counted and not written: [rejects] keep says how many are",
            });
            writeln!(reasons, "{line}").map_err(|e| cannot_write(path.clone(), e))?;
        }
        written_out(reasons, &path)?;
        self.sync()
    }
}

/// Writes files, and their entries in the folder, to the disk.
#[cfg(target_os = "linux")]
fn sync_all(folder: &Path, files: &[PathBuf]) -> std::io::Result<()> {
    let folder_file = File::open(folder)?;
    match files {
        [] | [_] => files
            .iter()
            .try_for_each(|name| File::open(folder.join(name))?.sync_data()),
        // All of the file system in one call.
        _ => rustix::fs::syncfs(&folder_file).map_err(Into::into),
    }?;
    folder_file.sync_all()
}

/// Writes files to the disk.
#[cfg(not(target_os = "linux"))]
fn sync_all(folder: &Path, files: &[PathBuf]) -> std::io::Result<()> {
    files
        .iter()
        .try_for_each(|name| File::open(folder.join(name))?.sync_data())
}

/// Writes a file out to the disk, and returns how long it is.
fn written_out(out: &mut BufWriter<File>, path: &Path) -> Result<u64, Error> {
    let written = out.flush().and_then(|()| out.get_ref().sync_data());
    let length = written.and_then(|()| out.get_ref().metadata());
    length
        .map(|m| m.len())
        .map_err(|e| cannot_write(path.to_path_buf(), e))
}

/// Opens a file again to write on after so many bytes.
fn reopen(path: &Path, bytes: u64) -> Result<BufWriter<File>, Error> {
    use std::io::{Seek, SeekFrom};
    let failed = |e| cannot_write(path.to_path_buf(), e);
    let mut file = File::options().write(true).open(path).map_err(failed)?;
    let length = file.metadata().map_err(failed)?.len();
    if length < bytes {
        return Err(failed(std::io::Error::other(
            "it is shorter than the run left it, which was interrupted",
        )));
    }
    file.set_len(bytes).map_err(failed)?;
    file.seek(SeekFrom::End(0)).map_err(failed)?;
    Ok(BufWriter::new(file))
}

fn create(path: &Path) -> Result<BufWriter<File>, Error> {
    let file = File::options().write(true).create_new(true).open(path);
    file.map(BufWriter::new)
        .map_err(|e| cannot_write(path.to_path_buf(), e))
}

fn cannot_write(path: PathBuf, source: std::io::Error) -> Error {
    Error::Write { path, source }
}
