//! What a load would reject, as a table: a row for each reason.

use std::borrow::Cow;
use std::collections::VecDeque;
use std::ffi::{CStr, c_int};
use std::sync::Arc;

use barrow_core::reason::Reject;
use barrow_run::Error;
use rusqlite::types::Value;
use rusqlite::vtab::{
    Context, CreateVTab, Filters, IndexInfo, VTab, VTabConnection, VTabCursor, VTabKind,
    sqlite3_vtab, sqlite3_vtab_cursor,
};

use crate::files::Batches;
use crate::shared::Shared;
use crate::tables::Files;

/// The table's columns.
const DECLARED: &CStr = c"CREATE TABLE rejects (file TEXT, line INTEGER, record INTEGER, \
    \"column\" TEXT, code TEXT, value TEXT, reason TEXT, spec TEXT)";

/// How many columns it has.
const WIDTH: usize = 8;

/// The files whose rejects are asked for.
#[derive(Clone)]
pub struct Given {
    /// The files of each spec.
    pub files: Arc<Vec<Arc<Files>>>,
    /// What the query's parts know in common.
    pub shared: Shared,
}

/// The table of rejects.
#[repr(C)]
pub struct RejectsTable {
    base: sqlite3_vtab,
    given: Given,
}

// SAFETY: the struct is `repr(C)` and begins with SQLite's own part, as the trait asks. Without
// a virtual table all rejects would have to be copied into a table first.
#[expect(
    unsafe_code,
    reason = "rusqlite has no other way to make a virtual table"
)]
unsafe impl VTab<'_> for RejectsTable {
    type Aux = Given;
    type Cursor = RejectsCursor;

    fn connect(
        _: &mut VTabConnection,
        given: Option<&Given>,
        _: &[u8],
        _: &[u8],
        _: &[u8],
        _: &[&[u8]],
    ) -> rusqlite::Result<(Cow<'static, CStr>, Self)> {
        let given = given.cloned();
        let given =
            given.ok_or_else(|| rusqlite::Error::ModuleError("rejects of no files".into()))?;
        let table = RejectsTable {
            base: sqlite3_vtab::default(),
            given,
        };
        Ok((Cow::Borrowed(DECLARED), table))
    }

    fn best_index(&self, info: &mut IndexInfo) -> rusqlite::Result<bool> {
        // All files are read, whatever is asked: best once.
        info.set_estimated_cost(1e12);
        Ok(true)
    }

    fn open(&mut self) -> rusqlite::Result<RejectsCursor> {
        Ok(RejectsCursor {
            base: sqlite3_vtab_cursor::default(),
            given: self.given.clone(),
            reading: 0,
            batches: None,
            waiting: VecDeque::new(),
            row: 0,
        })
    }
}

impl CreateVTab<'_> for RejectsTable {
    const KIND: VTabKind = VTabKind::Default;
}

/// A scan of the rejects.
#[repr(C)]
pub struct RejectsCursor {
    base: sqlite3_vtab_cursor,
    given: Given,
    /// How many specs' files were begun.
    reading: usize,
    batches: Option<Batches>,
    waiting: VecDeque<[Value; WIDTH]>,
    row: i64,
}

impl RejectsCursor {
    /// Reads on until there is a reject, or no file any more.
    fn fill(&mut self) -> Result<(), Error> {
        while self.waiting.is_empty() {
            let Some(batches) = &mut self.batches else {
                let Some(files) = self.given.files.get(self.reading) else {
                    return Ok(());
                };
                self.reading += 1;
                let plan = Arc::new(files.spec.plan_of_look()?);
                let nothing = Box::new(|_: &mut _| {});
                self.batches = Some(Batches::read(
                    plan,
                    files.files.clone(),
                    files.threads,
                    nothing,
                ));
                continue;
            };
            let Some(batch) = batches.next() else {
                self.batches = None;
                continue;
            };
            let batch = batch?;
            let spec = self.given.files[self.reading - 1].spec.name();
            let file = batch.file().map_or("", |file| &file.name);
            for reject in &batch.rejects {
                self.waiting.extend(rows(reject, file, &spec));
            }
            batches.give_back(batch);
        }
        Ok(())
    }
}

/// A row for each of a reject's reasons.
fn rows(reject: &Reject, file: &str, spec: &str) -> Vec<[Value; WIDTH]> {
    let text = |text: &str| Value::Text(text.to_string());
    let maybe = |text: Option<&str>| text.map_or(Value::Null, |text| Value::Text(text.into()));
    let row = |reason: &barrow_core::reason::Reason| {
        [
            text(file),
            Value::Integer(reject.line as i64),
            Value::Integer(reject.record as i64),
            maybe(reason.column.as_deref()),
            text(reason.code.word()),
            maybe(reason.value.as_deref()),
            text(&reason.says),
            text(spec),
        ]
    };
    reject.reasons.iter().map(row).collect()
}

// SAFETY: the struct is `repr(C)` and begins with SQLite's own part, as the trait asks.
#[expect(
    unsafe_code,
    reason = "rusqlite has no other way to make a virtual table"
)]
unsafe impl VTabCursor for RejectsCursor {
    fn filter(&mut self, _: c_int, _: Option<&str>, _: &Filters<'_>) -> rusqlite::Result<()> {
        self.reading = 0;
        self.batches = None;
        self.waiting.clear();
        self.row = 0;
        self.fill().map_err(|error| self.given.shared.fail(error))
    }

    fn next(&mut self) -> rusqlite::Result<()> {
        self.waiting.pop_front();
        self.row += 1;
        self.fill().map_err(|error| self.given.shared.fail(error))
    }

    fn eof(&self) -> bool {
        self.waiting.is_empty()
    }

    fn column(&self, context: &mut Context, column: c_int) -> rusqlite::Result<()> {
        let row = self.waiting.front();
        let place = usize::try_from(column).unwrap_or(usize::MAX);
        match row.and_then(|row| row.get(place)) {
            Some(value) => context.set_result(value),
            None => Ok(()),
        }
    }

    fn rowid(&self) -> rusqlite::Result<i64> {
        Ok(self.row)
    }
}
