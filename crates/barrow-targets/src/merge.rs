//! SQL that merges rows from a table where they were put down into the one they are
//! for: rows whose key is there are updated where they differ, and others inserted.

use crate::Part;
use crate::dialect::Dialect;
use crate::error::Error;
use barrow_core::spec::Type;
use barrow_core::visible::visible;

/// What became of merged rows.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Merged {
    /// Rows whose key was not there.
    pub new: u64,
    /// Rows whose key was there with other values.
    pub changed: u64,
    /// Rows that were there as they are.
    pub same: u64,
}

impl Merged {
    /// Of so many rows, where so many were inserted and so many updated. A table with
    /// rules may count more than came.
    pub fn of(count: u64, new: u64, changed: u64) -> Merged {
        Merged {
            new,
            changed,
            same: count.saturating_sub(new + changed),
        }
    }

    /// Adds what became of others.
    pub fn add(&mut self, other: Merged) {
        self.new += other.new;
        self.changed += other.changed;
        self.same += other.same;
    }
}

/// The statements of a merge.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Statements {
    /// Counts the rows that differ, before they are updated; none where no trigger may
    /// pass over some in silence. (In MariaDB a trigger can only fail.)
    pub differ: Option<String>,
    /// Updates the rows that differ; none where all columns are in the key.
    pub update: Option<String>,
    /// Inserts the rows whose key is not there.
    pub insert: String,
    /// Counts the rows whose key is not there even then, since a trigger passed over
    /// them; none for a table without triggers.
    pub lost: Option<String>,
    /// Empties the table where the rows were put down.
    pub clear: String,
}

/// Said of a row that a trigger passed over.
pub const PASSED_OVER: &str = "a trigger or rule of the table passed over the row";

/// The statements that merge `stage` into `table`, both names as they stand in SQL.
/// `triggers` says whether the table has some, which may pass over rows.
///
/// # Errors
/// The part has no key.
pub fn statements(
    dialect: Dialect,
    table: &str,
    stage: &str,
    part: &Part,
    triggers: bool,
) -> Result<Statements, Error> {
    if part.key.is_empty() {
        return Err(Error::spec(format!(
            "mode = \"merge\" needs the columns that tell one row of {} from another",
            visible(part.table.as_bytes())
        ))
        .advice("say them under [target] key, such as key = [\"delivery_id\"]"));
    }
    let is_key = |name: &str| part.key.iter().any(|k| k.eq_ignore_ascii_case(name));
    let quoted = |name: &str| dialect.quoted(name);
    let keys: Vec<String> = part
        .key
        .iter()
        .map(|name| match dialect {
            // With a plus SQLite goes through the rows that came, and looks for each in
            // the table; without, it may go through the whole table for each batch.
            Dialect::Sqlite => format!("t.{0} = +s.{0}", quoted(name)),
            Dialect::Postgres | Dialect::MariaDb => format!("t.{0} = s.{0}", quoted(name)),
        })
        .collect();
    let keys = keys.join(" AND ");
    let names: Vec<String> = part.columns.iter().map(|c| quoted(&c.name)).collect();
    let others: Vec<_> = part.columns.iter().filter(|c| !is_key(&c.name)).collect();
    let differs: Vec<String> = others
        .iter()
        .map(|column| differs(dialect, &quoted(&column.name), column.ty))
        .collect();
    let differs = differs.join(" OR ");
    let set = |left: &str| {
        let sets = others
            .iter()
            .map(|c| format!("{left}{0} = s.{0}", quoted(&c.name)));
        sets.collect::<Vec<_>>().join(", ")
    };
    let update = (!others.is_empty()).then(|| match dialect {
        Dialect::MariaDb => format!(
            "UPDATE {stage} s STRAIGHT_JOIN {table} t ON {keys} SET {} WHERE {differs}",
            set("t.")
        ),
        Dialect::Sqlite | Dialect::Postgres => format!(
            "UPDATE {table} AS t SET {} FROM {stage} AS s WHERE {keys} AND ({differs})",
            set("")
        ),
    });
    let skips = triggers && update.is_some() && dialect != Dialect::MariaDb;
    let list = names.join(", ");
    let absent = format!("FROM {stage} s WHERE NOT EXISTS (SELECT 1 FROM {table} t WHERE {keys})");
    let from_stage: Vec<String> = names.iter().map(|name| format!("s.{name}")).collect();
    Ok(Statements {
        differ: skips.then(|| {
            format!(
                "SELECT COUNT(*) FROM {stage} AS s CROSS JOIN {table} AS t WHERE {keys} AND ({differs})"
            )
        }),
        update,
        insert: match dialect {
            // The join goes through the rows that came, and looks for each in the table;
            // by NOT EXISTS the server reads the whole table for each batch.
            Dialect::MariaDb => format!(
                "INSERT INTO {table} ({list}) SELECT {} FROM {stage} s LEFT JOIN {table} t ON \
                 {keys} WHERE t.{} IS NULL",
                from_stage.join(", "),
                quoted(&part.key[0])
            ),
            Dialect::Sqlite | Dialect::Postgres => format!(
                "INSERT INTO {table} ({list}) SELECT {} {absent}",
                from_stage.join(", ")
            ),
        },
        lost: triggers.then(|| format!("SELECT COUNT(*) {absent}")),
        clear: match dialect {
            Dialect::Postgres => format!("TRUNCATE {stage}"),
            Dialect::Sqlite | Dialect::MariaDb => format!("DELETE FROM {stage}"),
        },
    })
}

/// Whether a column differs, where null is a value like another and letters of
/// different case are different.
fn differs(dialect: Dialect, name: &str, ty: Type) -> String {
    match dialect {
        Dialect::Sqlite => format!("t.{name} IS NOT s.{name}"),
        // json has no notion of equality: its text has.
        Dialect::Postgres if ty == Type::Json => {
            format!("t.{name}::text IS DISTINCT FROM s.{name}::text")
        }
        Dialect::Postgres => format!("t.{name} IS DISTINCT FROM s.{name}"),
        Dialect::MariaDb if ty.is_text() || ty == Type::Json => {
            format!("NOT (BINARY t.{name} <=> BINARY s.{name})")
        }
        Dialect::MariaDb => format!("NOT (t.{name} <=> s.{name})"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Column;

    #[test]
    fn rows_that_differ_are_updated_and_new_ones_inserted() {
        let column = |name: &str, ty: &str| Column {
            name: name.into(),
            ty: Type::parse(ty).unwrap(),
            required: false,
            one_of: Vec::new(),
        };
        let mut part = Part {
            number: 0,
            table: "d".into(),
            columns: vec![column("id", "bigint"), column("note", "text")],
            key: vec!["id".into()],
        };
        let found = statements(Dialect::Postgres, "\"d\"", "\"stage\"", &part, false).unwrap();
        assert_eq!(
            found.update.as_deref(),
            Some(
                "UPDATE \"d\" AS t SET \"note\" = s.\"note\" FROM \"stage\" AS s WHERE \
                 t.\"id\" = s.\"id\" AND (t.\"note\" IS DISTINCT FROM s.\"note\")"
            )
        );
        let found = statements(Dialect::MariaDb, "`d`", "`stage`", &part, true).unwrap();
        assert_eq!(
            found.update.as_deref(),
            Some(
                "UPDATE `stage` s STRAIGHT_JOIN `d` t ON t.`id` = s.`id` SET t.`note` = s.`note` WHERE \
                 NOT (BINARY t.`note` <=> BINARY s.`note`)"
            )
        );
        assert!(found.lost.is_some());
        part.columns.pop();
        assert_eq!(
            statements(Dialect::Sqlite, "d", "s", &part, false)
                .unwrap()
                .update,
            None
        );
        part.key.clear();
        assert!(statements(Dialect::Sqlite, "d", "s", &part, false).is_err());
    }
}
