//! Rows that a query reads again: kept once, in a database of SQLite's own that goes to disk
//! where it is large, so that a join reads no file once a row of another.

use std::sync::Arc;

use rusqlite::config::DbConfig;
use rusqlite::types::{ToSqlOutput, Value};
use rusqlite::{Connection, OpenFlags, ToSql, params_from_iter};

/// How many rows are fetched at once.
const PAGE: usize = 256;

/// KiB of kept rows that may stay in memory.
const CACHE: i64 = 32_768;

/// Rows that are kept.
pub struct Kept {
    connection: Connection,
    /// For each column of the table, where its values stand in a row that is kept; none for
    /// one that the query does not use.
    slots: Arc<[Option<usize>]>,
    width: usize,
    /// How many there are.
    pub rows: u64,
}

/// A column of kept rows: its declaration, and whether rows are looked for by it.
pub struct KeptColumn {
    /// The column's place in the table, 0-based.
    pub column: usize,
    /// Its type and collation in SQL.
    pub declared: String,
    /// Whether rows are looked for by its value.
    pub is_key: bool,
}

impl Kept {
    /// A place for rows of these columns.
    pub fn new(columns: &[KeptColumn]) -> rusqlite::Result<Kept> {
        // Without a name it is a file of its own that goes away with the connection.
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags("", flags)?;
        // Without it a statement is prepared again for every value that is looked for, which
        // took 32 µs of a look; now it takes 2.
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
        connection.pragma_update(None, "journal_mode", "OFF")?;
        connection.pragma_update(None, "cache_size", -CACHE)?;
        let declared = columns
            .iter()
            .map(|c| format!(", c{} {}", c.column, c.declared));
        let declared: String = declared.collect();
        connection.execute_batch(&format!(
            "CREATE TABLE kept (place INTEGER PRIMARY KEY{declared}); BEGIN"
        ))?;
        let width = columns.iter().map(|c| c.column + 1).max().unwrap_or(0);
        let slot = |column| columns.iter().position(|c| c.column == column);
        Ok(Kept {
            connection,
            slots: (0..width).map(slot).collect(),
            width: columns.len(),
            rows: 0,
        })
    }

    /// Keeps a row. Its place is after that of every row before.
    pub fn add(&mut self, place: i64, row: &[Value]) -> rusqlite::Result<()> {
        let marks = ", ?".repeat(self.width);
        let sql = format!("INSERT INTO kept VALUES (?{marks})");
        let mut insert = self.connection.prepare_cached(&sql)?;
        let place: &dyn ToSql = &place;
        let values = std::iter::once(place).chain(row.iter().map(|value| value as &dyn ToSql));
        insert.execute(params_from_iter(values))?;
        self.rows += 1;
        Ok(())
    }

    /// Ends keeping, and makes the columns that rows are looked for by quick to look in.
    pub fn ended(&mut self, columns: &[KeptColumn]) -> rusqlite::Result<()> {
        let keys = columns.iter().filter(|c| c.is_key).map(|c| c.column);
        let indexes: String = keys
            .map(|key| format!("CREATE INDEX k{key} ON kept (c{key}); "))
            .collect();
        self.connection.execute_batch(&format!("{indexes}COMMIT"))
    }

    /// A scan of the rows: all of them, or those that have a value in a column.
    pub fn look(&self, key: Option<(usize, Value)>) -> KeptRows {
        KeptRows {
            key,
            slots: self.slots.clone(),
            page: Vec::new().into_iter(),
            current: None,
            ended: false,
        }
    }

    /// The next rows after a place: all, or those that have a value in a column.
    fn page(
        &self,
        key: Option<&(usize, Value)>,
        after: i64,
    ) -> rusqlite::Result<Vec<(i64, Vec<Value>)>> {
        let wanted = key.map_or(String::new(), |(place, _)| format!("c{place} = ?2 AND "));
        let sql =
            format!("SELECT * FROM kept WHERE {wanted}place > ?1 ORDER BY place LIMIT {PAGE}");
        let mut select = self.connection.prepare_cached(&sql)?;
        let after: &dyn ToSql = &after;
        let values = std::iter::once(after).chain(key.map(|(_, value)| value as &dyn ToSql));
        let rows = select.query_map(params_from_iter(values), |row| {
            let values = (1..=self.width).map(|place| row.get(place));
            Ok((row.get(0)?, values.collect::<rusqlite::Result<_>>()?))
        })?;
        rows.collect()
    }
}

/// A scan of kept rows.
pub struct KeptRows {
    key: Option<(usize, Value)>,
    slots: Arc<[Option<usize>]>,
    page: std::vec::IntoIter<(i64, Vec<Value>)>,
    /// The row that stands.
    current: Option<(i64, Vec<Value>)>,
    ended: bool,
}

impl KeptRows {
    /// None of the rows.
    pub fn none() -> KeptRows {
        KeptRows {
            key: None,
            slots: Arc::from([]),
            page: Vec::new().into_iter(),
            current: None,
            ended: true,
        }
    }

    /// Moves to the next.
    pub fn advance(&mut self, kept: &Kept) -> rusqlite::Result<()> {
        if let Some(row) = self.page.next() {
            self.current = Some(row);
            return Ok(());
        }
        let after = self.current.take().map_or(0, |(place, _)| place);
        if !self.ended {
            let page = kept.page(self.key.as_ref(), after)?;
            self.ended = page.len() < PAGE;
            self.page = page.into_iter();
            self.current = self.page.next();
        }
        Ok(())
    }

    /// The value of the row that stands; none where there is no row, or the column is not kept.
    pub fn value(&self, column: usize) -> Option<ToSqlOutput<'_>> {
        let (_, row) = self.current.as_ref()?;
        let slot = self.slots.get(column).copied().flatten()?;
        Some(ToSqlOutput::from(row.get(slot)?))
    }

    /// The place of the row that stands; none after the last.
    pub fn place(&self) -> Option<i64> {
        self.current.as_ref().map(|(place, _)| *place)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_come_back_page_by_page() {
        let column = |column, is_key| KeptColumn {
            column,
            declared: "INTEGER".into(),
            is_key,
        };
        let columns = [column(0, true), column(2, false)];
        let mut kept = Kept::new(&columns).unwrap();
        for n in 0..1000 {
            kept.add(n * 2 + 1, &[Value::Integer(n % 3), Value::Integer(n)])
                .unwrap();
        }
        kept.ended(&columns).unwrap();
        for (key, wanted) in [(None, 1000), (Some((0, Value::Integer(1))), 333)] {
            let mut rows = kept.look(key);
            let mut found = 0;
            rows.advance(&kept).unwrap();
            while rows.place().is_some() {
                found += 1;
                assert!(rows.value(1).is_none() && rows.value(2).is_some());
                rows.advance(&kept).unwrap();
            }
            assert_eq!(found, wanted);
        }
    }
}
