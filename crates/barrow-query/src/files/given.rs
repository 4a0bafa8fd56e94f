//! What the places of a table in one query have in common.

use std::collections::HashMap;
use std::sync::Arc;

use barrow_core::plan::Plan;
use barrow_core::source::SourceFile;
use barrow_run::Error;

use super::kept::Kept;
use crate::shared::Shared;
use crate::tables::FileTable;

/// What a virtual table is made of.
#[derive(Clone)]
pub struct Given {
    /// The table.
    pub table: Arc<FileTable>,
    /// What the query's parts know in common.
    pub shared: Shared,
}

impl Given {
    /// How the files are read where only some of the table's columns are used.
    ///
    /// # Errors
    /// As [`barrow_run::Spec::plan_of_look`].
    pub fn plan_of(&self, uses: impl Fn(&str) -> bool) -> Result<Plan, Error> {
        let mut own = self.table.files.spec.plan_of_look()?;
        own.narrow(self.table.record_type, uses);
        Ok(own)
    }

    /// Notes which columns a look reads.
    pub fn begun(&self, number: u64, plan: &Plan) {
        let kind = &plan.record_types[self.table.record_type];
        let name = |place: &usize| kind.columns[*place].name.clone();
        self.shared.count(number, |scan| {
            scan.table.clone_from(&self.table.name);
            scan.columns = kind.read.iter().map(name).collect();
        });
    }

    /// Whether files can be read now: a pipe can be read only once, and is not read to be
    /// kept for another look.
    ///
    /// # Errors
    /// One of them was read already, or `is_kept` and can be read only once.
    pub fn may_read(&self, files: &[SourceFile], is_kept: bool) -> Result<(), Error> {
        let mut once = files.iter().filter(|file| !file.is_repeatable());
        match once.find(|file| is_kept || !self.shared.may_read(file.identity())) {
            None => Ok(()),
            Some(file) => Err(Error::request(
                format!(
                    "the query reads {} more than once, which cannot be",
                    file.name()
                ),
                "write it to a file first",
            )),
        }
    }

    /// Notes why a value cannot be given.
    pub fn inexact(&self, error: rusqlite::Error) -> rusqlite::Error {
        match error {
            rusqlite::Error::ModuleError(words) => self.shared.fail(Error::request(
                words,
                "say when_inexact = \"text\" on the column: then it is text, and compares as text",
            )),
            other => other,
        }
    }

    /// Whether the file at a place of the table's is what it was: one that changes while it
    /// is read is no answer.
    ///
    /// # Errors
    /// It changed.
    pub fn is_still(&self, place: usize, name: &str) -> Result<(), Error> {
        match self.table.files.is_still(place) {
            true => Ok(()),
            false => Err(Error::failed(format!(
                "{name}: it changed while it was read"
            ))),
        }
    }
}

/// How often each place of the table in the query was looked through, and what was kept.
#[derive(Default)]
pub struct Scans {
    /// Looks, by the place and the file that it was for, where it was for one.
    pub begun: HashMap<(u64, Option<String>), u64>,
    /// Kept rows, by the place.
    pub kept: HashMap<u64, Kept>,
}
