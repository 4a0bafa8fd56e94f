//! Making tables ready, before rows are sent.

use barrow_core::visible::visible;
use barrow_core::words::Mode;

use super::describe::{Described, describe};
use super::encode::Field;
use super::send::Sender;
use super::types::{Declared, Wire};
use super::{DIALECT, MariaDb};
use crate::error::Error;
use crate::isolate::PieceSize;
use crate::merge::Merging;
use crate::sending::{self, Loading, Sent};
use crate::{Column, Job, Part, fit, merge, unique};

impl MariaDb {
    /// Makes the tables that are missing, or that take others' places. The server
    /// commits each at once, so this comes before the transaction.
    pub(super) fn make_table(&mut self, job: &Job, name: &str) -> Result<(), Error> {
        let found = describe(&mut self.conn, name)?;
        let mut table = Loading {
            name: name.to_string(),
            rows: None,
            beside: None,
            is_made: false,
        };
        match (found, job.mode) {
            (Some(found), Mode::Replace) => {
                if let Some(other) = &found.named_by {
                    return Err(Error::spec(format!(
                        "the table {} has a foreign key to {}, which would then be gone",
                        visible(other.as_bytes()),
                        visible(name.as_bytes())
                    ))
                    .advice(
                        "say mode = \"truncate\" or \"merge\", or drop the foreign key first",
                    ));
                }
                let made = job.beside(name);
                let sql = job.create_table_as(name, &made, DIALECT)?;
                self.run(&sql, "making the table anew")?;
                table.beside = Some(made);
            }
            (Some(found), mode) => {
                for part in job.parts_of(name) {
                    fits(mode, part, &found)?;
                }
            }
            (None, _) if !job.create => {
                return Err(
                    Error::spec(format!("there is no table {}", visible(name.as_bytes())))
                        .advice("say [target] create = true to have it made from the spec"),
                );
            }
            (None, _) => {
                let sql = job.create_table(name, DIALECT)?;
                self.run(&sql, "making the table")?;
                table.is_made = true;
            }
        }
        self.tables.push(table);
        Ok(())
    }

    /// Makes a table ready within the transaction. Returns how many rows it had.
    pub(super) fn begin_table(&mut self, job: &Job, place: usize) -> Result<u64, Error> {
        let (name, beside) = {
            let table = &self.tables[place];
            (table.name.clone(), table.beside.clone())
        };
        let before = self.count(&name)?;
        if job.mode == Mode::Truncate {
            // Not TRUNCATE, which the server commits at once.
            let sql = format!("DELETE FROM {}", DIALECT.table(&name));
            self.run(&sql, "emptying the table")?;
        }
        let into = beside.unwrap_or_else(|| name.clone());
        let found = self.described(&into)?;
        let kept = match job.mode {
            Mode::Append | Mode::Merge => before,
            Mode::Truncate | Mode::Replace => 0,
        };
        self.tables[place].rows = (!found.table.triggers).then_some(kept);
        for part in job.parts_of(&name) {
            let sender = self.sender(job.mode, part, &found, &into, place)?;
            self.parts.push(sender);
        }
        Ok(before)
    }

    /// What sends a part's rows into a table.
    fn sender(
        &mut self,
        mode: Mode,
        part: &Part,
        found: &Described,
        into: &str,
        table_place: usize,
    ) -> Result<Sent<Sender>, Error> {
        let named = sending::named(part, &found.table);
        let fields = fields(part, found)?;
        let mut targets = Vec::new();
        let mut sets = Vec::new();
        let mut takes_bytes = true;
        for (place, column) in part.columns.iter().enumerate() {
            let declared = found.declared(&column.name);
            let wire = declared.and_then(|d| d.wire(column.ty));
            let wire = wire.ok_or_else(|| cannot_send(column, found))?;
            let quoted = DIALECT.quoted(&named.columns[place].name);
            match wire {
                Wire::Hex(_) => {
                    targets.push(format!("@barrow{place}"));
                    sets.push(format!("{quoted} = UNHEX(@barrow{place})"));
                }
                _ => {
                    takes_bytes &= declared.is_some_and(|d| d.takes_bytes());
                    targets.push(quoted);
                }
            }
        }
        let table = DIALECT.table(into);
        let (put_into, merge) = match mode {
            Mode::Merge => {
                let stage = DIALECT.quoted(&format!("barrow_stage_{}", part.number));
                let merging = Merging {
                    table: &table,
                    stage: &stage,
                    triggers: found.table.triggers,
                    unique: &found.table.unique,
                    by_text: &[],
                };
                let statements = merge::statements(DIALECT, &named, merging)?;
                self.stage(&named, &stage, &table)?;
                (stage, Some(statements))
            }
            _ => (table, None),
        };
        let set = match sets.is_empty() {
            true => String::new(),
            false => format!(" SET {}", sets.join(", ")),
        };
        // All that is sent is UTF-8. A server that is told so looks at each character to see
        // how long it is, which takes 6 % more of its time (medians of 8 pairs).
        let charset = if takes_bytes { "binary" } else { "utf8mb4" };
        let by = Sender {
            fields: fields.into(),
            load: format!(
                "LOAD DATA LOCAL INFILE 'barrow' INTO TABLE {put_into} CHARACTER SET {charset} \
                 FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' ({}){set}",
                targets.join(", ")
            ),
            merge,
        };
        Ok(Sent {
            number: part.number,
            table: table_place,
            names: named.columns.iter().map(|c| c.name.clone()).collect(),
            size: PieceSize::default(),
            // The server looks for each row's parent when it comes.
            order: None,
            by,
        })
    }

    /// Makes the table where rows are put down before they are merged. Its key is
    /// unique, so that rows with the same key are merged one after the other.
    fn stage(&mut self, part: &Part, stage: &str, table: &str) -> Result<(), Error> {
        let quote = |name: &String| DIALECT.quoted(name);
        let keys: Vec<String> = part.key.iter().map(quote).collect();
        let columns: Vec<String> = part.columns.iter().map(|c| quote(&c.name)).collect();
        let sql = format!(
            "CREATE OR REPLACE TEMPORARY TABLE {stage} (UNIQUE KEY ({})) ENGINE=InnoDB \
             AS SELECT {} FROM {table} LIMIT 0",
            keys.join(", "),
            columns.join(", ")
        );
        self.run(&sql, "making room for rows to merge")
    }
}

/// How a part's columns are sent.
///
/// # Errors
/// One cannot be.
pub fn fields(part: &Part, found: &Described) -> Result<Vec<Field>, Error> {
    let fields = part.columns.iter().map(|column| {
        let declared = found.declared(&column.name);
        let wire = declared.and_then(|declared| Some((declared, declared.wire(column.ty)?)));
        wire.map(|(declared, wire)| Field::new(column.ty, wire, declared))
            .ok_or_else(|| cannot_send(column, found))
    });
    fields.collect()
}

/// The same for a table that a load would make.
pub fn fields_as_made(part: &Part) -> Vec<Field> {
    let fields = part.columns.iter().filter_map(|column| {
        let declared = Declared::made(column.ty, column.required);
        Some(Field::new(column.ty, declared.wire(column.ty)?, &declared))
    });
    fields.collect()
}

fn cannot_send(column: &Column, found: &Described) -> Error {
    let declared = found
        .table
        .column(&column.name)
        .map_or(String::new(), |c| visible(c.declared.as_bytes()));
    let failed = Error::spec(format!(
        "{} is {} in the spec, which does not go into the table's {declared}",
        visible(column.name.as_bytes()),
        column.ty
    ));
    match declared.starts_with("timestamp") {
        true => failed.advice("say timestamptz in the spec: a timestamp here is a moment in time"),
        false => failed.advice("give the column the table's type in the spec, or change the table"),
    }
}

/// Whether a part's rows can go into the table in this mode.
///
/// # Errors
/// What does not fit.
pub fn fits(mode: Mode, part: &Part, found: &Described) -> Result<(), Error> {
    fit::check(part, &found.table)?;
    if let Some(engine) = &found.cannot_undo {
        return Err(Error::spec(format!(
            "the table {} is kept by the engine {}, which cannot undo a load",
            visible(part.table.as_bytes()),
            visible(engine.as_bytes())
        ))
        .advice("change it first: ALTER TABLE … ENGINE = InnoDB"));
    }
    for column in &part.columns {
        if let Some(declared) = found.declared(&column.name)
            && declared.wire(column.ty).is_none()
        {
            return Err(cannot_send(column, found));
        }
    }
    match mode {
        Mode::Merge => unique::check(DIALECT, part, &found.table.unique),
        Mode::Append | Mode::Truncate | Mode::Replace => Ok(()),
    }
}
