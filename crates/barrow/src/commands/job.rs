//! What the commands that read a spec have in common: from the arguments to a
//! plan, its files and its target, before any work begins.

use std::path::{Path, PathBuf};

use barrow_core::flow;
use barrow_core::plan::Plan;
use barrow_core::source::{self, SourceFile};
use barrow_core::spec;
use barrow_core::spec::Known;
use barrow_core::values::ColumnReader;
use barrow_core::visible::visible_path;
use barrow_targets::{Column, Dialect, Job, Part, Url};

use crate::args::Shared;
use crate::failure::Failure;

/// A spec that was read and checked.
pub struct Spec {
    /// Its path as given.
    pub path: PathBuf,
    /// Its own text.
    pub text: String,
    /// The folder that its relative paths are from.
    pub base: PathBuf,
    /// What it says.
    pub plan: Plan,
}

impl Spec {
    /// Reads and checks the spec at `path`. Types that it leaves to the target's
    /// table are asked for there; `into` and `table` are those of the command line.
    pub fn read(path: &Path, into: Option<&str>, table: Option<&str>) -> Result<Spec, Failure> {
        let text = super::spec_file::read(path)?;
        let base = path.parent().unwrap_or(Path::new("")).to_path_buf();
        let plan = match spec::leaves_types(&text) {
            None => spec::read_plan(&text),
            Some((own_into, own_table)) => {
                let url = match (into, &own_into) {
                    (Some(into), _) => Some(Url::parse(into, Path::new(""), environment)?),
                    (None, Some(into)) => Some(Url::parse(into, &base, environment)?),
                    (None, None) => None,
                };
                let known = known(url.as_ref(), table.or(own_table.as_deref()))?;
                spec::read_plan_with(&text, known)
            }
        };
        match plan {
            Ok(plan) => Ok(Spec {
                path: path.to_path_buf(),
                text,
                base,
                plan,
            }),
            Err(_) if super::spec_file::is_of_data(path, &text) => {
                Err(super::spec_file::not_a_spec(path))
            }
            Err(problems) => Err(Failure::Spec {
                path: path.to_path_buf(),
                text,
                problems,
            }),
        }
    }

    /// The spec's name for people.
    pub fn name(&self) -> String {
        visible_path(&self.path)
    }

    /// The files given on the command line, or the spec's.
    pub fn files(&self, given: &[String]) -> Result<Vec<SourceFile>, Failure> {
        let files = if given.is_empty() {
            source::find(&self.plan.files, &self.base)?
        } else {
            source::find(given, Path::new(""))?
        };
        if files.is_empty() {
            return Err(Failure::wrong(
                "there are no files to read",
                "name them after the spec, or under [source] files",
            ));
        }
        Ok(files)
    }

    /// The database given on the command line, or the spec's.
    pub fn url(&self, given: Option<&str>) -> Result<Url, Failure> {
        let url = match (given, &self.plan.target.into) {
            (Some(given), _) => Url::parse(given, Path::new(""), environment)?,
            (None, Some(into)) => Url::parse(into, &self.base, environment)?,
            (None, None) => {
                return Err(Failure::wrong(
                    "there is no database to load into",
                    "say --database sqlite:market.db, or [target] database in the spec",
                ));
            }
        };
        Ok(url)
    }

    /// What is to be loaded, and where. In SQLite's names capitals and small letters are the
    /// same, so tables that differ in case alone are one.
    ///
    /// # Errors
    /// There is no table to load into.
    pub fn job_in(&self, table: Option<&str>, dialect: Dialect) -> Result<Job, Failure> {
        let job = self.job(table)?;
        Ok(match dialect.folds_table_names() {
            true => job.folded(),
            false => job,
        })
    }

    /// The same as the spec names it, whatever database it is for.
    ///
    /// # Errors
    /// There is no table to load into.
    pub fn job(&self, table: Option<&str>) -> Result<Job, Failure> {
        let target = &self.plan.target;
        let kinds = self.plan.kinds.iter().enumerate();
        let loaded = kinds.filter(|(_, kind)| kind.load);
        let parts = loaded.map(|(number, kind)| {
            let own = kind.table.as_deref();
            let Some(table) = own.or(table).or(target.table.as_deref()) else {
                return Err(Failure::wrong(
                    "there is no table to load into",
                    "say --table NAME, or [target] table in the spec",
                ));
            };
            let columns = kind.loaded().map(|column| Column {
                name: column.name.clone(),
                ty: column.ty,
                required: column.required,
                one_of: column
                    .reader
                    .as_ref()
                    .map(ColumnReader::allowed)
                    .unwrap_or_default(),
            });
            let name = |place: &usize| kind.columns[*place].name.clone();
            Ok(Part {
                number,
                table: table.to_string(),
                columns: columns.collect(),
                key: kind.key.iter().map(name).collect(),
            })
        });
        Ok(Job {
            parts: parts.collect::<Result<_, Failure>>()?,
            mode: target.mode,
            create: target.create,
            tag: Job::new_tag(),
        })
    }
}

/// A variable of the environment, for addresses that name one.
pub fn environment(name: &str) -> Option<String> {
    std::env::var(name).ok()
}

/// The target's table, for a spec that leaves types to it; none where there is none.
fn known(url: Option<&Url>, table: Option<&str>) -> Result<Option<Known>, Failure> {
    let (Some(url), Some(table)) = (url, table) else {
        return Ok(None);
    };
    if !url.is_there() {
        return Ok(None);
    }
    let described = url.open(false)?.describe(table)?;
    Ok(described.map(|found| Known {
        table: table.to_string(),
        columns: found.columns,
    }))
}

/// How the flow of a run is run.
pub fn flow_options(shared: &Shared, run: &str) -> flow::Options {
    let usual = flow::Options::default();
    flow::Options {
        threads: shared.threads.map_or(usual.threads, usize::from),
        facts: flow::Facts {
            run: run.to_string(),
            ..usual.facts
        },
        ..usual
    }
}
