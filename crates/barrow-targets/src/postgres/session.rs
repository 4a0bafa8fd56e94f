//! A session with PostgreSQL.

use std::time::Duration;

use barrow_core::types::Type;

use super::DIALECT;
use super::connect::Postgres;
use super::describe::{Described, describe};
use super::errors::explained;
use super::send::Copier;
use super::{begin, connect, query_rows, send};
use crate::dialect::Dialect;
use crate::encoded::{EncodedBatch, Encoder};
use crate::error::Error;
use crate::job::Job;
use crate::merge::Statements;
use crate::postgres::{privileges, sql};
use crate::query::Query;
use crate::record_table::RecordTable;
use crate::server_info::ServerInfo;
use crate::servers::load::ServerSession;
use crate::servers::loaded_table::LoadedTable;
use crate::servers::send::Sender;
use crate::session::{BatchSource, OpenQuery, Session, Swap};
use crate::sql::Value;
use crate::table::Table;

impl Session for Postgres {
    fn dialect(&self) -> Dialect {
        DIALECT
    }

    fn describe(&mut self, table: &str) -> Result<Option<Table>, Error> {
        Ok(describe(&mut self.client, table)?.map(|found| found.table))
    }

    fn server_info(&mut self, tables: &[&str]) -> Result<ServerInfo, Error> {
        privileges::server_info(&mut self.client, tables)
    }

    fn full_name(&mut self, table: &str) -> Result<String, Error> {
        let (schema, name) = match table.split_once('.') {
            Some((schema, name)) => (Value::from(schema), name),
            None => (Value::Null, table),
        };
        let sql = "SELECT COALESCE(CAST(? AS text), (SELECT n.nspname::text FROM pg_class c JOIN pg_namespace n \
                   ON n.oid = c.relnamespace WHERE c.oid = to_regclass(CAST(? AS text))), current_schema()::text, '')";
        let quoted = Value::from(DIALECT.table(table));
        let found = self.query(sql, &[schema, quoted], "looking for the table")?;
        let schema = found
            .first()
            .and_then(|row| row[0].as_text())
            .unwrap_or_default();
        Ok(format!("{schema}.{name}"))
    }

    fn ledger_table(&mut self, table: &str) -> Result<String, Error> {
        if let Some(name) = self.ledger.get(table) {
            return Ok(name.clone());
        }
        let found = sql::ledger_table(&mut self.client, table)?;
        Ok(match found {
            Some(name) => self.ledger.entry(table.into()).or_insert(name).clone(),
            None => table.to_string(),
        })
    }

    fn query(
        &mut self,
        sql: &str,
        values: &[Value],
        doing: &str,
    ) -> Result<Vec<Vec<Value>>, Error> {
        let values = sql::holdable(&mut self.client, values)?;
        sql::query(&mut self.client, sql, &values, doing)
    }

    fn execute(&mut self, sql: &str, values: &[Value], doing: &str) -> Result<u64, Error> {
        let values = sql::holdable(&mut self.client, values)?;
        sql::execute(&mut self.client, sql, &values, doing)
    }

    fn script(&mut self, sql: &str) -> Result<(), Error> {
        self.run(sql, "running SQL")
    }

    fn lock(&mut self, key: i64, wait: bool) -> Result<bool, Error> {
        sql::lock(&mut self.client, key, wait)
    }

    fn set_patience(&mut self, patience: Duration) -> Result<(), Error> {
        let sql = format!("SET lock_timeout = {}", patience.as_millis().max(1));
        self.run(&sql, "connecting")
    }

    fn put_in_place(&mut self, swaps: &[Swap]) -> Result<(), Error> {
        let doing = "putting the new table into the old one's place";
        let sql = swaps.iter().map(begin::swap);
        sql.into_iter().try_for_each(|sql| self.run(&sql, doing))
    }

    fn query_columns(&mut self, query: &Query) -> Result<Vec<(String, Type)>, Error> {
        query_rows::columns(&mut self.client, &query.sql(DIALECT))
    }

    fn open_query<'s>(
        &'s mut self,
        query: &Query,
        columns: &[(String, Type)],
    ) -> Result<OpenQuery<'s>, Error> {
        query_rows::open(&mut self.client, &query.sql(DIALECT), columns)
    }
}

impl ServerSession for Postgres {
    type Found = Described;
    type Kind = Copier;

    /// 4 MiB of a file in one COPY, in batches that come as they are typed. At the end of
    /// each COPY the server waits for us: with 1 MiB in a batch, each with a COPY of its
    /// own, it did so for 4 % of the time, with these for 0.5 %, in half of the memory.
    const BATCHES: usize = 16;

    const DIALECT: Dialect = DIALECT;

    fn run(&mut self, sql: &str, doing: &str) -> Result<(), Error> {
        self.client
            .batch_execute(sql)
            .map_err(|e| explained(&e, doing))
    }

    fn find(&mut self, table: &str) -> Result<Option<Described>, Error> {
        describe(&mut self.client, table)
    }

    fn as_made(&mut self, job: &Job, part: &RecordTable) -> Result<Described, Error> {
        let doing = "looking at the table that a load would make";
        let name = job.beside(&part.table);
        let sql = job.create_table_as(&part.table, &name, DIALECT)?;
        self.run("BEGIN", doing)?;
        let made = self
            .run(&sql, "making the table")
            .and_then(|()| self.find(&name));
        self.run("ROLLBACK", doing)?;
        made?.ok_or_else(|| Error::new("the table was made and is not there"))
    }

    fn lock_table(&mut self, name: &str, alone: bool) -> Result<(), Error> {
        begin::lock_table(self, name, alone)
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
    ) -> Result<Copier, Error> {
        begin::copier(self, part, found, destination, merge)
    }

    fn encoder_of(part: &RecordTable, found: &Described) -> Result<Encoder, Error> {
        let (fields, number) = (begin::fields(part, found)?, part.number);
        Ok(Box::new(move |batch| send::encode(batch, number, &fields)))
    }

    /// Constraints are checked with each piece of rows, also those that would wait for the
    /// commit: then it is known which rows they refuse.
    fn open_savepoint(&mut self) -> Result<(), Error> {
        self.run(
            "SET CONSTRAINTS ALL IMMEDIATE; SAVEPOINT barrow",
            "beginning the transaction",
        )
    }

    fn keep(&mut self) -> Result<(), Error> {
        send::keep(&mut self.client)
    }

    fn receive<'b>(
        &mut self,
        senders: &mut [Sender<Copier>],
        batches: &'b mut dyn BatchSource,
    ) -> &'b [EncodedBatch] {
        match senders {
            [only] if only.size.is_whole() && only.order.is_none() => {
                let (copy, number) = (&only.by.copy, only.number);
                only.by.copied = send::stream(&mut self.client, copy, number, batches);
                batches.ready()
            }
            senders if senders.iter().all(|kind| kind.size.is_whole()) => batches.all(),
            // The next ones are typed meanwhile.
            _ => batches.first(Postgres::BATCHES / 2),
        }
    }

    fn note_broken_off(&mut self) {
        self.is_broken_off = true;
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

    fn after_commit(&mut self, tables: &[LoadedTable], is_last: bool) -> Result<(), Error> {
        // The locks went with the commit.
        let tables = tables.iter().filter(|_| !is_last);
        tables
            .into_iter()
            .try_for_each(|table| self.lock_table(&table.name, false))
    }

    fn roll_back_open(&mut self) -> Result<(), Error> {
        self.is_together = false;
        if self.client.is_closed() {
            // The server rolls back by itself what it has lost the connection to.
            let gone = format!("the connection to {} is gone", self.server);
            return Err(
                Error::new(gone).advice("the server rolls back by itself what was not committed")
            );
        }
        if !self.is_open {
            return Ok(());
        }
        self.is_open = false;
        // A COPY that the server broke off leaves the session between two answers. The
        // server rolls back what a session leaves open when it ends.
        if self.is_broken_off || self.run("ROLLBACK", "rolling the load back").is_err() {
            self.client = connect::connect(&self.server)?;
            self.is_broken_off = false;
        }
        Ok(())
    }
}
