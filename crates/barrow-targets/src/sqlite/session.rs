//! A session with a SQLite database.

use std::time::Duration;

use barrow_core::types::Type;
use barrow_core::words::Mode;

use super::DIALECT;
use super::connect::Sqlite;
use super::describe::{describe, kind_of};
use super::errors::explained;
use super::foresight::{fits, foresight};
use super::{load, long_decimals, query_rows};
use crate::dialect::Dialect;
use crate::error::Error;
use crate::foresight::Foresight;
use crate::job::Job;
use crate::merge_key;
use crate::query::Query;
use crate::record_table::RecordTable;
use crate::server_info::{Privileges, ServerInfo};
use crate::session::{Load, Loads, NotBegun, OpenQuery, Session};
use crate::sql::Value;
use crate::sqlite::sql;
use crate::table::Table;

impl Loads for Sqlite {
    fn fits(&mut self, mode: Mode, part: &RecordTable, table: &Table) -> Result<(), Error> {
        if mode == Mode::Merge {
            merge_key::check(DIALECT, part, &table.unique)?;
        }
        fits(part, table)
    }

    fn foresight(&mut self, job: &Job) -> Result<Foresight, Error> {
        foresight(job, |table| describe(&self.connection, table))
    }

    fn begin<'s>(&'s mut self, job: &Job) -> Result<Box<dyn Load<'s> + 's>, NotBegun<'s>> {
        load::begin(self, job)
    }

    fn open_together(&mut self, _: &[&Job]) -> Result<(), Error> {
        self.run("BEGIN IMMEDIATE", "beginning the transaction")?;
        self.is_together.set(true);
        Ok(())
    }

    fn commit_together(&mut self) -> Result<(), Error> {
        if let Err(error) = self.run("COMMIT", "committing") {
            let _ = self.roll_back_open();
            return Err(error);
        }
        self.is_together.set(false);
        Ok(())
    }

    fn roll_back(&mut self) -> Result<(), Error> {
        self.roll_back_open()
    }
}

impl Session for Sqlite {
    fn dialect(&self) -> Dialect {
        DIALECT
    }

    fn describe(&mut self, table: &str) -> Result<Option<Table>, Error> {
        describe(&self.connection, table)
    }

    fn server_info(&mut self, tables: &[&str]) -> Result<ServerInfo, Error> {
        let rights = tables.iter().map(|table| {
            Ok(Privileges::all(
                table,
                kind_of(&self.connection, table)?.is_some(),
            ))
        });
        let read_only = self.connection.is_readonly("main").unwrap_or(false);
        Ok(ServerInfo {
            server: format!("SQLite {}", rusqlite::version()),
            hindrance: read_only.then(|| "the file may not be written to".to_string()),
            tables: rights.collect::<Result<_, Error>>()?,
            ..ServerInfo::default()
        })
    }

    fn full_name(&mut self, table: &str) -> Result<String, Error> {
        // SQLite's names are the same in capitals and small letters.
        Ok(table.to_ascii_lowercase())
    }

    fn query(
        &mut self,
        sql: &str,
        values: &[Value],
        doing: &str,
    ) -> Result<Vec<Vec<Value>>, Error> {
        sql::query(&self.connection, sql, values, doing)
    }

    fn execute(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<u64, Error> {
        sql::execute(&self.connection, sql, values, doing)
    }

    fn script(&mut self, sql: &str) -> Result<(), Error> {
        self.run(sql, "running SQL")
    }

    fn lock(&mut self, _: i64, wait: bool) -> Result<bool, Error> {
        // One load writes at a time, whatever it loads.
        if self.lock.is_none() {
            self.lock = sql::LoadLock::take(&self.path, wait)?;
        }
        Ok(self.lock.is_some())
    }

    fn set_patience(&mut self, patience: Duration) -> Result<(), Error> {
        self.connection
            .busy_timeout(patience)
            .map_err(|e| explained(&e, "connecting"))
    }

    fn query_columns(&mut self, query: &Query) -> Result<Vec<(String, Type)>, Error> {
        query_rows::columns(&self.connection, &query.sql(DIALECT))
    }

    fn open_query<'s>(
        &'s mut self,
        query: &Query,
        columns: &[(String, Type)],
    ) -> Result<OpenQuery<'s>, Error> {
        // Of a connection that somebody else opened, only the query is known: it has its moments
        // in UTC already.
        let is_own = !self.path.as_os_str().is_empty();
        let sql = query.sql(DIALECT);
        if let (true, Query::Table(select)) = (is_own, query) {
            long_decimals::can_be_asked(&self.connection, select)?;
        }
        let sql = match is_own {
            true => query_rows::with_moments(&self.connection, &sql)?,
            false => sql,
        };
        query_rows::open(&self.connection, query, sql, columns)
    }
}
