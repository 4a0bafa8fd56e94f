//! A session with MariaDB or MySQL.

use std::time::Duration;

use barrow_core::types::Type;
use mysql::prelude::Queryable;

use super::DIALECT;
use super::connect::MariaDb;
use super::describe::{Described, describe};
use super::errors::explained;
use super::send::Loader;
use super::{begin, query_rows, send};
use crate::dialect::Dialect;
use crate::encoded::Encoder;
use crate::error::Error;
use crate::job::Job;
use crate::mariadb::{privileges, sql};
use crate::merge::Statements;
use crate::query::Query;
use crate::record_table::RecordTable;
use crate::server_info::ServerInfo;
use crate::servers::load::{Made, ServerSession};
use crate::servers::loaded_table::LoadedTable;
use crate::session::{OpenQuery, Session, Swap};
use crate::sql::Value;
use crate::table::Table;

impl MariaDb {
    /// Drops the tables that the load made and that hold nothing.
    fn drop_made(&mut self) -> Result<(), Error> {
        for made in std::mem::take(&mut self.made).into_iter().rev() {
            match made {
                Made::Beside(name) => {
                    let sql = format!("DROP TABLE IF EXISTS {}", DIALECT.table(&name));
                    self.run(&sql, "rolling the load back")?;
                }
                Made::New(name) => self.drop_empty(&name)?,
            }
        }
        Ok(())
    }

    /// Drops a table unless others have inserted rows into it: it is locked while that is looked
    /// at. One that is in use now stays, and is empty.
    fn drop_empty(&mut self, name: &str) -> Result<(), Error> {
        let table = DIALECT.table(name);
        let locked = self.conn.query_drop(format!("LOCK TABLES {table} WRITE"));
        if locked.is_err() {
            return Ok(());
        }
        let rows: Result<Option<u8>, _> = self
            .conn
            .query_first(format!("SELECT 1 FROM {table} LIMIT 1"));
        let dropped = match rows {
            Ok(None) => self.run(&format!("DROP TABLE {table}"), "rolling the load back"),
            _ => Ok(()),
        };
        self.run("UNLOCK TABLES", "rolling the load back")?;
        dropped
    }
}

impl Session for MariaDb {
    fn dialect(&self) -> Dialect {
        DIALECT
    }

    fn describe(&mut self, table: &str) -> Result<Option<Table>, Error> {
        Ok(describe(&mut self.conn, table)?.map(|found| found.table))
    }

    fn full_name(&mut self, table: &str) -> Result<String, Error> {
        if table.contains('.') {
            return Ok(table.to_string());
        }
        let found = self.query("SELECT DATABASE()", &[], "asking for the database")?;
        let database = found
            .first()
            .and_then(|row| row[0].as_text())
            .unwrap_or_default();
        Ok(format!("{database}.{table}"))
    }

    fn server_info(&mut self, tables: &[&str]) -> Result<ServerInfo, Error> {
        privileges::server_info(&mut self.conn, tables)
    }

    fn query(
        &mut self,
        sql: &str,
        values: &[Value],
        doing: &str,
    ) -> Result<Vec<Vec<Value>>, Error> {
        sql::query(&mut self.conn, sql, values, doing)
    }

    fn execute(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<u64, Error> {
        sql::execute(&mut self.conn, sql, values, doing)
    }

    fn script(&mut self, sql: &str) -> Result<(), Error> {
        let statements = sql.split(";\n").map(|one| one.trim().trim_end_matches(';'));
        for statement in statements.filter(|one| !one.is_empty()) {
            self.run(statement, "running SQL")?;
        }
        Ok(())
    }

    fn lock(&mut self, key: i64, wait: bool) -> Result<bool, Error> {
        sql::lock(&mut self.conn, key, wait)
    }

    fn set_patience(&mut self, patience: Duration) -> Result<(), Error> {
        let seconds = patience.as_secs().max(1);
        let sql = format!(
            "SET SESSION innodb_lock_wait_timeout = {seconds}, lock_wait_timeout = {seconds}"
        );
        self.run(&sql, "connecting")
    }

    fn put_in_place(&mut self, swaps: &[Swap]) -> Result<(), Error> {
        begin::put_in_place(self, swaps)?;
        self.made.clear();
        Ok(())
    }

    fn query_columns(&mut self, query: &Query) -> Result<Vec<(String, Type)>, Error> {
        query_rows::columns(&mut self.conn, &query.sql(DIALECT))
    }

    fn open_query<'s>(
        &'s mut self,
        query: &Query,
        columns: &[(String, Type)],
    ) -> Result<OpenQuery<'s>, Error> {
        query_rows::open(&mut self.conn, query.sql(DIALECT), columns)
    }
}

impl ServerSession for MariaDb {
    type Found = Described;
    type Kind = Loader;

    /// 2 MiB of a file in one statement: between two of them the server waits for three
    /// round trips. How many batches wait, typed, while the ones before them are with the
    /// server.
    const BATCHES: usize = 8;

    const DIALECT: Dialect = DIALECT;

    fn run(&mut self, sql: &str, doing: &str) -> Result<(), Error> {
        self.conn.query_drop(sql).map_err(|e| explained(&e, doing))
    }

    fn find(&mut self, table: &str) -> Result<Option<Described>, Error> {
        describe(&mut self.conn, table)
    }

    fn as_made(&mut self, _: &Job, part: &RecordTable) -> Result<Described, Error> {
        Ok(Described::as_made(part))
    }

    fn make_stage(&mut self, part: &RecordTable, stage: &str, table: &str) -> Result<(), Error> {
        begin::make_stage(self, part, stage, table)
    }

    fn kind(
        &mut self,
        part: &RecordTable,
        found: &Described,
        destination: &str,
        merge: Option<Statements>,
    ) -> Result<Loader, Error> {
        begin::loader(part, found, destination, merge)
    }

    fn encoder_of(part: &RecordTable, found: &Described) -> Result<Encoder, Error> {
        let (fields, number) = (begin::fields(part, found)?, part.number);
        Ok(Box::new(move |batch| send::encode(batch, number, &fields)))
    }

    fn keep(&mut self) -> Result<(), Error> {
        send::keep(&mut self.conn)
    }

    fn note_open(&mut self, is_open: bool) {
        self.is_open = is_open;
    }

    fn is_together(&self) -> bool {
        self.is_together
    }

    fn note_together(&mut self, is_together: bool) {
        self.is_together = is_together;
    }

    fn note_made(&mut self, made: Made) {
        self.made.push(made);
    }

    fn after_commit(&mut self, _: &[LoadedTable], _: bool) -> Result<(), Error> {
        // What was made has rows that stay. A table beside another waits for its place.
        self.made.retain(|made| matches!(made, Made::Beside(_)));
        Ok(())
    }

    fn roll_back_open(&mut self) -> Result<(), Error> {
        self.is_together = false;
        if self.is_open {
            self.run("ROLLBACK", "rolling the load back")?;
            self.is_open = false;
        }
        self.drop_made()
    }
}

impl Drop for MariaDb {
    fn drop(&mut self) {
        // The load is not done: what it made is of no use, and a failure tells nobody
        // anything.
        let _ = self.roll_back_open();
    }
}
