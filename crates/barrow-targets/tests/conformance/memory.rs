//! A database in memory, which keeps what a session promises and knows no SQL: the least that
//! the suite asks of a new database.

use std::collections::BTreeMap;
use std::time::Duration;

use barrow_core::export::{RawValue, RowTyper};
use barrow_core::reason::Code;
use barrow_core::types::Type;
use barrow_core::values::shown;
use barrow_core::words::Mode;
use barrow_targets::query_rows::{length, take};
use barrow_targets::{
    BatchSource, Dialect, Encoder, Ended, Error, Foresight, Job, Load, Loads, NotBegun, OpenQuery,
    Query, RawRows, RecordTable, Refusal, Rows, ServerInfo, Session, Table, TableColumn, Value,
    registry, table,
};

type Row = Vec<Option<String>>;

/// The tables by their names.
#[derive(Clone, Default)]
struct Tables(BTreeMap<String, Stored>);

#[derive(Clone)]
struct Stored {
    columns: Vec<(String, Type, bool)>,
    /// The places of the key's columns.
    key: Vec<usize>,
    rows: Vec<Row>,
}

/// A session with it. Each has tables of its own.
#[derive(Default)]
pub struct Memory {
    tables: Tables,
    locks: Vec<i64>,
}

fn no_sql<T>() -> Result<T, Error> {
    Err(Error::new("this database knows no SQL"))
}

impl Loads for Memory {
    fn fits(&mut self, _: Mode, part: &RecordTable, table: &Table) -> Result<(), Error> {
        barrow_targets::fit::check(part, table)
    }

    fn foresight(&mut self, _: &Job) -> Result<Foresight, Error> {
        Ok(Foresight::default())
    }

    fn begin<'s>(&'s mut self, job: &Job) -> Result<Box<dyn Load<'s> + 's>, NotBegun<'s>> {
        let committed = self.tables.clone();
        if let Err(error) = ready(&mut self.tables, job) {
            self.tables = committed;
            return Err(NotBegun {
                session: self,
                error,
            });
        }
        let names: Vec<String> = job.tables().iter().map(ToString::to_string).collect();
        let before = count(&committed, &names);
        Ok(Box::new(MemoryLoad {
            job: job.clone(),
            names,
            before,
            at_file: self.tables.clone(),
            committed,
            session: self,
        }))
    }

    fn open_together(&mut self, _: &[&Job]) -> Result<(), Error> {
        Err(Error::new(
            "this database has no transaction for several loads",
        ))
    }

    fn commit_together(&mut self) -> Result<(), Error> {
        Ok(())
    }

    fn roll_back(&mut self) -> Result<(), Error> {
        Ok(())
    }
}

impl Session for Memory {
    fn dialect(&self) -> Dialect {
        registry::dialect("sqlite").expect("a dialect to make names with")
    }

    fn describe(&mut self, table: &str) -> Result<Option<Table>, Error> {
        let column = |(name, ty, required): &(String, Type, bool)| TableColumn {
            name: name.clone(),
            declared: ty.to_string(),
            ty: Some(*ty),
            required: *required,
            generated: false,
            numbered: false,
            not_null: *required,
        };
        let found = self.tables.0.get(table);
        Ok(found.map(|stored| Table {
            columns: stored.columns.iter().map(column).collect(),
            ..Table::default()
        }))
    }

    fn server_info(&mut self, _: &[&str]) -> Result<ServerInfo, Error> {
        Ok(ServerInfo::default())
    }

    fn full_name(&mut self, table: &str) -> Result<String, Error> {
        Ok(table.to_string())
    }

    fn query(&mut self, _: &str, _: &[Value], _: &str) -> Result<Vec<Vec<Value>>, Error> {
        no_sql()
    }

    fn execute(&mut self, _: &str, _: &[Value], _: &str) -> Result<u64, Error> {
        no_sql()
    }

    fn script(&mut self, _: &str) -> Result<(), Error> {
        no_sql()
    }

    fn lock(&mut self, key: i64, _: bool) -> Result<bool, Error> {
        self.locks.push(key);
        Ok(true)
    }

    fn set_patience(&mut self, _: Duration) -> Result<(), Error> {
        Ok(())
    }

    fn query_columns(&mut self, _: &Query) -> Result<Vec<(String, Type)>, Error> {
        no_sql()
    }

    fn open_query<'s>(
        &'s mut self,
        query: &Query,
        columns: &[(String, Type)],
    ) -> Result<OpenQuery<'s>, Error> {
        let Query::Table(select) = query else {
            return no_sql();
        };
        let stored = self.tables.0.get(&select.table);
        let stored = stored.ok_or_else(|| table::missing(&select.table))?;
        let place = |name: &String| stored.columns.iter().position(|(n, ..)| n == name);
        let places: Vec<usize> = select.columns.iter().filter_map(place).collect();
        let pick = |row: &Row| places.iter().map(|p| row[*p].clone()).collect();
        let types: Vec<Type> = columns.iter().map(|(_, ty)| *ty).collect();
        let typer = RowTyper::new(&types);
        Ok(OpenQuery {
            decoder: Box::new(move |raw, batch| {
                typer.begin(batch);
                let mut bytes = raw.bytes.as_slice();
                for _ in 0..raw.ends.len() {
                    for column in 0..typer.width() {
                        let value = match length(&mut bytes) {
                            u32::MAX => RawValue::Null,
                            n => RawValue::Text(
                                std::str::from_utf8(take(&mut bytes, n as usize)).expect("text"),
                            ),
                        };
                        typer.put(batch, column, value);
                    }
                }
            }),
            rows: Box::new(MemoryRows(stored.rows.iter().map(pick).collect())),
        })
    }
}

/// Makes or empties the tables as the job says.
fn ready(tables: &mut Tables, job: &Job) -> Result<(), Error> {
    for name in job.tables() {
        match tables.0.get_mut(name) {
            Some(stored) if matches!(job.mode, Mode::Truncate | Mode::Replace) => {
                stored.rows.clear();
            }
            Some(_) => {}
            None if !job.create => return Err(table::missing(name)),
            None => {
                let columns = job.columns_of(name)?;
                let key = job.parts_of(name).flat_map(|part| &part.key);
                let place = |key: &String| columns.iter().position(|c| c.name == *key);
                let stored = Stored {
                    key: key.filter_map(place).collect(),
                    columns: columns
                        .iter()
                        .map(|c| (c.name.clone(), c.ty, c.required))
                        .collect(),
                    rows: Vec::new(),
                };
                tables.0.insert(name.to_string(), stored);
            }
        }
    }
    Ok(())
}

fn count(tables: &Tables, names: &[String]) -> Vec<u64> {
    let count = |name: &String| tables.0.get(name).map_or(0, |t| t.rows.len() as u64);
    names.iter().map(count).collect()
}

struct MemoryLoad<'s> {
    session: &'s mut Memory,
    job: Job,
    names: Vec<String>,
    before: Vec<u64>,
    committed: Tables,
    at_file: Tables,
}

impl<'s> Load<'s> for MemoryLoad<'s> {
    fn session(&mut self) -> &mut dyn Session {
        self.session
    }

    fn rows_before(&self) -> &[u64] {
        &self.before
    }

    fn encoder(&mut self) -> Encoder {
        Box::new(|_| {})
    }

    fn send(&mut self, batches: &mut dyn BatchSource) -> Result<Vec<Vec<Refusal>>, Error> {
        let mut all = Vec::new();
        for batch in batches.all() {
            let mut refused = Vec::new();
            for part in &self.job.parts {
                let rows = &batch.parts[part.number];
                let stored = self.session.tables.0.get_mut(&part.table);
                let stored = stored.ok_or_else(|| table::missing(&part.table))?;
                for row in &rows.good {
                    let cell = |(place, column): (usize, &barrow_targets::Column)| {
                        let cell = rows.cell(place, *row as usize);
                        shown(cell, column.ty, &batch.block.bytes, &rows.store)
                    };
                    let new: Row = part.columns.iter().enumerate().map(cell).collect();
                    let key =
                        |row: &Row| -> Row { stored.key.iter().map(|k| row[*k].clone()).collect() };
                    if !stored.key.is_empty() && stored.rows.iter().any(|old| key(old) == key(&new))
                    {
                        refused.push(Refusal {
                            part: part.number,
                            row: *row,
                            code: Code::DuplicateKey,
                            column: None,
                            words: "the key is there already".into(),
                            detail: None,
                        });
                    } else {
                        stored.rows.push(new);
                    }
                }
            }
            all.push(refused);
        }
        Ok(all)
    }

    fn begin_file(&mut self) -> Result<(), Error> {
        self.at_file = self.session.tables.clone();
        Ok(())
    }

    fn roll_back_file(&mut self) -> Result<(), Error> {
        self.session.tables = self.at_file.clone();
        Ok(())
    }

    fn commit(&mut self) -> Result<(), Error> {
        self.committed = self.session.tables.clone();
        Ok(())
    }

    fn finish(self: Box<Self>) -> Ended<'s> {
        let rows = count(&self.session.tables, &self.names);
        (self.session, Ok(rows))
    }

    fn roll_back(self: Box<Self>) -> Ended<'s> {
        let rows = count(&self.committed, &self.names);
        self.session.tables = self.committed;
        (self.session, Ok(rows))
    }
}

struct MemoryRows(Vec<Row>);

impl Rows for MemoryRows {
    fn fetch(self: Box<Self>, give: &mut dyn FnMut(&mut RawRows) -> bool) -> Result<(), Error> {
        let mut raw = RawRows::default();
        for row in &self.0 {
            for value in row {
                let length = value.as_ref().map_or(u32::MAX, |text| text.len() as u32);
                raw.bytes.extend(length.to_le_bytes());
                raw.bytes.extend(value.as_deref().unwrap_or("").as_bytes());
            }
            raw.end_row();
        }
        give(&mut raw);
        Ok(())
    }
}
