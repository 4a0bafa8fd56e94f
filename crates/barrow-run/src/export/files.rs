//! The files that are written. Each has a temporary name until all of them are whole, so
//! that nobody sees half an export.

use std::collections::HashSet;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use barrow_core::escape::visible_path;
use barrow_core::export::{Compressor, StatedTotals};
use barrow_core::source::content::RunningHash;
use barrow_core::source::{Compression, Content};
use tempfile::TempPath;

use super::may_write::may_write;
use super::remote::{Remote, SharedUpload};
use crate::error::Error;

/// Where an export goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Destination {
    /// Standard output.
    Stdout,
    /// A file or an object at an address, or several whose names are made from this one.
    Path(PathBuf),
}

/// A file that was written.
#[derive(Debug, Clone)]
pub struct Made {
    /// Its name; none for standard output.
    pub path: Option<PathBuf>,
    /// How many rows it has.
    pub rows: u64,
    /// What it is as stored.
    pub content: Content,
}

impl Made {
    /// Its name as people read it.
    pub fn name(&self) -> String {
        let path = self.path.as_deref();
        path.map_or("standard output".into(), visible_path)
    }
}

/// The files of one export.
pub struct Files {
    destination: Destination,
    packing: Compression,
    /// Whether there are to be several.
    parted: bool,
    overwrites: bool,
    begun: u64,
    /// Names that are in use, in lower case: a file system may not distinguish case.
    taken: HashSet<String>,
    /// Whole files that wait for their names.
    whole: Vec<(Pending, Made)>,
    remote: Remote,
}

/// A file that nobody sees yet.
enum Pending {
    /// It is there already: standard output, a device.
    Seen,
    /// A temporary file, which is given its name.
    Named(TempPath),
    /// An object, which is completed.
    Object(SharedUpload),
    /// A temporary file, which becomes an object once it is whole.
    Spooled(tempfile::NamedTempFile),
}

/// A file that is being written.
pub struct Part {
    out: Compressor<Hashing>,
    hash: RunningHash,
    /// What it is until it is whole; removed unless the export succeeds.
    pending: Pending,
    path: Option<PathBuf>,
    bytes: u64,
    /// What its last lines tell.
    pub told: StatedTotals,
}

/// A file that is synced while it is written. Synced at its end alone, that took 7 % of an export
/// of 275 MB, in which nothing else could go on.
struct OnDisk {
    file: File,
    /// Bytes that may not be there yet.
    waiting: usize,
}

impl OnDisk {
    /// How many bytes are synced at a time, while the next are written.
    const AT_A_TIME: usize = 16 << 20;
}

impl Write for OnDisk {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = self.file.write(bytes)?;
        self.waiting += count;
        if self.waiting >= OnDisk::AT_A_TIME {
            self.file.sync_data()?;
            self.waiting = 0;
        }
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

/// Bytes that are hashed on their way out.
struct Hashing {
    out: BufWriter<Box<dyn Write + Send>>,
    hash: RunningHash,
}

impl Write for Hashing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = self.out.write(bytes)?;
        self.hash.add(&bytes[..count]);
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

impl Part {
    /// Bytes so far, before they are packed.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// Writes bytes.
    pub fn write(&mut self, bytes: &[u8]) -> Result<(), Error> {
        self.bytes += bytes.len() as u64;
        self.out
            .write_all(bytes)
            .map_err(|e| failed(self.path.as_deref(), e))
    }

    /// Adds a row's numbers to the sums.
    pub fn add(&mut self, row: &[i128]) {
        for (sum, n) in self.told.sums.iter_mut().zip(row) {
            *sum = sum.and_then(|sum| sum.checked_add(*n));
        }
    }
}

/// A failure to write; that a reader of standard output went away is an error of its own.
fn failed(path: Option<&Path>, error: io::Error) -> Error {
    match path {
        None if error.kind() == io::ErrorKind::BrokenPipe => Error::output_closed(),
        None => Error::failed(format!("writing to standard output: {error}")),
        Some(path) => {
            let is_full = error.kind() == io::ErrorKind::StorageFull;
            let failed = Error::failed(format!(
                "{}: {error}\nnothing is left of this export",
                visible_path(path)
            ));
            match is_full {
                true => failed.advised("make room there, then run this again"),
                false => failed,
            }
        }
    }
}

impl Files {
    /// For an export; with `parted` into several files.
    ///
    /// # Errors
    /// A file is there that must not be written over.
    pub fn new(
        destination: Destination,
        packing: Compression,
        parted: bool,
        overwrites: bool,
        remote: Remote,
    ) -> Result<Files, Error> {
        if parted && destination == Destination::Stdout {
            return Err(Error::request(
                "an export in parts has several files, and standard output is one",
                "name them: -o prices.csv makes prices-1.csv, prices-2.csv",
            ));
        }
        let files = Files {
            destination,
            packing,
            parted,
            overwrites,
            begun: 0,
            taken: HashSet::new(),
            whole: Vec::new(),
            remote,
        };
        if let (Destination::Path(path), false) = (&files.destination, parted) {
            files.remote.may_write(path, overwrites)?;
        }
        Ok(files)
    }

    /// Whether no file was begun.
    pub fn is_untouched(&self) -> bool {
        self.begun == 0
    }

    /// Whether the rows go to standard output.
    pub fn is_stdout(&self) -> bool {
        self.destination == Destination::Stdout
    }

    /// A name for the next part that no other part has.
    fn free_name(&mut self, path: &Path, key: &str) -> PathBuf {
        let mut part = match key {
            "" => self.begun.to_string(),
            key => fit_for_a_name(key, self.begun),
        };
        loop {
            let name = named(path, &part);
            if self.taken.insert(name.to_string_lossy().to_lowercase()) {
                return name;
            }
            part += &format!("-{}", self.begun);
        }
    }

    /// Begins the next file; `key` is what its rows have in common.
    ///
    /// # Errors
    /// It cannot be made.
    pub fn begin(&mut self, key: &str) -> Result<Part, Error> {
        self.begun += 1;
        let path = match &self.destination {
            Destination::Stdout => None,
            Destination::Path(path) if self.parted => Some(self.free_name(&path.clone(), key)),
            Destination::Path(path) => Some(path.clone()),
        };
        let hash = RunningHash::default();
        let (out, pending): (Box<dyn Write + Send>, _) = match &path {
            None => (Box::new(io::stdout()), Pending::Seen),
            // Many such parts are open at once, and each would hold what it has to send.
            Some(path) if Remote::has(path) && !key.is_empty() => {
                self.remote.may_write(path, self.overwrites)?;
                let spooled = tempfile::NamedTempFile::new();
                let spooled = spooled.map_err(|e| failed(Some(path), e))?;
                let file = spooled.reopen().map_err(|e| failed(Some(path), e))?;
                (Box::new(file), Pending::Spooled(spooled))
            }
            Some(path) if Remote::has(path) => {
                self.remote.may_write(path, self.overwrites)?;
                let upload = self.remote.begin(path).map_err(|e| failed(Some(path), e))?;
                (Box::new(upload.clone()), Pending::Object(upload))
            }
            // A device or a pipe is written to as it is.
            Some(path) if path.metadata().is_ok_and(|found| !found.is_file()) => {
                let file = File::options().write(true).open(path);
                (
                    Box::new(file.map_err(|e| failed(Some(path), e))?),
                    Pending::Seen,
                )
            }
            Some(path) => {
                may_write(path, self.overwrites)?;
                let (file, temporary) = temporary(path).map_err(|e| failed(Some(path), e))?;
                (
                    Box::new(OnDisk { file, waiting: 0 }),
                    Pending::Named(temporary),
                )
            }
        };
        let hashing = Hashing {
            out: BufWriter::with_capacity(1 << 16, out),
            hash: hash.clone(),
        };
        let name = path.as_deref().and_then(Path::file_name);
        let told = StatedTotals {
            file: name.map_or(String::new(), |n| n.to_string_lossy().into_owned()),
            ..StatedTotals::default()
        };
        Ok(Part {
            out: Compressor::new(self.packing, hashing).map_err(|e| failed(path.as_deref(), e))?,
            hash,
            pending,
            path,
            bytes: 0,
            told,
        })
    }

    /// Ends a file. It keeps its temporary name until all are whole.
    ///
    /// # Errors
    /// Its last bytes cannot be written.
    pub fn end(&mut self, part: Part) -> Result<(), Error> {
        let path = part.path;
        let ended = part.out.finish().and_then(|mut hashing| hashing.flush());
        ended.map_err(|e| failed(path.as_deref(), e))?;
        let kept = match part.pending {
            Pending::Seen => Ok(Pending::Seen),
            Pending::Named(temporary) => File::open(&temporary)
                .and_then(|file| file.sync_all())
                .map(|()| Pending::Named(temporary)),
            Pending::Object(upload) => upload.settle().map(|()| Pending::Object(upload)),
            Pending::Spooled(file) => {
                let path = path.as_deref().unwrap_or(Path::new(""));
                self.remote.send(path, file.as_file()).map(Pending::Object)
            }
        };
        let pending = kept.map_err(|e| failed(path.as_deref(), e))?;
        let made = Made {
            rows: part.told.rows,
            content: part.hash.content(),
            path,
        };
        self.whole.push((pending, made));
        Ok(())
    }

    /// Gives all files their names.
    ///
    /// # Errors
    /// One cannot be named so.
    pub fn finish(mut self) -> Result<Vec<Made>, Error> {
        let whole = std::mem::take(&mut self.whole);
        let mut made = Vec::new();
        for (pending, file) in whole {
            let path = file.path.as_deref().unwrap_or(Path::new(""));
            let named = match pending {
                Pending::Seen | Pending::Spooled(_) => Ok(()),
                Pending::Object(upload) => upload.finish(),
                Pending::Named(temporary) if self.overwrites => {
                    temporary.persist(path).map_err(|e| e.error)
                }
                // Another may have made a file of that name in the meantime.
                Pending::Named(temporary) => temporary.persist_noclobber(path).map_err(|e| e.error),
            };
            named.map_err(|e| unnamed(path, &made, e))?;
            made.push(file);
        }
        Ok(made)
    }
}

/// A file that could not be given its name, when others have theirs already.
fn unnamed(path: &Path, named: &[Made], error: io::Error) -> Error {
    let shown = visible_path(path);
    let left = match named.len() as u64 {
        0 => "nothing is left of this export".to_string(),
        count => format!(
            "{} in place already, and the others are not",
            crate::words::counted(count, "file")
        ),
    };
    Error::failed(format!("{shown}: {error}\n{left}"))
}

/// A new file beside the one that it becomes, with a name that nobody else has.
fn temporary(path: &Path) -> io::Result<(File, TempPath)> {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let temporary = path.with_file_name(format!(".{name}.{}", crate::run_id::run_id()));
    let file = File::options()
        .write(true)
        .create_new(true)
        .open(&temporary)?;
    Ok((file, TempPath::try_from_path(temporary)?))
}

/// `prices.csv.gz` as `prices-2.csv.gz`; where the name has `{part}`, that stands for it.
fn named(path: &Path, part: &str) -> PathBuf {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let named = match name.contains("{part}") {
        true => name.replace("{part}", part),
        false => match name.char_indices().skip(1).find(|(_, c)| *c == '.') {
            Some((dot, _)) => format!("{}-{part}{}", &name[..dot], &name[dot..]),
            None => format!("{name}-{part}"),
        },
    };
    path.with_file_name(named)
}

/// A value as a part of a file's name. One that has to be changed gets the file's number,
/// so that no two values have one name.
fn fit_for_a_name(value: &str, number: u64) -> String {
    let fits = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_');
    let name: String = value
        .chars()
        .take(60)
        .map(|c| if fits(c) { c } else { '_' })
        .collect();
    match name == value && !value.chars().any(char::is_uppercase) {
        true => name,
        false => format!("{name}-{number}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_have_names_of_their_own() {
        let into = Destination::Path(PathBuf::from("p.csv.gz"));
        let mut files =
            Files::new(into, Compression::None, true, false, Remote::default()).unwrap();
        let mut name = |key: &str| {
            files.begun += 1;
            let path = files.free_name(Path::new("out/p.csv.gz"), key);
            path.to_string_lossy().into_owned()
        };
        assert_eq!(name(""), "out/p-1.csv.gz");
        assert_eq!(name("kale"), "out/p-kale.csv.gz");
        assert_eq!(name("../../etc"), "out/p-______etc-3.csv.gz");
        // The same value again, values that differ only in case, a value that is a number.
        let more = ["kale", "Kale", "1", "______etc-3", "kale-4"].map(name);
        let all: HashSet<String> = more.iter().map(|name| name.to_lowercase()).collect();
        assert_eq!(all.len(), more.len(), "{more:?}");
        assert!(!more.contains(&"out/p-1.csv.gz".to_string()));
        assert!(!more.contains(&"out/p-kale.csv.gz".to_string()));
        let placed = |path: &str, part| named(Path::new(path), part);
        assert_eq!(placed("p-{part}-x.csv", "kale"), Path::new("p-kale-x.csv"));
        assert_eq!(placed("p", "______etc-3"), Path::new("p-______etc-3"));
    }

    #[test]
    fn a_file_that_another_made_meanwhile_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("p.csv");
        let into = Destination::Path(path.clone());
        let mut files = Files::new(
            into.clone(),
            Compression::None,
            false,
            false,
            Remote::default(),
        )
        .unwrap();
        let mut part = files.begin("").unwrap();
        part.write(b"ours\n").unwrap();
        files.end(part).unwrap();
        std::fs::write(&path, "theirs\n").unwrap();
        let failure = files.finish().unwrap_err();
        assert!(
            format!("{failure:?}").contains("nothing is left"),
            "{failure:?}"
        );
        assert_eq!(std::fs::read(&path).unwrap(), b"theirs\n");
        // What was written over on purpose is.
        let mut files =
            Files::new(into, Compression::None, false, true, Remote::default()).unwrap();
        let mut part = files.begin("").unwrap();
        part.write(b"ours\n").unwrap();
        files.end(part).unwrap();
        files.finish().unwrap();
        assert_eq!(std::fs::read(&path).unwrap(), b"ours\n");
        assert_eq!(folder.path().read_dir().unwrap().count(), 1);
    }
}
