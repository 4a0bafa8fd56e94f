//! SQL that merges rows from a staging table into the one they are
//! for: rows whose key is there are updated where they differ, and others inserted.

use crate::dialect::{Dialect, MergeParts};
use crate::error::Error;
use crate::record_table::RecordTable;
use barrow_core::escape::escape_for_display;
use barrow_core::types::Type;

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
    /// Counts the rows that differ, before they are updated; none where no trigger may skip some
    /// without an error. (In MariaDB a trigger can only fail.)
    pub differ: Option<String>,
    /// Updates the rows that differ; none where all columns are in the key.
    pub update: Option<String>,
    /// Inserts the rows whose key is not there.
    pub insert: String,
    /// Counts the rows whose key is not there even then, since a trigger skipped
    /// them; none for a table without triggers.
    pub lost: Option<String>,
    /// Empties the staging table.
    pub clear: String,
    /// Tells whether a staged row has a value that another row has, which the
    /// table has to be unique beside the key: then what loads depends on the order, and the
    /// rows are merged one after the other.
    pub clash: Option<String>,
}

/// Said of a row that a trigger skipped.
pub const PASSED_OVER: &str = "a trigger or rule of the table skipped the row";

/// What the table of a merge is like.
#[derive(Debug, Clone, Copy)]
pub struct Merging<'m> {
    /// Its name as it stands in SQL.
    pub table: &'m str,
    /// The name of the staging table.
    pub stage: &'m str,
    /// Whether it has triggers, which may pass over rows.
    pub triggers: bool,
    /// The sets of columns of which no two rows have the same values.
    pub unique: &'m [Vec<String>],
    /// Columns that can only be compared as text (`json`, `xml`).
    pub by_text: &'m [String],
}

/// The statements that merge rows into a table. The part's columns are named as the table
/// names them.
///
/// # Errors
/// The part has no key.
pub fn statements(
    dialect: Dialect,
    part: &RecordTable,
    merging: Merging<'_>,
) -> Result<Statements, Error> {
    let Merging {
        table,
        stage,
        triggers,
        ..
    } = merging;
    if part.key.is_empty() {
        return Err(Error::spec(format!(
            "mode = \"merge\" needs the columns that identify a row of {}",
            escape_for_display(part.table.as_bytes())
        ))
        .advice("say them under [target] key, such as key = [\"delivery_id\"]"));
    }
    let is_key = |name: &str| part.key.iter().any(|k| k.eq_ignore_ascii_case(name));
    let quoted = |name: &str| dialect.quoted(name);
    let words = dialect.merge();
    let all = |texts: &[String], between: &str| texts.join(between);
    let keys: Vec<String> = part
        .key
        .iter()
        .map(|name| words.same_key(&quoted(name)))
        .collect();
    let keys = all(&keys, " AND ");
    let columns: Vec<String> = part.columns.iter().map(|c| quoted(&c.name)).collect();
    let unkeyed: Vec<_> = part.columns.iter().filter(|c| !is_key(&c.name)).collect();
    let others: Vec<String> = unkeyed.iter().map(|c| quoted(&c.name)).collect();
    let run_column = part.run_column.as_deref();
    let is_of_run = |name: &str| run_column.is_some_and(|run| run.eq_ignore_ascii_case(name));
    let differs: Vec<String> = unkeyed
        .iter()
        .zip(&others)
        .filter(|(column, _)| !is_of_run(&column.name))
        .map(|(column, name)| {
            let by_text = merging.by_text.contains(&column.name);
            words.differs(
                name,
                column.ty.is_text() || column.ty == Type::Json || by_text,
            )
        })
        .collect();
    let differs = all(&differs, " OR ");
    let merge = MergeParts {
        table,
        stage,
        columns: &columns,
        others: &others,
        first_key: &quoted(&part.key[0]),
        keys: &keys,
        differs: &differs,
    };
    let update = (!differs.is_empty()).then(|| words.update(&merge));
    let skips = triggers && update.is_some() && words.triggers_may_skip();
    Ok(Statements {
        differ: skips.then(|| {
            format!(
                "SELECT COUNT(*) FROM {stage} AS s CROSS JOIN {table} AS t WHERE {keys} AND ({differs})"
            )
        }),
        update,
        insert: words.insert(&merge),
        lost: triggers.then(|| format!("SELECT COUNT(*) {}", merge.absent())),
        clear: words.clear(stage),
        clash: clash(dialect, part, merging),
    })
}

/// What asks whether rows clash beside their key; none where nothing else is unique.
fn clash(dialect: Dialect, part: &RecordTable, merging: Merging<'_>) -> Option<String> {
    let Merging { table, stage, .. } = merging;
    let same = |a: &str, b: &str| a.eq_ignore_ascii_case(b);
    let is_key = |name: &String| part.key.iter().any(|key| same(key, name));
    let is_loaded = |name: &String| part.columns.iter().any(|column| same(&column.name, name));
    let others = merging.unique.iter().filter(|names| {
        let is_the_key = names.len() == part.key.len() && names.iter().all(is_key);
        !names.is_empty() && !is_the_key && names.iter().any(is_loaded)
    });
    let all = |names: &[&String], left: &str, right: &str| {
        let equal = names.iter().map(|name| {
            let name = dialect.quoted(name);
            format!("{left}.{name} = {right}.{name}")
        });
        equal.collect::<Vec<_>>().join(" AND ")
    };
    let key: Vec<&String> = part.key.iter().collect();
    let asked = others.map(|names| {
        let loaded: Vec<&String> = names.iter().filter(|name| is_loaded(name)).collect();
        let (values, keys) = (all(&loaded, "t", "s"), all(&key, "t", "s"));
        format!(
            "EXISTS (SELECT 1 FROM {stage} s JOIN {table} t ON {values} WHERE NOT ({keys})) \
             OR (SELECT COUNT(*) FROM {stage}) > (SELECT COUNT(*) FROM (SELECT DISTINCT {} FROM \
             {stage}) AS d)",
            loaded
                .iter()
                .map(|name| dialect.quoted(name))
                .collect::<Vec<_>>()
                .join(", ")
        )
    });
    let asked: Vec<String> = asked.collect();
    (!asked.is_empty())
        .then(|| format!("SELECT CASE WHEN {} THEN 1 ELSE 0 END", asked.join(" OR ")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record_table::Column;

    #[test]
    fn rows_that_differ_are_updated_and_new_ones_inserted() {
        let column = |name: &str, ty: &str| Column {
            name: name.into(),
            ty: Type::parse(ty).unwrap(),
            required: false,
            inexact_as_text: false,
            one_of: Vec::new(),
        };
        let mut part = RecordTable {
            number: 0,
            table: "d".into(),
            columns: vec![column("id", "bigint"), column("note", "text")],
            key: vec!["id".into()],
            run_column: None,
            references: Vec::new(),
        };
        let merging = |table, stage, triggers| Merging {
            table,
            stage,
            triggers,
            unique: &[],
            by_text: &[],
        };
        let found = statements(
            crate::postgres::DIALECT,
            &part,
            merging("\"d\"", "\"stage\"", false),
        )
        .unwrap();
        assert_eq!(
            found.update.as_deref(),
            Some(
                "UPDATE \"d\" AS t SET \"note\" = s.\"note\" FROM \"stage\" AS s WHERE \
                 t.\"id\" = s.\"id\" AND (t.\"note\"::text COLLATE \"C\" IS DISTINCT FROM \
                 s.\"note\"::text COLLATE \"C\")"
            )
        );
        let found = statements(
            crate::mariadb::DIALECT,
            &part,
            merging("`d`", "`stage`", true),
        )
        .unwrap();
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
            statements(crate::sqlite::DIALECT, &part, merging("d", "s", false))
                .unwrap()
                .update,
            None
        );
        part.key.clear();
        assert!(statements(crate::sqlite::DIALECT, &part, merging("d", "s", false)).is_err());
    }
}
