//! A spec and what is asked for beside it: from a path to a plan, its files and its target,
//! before any work begins.

mod origin;
pub mod settings;
mod text;

use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

use barrow_core::escape::visible_path;
use barrow_core::pipeline;
use barrow_core::plan::Plan;
use barrow_core::source::SourceFile;
use barrow_core::source::files::is_address;
use barrow_core::spec;
use barrow_core::spec::Known;
use barrow_core::values::ColumnReader;
use barrow_core::words::{
    EmptyWith, Every, Mode, Tolerance, WhenCascading, WhenEmpty, WhenInexact, WhenNewColumn,
};
use barrow_stores::Stores;
use barrow_targets::{Column, Job, RecordTable, Url, secret};

pub use self::origin::Origin;
use self::settings::Settings;
use crate::error::Error;
use crate::named_files;
use crate::rejects_place::RejectsPlace;

/// What overrides the spec.
#[derive(Debug, Clone, Default)]
pub struct Overrides {
    /// The database's address.
    pub database: Option<String>,
    /// The table.
    pub table: Option<String>,
    /// What becomes of the rows that the table has.
    pub mode: Option<Mode>,
    /// How many rejects there may be.
    pub max_rejects: Option<Tolerance>,
}

/// A spec that was read and checked.
pub struct Spec {
    /// Its path as given.
    pub path: PathBuf,
    /// The texts that it is made of.
    pub origin: Origin,
    /// What it says.
    pub plan: Plan,
    /// What overrides it.
    pub overrides: Overrides,
    stores: OnceLock<Arc<Stores>>,
    /// The target's table, where types are left to it.
    known: Option<Known>,
}

impl Spec {
    /// Reads and checks the spec at `path`. Types that it leaves to the target's table are
    /// asked for there.
    ///
    /// # Errors
    /// The file cannot be read, or the spec is wrong: [`Error::problems`] has all that is.
    pub fn open(path: &Path, overrides: &Overrides) -> Result<Spec, Error> {
        let origin = Origin::gather(path)?;
        let known = match spec::leaves_types(&origin.texts) {
            None => None,
            Some((own_url, own_table)) => {
                let base = origin.base_of("target", "database");
                let url = match (&overrides.database, &own_url) {
                    (Some(url), _) => Some(Url::parse(url, Path::new(""), environment)?),
                    (None, Some(url)) => Some(Url::parse(url, base, environment)?),
                    (None, None) => None,
                };
                let table = overrides.table.as_deref().or(own_table.as_deref());
                known(url.as_ref(), table)?
            }
        };
        Spec::read(path, origin, known, overrides)
    }

    /// A spec that is no file: its text, its name for people, and the folder that its relative
    /// paths are from. Of that folder's settings it has the stores alone.
    ///
    /// # Errors
    /// As [`Spec::open`].
    pub fn of_text(name: &Path, text: &str, base: &Path) -> Result<Spec, Error> {
        let origin = Origin::of_text(name, text, base);
        let mut spec = Spec::read(name, origin, None, &Overrides::default())?;
        spec.plan.stores.extend(Settings::of(base)?.into_stores());
        Ok(spec)
    }

    fn read(
        path: &Path,
        origin: Origin,
        known: Option<Known>,
        overrides: &Overrides,
    ) -> Result<Spec, Error> {
        let texts = &origin.texts;
        let plan = match spec::read_plan_of(texts, known.clone()) {
            Ok(plan) => plan,
            Err(_) if text::is_of_data(path, texts.text(0)) => return Err(text::not_a_spec(path)),
            Err(problems) => return Err(Error::spec(texts, problems)),
        };
        let mut spec = Spec {
            path: path.to_path_buf(),
            origin,
            plan,
            overrides: overrides.clone(),
            stores: OnceLock::new(),
            known,
        };
        spec.apply_overrides()?;
        Ok(spec)
    }

    /// Its own text, without those that it builds on.
    pub fn own_text(&self) -> &str {
        self.origin.texts.text(0)
    }

    /// Another plan of the same spec, for a look: new columns and empty files stop nothing.
    ///
    /// # Errors
    /// As [`Spec::open`].
    pub fn plan_of_look(&self) -> Result<Plan, Error> {
        let mut plan = self.plan_past_new_columns()?;
        plan.source.when_empty = WhenEmpty::Skip;
        Ok(plan)
    }

    /// Another plan of the same spec, by which new columns stop nothing, so that all else that
    /// is wrong with the files is found.
    ///
    /// # Errors
    /// As [`Spec::open`].
    pub(crate) fn plan_past_new_columns(&self) -> Result<Plan, Error> {
        let plan = spec::read_plan_of(&self.origin.texts, self.known.clone());
        let mut plan = plan.map_err(|problems| Error::spec(&self.origin.texts, problems))?;
        plan.records.when_new_column = WhenNewColumn::Ignore;
        Ok(plan)
    }

    fn apply_overrides(&mut self) -> Result<(), Error> {
        let target = &mut self.plan.target;
        if let Some(mode) = self.overrides.mode {
            target.mode = mode;
        }
        if let Some(most) = self.overrides.max_rejects {
            self.plan.rejects.tolerance = most;
        }
        if target.mode == Mode::Replace && target.every != Every::All {
            return Err(Error::request(
                "--mode replace swaps the whole table in at once, and the spec commits as it goes",
                "say --mode truncate, or [target] commit_every = \"all\"",
            ));
        }
        Ok(())
    }

    /// How many remarks of a draft are still in it.
    pub fn remarks(&self) -> u64 {
        let is_remark = |line: &&str| line.trim_start().starts_with("# ! ");
        self.own_text().lines().filter(is_remark).count() as u64
    }

    /// Whether a database is named, by the spec or beside it.
    pub fn names_database(&self) -> bool {
        self.overrides.database.is_some() || self.plan.target.into.is_some()
    }

    /// The tables that it names, as far as it does.
    pub fn tables(&self) -> Vec<&str> {
        let given = self.overrides.table.as_deref();
        let usual = given.or(self.plan.target.table.as_deref());
        let loaded = self.plan.record_types.iter().filter(|kind| kind.load);
        loaded
            .filter_map(|kind| kind.table.as_deref().or(usual))
            .collect()
    }

    /// For each other file that it has keys from: its name, and the keys. What the command line
    /// says is not from there: what wins over the spec, and whether files and a folder of rejects
    /// are given.
    pub fn settings(&self, has_files: bool, has_rejects: bool) -> Vec<(String, Vec<String>)> {
        let said = [
            ("target.database", self.overrides.database.is_some()),
            ("target.table", self.overrides.table.is_some()),
            ("target.mode", self.overrides.mode.is_some()),
            ("rejects.max_rejects", self.overrides.max_rejects.is_some()),
            ("source.files", has_files),
            ("rejects.folder", has_rejects),
        ];
        let holds = |key: &String| !said.contains(&(key.as_str(), true));
        let mut others = self.origin.others();
        others.iter_mut().for_each(|(_, keys)| keys.retain(holds));
        others.retain(|(_, keys)| !keys.is_empty());
        others
    }

    /// The spec's name for people.
    pub fn name(&self) -> String {
        visible_path(&self.path)
    }

    /// The files that are given, or the spec's where none is.
    ///
    /// # Errors
    /// A file is not there, a pattern matches none, or there is none at all.
    pub fn files(&self, given: &[String]) -> Result<Vec<SourceFile>, Error> {
        let stores = self.stores()?;
        let files = if given.is_empty() {
            let base = self.origin.base_of("source", "files");
            named_files::find(&self.plan.files, base, &stores)?
        } else {
            named_files::find(given, Path::new(""), &stores)?
        };
        if files.is_empty() {
            return Err(Error::request(
                "there are no files to read",
                "name them after the spec, or under [source] files",
            ));
        }
        Ok(files)
    }

    /// The places that are not this machine, by what the spec and the environment say.
    ///
    /// # Errors
    /// The spec names a variable that the environment does not have.
    pub fn stores(&self) -> Result<Arc<Stores>, Error> {
        if let Some(stores) = self.stores.get() {
            return Ok(stores.clone());
        }
        let stores = Stores::new(&self.plan.stores, &environment);
        let stores =
            stores.map_err(|why| Error::request(why, "set it, or change [stores] in the spec"))?;
        stores.secrets().for_each(secret::learn_secret);
        Ok(self.stores.get_or_init(|| Arc::new(stores)).clone())
    }

    /// The place that gets a folder of rejects for each run: the one that is given, or the
    /// spec's.
    pub(crate) fn rejects_place(&self, given: Option<PathBuf>) -> Result<RejectsPlace, Error> {
        let own = &self.plan.rejects.folder;
        let is_elsewhere = own.to_str().is_some_and(is_address);
        let place = given.unwrap_or_else(|| match is_elsewhere {
            true => own.clone(),
            false => self.origin.base_of("rejects", "folder").join(own),
        });
        RejectsPlace::new(place, || self.stores())
    }

    /// The database.
    ///
    /// # Errors
    /// None is named, or its address is none.
    pub fn url(&self) -> Result<Url, Error> {
        match (&self.overrides.database, &self.plan.target.into) {
            (Some(given), _) => Ok(Url::parse(given, Path::new(""), environment)?),
            (None, Some(own)) => {
                let base = self.origin.base_of("target", "database");
                Ok(Url::parse(own, base, environment)?)
            }
            (None, None) => Err(Error::request(
                "there is no database to load into",
                "say --database sqlite:market.db, or [target] database in the spec",
            )),
        }
    }

    /// What is to be loaded, and where. Where table names are case-insensitive, names that differ
    /// only in case are the same table.
    ///
    /// # Errors
    /// There is no table to load into.
    pub fn job_in(&self, url: &Url) -> Result<Job, Error> {
        let job = self.job()?;
        Ok(match url.dialect().folds_table_names() {
            true => job.folded(),
            false => job,
        })
    }

    /// The same as the spec names it, whatever database it is for.
    ///
    /// # Errors
    /// There is no table to load into.
    pub fn job(&self) -> Result<Job, Error> {
        let table = self.overrides.table.as_deref();
        let target = &self.plan.target;
        let record_types = self.plan.record_types.iter().enumerate();
        let loaded = record_types.filter(|(_, kind)| kind.load);
        let parts = loaded.map(|(number, kind)| {
            let own = kind.table.as_deref();
            let Some(table) = own.or(table).or(target.table.as_deref()) else {
                return Err(Error::request(
                    "there is no table to load into",
                    "say --table NAME, or [target] table in the spec",
                ));
            };
            let columns = kind.loaded().map(|column| Column {
                name: column.name.clone(),
                ty: column.ty,
                required: column.required,
                inexact_as_text: column.when_inexact == WhenInexact::Text,
                one_of: column
                    .reader
                    .as_ref()
                    .map(ColumnReader::allowed)
                    .unwrap_or_default(),
            });
            let name = |place: &usize| kind.columns[*place].name.clone();
            Ok(RecordTable {
                number,
                table: table.to_string(),
                columns: columns.collect(),
                key: kind.key.iter().map(name).collect(),
                run_column: target.run_column.clone(),
                references: target.references.clone(),
            })
        });
        Ok(Job {
            parts: parts.collect::<Result<_, Error>>()?,
            mode: target.mode,
            truncates: target.empty_with == EmptyWith::Truncate,
            is_emptied: false,
            may_cascade: target.when_cascading == WhenCascading::Allow,
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
fn known(url: Option<&Url>, table: Option<&str>) -> Result<Option<Known>, Error> {
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

/// How the pipeline of a run is run.
pub(crate) fn pipeline_options(threads: Option<usize>, run: &str) -> pipeline::Options {
    let usual = pipeline::Options::default();
    pipeline::Options {
        threads: threads.unwrap_or(usual.threads),
        context: pipeline::RunContext {
            run: run.to_string(),
            ..usual.context
        },
        ..usual
    }
}
