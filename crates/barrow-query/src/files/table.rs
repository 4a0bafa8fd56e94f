//! A record type's files as a virtual table ("The Virtual Table Mechanism Of SQLite").

use std::borrow::Cow;
use std::ffi::{CStr, CString};
use std::sync::{Arc, Mutex};

use rusqlite::vtab::{CreateVTab, IndexInfo, VTab, VTabConnection, VTabKind, sqlite3_vtab};

use super::constraint::Operator;
use super::cursor::FilesCursor;
use super::given::{Given, Scans};
use super::scan_plan::{ScanPlan, Wanted};
use crate::tables::Extra;

/// A record type's files as a virtual table.
#[repr(C)]
pub struct FilesTable {
    base: sqlite3_vtab,
    pub(super) given: Given,
    pub(super) scans: Arc<Mutex<Scans>>,
}

// SAFETY: the struct is `repr(C)` and begins with SQLite's own part, which is all that the
// trait asks for ("sqlite3_vtab": implementations are subclasses of it). Without a virtual
// table every row would have to be copied into a table first.
#[expect(
    unsafe_code,
    reason = "rusqlite has no other way to make a virtual table"
)]
unsafe impl VTab<'_> for FilesTable {
    type Aux = Given;
    type Cursor = FilesCursor;

    fn connect(
        _: &mut VTabConnection,
        given: Option<&Given>,
        _: &[u8],
        _: &[u8],
        _: &[u8],
        _: &[&[u8]],
    ) -> rusqlite::Result<(Cow<'static, CStr>, Self)> {
        let given = given.ok_or_else(|| failed("a table of files without files"))?;
        let columns = given.table.declared();
        let columns: Vec<String> = columns
            .iter()
            .map(|(name, declared)| format!("{} {declared}", quoted(name)))
            .collect();
        let sql = format!("CREATE TABLE files ({})", columns.join(", "));
        let sql = CString::new(sql).map_err(|_| failed("a column's name holds a zero byte"))?;
        let table = FilesTable {
            base: sqlite3_vtab::default(),
            given: given.clone(),
            scans: Arc::default(),
        };
        Ok((Cow::Owned(sql), table))
    }

    fn best_index(&self, info: &mut IndexInfo) -> rusqlite::Result<bool> {
        let mut found = Vec::new();
        for (place, constraint) in info.constraints().enumerate() {
            let column = usize::try_from(constraint.column()).ok();
            let operator = Operator::of(constraint.operator());
            if let (true, Some(column), Some(operator)) = (constraint.is_usable(), column, operator)
            {
                found.push((place, Wanted { column, operator }));
            }
        }
        let mut wanted = Vec::new();
        for (place, one) in found {
            let collation = info.collation(place)?;
            // A list of values is looked through value by value, which only that of a file makes
            // quick.
            let is_of_file = one.column >= self.given.table.columns.len();
            if !self.serves(&one, collation) || (!is_of_file && info.is_in_constraint(place)?) {
                continue;
            }
            wanted.push(one);
            info.constraint_usage(place)
                .set_argv_index(wanted.len() as i32);
        }
        self.estimate(&wanted, info);
        let plan = ScanPlan {
            number: self.given.shared.number(),
            used: info.col_used(),
            wanted,
        };
        info.set_idx_str(&plan.text());
        Ok(true)
    }

    fn open(&mut self) -> rusqlite::Result<FilesCursor> {
        Ok(FilesCursor::new(self.given.clone(), self.scans.clone()))
    }
}

impl CreateVTab<'_> for FilesTable {
    const KIND: VTabKind = VTabKind::Default;
}

impl FilesTable {
    /// Whether a condition is of use here. The value is compared as the column's own.
    fn serves(&self, wanted: &Wanted, collation: &str) -> bool {
        let table = &self.given.table;
        match table.columns.get(wanted.column) {
            Some(_) => collation.eq_ignore_ascii_case("binary") && !wanted.operator.is_pattern(),
            None => {
                let extra = table.extras.get(wanted.column - table.columns.len());
                extra == Some(&Extra::File)
                    && (wanted.operator.is_pattern() || collation.eq_ignore_ascii_case("binary"))
            }
        }
    }

    /// What a scan costs. One that is repeated keeps its rows, which costs more the more there
    /// are: so of two files that are joined, the larger is read once and the smaller is kept.
    fn estimate(&self, wanted: &[Wanted], info: &mut IndexInfo) {
        let rows = self.given.table.estimated_rows;
        let own = self.given.table.columns.len();
        let is_key = |one: &Wanted| one.operator == Operator::Equal && one.column < own;
        let whole = rows * 1000.0;
        let (cost, found) = match wanted.iter().any(is_key) {
            true => (rows.powf(1.4).min(whole / 2.0), rows / 1000.0 + 1.0),
            false if !wanted.is_empty() => (whole * 0.9, rows / 4.0),
            false => (whole, rows),
        };
        info.set_estimated_cost(cost);
        info.set_estimated_rows(found as i64);
    }
}

/// An identifier of SQL.
pub fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

fn failed(words: &str) -> rusqlite::Error {
    rusqlite::Error::ModuleError(words.to_string())
}
