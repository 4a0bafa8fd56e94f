//! SQLite, built in.
//!
//! Everything happens in one transaction (or one for each `commit_every` records), by
//! prepared statements of many rows. A statement that the table refuses is
//! taken back by SQLite as a whole ("INSERT OR ABORT"), and its rows are then
//! tried one by one, so that only the refused ones stay out.

mod asking;
mod encode;
mod insert;
mod merging;
mod outflow;
mod taken;
mod types;
mod words;

use std::path::{Path, PathBuf};
use std::time::Duration;

use barrow_core::flow::Batch;
use barrow_core::types::Type;
use barrow_core::visible::{visible, visible_path};
use barrow_core::words::Mode;
use rusqlite::{Connection, OpenFlags, OptionalExtension};

use self::insert::Inserter;
use self::merging::Merger;
use self::words::explained;
use crate::asking::Value;
use crate::dialect::Dialect;
use crate::error::Error;
use crate::merge::Merged;
use crate::outflow::{Decoder, RawRows};
use crate::table::{OwnParents, Table, TableColumn};
use crate::{About, Coming, Encoder, Foresight, Job, Part, Refusal, Rights, Target, fit, unique};

/// How long a lock of another program is waited for.
const PATIENCE: Duration = Duration::from_secs(10);

/// A SQLite database.
pub struct Sqlite {
    // Dropped before the connection, whose statements it names.
    job: Option<Loading>,
    connection: Connection,
    path: PathBuf,
    is_new: bool,
    claim: Option<asking::Claim>,
    asked: Option<outflow::Asked>,
    /// What was counted when the file began.
    at_file: Option<(Vec<Option<u64>>, Option<Merged>)>,
}

/// A load in progress.
struct Loading {
    tables: Vec<LoadedTable>,
    inserters: Vec<LoadedPart>,
    merged: Option<Merged>,
}

/// A table that is loaded.
struct LoadedTable {
    name: String,
    /// How many rows the table has, as long as nobody but us changes it: the
    /// transaction keeps others out, and without triggers nothing else does.
    rows: Option<u64>,
}

/// What inserts one kind of rows.
struct LoadedPart {
    number: usize,
    /// The table's place among those of the load.
    table: usize,
    into: Into,
}

/// How rows go into their table.
enum Into {
    /// As they come.
    Insert(Inserter),
    /// By their key.
    Merge(Box<Merger>),
}

impl Into {
    fn inserter(&self) -> &Inserter {
        match self {
            Into::Insert(inserter) => inserter,
            Into::Merge(merger) => merger.inserter(),
        }
    }
}

impl Sqlite {
    /// Opens the database file at `path`. Only with `create` is a missing one made.
    ///
    /// # Errors
    /// It is not there, or not a database.
    pub fn open(path: &Path, create: bool) -> Result<Sqlite, Error> {
        let shown = visible_path(path);
        let is_new = !path.exists();
        if is_new && !create {
            return Err(Error::new(format!("there is no database {shown}"))
                .advice("say [target] create = true to have the file and the table made"));
        }
        let folder = path
            .parent()
            .filter(|folder| !folder.as_os_str().is_empty());
        if let Some(folder) = folder.filter(|folder| !folder.is_dir()) {
            let folder = visible_path(folder);
            return Err(
                Error::new(format!("there is no folder {folder} to make {shown} in"))
                    .advice("make the folder first, or correct the path"),
            );
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(path, flags)
            .map_err(|e| explained(&e, &format!("opening {shown}")))?;
        let sqlite = Sqlite {
            job: None,
            connection,
            path: path.to_path_buf(),
            is_new,
            claim: None,
            asked: None,
            at_file: None,
        };
        sqlite
            .prepare()
            .map_err(|e| explained(&e, &format!("opening {shown}")))?;
        Ok(sqlite)
    }

    /// Runs SQL that we wrote ourselves.
    ///
    /// # Errors
    /// SQLite will not have it.
    pub fn script(&self, sql: &str) -> Result<(), Error> {
        self.run(sql, "running SQL")
    }

    fn prepare(&self) -> rusqlite::Result<()> {
        self.connection.busy_timeout(PATIENCE)?;
        self.connection.pragma_update(None, "foreign_keys", true)?;
        // 16 MiB; the default of 2 MiB spills to disk under an index.
        self.connection.pragma_update(None, "cache_size", -16_384)?;
        self.connection.set_prepared_statement_cache_capacity(32);
        // Reads the file's header, so that what is no database is told now.
        self.connection
            .query_row("SELECT count(*) FROM sqlite_master", [], |_| Ok(()))
    }

    fn run(&self, sql: &str, doing: &str) -> Result<(), Error> {
        self.connection
            .execute_batch(sql)
            .map_err(|e| explained(&e, doing))
    }

    fn count(&self, table: &str) -> Result<u64, Error> {
        let sql = format!("SELECT count(*) FROM {}", Dialect::Sqlite.quoted(table));
        self.connection
            .query_row(&sql, [], |row| row.get::<_, i64>(0))
            .map(|n| n as u64)
            .map_err(|e| explained(&e, "counting the table's rows"))
    }

    fn kind_of(&self, name: &str) -> Result<Option<String>, Error> {
        let sql = "SELECT type FROM sqlite_master WHERE name = ?1 COLLATE NOCASE AND type IN ('table', 'view')";
        self.connection
            .query_row(sql, [name], |row| row.get(0))
            .optional()
            .map_err(|e| explained(&e, "looking for the table"))
    }

    fn columns(&self, table: &str) -> rusqlite::Result<Vec<TableColumn>> {
        let sql = "SELECT name, type, \"notnull\", dflt_value IS NOT NULL, pk, hidden FROM pragma_table_xinfo(?1)";
        let mut statement = self.connection.prepare(sql)?;
        let rows = statement.query_map([table], |row| {
            let declared: String = row.get(1)?;
            let (not_null, has_default): (bool, bool) = (row.get(2)?, row.get(3)?);
            let (key, hidden): (i64, i64) = (row.get(4)?, row.get(5)?);
            // An INTEGER PRIMARY KEY is filled by SQLite itself.
            let is_rowid = key == 1 && declared.eq_ignore_ascii_case("integer");
            Ok(TableColumn {
                name: row.get(0)?,
                ty: types::spec_type(&declared),
                required: not_null && !has_default && !is_rowid,
                generated: hidden != 0,
                numbered: is_rowid,
                not_null: not_null && !is_rowid,
                declared,
            })
        })?;
        let mut columns: Vec<TableColumn> = rows.collect::<rusqlite::Result<_>>()?;
        // One column of several in a key is a column like others.
        let sql = "SELECT count(*) FROM pragma_table_info(?1) WHERE pk > 0";
        let keys: i64 = self.connection.query_row(sql, [table], |row| row.get(0))?;
        if keys > 1 {
            columns
                .iter_mut()
                .for_each(|column| column.numbered = false);
        }
        Ok(columns)
    }

    fn ready_table(
        &self,
        job: &Job,
        name: &str,
        found: Option<Table>,
    ) -> Result<(Table, u64), Error> {
        let shown = visible(name.as_bytes());
        let rows = if found.is_some() {
            self.count(name)?
        } else {
            0
        };
        match (found, job.mode) {
            (Some(table), Mode::Append | Mode::Merge) => return Ok((table, rows)),
            (Some(table), Mode::Truncate) => {
                let sql = format!("DELETE FROM {}", Dialect::Sqlite.quoted(name));
                self.run(&sql, "emptying the table")?;
                return Ok((table, rows));
            }
            (Some(_), Mode::Replace) => {
                let sql = format!("DROP TABLE {}", Dialect::Sqlite.quoted(name));
                self.run(&sql, "replacing the table")?;
            }
            (None, _) if !job.create => {
                return Err(Error::spec(format!("there is no table {shown}"))
                    .advice("say [target] create = true to have it made from the spec"));
            }
            (None, _) => {}
        }
        self.run(
            &job.create_table(name, Dialect::Sqlite)?,
            "making the table",
        )?;
        let made = self.describe_table(name)?;
        made.map(|table| (table, rows))
            .ok_or_else(|| Error::new(format!("the table {shown} was made and is not there")))
    }

    /// The sets of columns of which no two rows have the same values.
    fn unique(&self, table: &str) -> Result<Vec<Vec<String>>, Error> {
        let asking = |e| explained(&e, "asking for the table's keys");
        let mut found: Vec<Vec<String>> = Vec::new();
        let key = "SELECT name FROM pragma_table_info(?1) WHERE pk > 0 ORDER BY pk";
        let indexes = "SELECT i.seq, c.name FROM pragma_index_list(?1) i, pragma_index_info(i.name) c \
                       WHERE i.\"unique\" = 1 AND i.partial = 0 ORDER BY i.seq, c.seqno";
        let mut statement = self.connection.prepare(key).map_err(asking)?;
        let names = statement
            .query_map([table], |row| row.get(0))
            .map_err(asking)?;
        found.push(names.collect::<Result<_, _>>().map_err(asking)?);
        let mut statement = self.connection.prepare(indexes).map_err(asking)?;
        let rows = statement
            .query_map([table], |row| Ok((row.get(0)?, row.get(1)?)))
            .map_err(asking)?;
        let mut last = None;
        for row in rows {
            let (index, name): (i64, Option<String>) = row.map_err(asking)?;
            if last != Some(index) {
                found.push(Vec::new());
                last = Some(index);
            }
            // An index of an expression has a column without a name.
            found
                .last_mut()
                .into_iter()
                .for_each(|names| names.push(name.clone().unwrap_or_default()));
        }
        Ok(found)
    }

    /// Makes a table ready, and what inserts into it. Returns how many rows it had.
    fn begin_table(&self, job: &Job, name: &str, loading: &mut Loading) -> Result<u64, Error> {
        let found = self.describe_table(name)?;
        if let (Some(table), Mode::Append | Mode::Truncate | Mode::Merge) = (&found, job.mode) {
            for part in job.parts_of(name) {
                fits(part, table)?;
            }
        }
        let (table, rows) = self.ready_table(job, name, found)?;
        let kept = match job.mode {
            Mode::Append | Mode::Merge => rows,
            Mode::Truncate | Mode::Replace => 0,
        };
        let unique = match job.mode {
            Mode::Merge => table.unique.clone(),
            _ => Vec::new(),
        };
        for part in job.parts_of(name) {
            loading.inserters.push(LoadedPart {
                number: part.number,
                table: loading.tables.len(),
                into: match job.mode {
                    Mode::Merge => {
                        unique::check(Dialect::Sqlite, part, &unique)?;
                        let merger = Merger::new(&self.connection, part, &table, &unique)?;
                        Into::Merge(Box::new(merger))
                    }
                    _ => Into::Insert(Inserter::new(part, &table)),
                },
            });
        }
        loading.tables.push(LoadedTable {
            name: name.to_string(),
            rows: (!table.triggers).then_some(kept),
        });
        Ok(rows)
    }

    /// How many rows each table of the load has.
    fn rows(&self) -> Result<Vec<u64>, Error> {
        let tables = self.job.iter().flat_map(|loading| &loading.tables);
        let rows = tables.map(|table| match table.rows {
            Some(rows) => Ok(rows),
            None => self.count(&table.name),
        });
        rows.collect()
    }

    /// Foreign keys of a table to itself. One that names no columns names the key.
    fn own_parents(&self, table: &str) -> rusqlite::Result<Vec<OwnParents>> {
        let sql = "SELECT id, \"from\", COALESCE(\"to\", (SELECT name FROM pragma_table_info(?1) WHERE pk = seq + 1)) \
                   FROM pragma_foreign_key_list(?1) WHERE \"table\" = ?1 COLLATE NOCASE ORDER BY id, seq";
        let mut statement = self.connection.prepare(sql)?;
        let mut rows = statement.query([table])?;
        let mut last = None;
        let mut found: Vec<OwnParents> = Vec::new();
        while let Some(row) = rows.next()? {
            let (id, from, to): (i64, String, Option<String>) =
                (row.get(0)?, row.get(1)?, row.get(2)?);
            if last.replace(id) != Some(id) {
                found.push(OwnParents::default());
            }
            if let Some(key) = found.last_mut() {
                key.0.push(from);
                key.1.push(to.unwrap_or_default());
            }
        }
        Ok(found)
    }

    fn describe_table(&self, table: &str) -> Result<Option<Table>, Error> {
        let asking = |e| explained(&e, "asking for the table's columns");
        match self.kind_of(table)?.as_deref() {
            None => return Ok(None),
            Some("view") => {
                return Err(Error::spec(format!(
                    "{} is a view; rows are loaded into tables",
                    visible(table.as_bytes())
                )));
            }
            Some(_) => {}
        }
        let sql = "SELECT count(*) FROM sqlite_master WHERE type = 'trigger' AND tbl_name = ?1 COLLATE NOCASE";
        let triggers: i64 = self
            .connection
            .query_row(sql, [table], |row| row.get(0))
            .map_err(asking)?;
        let columns = self.columns(table).map_err(asking)?;
        Ok(Some(Table {
            unique: self.unique(table)?,
            columns,
            triggers: triggers > 0,
            own_parents: self.own_parents(table).map_err(asking)?,
        }))
    }
}

fn fits(part: &Part, table: &Table) -> Result<(), Error> {
    fit::check(part, table)?;
    check_affinities(part, table)
}

/// What finds the rows that tables would refuse, where `describe` says what there is.
pub fn foresight(
    job: &Job,
    mut describe: impl FnMut(&str) -> Result<Option<Table>, Error>,
) -> Result<Foresight, Error> {
    let mut foresight = Foresight::default();
    for part in &job.parts {
        let found = describe(&part.table)?.filter(|_| !job.makes_anew());
        let table = match found {
            Some(table) => table,
            None if !(job.create || job.makes_anew()) => continue,
            None => Table::as_made(part, Dialect::Sqlite),
        };
        let inserter = Inserter::new(part, &table);
        let (encodings, number) = (inserter.encodings(), part.number);
        let encoder = Box::new(move |batch: &mut Batch| encode::encode(&encodings, number, batch));
        let unfit = Box::new(move |batch: &Batch| inserter.unfit(batch));
        foresight.add(part, &table, encoder, unfit);
    }
    Ok(foresight)
}

/// Whether a column that is declared so would turn some text of a type into a number
/// ("Datatypes In SQLite", section 3).
pub fn turns_into_numbers(ty: Type, declared: &str) -> bool {
    (ty.is_text() || ty == Type::Json) && types::Affinity::of(declared).turns_text_into_numbers()
}

/// Text in a column that turns text into numbers would lose its zeros.
fn check_affinities(part: &Part, table: &Table) -> Result<(), Error> {
    let altered: Vec<String> = part
        .columns
        .iter()
        .filter_map(|column| Some((column, table.column(&column.name)?)))
        .filter(|(column, found)| turns_into_numbers(column.ty, &found.declared))
        .map(|(_, found)| found)
        .map(|found| {
            format!(
                "{} ({})",
                visible(found.name.as_bytes()),
                visible(found.declared.as_bytes())
            )
        })
        .collect();
    if altered.is_empty() {
        return Ok(());
    }
    Err(Error::spec(format!(
        "SQLite would turn text that looks like a number into one, and 007 into 7, in {}",
        altered.join(", ")
    ))
    .advice("give these columns a number's type in the spec, or declare them TEXT in the table"))
}

impl Target for Sqlite {
    fn describe(&mut self, table: &str) -> Result<Option<Table>, Error> {
        self.describe_table(table)
    }

    fn about(&mut self, tables: &[&str]) -> Result<About, Error> {
        let rights = tables
            .iter()
            .map(|table| Ok(Rights::all(table, self.kind_of(table)?.is_some())));
        let read_only = self.connection.is_readonly("main").unwrap_or(false);
        Ok(About {
            server: format!("SQLite {}", rusqlite::version()),
            hindrance: read_only.then(|| "the file may not be written to".to_string()),
            tables: rights.collect::<Result<_, Error>>()?,
            ..About::default()
        })
    }

    fn ask_out(&mut self, query: &str, columns: &[(String, Type)]) -> Result<Decoder, Error> {
        let (asked, decoder) = outflow::ask(&self.connection, query, columns)?;
        self.asked = Some(asked);
        Ok(decoder)
    }

    fn give_out(&mut self, give: &mut dyn FnMut(&mut RawRows) -> bool) -> Result<(), Error> {
        match &self.asked {
            Some(asked) => outflow::give(&self.connection, asked, give),
            None => Err(Error::new("rows were asked for without a query")),
        }
    }

    fn columns_out(&mut self, query: &str) -> Result<Vec<(String, Type)>, Error> {
        outflow::columns(&self.connection, query)
    }

    fn fits(&mut self, mode: Mode, part: &Part, table: &Table) -> Result<(), Error> {
        if mode == Mode::Merge {
            unique::check(Dialect::Sqlite, part, &table.unique)?;
        }
        fits(part, table)
    }

    fn foresight(&mut self, job: &Job) -> Result<Foresight, Error> {
        foresight(job, |table| self.describe_table(table))
    }

    fn dialect(&self) -> Dialect {
        Dialect::Sqlite
    }

    fn full_name(&mut self, table: &str) -> Result<String, Error> {
        // SQLite's names are the same in capitals and small letters.
        Ok(table.to_ascii_lowercase())
    }

    fn ask(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<Vec<Vec<Value>>, Error> {
        asking::ask(&self.connection, sql, values, doing)
    }

    fn tell(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<u64, Error> {
        asking::tell(&self.connection, sql, values, doing)
    }

    fn claim(&mut self, _: i64, wait: bool) -> Result<bool, Error> {
        // One load writes at a time, whatever it loads.
        if self.claim.is_none() {
            self.claim = asking::Claim::take(&self.path, wait)?;
        }
        Ok(self.claim.is_some())
    }

    fn be_patient(&mut self, patience: Duration) -> Result<(), Error> {
        self.connection
            .busy_timeout(patience)
            .map_err(|e| explained(&e, "connecting"))
    }

    fn begin_file(&mut self) -> Result<(), Error> {
        let sql = match self.at_file {
            Some(_) => "RELEASE barrow_file; SAVEPOINT barrow_file",
            None => "SAVEPOINT barrow_file",
        };
        self.run(sql, "beginning a file")?;
        let tables = self.job.iter().flat_map(|job| &job.tables);
        self.at_file = Some((tables.map(|table| table.rows).collect(), self.merged()));
        Ok(())
    }

    fn take_back_file(&mut self) -> Result<(), Error> {
        self.run("ROLLBACK TO barrow_file", "taking a file back")?;
        if let (Some((rows, merged)), Some(job)) = (&self.at_file, &mut self.job) {
            let tables = job.tables.iter_mut().zip(rows);
            tables.for_each(|(table, rows)| table.rows = *rows);
            job.merged = *merged;
        }
        Ok(())
    }

    fn begin(&mut self, job: &Job) -> Result<Vec<u64>, Error> {
        // At once, and not with the first row: a lock is found before the work.
        self.run("BEGIN IMMEDIATE", "beginning the transaction")?;
        let mut loading = Loading {
            tables: Vec::new(),
            inserters: Vec::new(),
            merged: (job.mode == Mode::Merge).then(Merged::default),
        };
        let mut before = Vec::new();
        for table in job.tables() {
            before.push(self.begin_table(job, table, &mut loading)?);
        }
        // In the order of the batch's parts, so that a record that others name
        // by a foreign key is there before them.
        loading.inserters.sort_by_key(|part| part.number);
        self.job = Some(loading);
        Ok(before)
    }

    fn encoder(&self) -> Encoder {
        let inserters = self.job.iter().flat_map(|loading| &loading.inserters);
        let parts: Vec<_> = inserters
            .map(|part| (part.number, part.into.inserter().encodings()))
            .collect();
        Box::new(move |batch| {
            for (number, columns) in &parts {
                encode::encode(columns, *number, batch);
            }
        })
    }

    fn take(&mut self, coming: &mut dyn Coming) -> Result<Vec<Vec<Refusal>>, Error> {
        let mut refused = Vec::new();
        while let Some(batch) = coming.next() {
            refused.push(self.take_one(batch)?);
        }
        Ok(refused)
    }

    fn merged(&self) -> Option<Merged> {
        self.job.as_ref()?.merged
    }

    fn commit(&mut self) -> Result<(), Error> {
        self.run("COMMIT", "committing")?;
        self.run("BEGIN IMMEDIATE", "beginning the next transaction")?;
        // Between the two, somebody else may have written.
        for table in self.job.iter_mut().flat_map(|loading| &mut loading.tables) {
            table.rows = None;
        }
        Ok(())
    }

    fn finish(&mut self) -> Result<Vec<u64>, Error> {
        let rows = self.rows()?;
        self.run("COMMIT", "committing")?;
        Ok(rows)
    }

    fn undo(&mut self) -> Result<Vec<u64>, Error> {
        if !self.connection.is_autocommit() {
            self.run("ROLLBACK", "undoing the load")?;
        }
        let tables = self.job.iter().flat_map(|loading| &loading.tables);
        let rows = tables.map(|table| match self.kind_of(&table.name)? {
            Some(_) => self.count(&table.name),
            None => Ok(0),
        });
        rows.collect()
    }
}

impl Sqlite {
    /// Loads a batch's rows, part by part.
    fn take_one(&mut self, batch: &Batch) -> Result<Vec<Refusal>, Error> {
        let Some(loading) = &mut self.job else {
            return Err(Error::new("rows came before the load began"));
        };
        let mut all = Vec::new();
        for part in &mut loading.inserters {
            let (refused, more) = match &mut part.into {
                Into::Insert(inserter) => {
                    let refused = inserter.insert(&self.connection, batch)?;
                    let good = batch.parts[part.number].good.len();
                    let more = (good - refused.len()) as u64;
                    (refused, more)
                }
                Into::Merge(merger) => {
                    let (refused, found) = merger.merge(&self.connection, batch)?;
                    loading.merged.get_or_insert_default().add(found);
                    (refused, found.new)
                }
            };
            if let Some(rows) = &mut loading.tables[part.table].rows {
                *rows += more;
            }
            all.extend(refused);
        }
        Ok(all)
    }
}

impl Drop for Sqlite {
    fn drop(&mut self) {
        // The lock goes last of all.
        // SQLite rolls back what is open. A file that we made and put nothing
        // into is taken away again.
        if !self.connection.is_autocommit() {
            let _ = self.connection.execute_batch("ROLLBACK");
        }
        let empty = self
            .path
            .metadata()
            .is_ok_and(|m| m.is_file() && m.len() == 0);
        if self.is_new && empty {
            let _ = std::fs::remove_file(&self.path);
        }
    }
}
