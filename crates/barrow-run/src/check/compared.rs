//! The database, as far as it was named, compared with the spec and the files.

use std::time::Duration;

use barrow_core::column_stats::ColumnStats;
use barrow_core::plan::{ColumnPlan, Plan, RecordTypePlan};
use barrow_core::source::SourceFile;
use barrow_core::words::Mode;
use barrow_targets::cascade::{self, Deleted};
use barrow_targets::ledger::Run;
use barrow_targets::{Foresight, Job, Session, Table, Url, Value};

use super::column_comparison::{Side, Sides};
use crate::error::Error;
use crate::load::request::LoadRequest;
use crate::load::select_files;
use crate::load::selection::{Selected, Selection};
use crate::observer::Watch;
use crate::run_rows;
use crate::spec_file::Spec;

/// The target as far as it was named.
pub(super) struct Compared {
    pub url: Option<Url>,
    pub job: Option<Job>,
    /// For each kind of record its table.
    tables: Vec<Option<Table>>,
    /// What finds the rows that the tables would refuse.
    pub foresight: Foresight,
    /// The files that a load would read, and those that it would pass over.
    pub selection: Selection,
    /// Places of files that another load is reading now.
    pub in_other_hands: Vec<usize>,
    /// Why a load would stop, if it is not for a record.
    pub unfit: Option<Error>,
}

impl Compared {
    pub fn new(
        spec: &Spec,
        files: Vec<SourceFile>,
        again: bool,
        watch: &dyn Watch,
    ) -> Result<Compared, Error> {
        let mut compared = Compared {
            url: None,
            job: None,
            tables: spec.plan.record_types.iter().map(|_| None).collect(),
            foresight: Foresight::default(),
            selection: Selection::default(),
            in_other_hands: Vec::new(),
            unfit: None,
        };
        if !spec.names_database() {
            compared.selection.files = Selected::all(files)?;
            return Ok(compared);
        }
        let request = LoadRequest {
            again,
            patience: Duration::ZERO,
            ..LoadRequest::new(spec, None, watch)?
        };
        let (url, job) = (request.url.clone(), request.job.clone());
        match url.is_there() {
            true => compared.ask(&request, files)?,
            false => {
                if !job.create {
                    compared.unfit = url.open(false).err().map(Error::from);
                }
                compared.selection.files = Selected::all(files)?;
                compared.foresight = url.foresight_of_new(&job)?;
            }
        }
        compared.miss(&job);
        (compared.url, compared.job) = (Some(url), Some(job));
        Ok(compared)
    }

    /// Compares the job with the tables, and the files with the ledger.
    fn ask(&mut self, request: &LoadRequest<'_>, files: Vec<SourceFile>) -> Result<(), Error> {
        let job = &request.job;
        let mut session = request.url.open(false)?;
        for part in &job.parts {
            let table = session.describe(&part.table)?;
            if job.mode == Mode::Replace {
                continue;
            }
            if let Some(table) = &table
                && let Err(error) = session.fits(job.mode, part, table)
            {
                self.unfit = self.unfit.take().or(Some(error.into()));
            }
            self.tables[part.number] = table;
        }
        if self.unfit.is_none() {
            match session.foresight(job) {
                Ok(foresight) => self.foresight = foresight,
                Err(error) => self.unfit = Some(error.into()),
            }
        }
        let (selection, stops) = select_files::predict(request, session.as_mut(), files)?;
        self.in_other_hands = select_files::in_other_hands(request, &selection)?;
        self.selection = selection;
        self.unfit = self.unfit.take().or(stops);
        if self.unfit.is_none() && !self.selection.files.is_empty() {
            self.unfit = self.cascades(job, session.as_mut()).err();
        }
        Ok(())
    }

    /// Whether a load may delete what it would: rows of other tables may go along.
    fn cascades(&self, job: &Job, session: &mut dyn Session) -> Result<(), Error> {
        for run in &self.selection.replaces {
            let mends = run_rows::mends(session, run)?;
            let runs: Vec<&Run> = std::iter::once(run).chain(&mends).collect();
            let by = run_rows::by(session, run)?;
            run_rows::losses_of_runs(session, &runs, &by, job.may_cascade)?;
        }
        let dialect = session.dialect();
        if !matches!(job.mode, Mode::Truncate | Mode::Replace) {
            return Ok(());
        }
        let tables = job.tables();
        for table in tables.iter().copied() {
            if session.describe(table)?.is_none() {
                continue;
            }
            // SQLite deletes the rows of a table that it drops; elsewhere another takes its place.
            if job.mode == Mode::Replace && !dialect.has_one_writer() {
                let mut ask = |sql: &str, values: &[Value]| {
                    session.query(sql, values, "looking for foreign keys")
                };
                cascade::can_be_replaced(dialect, &mut ask, table)?;
            } else {
                run_rows::losses_of(session, Deleted::all_of(table, &tables), job.may_cascade)?;
            }
        }
        Ok(())
    }

    /// A table that is not there and would not be made.
    fn miss(&mut self, job: &Job) {
        for part in &job.parts {
            if self.tables[part.number].is_none() && !makes(job) && self.unfit.is_none() {
                self.unfit = Some(barrow_targets::table::missing(&part.table).into());
            }
        }
    }

    /// The sets of columns of which no two records may have the same values: the spec's key,
    /// and those of the table. For each kind of record, as places in what is read.
    pub fn unique(&self, plan: &Plan) -> Vec<Vec<Key>> {
        let each = plan.record_types.iter().enumerate().map(|(number, kind)| {
            let mut sets: Vec<Vec<String>> = vec![kind_key(kind)];
            if plan.target.mode == Mode::Merge {
                // Rows with the same key are merged one after the other.
                sets.clear();
            }
            let theirs = self.tables[number].iter().flat_map(|table| &table.unique);
            let is_merged = |set: &Vec<String>| {
                plan.target.mode == Mode::Merge && is_same_set(set, &kind_key(kind))
            };
            for set in theirs.filter(|set| !is_merged(set)) {
                if !sets.iter().any(|other| is_same_set(other, set)) {
                    sets.push(set.clone());
                }
            }
            let placed = sets
                .into_iter()
                .filter(|set| !set.is_empty())
                .filter_map(|names| {
                    let slot = |name: &String| {
                        // The exact name wins over one that differs in case, here and in
                        // the table.
                        let exact = kind.columns.iter().position(|c| c.name == *name);
                        let is_another = |c: &ColumnPlan| {
                            let mut columns = self.tables[number].iter().flat_map(|t| &t.columns);
                            columns.any(|column| column.name == c.name)
                        };
                        let alike =
                            |c: &ColumnPlan| c.name.eq_ignore_ascii_case(name) && !is_another(c);
                        kind.slot(exact.or_else(|| kind.columns.iter().position(alike))?)
                    };
                    let slots = names.iter().map(slot).collect::<Option<Vec<usize>>>()?;
                    Some(Key { names, slots })
                });
            placed.collect()
        });
        each.collect()
    }

    /// Each kind's columns, side by side.
    pub fn columns(
        &self,
        plan: &Plan,
        header: Option<&[String]>,
        seen: &[Vec<ColumnStats>],
    ) -> Vec<(String, Vec<Side>)> {
        let record_types = plan.record_types.iter().enumerate();
        let each = record_types.map(|(number, kind)| {
            let sides = Sides {
                kind,
                header,
                table: self.tables[number].as_ref(),
                makes: self.job.as_ref().map(makes),
                dialect: self.url.as_ref().map(Url::dialect),
                seen: seen.get(number).map_or(&[], Vec::as_slice),
            };
            (kind.name.clone().unwrap_or_default(), sides.all())
        });
        each.collect()
    }
}

/// Whether a load would make its table where it is missing. One that is replaced is
/// made anew whatever it was like.
fn makes(job: &Job) -> bool {
    job.create || job.mode == Mode::Replace
}

fn kind_key(kind: &RecordTypePlan) -> Vec<String> {
    let names = kind
        .key
        .iter()
        .map(|place| kind.columns[*place].name.clone());
    names.collect()
}

fn is_same_set(a: &[String], b: &[String]) -> bool {
    let has = |set: &[String], name: &String| set.iter().any(|n| n.eq_ignore_ascii_case(name));
    a.len() == b.len() && a.iter().all(|name| has(b, name))
}

/// Columns of which no two records may have the same values.
#[derive(Clone)]
pub(super) struct Key {
    pub names: Vec<String>,
    /// Their places in what is read.
    pub slots: Vec<usize>,
}
