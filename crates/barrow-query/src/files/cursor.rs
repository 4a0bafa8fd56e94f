//! A scan of the rows of a table.

use std::cell::RefCell;
use std::ffi::c_int;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use barrow_core::pipeline::Encoded;
use barrow_core::source::SourceFile;
use barrow_core::types::Type;
use barrow_core::values::Cell;
use barrow_run::Error;
use barrow_targets::sqlite::{Exact, exact_number};
use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::vtab::{Context, Filters, VTabCursor, sqlite3_vtab_cursor};

use super::constraint::Operator;
use super::flow::Batches;
use super::given::{Given, Scans};
use super::kept::{Kept, KeptColumn, KeptRows};
use super::prune::Prune;
use super::scan_plan::ScanPlan;
use super::value::{of_cell, of_ref, owned, short};
use crate::tables::{Extra, TableColumn};

/// A file may have 2^40 records, and there may be 2^23 files.
const RECORD_BITS: u32 = 40;

/// What the cursor does with a column: where its cells stand, or what it is beside them.
#[derive(Debug, Clone, Copy)]
enum Output {
    /// A column of the spec.
    Cell {
        /// Where its cells stand.
        slot: usize,
        /// Its type.
        ty: Type,
    },
    /// A column of decimals that are numbers of SQLite's.
    Decimal {
        /// Where its cells stand.
        slot: usize,
        /// Ten to the power of its scale.
        unit: f64,
        /// Its scale.
        scale: u32,
    },
    /// What every record has.
    Extra(Extra),
    /// It is not used.
    Unused,
}

impl Output {
    fn of(slot: usize, column: &TableColumn) -> Output {
        match column.ty {
            Type::Decimal { scale, .. } if !column.is_text => Output::Decimal {
                slot,
                unit: 10f64.powi(i32::from(scale)),
                scale: u32::from(scale),
            },
            ty => Output::Cell { slot, ty },
        }
    }
}

/// Rows that come from the files.
struct Streaming {
    batches: Batches,
    outputs: Vec<Output>,
    part: usize,
    number: u64,
    current: Option<Encoded<u64>>,
    /// The row among the good ones of the batch that stands, and how many these are.
    at: usize,
    good: usize,
    /// For each file of the flow, its place among the table's.
    places: Vec<usize>,
    text: RefCell<Vec<u8>>,
}

/// Where the rows come from.
enum From {
    Nowhere,
    Files(Box<Streaming>),
    Kept(KeptRows, ScanPlan),
}

/// A scan of the rows of a table.
#[repr(C)]
pub struct FilesCursor {
    base: sqlite3_vtab_cursor,
    given: Given,
    scans: Arc<Mutex<Scans>>,
    from: From,
}

impl FilesCursor {
    /// A cursor that stands nowhere yet.
    pub fn new(given: Given, scans: Arc<Mutex<Scans>>) -> Self {
        FilesCursor {
            base: sqlite3_vtab_cursor::default(),
            given,
            scans,
            from: From::Nowhere,
        }
    }

    fn scans(&self) -> MutexGuard<'_, Scans> {
        self.scans.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins to read the files: those that `values` do not exclude.
    fn stream(&self, plan: &ScanPlan, values: &[Value], counts: bool) -> Result<Streaming, Error> {
        let table = &self.given.table;
        let own = self.given.plan_of(|name| {
            let place = table.columns.iter().position(|c| c.name == name);
            place.is_some_and(|place| plan.uses(place))
        })?;
        let kind = &own.record_types[table.record_type];
        let mut prune = Prune::default();
        for (wanted, value) in plan.wanted.iter().zip(values) {
            if let Some(column) = table.columns.get(wanted.column) {
                prune.add(kind, &column.name, wanted.operator, value);
            }
        }
        let places = self.wanted_files(plan, values);
        let files: Vec<SourceFile> = places
            .iter()
            .map(|p| table.files.files[*p].clone())
            .collect();
        self.given.may_read(&files, !counts)?;
        let slot = |name: &str| {
            let place = kind.columns.iter().position(|c| c.name == name)?;
            kind.slot(place)
        };
        let output = |(place, column): (usize, &TableColumn)| {
            let slot = slot(&column.name).filter(|_| plan.uses(place));
            slot.map_or(Output::Unused, |slot| Output::of(slot, column))
        };
        let outputs = table.columns.iter().enumerate().map(output);
        let extras = table.extras.iter().copied().map(Output::Extra);
        let outputs = outputs.chain(extras).collect();
        if counts {
            self.given.begun(plan.number, &own);
        }
        let part = table.record_type;
        let work = move |batch: &mut Encoded<u64>| {
            batch.encoded = batch
                .parts
                .get(part)
                .map_or(0, |rows| rows.good.len() as u64);
            prune.prune(&mut batch.batch, part);
        };
        Ok(Streaming {
            batches: Batches::read(Arc::new(own), files, table.files.threads, Box::new(work)),
            outputs,
            part,
            number: plan.number,
            current: None,
            at: 0,
            good: 0,
            places,
            text: RefCell::default(),
        })
    }

    /// The files that no condition on their names excludes.
    fn wanted_files(&self, plan: &ScanPlan, values: &[Value]) -> Vec<usize> {
        let table = &self.given.table;
        let of_files: Vec<(Operator, &Value)> = plan
            .wanted
            .iter()
            .zip(values)
            .filter(|(wanted, _)| wanted.column >= table.columns.len())
            .map(|(wanted, value)| (wanted.operator, value))
            .collect();
        let files = table.files.files.iter().enumerate();
        let wanted = files.filter(|(_, file)| {
            let name = file.name();
            of_files
                .iter()
                .all(|(operator, value)| operator.may_hold(&name, value))
        });
        wanted.map(|(place, _)| place).collect()
    }

    /// The file that a scan is of, where it is of one.
    fn file_of(&self, plan: &ScanPlan, values: &[Value]) -> Option<String> {
        let own = self.given.table.columns.len();
        let mut of_file = plan
            .wanted
            .iter()
            .zip(values)
            .filter(|(wanted, _)| wanted.column >= own && wanted.operator == Operator::Equal);
        of_file.next().map(|(_, value)| format!("{value:?}"))
    }

    /// Keeps all rows that this place of the query may read again.
    fn keep(&self, plan: &ScanPlan) -> Result<(), rusqlite::Error> {
        if self.scans().kept.contains_key(&plan.number) {
            return Ok(());
        }
        let failed = |error| self.given.shared.fail(error);
        let all = ScanPlan {
            wanted: Vec::new(),
            ..plan.clone()
        };
        let mut rows = self.stream(&all, &[], false).map_err(failed)?;
        let columns: Vec<KeptColumn> = self
            .given
            .table
            .declared()
            .into_iter()
            .enumerate()
            .filter(|(place, _)| plan.uses(*place) || is_key(plan, *place))
            .map(|(place, (_, declared))| KeptColumn {
                column: place,
                declared: declared.replace(" HIDDEN", ""),
                is_key: is_key(plan, place),
            })
            .collect();
        let mut kept = Kept::new(&columns)?;
        let mut row = Vec::with_capacity(columns.len());
        self.advance(&mut rows, false)?;
        while rows.current.is_some() {
            row.clear();
            for kept in &columns {
                let given = rows.value(kept.column, |value| {
                    row.push(owned(&value));
                    Ok(())
                });
                given.map_err(|error| self.given.inexact(error))?;
            }
            kept.add(rows.place(), &row)?;
            self.advance(&mut rows, false)?;
        }
        kept.ended(&columns)?;
        let count = kept.rows;
        self.given
            .shared
            .count(plan.number, |scan| scan.kept = Some(count));
        self.scans().kept.insert(plan.number, kept);
        Ok(())
    }

    /// The kept rows that may be wanted: all, or those that an index finds, where it compares
    /// as SQLite would. A column of numbers makes a number of text that looks like one, and so
    /// does the index; a column of text is not text any more where it is compared with numbers.
    fn kept_rows(&self, plan: &ScanPlan, values: &[Value]) -> KeptRows {
        let scans = self.scans();
        let Some(kept) = scans.kept.get(&plan.number) else {
            return KeptRows::none();
        };
        let columns = &self.given.table.columns;
        let keys = plan.wanted.iter().zip(values);
        for (wanted, value) in keys.filter(|(wanted, _)| wanted.operator == Operator::Equal) {
            let Some(column) = columns.get(wanted.column) else {
                continue;
            };
            let is_text = column.ty.is_text()
                || column.is_text
                || matches!(column.ty, Type::Uuid | Type::Json);
            match value {
                Value::Null => return KeptRows::none(),
                Value::Integer(_) | Value::Real(_) if is_text => {}
                Value::Blob(_) => {}
                _ => return kept.look(Some((wanted.column, value.clone()))),
            }
        }
        kept.look(None)
    }

    /// Moves to the next row of the files.
    fn advance(&self, rows: &mut Streaming, counts: bool) -> rusqlite::Result<()> {
        rows.at += 1;
        while rows.at >= rows.good {
            (rows.at, rows.good) = (0, 0);
            if let Some(old) = rows.current.take() {
                rows.batches.give_back(old);
            }
            let next = match rows.batches.next() {
                None => {
                    self.given
                        .shared
                        .count(rows.number, |scan| scan.is_whole |= counts);
                    return Ok(());
                }
                Some(next) => next.map_err(|error| self.given.shared.fail(error))?,
            };
            if counts {
                self.given.shared.count(rows.number, |scan| {
                    scan.counts.add(&next, next.encoded, &[]);
                });
            }
            self.is_still(rows, &next)?;
            rows.good = next.parts.get(rows.part).map_or(0, |rows| rows.good.len());
            rows.current = Some(next);
        }
        Ok(())
    }

    /// A file that changes while it is read is no answer.
    fn is_still(&self, rows: &Streaming, batch: &Encoded<u64>) -> rusqlite::Result<()> {
        let (Some(file), true) = (batch.file(), batch.block.last.is_some()) else {
            return Ok(());
        };
        let place = rows.places.get(file.index).copied().unwrap_or(usize::MAX);
        let still = self.given.is_still(place, &file.name);
        still.map_err(|error| self.given.shared.fail(error))
    }
}

/// Whether rows are looked for by a column.
fn is_key(plan: &ScanPlan, column: usize) -> bool {
    let mut wanted = plan.wanted.iter();
    wanted.any(|w| w.column == column && w.operator == Operator::Equal)
}

/// A whole number below it, divided by a power of ten up to the other, is the number of SQLite's
/// that gives the quotient back.
const SHORT: u64 = 1_000_000_000_000_000;
const EXACT: u32 = 22;

/// A decimal as a number of SQLite's that gives it back; none where none does.
fn exact(n: i128, scale: u32) -> Option<ValueRef<'static>> {
    Some(match exact_number(n, scale)? {
        Exact::Whole(n) => ValueRef::Integer(n),
        Exact::Float(n) => ValueRef::Real(n),
    })
}

impl Streaming {
    /// A decimal that no number of SQLite's gives back.
    fn inexact(&self, batch: &Encoded<u64>, row: usize) -> rusqlite::Error {
        let mark = batch.parts[self.part].marks[row] as usize;
        let line = batch.block.first_line + u64::from(batch.block.marks[mark].line);
        let file = batch.file().map_or("", |file| file.name.as_str());
        rusqlite::Error::ModuleError(format!(
            "{file}, line {line}: a decimal has more than the 15 digits that SQLite's numbers hold"
        ))
    }

    /// The place of the row that stands: the same in every look, whatever it passes over, since
    /// SQLite knows by it that a row which two conditions find is one.
    fn place(&self) -> i64 {
        let Some(batch) = &self.current else { return 0 };
        let rows = &batch.parts[self.part];
        let mark = rows.marks[rows.good[self.at] as usize] as usize;
        let file = batch.file().and_then(|file| self.places.get(file.index));
        let file = file.copied().unwrap_or(0) as i64;
        (file << RECORD_BITS) + batch.block.record_number(mark) as i64
    }

    /// Gives the value of a column in the row that stands.
    #[inline]
    fn value(
        &self,
        column: usize,
        give: impl FnOnce(ToSqlOutput<'_>) -> rusqlite::Result<()>,
    ) -> rusqlite::Result<()> {
        let (Some(batch), Some(output)) = (&self.current, self.outputs.get(column)) else {
            return Ok(());
        };
        let rows = &batch.parts[self.part];
        let row = rows.good[self.at] as usize;
        match *output {
            Output::Decimal { slot, unit, scale } => {
                let number = match rows.cell(slot, row) {
                    Cell::Decimal(n) if n.unsigned_abs() < SHORT && scale <= EXACT => {
                        Some(short(n, unit))
                    }
                    Cell::Decimal(n) => exact(i128::from(n), scale),
                    Cell::LongDecimal(piece) => {
                        let digits = piece.of(&batch.block.bytes, &rows.store).try_into();
                        digits
                            .ok()
                            .and_then(|n| exact(i128::from_le_bytes(n), scale))
                    }
                    _ => Some(ValueRef::Null),
                };
                match number {
                    Some(number) => give(ToSqlOutput::Borrowed(number)),
                    None => Err(self.inexact(batch, row)),
                }
            }
            Output::Cell { slot, ty } => {
                let mut text = self.text.borrow_mut();
                let cell = rows.cell(slot, row);
                give(of_cell(
                    cell,
                    ty,
                    &batch.block.bytes,
                    &rows.store,
                    &mut text,
                ))
            }
            Output::Unused => give(ToSqlOutput::Owned(Value::Null)),
            Output::Extra(extra) => {
                let mark = rows.marks[row] as usize;
                let block = &batch.block;
                give(ToSqlOutput::Owned(match extra {
                    Extra::File => {
                        Value::Text(batch.file().map_or(String::new(), |file| file.name.clone()))
                    }
                    Extra::Line => Value::Integer(
                        (block.first_line + u64::from(block.marks[mark].line)) as i64,
                    ),
                    Extra::Record => Value::Integer(block.record_number(mark) as i64),
                }))
            }
        }
    }
}

// SAFETY: the struct is `repr(C)` and begins with SQLite's own part, as the trait asks.
#[expect(
    unsafe_code,
    reason = "rusqlite has no other way to make a virtual table"
)]
unsafe impl VTabCursor for FilesCursor {
    fn filter(&mut self, _: c_int, text: Option<&str>, args: &Filters<'_>) -> rusqlite::Result<()> {
        let plan = ScanPlan::of_text(text);
        let plan =
            plan.ok_or_else(|| rusqlite::Error::ModuleError("a look without a plan".into()))?;
        let values: Vec<Value> = args.iter().map(of_ref).collect();
        let key = (plan.number, self.file_of(&plan, &values));
        let looks = {
            let mut scans = self.scans();
            let looks = scans.begun.entry(key).or_default();
            *looks += 1;
            *looks
        };
        // What was read before ends first.
        self.from = From::Nowhere;
        if looks > 1 {
            self.keep(&plan)?;
            self.from = From::Kept(self.kept_rows(&plan, &values), plan);
        } else {
            let rows = self.stream(&plan, &values, true);
            let rows = rows.map_err(|error| self.given.shared.fail(error))?;
            self.from = From::Files(Box::new(rows));
        }
        self.next()
    }

    fn next(&mut self) -> rusqlite::Result<()> {
        if let From::Files(rows) = &mut self.from
            && rows.at + 1 < rows.good
        {
            rows.at += 1;
            return Ok(());
        }
        let mut from = std::mem::replace(&mut self.from, From::Nowhere);
        match &mut from {
            From::Nowhere => {}
            From::Files(rows) => self.advance(rows, true)?,
            From::Kept(rows, plan) => {
                if let Some(kept) = self.scans().kept.get(&plan.number) {
                    rows.advance(kept)?;
                }
            }
        }
        self.from = from;
        Ok(())
    }

    fn eof(&self) -> bool {
        match &self.from {
            From::Nowhere => true,
            From::Files(rows) => rows.current.is_none(),
            From::Kept(rows, _) => rows.place().is_none(),
        }
    }

    fn column(&self, context: &mut Context, column: c_int) -> rusqlite::Result<()> {
        let column = usize::try_from(column).unwrap_or(usize::MAX);
        match &self.from {
            From::Nowhere => Ok(()),
            From::Files(rows) => {
                let given = rows.value(column, |value| context.set_result(value));
                given.map_err(|error| self.given.inexact(error))
            }
            From::Kept(rows, _) => match rows.value(column) {
                Some(value) => context.set_result(value),
                None => Ok(()),
            },
        }
    }

    fn rowid(&self) -> rusqlite::Result<i64> {
        Ok(match &self.from {
            From::Nowhere => 0,
            From::Files(rows) => rows.place(),
            From::Kept(rows, _) => rows.place().unwrap_or(0),
        })
    }
}
