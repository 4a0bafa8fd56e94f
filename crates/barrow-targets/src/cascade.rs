//! Rows of other tables that go, or lose values, with rows that are deleted: along foreign keys
//! with `ON DELETE CASCADE`, `SET NULL` and `SET DEFAULT` (ISO/IEC 9075-2, 11.8).
//!
//! What triggers do cannot be foreseen.

use std::fmt::Write as _;

use barrow_core::escape::escape_for_display;

use crate::dialect::Dialect;
use crate::error::Error;
use crate::sql::Value;
use crate::table::same_table;

/// Asks a database.
pub type Ask<'a> = &'a mut dyn FnMut(&str, &[Value]) -> Result<Vec<Vec<Value>>, Error>;

/// What rows of another table lose.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Loss {
    /// The table.
    pub table: String,
    /// How many of its rows.
    pub rows: u64,
    /// Whether they are deleted; else a value of theirs is set to null or its default.
    pub deleted: bool,
}

impl std::fmt::Display for Loss {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let table = escape_for_display(self.table.as_bytes());
        let what = match self.deleted {
            true => "deleted",
            false => "emptied of their reference",
        };
        let rows = if self.rows == 1 { "row" } else { "rows" };
        write!(
            f,
            "{table}: {} {rows} {what} along a foreign key",
            self.rows
        )
    }
}

/// Rows that are to be deleted: all of a table, or those with a value in a column.
#[derive(Debug, Clone, Copy)]
pub struct Deleted<'d> {
    /// The table.
    pub table: &'d str,
    /// The column, and the value.
    pub with: Option<(&'d str, &'d str)>,
    /// Tables whose rows are deleted as well: what they lose is no loss.
    pub beside: &'d [&'d str],
}

impl<'d> Deleted<'d> {
    /// All rows of a table, and of others.
    pub fn all_of(table: &'d str, beside: &'d [&'d str]) -> Deleted<'d> {
        Deleted {
            table,
            with: None,
            beside,
        }
    }
}

/// A foreign key that names a table.
struct ForeignKey {
    child: String,
    rule: String,
    /// The child's columns, and those that they name.
    columns: Vec<(String, String)>,
}

/// What other tables lose with these rows.
///
/// # Errors
/// They lose something, and `may_cascade` is not so; the database cannot be asked.
pub fn losses(
    dialect: Dialect,
    ask: Ask<'_>,
    deleted: Deleted<'_>,
    may_cascade: bool,
) -> Result<Vec<Loss>, Error> {
    let found = found(dialect, ask, deleted)?;
    match found.is_empty() || may_cascade {
        true => Ok(found),
        false => Err(must_be_allowed(deleted.table, &found)),
    }
}

fn found(dialect: Dialect, ask: Ask<'_>, deleted: Deleted<'_>) -> Result<Vec<Loss>, Error> {
    let mut found = Vec::new();
    let condition = deleted.with.map(|(column, _)| {
        let column = dialect.quoted(column);
        move |alias: &str| format!("{alias}.{column} = ?")
    });
    let of = |alias: &str| match &condition {
        Some(condition) => condition(alias),
        None => "1 = 1".into(),
    };
    let values: Vec<Value> = deleted.with.iter().map(|(_, v)| Value::from(*v)).collect();
    let mut walk = Walk {
        dialect,
        ask,
        values,
        beside: deleted.beside,
        found: &mut found,
        path: Vec::new(),
    };
    walk.from(deleted.table, &of)?;
    Ok(found)
}

/// The tables with a foreign key that names this one, as the database calls them.
///
/// # Errors
/// The database cannot be asked.
pub fn referring_tables(dialect: Dialect, ask: Ask<'_>, table: &str) -> Result<Vec<String>, Error> {
    let keys = foreign_keys_to(dialect, ask, table)?;
    Ok(keys.into_iter().map(|key| key.child).collect())
}

/// Whether another table may take the place of this one.
///
/// # Errors
/// Another has a foreign key to it; the database cannot be asked.
pub fn can_be_replaced(dialect: Dialect, ask: Ask<'_>, table: &str) -> Result<(), Error> {
    let children = referring_tables(dialect, ask, table)?;
    match children.iter().find(|child| !same_table(child, table)) {
        None => Ok(()),
        Some(child) => Err(Error::spec(format!(
            "the table {} has a foreign key to {}, which would then be gone",
            escape_for_display(child.as_bytes()),
            escape_for_display(table.as_bytes())
        ))
        .advice("say mode = \"truncate\" or \"merge\", or drop the foreign key first")),
    }
}

/// What stops a delete that nobody allowed to take rows of other tables along.
fn must_be_allowed(table: &str, losses: &[Loss]) -> Error {
    let told: Vec<String> = losses.iter().map(ToString::to_string).collect();
    Error::new(format!(
        "deleting rows of {} takes rows of other tables along: {}",
        escape_for_display(table.as_bytes()),
        told.join("; ")
    ))
    .advice("if that is meant, say [target] when_cascading = \"allow\", or barrow undo --cascade")
}

struct Walk<'w, 'a> {
    dialect: Dialect,
    ask: Ask<'a>,
    values: Vec<Value>,
    beside: &'w [&'w str],
    found: &'w mut Vec<Loss>,
    path: Vec<String>,
}

impl Walk<'_, '_> {
    /// Follows the foreign keys that name a table whose rows meet a condition are deleted. The
    /// condition takes the walk's values once.
    fn from(&mut self, table: &str, condition: &dyn Fn(&str) -> String) -> Result<(), Error> {
        if self.path.iter().any(|passed| passed == table) {
            return Ok(());
        }
        self.path.push(table.to_string());
        for key in foreign_keys_to(self.dialect, self.ask, table)? {
            let deletes = key.rule.eq_ignore_ascii_case("CASCADE");
            if !deletes && !key.rule.to_ascii_uppercase().starts_with("SET") {
                continue;
            }
            let is_same = same_table(&key.child, table);
            if !is_same && self.beside.iter().any(|own| same_table(own, &key.child)) {
                continue;
            }
            let parent = format!("p{}", self.path.len());
            let joined: Vec<(String, String)> = key
                .columns
                .iter()
                .map(|(own, named)| (self.dialect.quoted(own), self.dialect.quoted(named)))
                .collect();
            let table_and_condition = (self.dialect.table(table), condition(&parent));
            let is_lost = |alias: &str| {
                let (table, condition) = &table_and_condition;
                let mut exists =
                    format!("EXISTS (SELECT 1 FROM {table} {parent} WHERE {condition}");
                for (own, named) in &joined {
                    let _ = write!(exists, " AND {alias}.{own} = {parent}.{named}");
                }
                exists + ")"
            };
            // Rows of the table itself that are deleted anyway are no loss.
            let others = match is_same {
                true => format!(" AND ({}) IS NOT TRUE", condition("c")),
                false => String::new(),
            };
            let sql = format!(
                "SELECT COUNT(*) FROM {} c WHERE {}{others}",
                self.dialect.table(&key.child),
                is_lost("c")
            );
            let given = self.values.len() * (1 + usize::from(is_same));
            let values: Vec<Value> = self.values.iter().cycle().take(given).cloned().collect();
            let rows = (self.ask)(&sql, &values)?;
            let rows = rows.first().and_then(|row| row.first()?.as_count());
            let rows = rows.unwrap_or(0);
            if rows == 0 {
                continue;
            }
            self.found.push(Loss {
                table: key.child.clone(),
                rows,
                deleted: deletes,
            });
            if deletes {
                self.from(&key.child, &is_lost)?;
            }
        }
        self.path.pop();
        Ok(())
    }
}

/// The foreign keys that name a table.
fn foreign_keys_to(dialect: Dialect, ask: Ask<'_>, table: &str) -> Result<Vec<ForeignKey>, Error> {
    let sql = dialect.foreign_keys_to();
    let name = Value::from(dialect.name_to_look_for(table));
    let values = vec![name; sql.matches('?').count()];
    let rows = ask(sql, &values)?;
    let text = |row: &[Value], at: usize| {
        let text = row.get(at).and_then(Value::as_text);
        text.unwrap_or_default().to_string()
    };
    let mut keys: Vec<(String, ForeignKey)> = Vec::new();
    for row in rows {
        let pair = (text(&row, 2), text(&row, 3));
        match keys.last_mut() {
            Some((id, key)) if *id == text(&row, 0) && key.child == text(&row, 1) => {
                key.columns.push(pair);
            }
            _ => keys.push((
                text(&row, 0),
                ForeignKey {
                    child: text(&row, 1),
                    rule: text(&row, 4),
                    columns: vec![pair],
                },
            )),
        }
    }
    Ok(keys.into_iter().map(|(_, key)| key).collect())
}
