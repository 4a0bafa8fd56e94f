//! Asks PostgreSQL what a table is like.

use barrow_core::escape::escape_for_display;
use barrow_core::words::Mode;
use postgres::Client;

use super::DIALECT;
use super::errors::explained;
use super::types::Declared;
use crate::error::Error;
use crate::record_table::{Column, RecordTable};
use crate::servers::load::ServerTable;
use crate::table::{Table, TableColumn};

/// A table with its columns' types as the server has them.
#[derive(Debug, Clone)]
pub struct Described {
    /// The table.
    pub table: Table,
    /// For each column, how it is declared.
    pub declared: Vec<Declared>,
}

/// Columns that are neither dropped nor the server's own. A domain's base is followed
/// to its end.
const COLUMNS: &str = "
WITH RECURSIVE base AS (
  SELECT a.attnum, a.atttypid AS typid, a.atttypmod AS typmod
    FROM pg_attribute a WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped
  UNION ALL
  SELECT b.attnum, t.typbasetype, CASE WHEN b.typmod = -1 THEN t.typtypmod ELSE b.typmod END
    FROM base b JOIN pg_type t ON t.oid = b.typid WHERE t.typtype = 'd'
)
SELECT a.attname::text, format_type(a.atttypid, a.atttypmod), t.typname::text, b.typmod,
       t.typtype = 'e',
       a.attnotnull OR EXISTS (SELECT 1 FROM pg_type d WHERE d.oid = a.atttypid AND d.typnotnull),
       a.atthasdef, a.attidentity::text <> '', a.attgenerated::text <> '', a.attidentity::text = 'a'
  FROM pg_attribute a
  JOIN base b ON b.attnum = a.attnum
  JOIN pg_type t ON t.oid = b.typid AND t.typtype <> 'd'
 WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped
 ORDER BY a.attnum";

/// Unique indexes without conditions or expressions.
const UNIQUE: &str = "
SELECT array_agg(a.attname::text)
  FROM pg_index i
  JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey[0:i.indnkeyatts - 1])
 WHERE i.indrelid = $1 AND i.indisunique AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL
 GROUP BY i.indexrelid";

/// Foreign keys of a table to itself.
const OWN_PARENTS: &str = "
SELECT (SELECT array_agg(a.attname::text ORDER BY k.n) FROM unnest(c.conkey) WITH ORDINALITY k (num, n)
          JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = k.num),
       (SELECT array_agg(a.attname::text ORDER BY k.n) FROM unnest(c.confkey) WITH ORDINALITY k (num, n)
          JOIN pg_attribute a ON a.attrelid = c.confrelid AND a.attnum = k.num)
  FROM pg_constraint c WHERE c.contype = 'f' AND c.conrelid = $1 AND c.confrelid = $1";

/// The table of this name, found as the server finds it; none where there is none.
pub fn describe(client: &mut Client, name: &str) -> Result<Option<Described>, Error> {
    let asking = |e: postgres::Error| explained(&e, "asking for the table's columns");
    if name
        .split_once('.')
        .is_some_and(|(schema, _)| schema.starts_with("pg_temp"))
    {
        return Err(Error::spec(format!(
            "{} is a temporary table, which belongs to one session and is gone with it",
            escape_for_display(name.as_bytes())
        ))
        .advice("name a table that stays"));
    }
    let found = client
        .query_opt(
            "SELECT c.oid, c.relkind::text FROM pg_class c WHERE c.oid = to_regclass($1)",
            &[&DIALECT.table(name)],
        )
        .map_err(asking)?;
    let Some(found) = found else {
        return Ok(None);
    };
    let (oid, kind): (u32, String) = (found.get(0), found.get(1));
    if !matches!(kind.as_str(), "r" | "p" | "f") {
        let what = match kind.as_str() {
            "v" => "a view",
            "m" => "a materialized view",
            _ => "no table",
        };
        return Err(Error::spec(format!(
            "{} is {what}; rows are loaded into tables",
            escape_for_display(name.as_bytes())
        )));
    }
    let mut columns = Vec::new();
    let mut declared = Vec::new();
    for row in client.query(COLUMNS, &[&oid]).map_err(asking)? {
        let of = Declared {
            name: row.get(2),
            modifier: row.get(3),
            is_enum: row.get(4),
            is_always_numbered: row.get(9),
        };
        let (not_null, has_default): (bool, bool) = (row.get(5), row.get(6));
        let (is_identity, generated): (bool, bool) = (row.get(7), row.get(8));
        columns.push(TableColumn {
            name: row.get(0),
            declared: row.get(1),
            ty: of.spec_type(),
            required: not_null && !has_default && !is_identity,
            generated,
            numbered: false,
            not_null,
        });
        declared.push(of);
    }
    let unique = client.query(UNIQUE, &[&oid]).map_err(asking)?;
    let triggers = "SELECT EXISTS (SELECT 1 FROM pg_trigger WHERE tgrelid = $1 AND NOT tgisinternal) \
                    OR EXISTS (SELECT 1 FROM pg_rewrite WHERE ev_class = $1)";
    let parents = client.query(OWN_PARENTS, &[&oid]).map_err(asking)?;
    Ok(Some(Described {
        table: Table {
            older_times: Vec::new(),
            own_parents: parents.iter().map(|row| (row.get(0), row.get(1))).collect(),
            columns,
            unique: unique.iter().map(|row| row.get(0)).collect(),
            triggers: client.query_one(triggers, &[&oid]).map_err(asking)?.get(0),
        },
        declared,
    }))
}

impl Described {
    /// How the column of this name is declared.
    pub fn declared(&self, name: &str) -> Option<&Declared> {
        self.declared.get(self.table.position(name)?)
    }

    /// Whether the server alone numbers rows by a column.
    fn is_always_numbered(&self, name: &str) -> bool {
        self.declared(name).is_some_and(|of| of.is_always_numbered)
    }
}

impl ServerTable for Described {
    fn table(&self) -> &Table {
        &self.table
    }

    fn takes(&self, column: &Column) -> bool {
        let declared = self.declared(&column.name);
        declared.is_some_and(|declared| declared.wire(column.ty).is_some())
    }

    fn advice(&self, declared: &str) -> &'static str {
        match declared {
            "timestamp with time zone" => "say timestamptz in the spec",
            "timestamp without time zone" => "say timestamp in the spec",
            _ => "give the column the table's type in the spec, or change the table",
        }
    }

    fn by_text(&self) -> Vec<String> {
        let columns = self.table.columns.iter().zip(&self.declared);
        let by_text = columns.filter(|(_, of)| matches!(of.name.as_str(), "json" | "xml"));
        by_text.map(|(column, _)| column.name.clone()).collect()
    }

    fn can_be_loaded(&self, mode: Mode, part: &RecordTable) -> Result<(), Error> {
        let is_key = |name: &str| part.key.iter().any(|key| key.eq_ignore_ascii_case(name));
        let mut others = part.columns.iter().filter(|c| !is_key(&c.name));
        match others.find(|c| self.is_always_numbered(&c.name)) {
            Some(column) if mode == Mode::Merge => Err(Error::spec(format!(
                "the table numbers its rows by {} itself (GENERATED ALWAYS), and rows that are \
                 there cannot be given another number",
                escape_for_display(column.name.as_bytes())
            ))
            .advice("make it a part of the key, or say load = false")),
            _ => Ok(()),
        }
    }
}
