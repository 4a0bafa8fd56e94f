//! Drafting: a first spec from the files themselves, and files compared with a spec.

pub mod compare;
mod compare_keys;
pub mod each;
pub mod related;
mod relative;
pub mod schema;
mod update;
mod wider;

use std::path::{Path, PathBuf};

use barrow_core::draft::{self, Draft as Drafted, Layout, Wanted};
use barrow_core::escape::visible_path;
use barrow_core::pipeline;
use barrow_core::source::SourceFile;
use barrow_core::spec::TakenKey;
use barrow_targets::{Url, secret};
use serde::{Serialize, Serializer};
use serde_json::{Value, json};

use self::compare::{Drift, original};
use self::wider::wider;
use crate::atomic_file;
use crate::error::Error;
use crate::named_files;
use crate::observer::{Observer, Watch, Watcher, size_of};
use crate::report::FORMAT;
use crate::spec_file::Spec;
use crate::spec_file::settings::Settings;

/// A draft that is to be made.
#[derive(Default)]
pub struct Draft<'d> {
    files: Vec<String>,
    database: Option<String>,
    table: Option<String>,
    output: Option<PathBuf>,
    first_line: String,
    tight: bool,
    lines: bool,
    threads: Option<usize>,
    observer: Option<&'d mut dyn Observer>,
}

/// How files differ from a spec.
pub struct Comparison {
    /// The spec.
    pub spec: String,
    /// What differs.
    pub drift: Drift,
    /// How many records the files have.
    pub records: u64,
    /// Whether the spec was changed.
    pub was_changed: bool,
}

impl<'d> Draft<'d> {
    /// A draft for files: paths, globs, `@LIST`. For [`Draft::compare`] and
    /// [`Draft::update`], none means those of the spec.
    pub fn new(files: Vec<String>) -> Draft<'d> {
        Draft {
            files,
            ..Draft::default()
        }
    }

    /// The database that the spec names; a file beside it unless said.
    pub fn database(self, database: Option<String>) -> Draft<'d> {
        Draft { database, ..self }
    }

    /// The table; made from the first file's name unless said.
    pub fn table(self, table: Option<String>) -> Draft<'d> {
        Draft { table, ..self }
    }

    /// Where the spec will be: its paths are from there.
    pub fn output(self, output: Option<PathBuf>) -> Draft<'d> {
        Draft { output, ..self }
    }

    /// What the spec's text begins with, such as the line that names its schema.
    pub fn first_line(self, line: String) -> Draft<'d> {
        Draft {
            first_line: line,
            ..self
        }
    }

    /// Takes the narrowest types that hold every value.
    pub fn tight(self, tight: bool) -> Draft<'d> {
        Draft { tight, ..self }
    }

    /// Takes each line as one text.
    pub fn lines(self, lines: bool) -> Draft<'d> {
        Draft { lines, ..self }
    }

    /// How many threads read values; as many as the machine has unless said.
    pub fn threads(self, threads: Option<usize>) -> Draft<'d> {
        Draft { threads, ..self }
    }

    /// Tells an observer what happens on the way.
    pub fn observe(self, observer: &'d mut dyn Observer) -> Draft<'d> {
        Draft {
            observer: Some(observer),
            ..self
        }
    }

    /// Reads all of the files, and proposes a spec. It is written to the output, if there
    /// is one.
    ///
    /// # Errors
    /// The output is there already, a file cannot be read, or is not a table.
    pub fn run(self) -> Result<Drafted, Error> {
        if let Some(output) = &self.output
            && output.exists()
        {
            return Err(Error::request(
                format!("{} is there already", visible_path(output)),
                "name a new file with -o; a spec is never written over",
            ));
        }
        if !self.folder().as_os_str().is_empty() && !self.folder().is_dir() {
            let folder = visible_path(self.folder());
            return Err(Error::request(
                format!("there is no folder {folder}"),
                format!("make it first, or name another file with -o: mkdir {folder}"),
            ));
        }
        if let Some(database) = &self.database {
            keeps_no_password(database)?;
        }
        let settings = Settings::of(self.folder())?;
        let files = named_files::find(&self.files, Path::new(""), settings.stores()?.as_ref())?;
        let wanted = self.wanted(&files, &settings)?;
        let output = self.output.clone();
        let watch = Watcher::new(self.observer);
        let mut drafted = Draft::read(&files, &wanted, options(self.threads), &watch)?;
        drafted.text.insert_str(0, &self.first_line);
        if let Some(output) = output {
            // A file that came meanwhile is not written over.
            let written = atomic_file::write(&output, drafted.text.as_bytes(), false);
            written.map_err(|e| Error::file(&output, &e))?;
        }
        Ok(drafted)
    }

    /// The folder that the spec will be in.
    fn folder(&self) -> &Path {
        let folder = self.output.as_ref().and_then(|output| output.parent());
        folder.unwrap_or(Path::new(""))
    }

    fn wanted(&self, files: &[SourceFile], settings: &Settings) -> Result<Wanted, Error> {
        let name = |file: &SourceFile| file.file_name().to_string_lossy().into_owned();
        let names: Vec<String> = files.iter().map(name).collect();
        let table = self.table.clone();
        let table = table.unwrap_or_else(|| draft::table_name(&names));
        let said = self.database.as_ref();
        Ok(Wanted {
            files: relative::files(&self.files, self.folder())?,
            into: database_in(self.folder(), said, settings, &table)?,
            stated: settings.value_keys(),
            table,
            tight: self.tight,
            lines: self.lines,
            compares: false,
        })
    }

    /// Says how the files differ from a spec.
    ///
    /// # Errors
    /// A file cannot be read; the spec has several record types.
    pub fn compare(self, spec: &Spec) -> Result<Comparison, Error> {
        let files = spec.files(&self.files)?;
        // Types as they are: how much room to leave is for the spec to decide.
        let wanted = Wanted {
            tight: true,
            compares: true,
            ..Wanted::default()
        };
        let options = options(self.threads);
        let watch = Watcher::new(self.observer);
        let drafted = Draft::read(&files, &wanted, options.clone(), &watch)?;
        let is_json = drafted.shape.layout == Layout::Json;
        if is_json != spec.plan.records.format.names_fields() {
            let (found, said) = match is_json {
                true => ("are JSON", "are not"),
                false => ("are not JSON", "are"),
            };
            return Err(Error::request(
                format!(
                    "the files {found}, and {} says that they {said}",
                    spec.name()
                ),
                "draft them again, or name other files",
            ));
        }
        Ok(Comparison {
            drift: Drift::find(spec, &files, &drafted, options, &watch)?,
            spec: spec.name(),
            records: drafted.records,
            was_changed: false,
        })
    }

    /// Changes in a spec what the files contradict, and nothing else.
    ///
    /// # Errors
    /// As [`Draft::compare`]; the spec cannot be written.
    pub fn update(self, spec: &Spec) -> Result<Comparison, Error> {
        let is_columns = |taken: &&TakenKey| taken.name() == "columns";
        if let Some(taken) = spec.origin.taken.iter().find(is_columns) {
            let other = spec.origin.texts.paths().nth(taken.part).map(visible_path);
            let other = other.unwrap_or_default();
            return Err(Error::request(
                format!("the columns of {} are in {other}", spec.name()),
                format!("update that spec: barrow draft --update {other} FILE"),
            ));
        }
        let comparison = self.compare(spec)?;
        let text = update::updated(spec.own_text(), &spec.path, &comparison.drift)?;
        let was_changed = text != spec.own_text();
        if was_changed {
            let written = atomic_file::write(&spec.path, text.as_bytes(), true);
            written.map_err(|e| Error::file(&spec.path, &e))?;
        }
        Ok(Comparison {
            was_changed,
            ..comparison
        })
    }

    /// Reads all of the files.
    fn read(
        files: &[SourceFile],
        wanted: &Wanted,
        options: pipeline::Options,
        watch: &dyn Watch,
    ) -> Result<Drafted, Error> {
        if files.iter().any(|file| !file.is_repeatable()) {
            return Err(Error::request(
                "a draft reads its files more than once, and standard input can be read only once",
                "write it to a file first",
            ));
        }
        watch.begin(size_of(files));
        let drafted = draft::draft(files, wanted, options, &mut |bytes, records| {
            watch.progress(bytes, records);
        });
        watch.end();
        Ok(drafted?)
    }
}

fn options(threads: Option<usize>) -> pipeline::Options {
    let usual = pipeline::Options::default();
    pipeline::Options {
        threads: threads.unwrap_or(usual.threads),
        ..usual
    }
}

/// The database that specs in a folder name, as they write it: the one that is said; none where
/// the folder's settings name it; else a file beside them.
fn database_in(
    folder: &Path,
    said: Option<&String>,
    settings: &Settings,
    usual_name: &str,
) -> Result<Option<String>, Error> {
    Ok(match said {
        Some(url) => Some(relative::database(url, folder)?),
        None if settings.names_database() => None,
        None => Some(format!("sqlite:{}.db", relative::file_name(usual_name))),
    })
}

/// A spec is read by others: a password does not belong in it.
fn keeps_no_password(into: &str) -> Result<(), Error> {
    // What has names of the environment in it is no secret yet.
    Url::parse(into, Path::new(""), |_| Some("x".into()))?;
    if !secret::is_in(into) {
        return Ok(());
    }
    Err(Error::request(
        "the address has a password, and a spec would keep it for all to read",
        "leave it out, and put it into PGPASSWORD or MYSQL_PWD",
    ))
}

impl Serialize for Comparison {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        document(self).serialize(serializer)
    }
}

/// What was found, for programs.
fn document(comparison: &Comparison) -> Value {
    let drift = &comparison.drift;
    let new: Vec<_> = drift
        .new
        .iter()
        .map(|new| {
            json!({
                "name": original(&new.chosen), "type": new.chosen.choice.ty.to_string(),
                "optional": new.optional,
            })
        })
        .collect();
    let changed: Vec<_> = drift
        .changed
        .iter()
        .map(|c| {
            let now = match (&c.drafted, c.by_type) {
                (Some(chosen), true) => Some(wider(c.ty, &chosen.choice).ty.to_string()),
                _ => None,
            };
            json!({ "column": c.name, "type": c.ty.to_string(), "would_be": now, "why": c.why })
        })
        .collect();
    json!({
        "format": FORMAT, "kind": "comparison",
        "spec": comparison.spec, "same": drift.is_none(), "records": comparison.records, "was_read": drift.was_read,
        "missing": drift.missing, "new": new, "changed": changed,
        "renamed": drift.renamed.as_ref().map(|(column, from, to)| {
            json!({ "column": column, "from": from, "to": to })
        }),
        "encoding": drift.encoding.as_ref().map(|(found, said)| json!({ "spec": said, "files": found })),
        "spec_was_changed": comparison.was_changed,
    })
}
