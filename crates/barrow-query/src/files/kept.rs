//! Rows that a query comes back to: kept once, in a database of SQLite's own that goes to disk
//! where it is large, so that a join reads no file once a row of another.

use rusqlite::types::{ToSqlOutput, Value};
use rusqlite::{Connection, ToSql, params_from_iter};

use crate::exact;

/// So many rows are fetched at once.
const PAGE: usize = 256;

/// KiB of kept rows that may stay in memory.
const CACHE: i64 = 32_768;

/// Rows that are kept.
pub struct Kept {
    connection: Connection,
    width: usize,
    /// How many there are.
    pub rows: u64,
}

/// A column of kept rows: its declaration, and whether rows are looked for by it.
pub struct KeptColumn {
    /// Its type and collation in SQL.
    pub declared: String,
    /// Whether rows are looked for by its value.
    pub is_key: bool,
}

impl Kept {
    /// A place for rows of these columns.
    pub fn new(columns: &[KeptColumn]) -> rusqlite::Result<Kept> {
        // Without a name it is a file of its own that goes away with the connection.
        let connection = Connection::open("")?;
        exact::collate(&connection)?;
        connection.pragma_update(None, "journal_mode", "OFF")?;
        connection.pragma_update(None, "cache_size", -CACHE)?;
        let declared = columns.iter().enumerate();
        let declared = declared.map(|(place, column)| format!(", c{place} {}", column.declared));
        let declared: String = declared.collect();
        connection.execute_batch(&format!(
            "CREATE TABLE kept (place INTEGER PRIMARY KEY{declared}); BEGIN"
        ))?;
        Ok(Kept {
            connection,
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
        let keys = columns.iter().enumerate().filter(|(_, c)| c.is_key);
        let indexes: String = keys
            .map(|(place, _)| format!("CREATE INDEX k{place} ON kept (c{place}); "))
            .collect();
        self.connection.execute_batch(&format!("{indexes}COMMIT"))
    }

    /// The next rows after a place: all, or those that have a value in a column.
    pub fn page(
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

/// A look through kept rows.
pub struct KeptRows {
    key: Option<(usize, Value)>,
    page: std::vec::IntoIter<(i64, Vec<Value>)>,
    /// The row that stands.
    current: Option<(i64, Vec<Value>)>,
    ended: bool,
}

impl KeptRows {
    /// All of them, or those that have a value in a column.
    pub fn new(key: Option<(usize, Value)>) -> KeptRows {
        KeptRows {
            key,
            page: Vec::new().into_iter(),
            current: None,
            ended: false,
        }
    }

    /// None of them.
    pub fn none() -> KeptRows {
        KeptRows {
            ended: true,
            ..KeptRows::new(None)
        }
    }

    /// Goes on to the next.
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

    /// The value of the row that stands; none where there is no row.
    pub fn value(&self, column: usize) -> Option<ToSqlOutput<'_>> {
        let (_, row) = self.current.as_ref()?;
        Some(ToSqlOutput::from(row.get(column)?))
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
        let column = |is_key| KeptColumn {
            declared: "INTEGER".into(),
            is_key,
        };
        let columns = [column(true), column(false)];
        let mut kept = Kept::new(&columns).unwrap();
        for n in 0..1000 {
            kept.add(n * 2 + 1, &[Value::Integer(n % 3), Value::Integer(n)])
                .unwrap();
        }
        kept.ended(&columns).unwrap();
        for (key, wanted) in [(None, 1000), (Some((0, Value::Integer(1))), 333)] {
            let mut rows = KeptRows::new(key);
            let mut found = 0;
            rows.advance(&kept).unwrap();
            while rows.place().is_some() {
                found += 1;
                rows.advance(&kept).unwrap();
            }
            assert_eq!(found, wanted);
        }
    }
}
