//! Asks SQLite what a table is like.

use barrow_core::escape::escape_for_display;
use rusqlite::{Connection, OptionalExtension};

use barrow_core::types::Type;

use super::DIALECT;
use super::errors::explained;
use super::types;
use crate::error::Error;
use crate::table::{OwnParents, Table, TableColumn};

/// The table as it is; none where there is none.
///
/// # Errors
/// SQLite cannot be asked, or it is a view.
pub fn describe(connection: &Connection, table: &str) -> Result<Option<Table>, Error> {
    let asking = |e| explained(&e, "asking for the table's columns");
    match kind_of(connection, table)?.as_deref() {
        None => return Ok(None),
        Some("view") => {
            return Err(Error::spec(format!(
                "{} is a view; rows are loaded into tables",
                escape_for_display(table.as_bytes())
            )));
        }
        Some(_) => {}
    }
    let sql = "SELECT count(*) FROM sqlite_master WHERE type = 'trigger' AND tbl_name = ?1 COLLATE NOCASE";
    let triggers: i64 = connection
        .query_row(sql, [table], |row| row.get(0))
        .map_err(asking)?;
    let columns = columns(connection, table).map_err(asking)?;
    Ok(Some(Table {
        unique: unique(connection, table)?,
        older_times: older_times(connection, table, &columns).map_err(asking)?,
        columns,
        triggers: triggers > 0,
        own_parents: own_parents(connection, table).map_err(asking)?,
    }))
}

/// How many rows of a table are looked at for the form of its times.
const LOOKED_AT: u32 = 10_000;

/// The columns whose times are in the form of earlier versions, as far as some rows tell.
fn older_times(
    connection: &Connection,
    table: &str,
    columns: &[TableColumn],
) -> rusqlite::Result<Vec<String>> {
    let mut older = Vec::new();
    let is_time = |column: &&TableColumn| {
        matches!(
            column.ty,
            Some(Type::Time | Type::Timestamp | Type::TimestampTz)
        )
    };
    for column in columns.iter().filter(is_time) {
        let name = DIALECT.quoted(&column.name);
        let sql = format!(
            "SELECT EXISTS (SELECT 1 FROM (SELECT {name} AS c FROM {} LIMIT {LOOKED_AT}) \
             WHERE c LIKE '%Z' OR c LIKE '%.%0')",
            DIALECT.table(table)
        );
        if connection.query_row(&sql, [], |row| row.get(0))? {
            older.push(column.name.clone());
        }
    }
    Ok(older)
}

/// Whether a name is that of a table or a view; none where it is neither.
pub fn kind_of(connection: &Connection, name: &str) -> Result<Option<String>, Error> {
    let sql = "SELECT type FROM sqlite_master WHERE name = ?1 COLLATE NOCASE AND type IN ('table', 'view')";
    connection
        .query_row(sql, [name], |row| row.get(0))
        .optional()
        .map_err(|e| explained(&e, "looking for the table"))
}

fn columns(connection: &Connection, table: &str) -> rusqlite::Result<Vec<TableColumn>> {
    let sql = "SELECT name, type, \"notnull\", dflt_value IS NOT NULL, pk, hidden FROM pragma_table_xinfo(?1)";
    let mut statement = connection.prepare(sql)?;
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
    let keys: i64 = connection.query_row(sql, [table], |row| row.get(0))?;
    if keys > 1 {
        columns
            .iter_mut()
            .for_each(|column| column.numbered = false);
    }
    Ok(columns)
}

/// The sets of columns of which no two rows have the same values.
fn unique(connection: &Connection, table: &str) -> Result<Vec<Vec<String>>, Error> {
    let asking = |e| explained(&e, "asking for the table's keys");
    let mut found: Vec<Vec<String>> = Vec::new();
    let key = "SELECT name FROM pragma_table_info(?1) WHERE pk > 0 ORDER BY pk";
    let indexes = "SELECT i.seq, c.name FROM pragma_index_list(?1) i, pragma_index_info(i.name) c \
                   WHERE i.\"unique\" = 1 AND i.partial = 0 ORDER BY i.seq, c.seqno";
    let mut statement = connection.prepare(key).map_err(asking)?;
    let names = statement
        .query_map([table], |row| row.get(0))
        .map_err(asking)?;
    found.push(names.collect::<Result<_, _>>().map_err(asking)?);
    let mut statement = connection.prepare(indexes).map_err(asking)?;
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

/// Foreign keys of a table to itself. One that names no columns names the key.
fn own_parents(connection: &Connection, table: &str) -> rusqlite::Result<Vec<OwnParents>> {
    let sql = "SELECT id, \"from\", COALESCE(\"to\", (SELECT name FROM pragma_table_info(?1) WHERE pk = seq + 1)) \
               FROM pragma_foreign_key_list(?1) WHERE \"table\" = ?1 COLLATE NOCASE ORDER BY id, seq";
    let mut statement = connection.prepare(sql)?;
    let mut rows = statement.query([table])?;
    let mut last = None;
    let mut found: Vec<OwnParents> = Vec::new();
    while let Some(row) = rows.next()? {
        let (id, from, to): (i64, String, Option<String>) = (row.get(0)?, row.get(1)?, row.get(2)?);
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
