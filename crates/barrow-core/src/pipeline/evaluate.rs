//! Settles typed rows: computes columns, checks records, counts totals, and parts
//! the good rows from the others.

use std::collections::HashMap;

use crate::conditions::{Condition, Row};
use crate::escape::{escape_for_display, visible_short};
use crate::pipeline::batch::{Batch, Rows};
use crate::pipeline::compute::Source;
use crate::pipeline::parent_values::{Carried, Lack};
use crate::pipeline::reasons::{Here, Phrases, reason};
use crate::pipeline::run_context::RunContext;
use crate::pipeline::totals;
use crate::plan::{CheckPlan, ColumnPlan, Plan, RecordTypePlan};
use crate::reason::{Code, Reason, Reject};
use crate::records::block::{Block, LeftOut};
use crate::records::file_format::FileFormat;
use crate::repair::Repairs;
use crate::values::{Cell, shown};

/// A value in a failed check is cut after so many characters.
const LONGEST_VALUE: usize = 40;

/// Settles batches. Where values are carried, one alone must see them all, in order.
pub struct RowEvaluator<'p> {
    plan: &'p Plan,
    context: &'p RunContext,
    /// For each kind and each of its columns, where its cells stand.
    slots: Vec<Vec<Option<usize>>>,
    carried: Carried,
}

/// What is decided of a row before it is parted.
#[derive(Default)]
struct Verdicts {
    /// The columns at fault in a row, as slots.
    faulty: HashMap<u32, Vec<u32>>,
    /// Rows that `keep_if` does not keep.
    unmet: Vec<u32>,
}

impl<'p> RowEvaluator<'p> {
    /// For a plan, in a run of which `context` are known.
    pub fn new(plan: &'p Plan, context: &'p RunContext) -> RowEvaluator<'p> {
        let slots = |kind: &RecordTypePlan| (0..kind.columns.len()).map(|c| kind.slot(c)).collect();
        RowEvaluator {
            plan,
            context,
            slots: plan.record_types.iter().map(slots).collect(),
            carried: Carried::new(plan),
        }
    }

    /// Settles a batch's rows.
    pub fn settle(&mut self, batch: &mut Batch) {
        let Some(file) = batch.block.file.clone() else {
            return;
        };
        if self.plan.carries() {
            self.carried.begin(&batch.block, &batch.unknown);
        }
        let Batch {
            block,
            parts,
            rejects,
            repairs,
            ..
        } = batch;
        let told = rejects.len();
        let mut left_out = LeftOut::default();
        for (number, rows) in parts.iter_mut().enumerate() {
            let kind = &self.plan.record_types[number];
            self.compute(number, block, &file, rows);
            let verdicts = self.judge(number, block, rows);
            let there = Placed {
                kind,
                block,
                file: &file,
                binding: &file.shapes[number].binding,
            };
            there.part(rows, &verdicts, rejects, &mut left_out);
            there.note_changes(rows, repairs);
            if self.plan.carries() {
                self.carried.take_up(number, kind, block, rows);
            }
        }
        if rejects.len() > told || parts.len() > 1 {
            rejects.sort_by_key(|reject| reject.offset);
        }
        batch.block.left_out.add(&left_out);
        // Not before: a column that is summed may be a computed one.
        totals::count(self.plan, batch);
    }

    fn compute(&self, number: usize, block: &Block, file: &FileFormat, rows: &mut Rows) {
        let kind = &self.plan.record_types[number];
        if kind.columns.iter().all(|column| column.value.is_none()) {
            return;
        }
        let source = Source {
            context: self.context,
            file,
            block,
            carried: &self.carried,
            kind,
            longest: self.plan.records.longest,
        };
        let mut findings = Vec::new();
        source.compute(rows, |row, place, lack| findings.push((row, place, lack)));
        for (row, place, lack) in findings {
            let column = &kind.columns[place];
            let mark = rows.marks[row as usize] as usize;
            let reason = self.nothing_to_carry(block, mark, column, lack);
            rows.findings.push((row, reason));
        }
    }

    fn nothing_to_carry(
        &self,
        block: &Block,
        mark: usize,
        column: &ColumnPlan,
        lack: Lack,
    ) -> Reason {
        let name = |kind: usize| self.plan.record_types[kind].name.as_deref().unwrap_or("");
        let (kind, says) = match lack {
            Lack::None { kind } => (kind, format!("no {} record comes before it", name(kind))),
            Lack::Bad { kind, .. } => (
                kind,
                format!("the {} record that it belongs to did not load", name(kind)),
            ),
            Lack::Unknown { kind, .. } => (
                kind,
                format!(
                    "a record of no known record type is between it and its {}",
                    name(kind)
                ),
            ),
        };
        let value = match lack {
            Lack::None { .. } => None,
            Lack::Bad { line, .. } | Lack::Unknown { line, .. } => Some(format!("line {line}")),
        };
        Reason {
            code: Code::NothingToCarry,
            column: Some(column.name.as_str().into()),
            field: None,
            offset: block.place(block.marks[mark].start as usize),
            value,
            says: says.into(),
            expected: format!("a {} record before it that loads", name(kind)).into(),
        }
    }

    /// Computes the conditions on every row.
    fn judge(&self, number: usize, block: &Block, rows: &mut Rows) -> Verdicts {
        let kind = &self.plan.record_types[number];
        let mut verdicts = Verdicts::default();
        if kind.keep_if.is_none() && kind.checks.is_empty() {
            return verdicts;
        }
        for fault in &rows.faults {
            verdicts
                .faulty
                .entry(fault.row)
                .or_default()
                .push(fault.column);
        }
        let judged = Judged {
            kind,
            slots: &self.slots[number],
            block,
        };
        let mut findings = Vec::new();
        for row in 0..rows.height as u32 {
            let faulty = verdicts.faulty.get(&row).map_or(&[][..], Vec::as_slice);
            if let Some(condition) = &kind.keep_if
                && judged.can_tell(condition, faulty)
            {
                match judged.holds(condition, rows, row) {
                    Ok(Some(true)) => {}
                    Ok(_) => {
                        verdicts.unmet.push(row);
                        continue;
                    }
                    Err(why) => {
                        findings.push((row, judged.uncomputable(condition, &why, rows, row)));
                    }
                }
            }
            for check in &kind.checks {
                if judged.can_tell(&check.condition, faulty) {
                    findings.extend(judged.check(check, rows, row).map(|reason| (row, reason)));
                }
            }
        }
        rows.findings.extend(findings);
        verdicts
    }
}

/// What conditions are computed on.
struct Judged<'j> {
    kind: &'j RecordTypePlan,
    slots: &'j [Option<usize>],
    block: &'j Block,
}

impl Judged<'_> {
    /// Whether every column of a condition could be read.
    fn can_tell(&self, condition: &Condition, faulty: &[u32]) -> bool {
        faulty.is_empty()
            || !condition.columns.iter().any(|column| {
                self.slots[*column].is_some_and(|slot| faulty.contains(&(slot as u32)))
            })
    }

    fn cell(&self, column: usize, rows: &Rows, row: u32) -> Cell {
        self.slots[column].map_or(Cell::Null, |slot| rows.cell(slot, row as usize))
    }

    fn holds(&self, condition: &Condition, rows: &Rows, row: u32) -> Result<Option<bool>, String> {
        let cell = |column: usize| (self.kind.columns[column].ty, self.cell(column, rows, row));
        let row = Row {
            cell: &cell,
            block: &self.block.bytes,
            store: &rows.store,
        };
        condition.holds(&row).map_err(|why| why.to_string())
    }

    /// What is wrong, if a check does not hold. One that null leaves open does.
    fn check(&self, check: &CheckPlan, rows: &Rows, row: u32) -> Option<Reason> {
        let condition = &check.condition;
        let says = match self.holds(condition, rows, row) {
            Ok(Some(false)) => match &check.says {
                Some(says) => says.clone(),
                None => format!("it does not hold that {}", condition.text),
            },
            Ok(_) => return None,
            Err(why) => return Some(self.uncomputable(condition, &why, rows, row)),
        };
        Some(self.reason(condition, says, rows, row))
    }

    fn uncomputable(&self, condition: &Condition, why: &str, rows: &Rows, row: u32) -> Reason {
        let says = format!("{why} in {}", condition.text);
        self.reason(condition, says, rows, row)
    }

    fn reason(&self, condition: &Condition, says: String, rows: &Rows, row: u32) -> Reason {
        let value = |column: &usize| {
            let plan = &self.kind.columns[*column];
            let cell = self.cell(*column, rows, row);
            let text = shown(cell, plan.ty, &self.block.bytes, &rows.store);
            let text = text.map_or("null".into(), |text| {
                visible_short(text.as_bytes(), LONGEST_VALUE)
            });
            format!("{} = {text}", escape_for_display(plan.name.as_bytes()))
        };
        let values: Vec<String> = condition.columns.iter().map(value).collect();
        let mark = rows.marks[row as usize] as usize;
        Reason {
            code: Code::CheckFailed,
            column: None,
            field: None,
            offset: self.block.place(self.block.marks[mark].start as usize),
            value: (!values.is_empty()).then(|| values.join(", ")),
            says: says.into(),
            expected: condition.text.as_str().into(),
        }
    }
}

/// Rows of a kind, and where they are from.
struct Placed<'s> {
    kind: &'s RecordTypePlan,
    block: &'s Block,
    file: &'s FileFormat,
    binding: &'s [Option<usize>],
}

impl Placed<'_> {
    /// Parts good rows from those that are left out or rejected. A reject has
    /// all its reasons.
    fn part(
        &self,
        rows: &mut Rows,
        verdicts: &Verdicts,
        rejects: &mut Vec<Reject>,
        left_out: &mut LeftOut,
    ) {
        let height = rows.height as u32;
        if rows.faults.is_empty() && rows.findings.is_empty() && verdicts.unmet.is_empty() {
            match self.kind.load {
                true => rows.good.extend(0..height),
                false => left_out.other_kinds += u64::from(height),
            }
            return;
        }
        rows.faults.sort_by_key(|fault| (fault.row, fault.column));
        rows.findings.sort_by_key(|(row, _)| *row);
        let mut reasons: HashMap<u32, Vec<Reason>> = HashMap::new();
        let mut phrases = Phrases::default();
        for fault in &rows.faults {
            let place = self.kind.read[fault.column as usize];
            let here = Here {
                block: self.block,
                file: self.file,
                mark: rows.marks[fault.row as usize] as usize,
                column: &self.kind.columns[place],
                field: self.binding[place],
                store: &rows.store,
            };
            let reason = reason(&here, fault, &mut phrases);
            reasons.entry(fault.row).or_default().push(reason);
        }
        for (row, reason) in rows.findings.drain(..) {
            reasons.entry(row).or_default().push(reason);
        }
        for row in 0..height {
            if verdicts.unmet.binary_search(&row).is_ok() {
                left_out.unmet += 1;
            } else if let Some(reasons) = reasons.remove(&row) {
                rows.bad.push(row);
                let mark = rows.marks[row as usize] as usize;
                rejects.push(Batch::reject(self.block, mark, reasons));
            } else if self.kind.load {
                rows.good.push(row);
            } else {
                left_out.other_kinds += 1;
            }
        }
    }

    /// Changes of rows that load are repairs; those of others are not.
    fn note_changes(&self, rows: &mut Rows, repairs: &mut Repairs) {
        if rows.changes.is_empty() {
            return;
        }
        rows.changes
            .sort_by_key(|change| (change.row, change.column));
        for change in &rows.changes {
            if rows.good.binary_search(&change.row).is_err() {
                continue;
            }
            let column = change.column.map(|slot| self.kind.read[slot as usize]);
            let column = column.map(|place| self.kind.columns[place].name.as_str());
            let mark = &self.block.marks[rows.marks[change.row as usize] as usize];
            let line = self.block.first_line + u64::from(mark.line);
            repairs.note(change.what, column, line);
        }
    }
}
