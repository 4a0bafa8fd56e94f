//! How a database writes names, literals, types and statements: one implementation each,
//! in the database's own folder.

use std::fmt;

use barrow_core::types::Type;

use crate::record_table::Column;

/// How long a name may be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LongestName {
    /// In bytes of UTF-8.
    Bytes(usize),
    /// In characters.
    Characters(usize),
}

impl LongestName {
    /// Whether a name is not too long.
    pub fn takes(self, name: &str) -> bool {
        match self {
            LongestName::Bytes(most) => name.len() <= most,
            LongestName::Characters(most) => name.chars().count() <= most,
        }
    }
}

impl fmt::Display for LongestName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            LongestName::Bytes(most) => write!(f, "{most} bytes"),
            LongestName::Characters(most) => write!(f, "{most} characters"),
        }
    }
}

/// The SQL of one kind of database.
///
/// What most databases do has a default here; a new one says what it does otherwise.
pub trait SqlDialect: fmt::Debug + Sync {
    /// The database's name for people.
    fn name(&self) -> &'static str;

    /// The longest name that is taken as it is; none where any is.
    fn longest_name(&self) -> Option<LongestName> {
        None
    }

    /// The type that a column of `ty` is declared with.
    fn type_word(&self, ty: Type) -> String;

    /// The type that a column is declared with.
    fn column_type(&self, column: &Column) -> String {
        self.type_word(column.ty)
    }

    /// A name in its quotes, with those inside doubled (ISO/IEC 9075-2, 5.2).
    fn quoted(&self, name: &str) -> String {
        format!("\"{}\"", name.replace('"', "\"\""))
    }

    /// A table's name, with its schema where it has one: `market.prices`.
    fn table(&self, name: &str) -> String {
        match name.split_once('.') {
            Some((schema, table)) => format!("{}.{}", self.quoted(schema), self.quoted(table)),
            None => self.quoted(name),
        }
    }

    /// A query for the foreign keys that name a table, one row for each of their columns in their
    /// order: an id, the table that has the key, its column, the column that it names, and the
    /// rule for a delete. Each `?` is [`SqlDialect::name_to_look_for`].
    fn foreign_keys_to(&self) -> &'static str;

    /// A table's name as [`SqlDialect::foreign_keys_to`] takes it.
    fn name_to_look_for(&self, table: &str) -> String {
        table.to_string()
    }

    /// Text as a literal.
    fn literal(&self, text: &str) -> String {
        format!("'{}'", text.replace('\'', "''"))
    }

    /// SQL whose values are marked with `?`, as the database marks them.
    fn marked(&self, sql: &str) -> String {
        sql.to_string()
    }

    /// What ends a CREATE TABLE, with a space before it.
    fn table_options(&self) -> &'static str {
        ""
    }

    /// The same for tables of the ledger, whose names are case-sensitive and may have any letters.
    fn ledger_table_options(&self) -> &'static str {
        self.table_options()
    }

    /// The type of a column of the ledger.
    fn ledger_type(&self, holds: Holds) -> String;

    /// How a value for a moment of the ledger is marked: moments come as text.
    fn moment_mark(&self) -> &'static str {
        "?"
    }

    /// How a moment of the ledger is asked for: moments go as text.
    fn moment_text(&self, column: &str) -> String {
        column.to_string()
    }

    /// The place of a value, marked with `?`, in a text; zero where it is not in it.
    fn place_in(&self, text: &str) -> String;

    /// Two texts, one after the other.
    fn joined(&self, texts: &[&str]) -> String {
        texts.join(" || ")
    }

    /// Whether CREATE INDEX IF NOT EXISTS is known; else an index stands in its table.
    fn has_create_index_if_missing(&self) -> bool {
        true
    }

    /// Text as a column of text can hold it.
    fn holdable(&self, text: &str) -> String {
        text.to_string()
    }

    /// The statement that gives a column another type; none where there is none.
    fn change_type(&self, table: &str, column: &str, word: &str, required: bool) -> Option<String>;

    /// The statement that lets a column, declared so, be null; none where there is none.
    fn allow_null(&self, table: &str, column: &str, declared: &str) -> Option<String>;

    /// The clauses of a merge that differ from one database to another.
    fn merge(&self) -> &'static dyn MergeDialect;

    /// Whether names that differ only in case are the same table.
    fn folds_table_names(&self) -> bool {
        false
    }

    /// Whether a text that is longer than its column is refused.
    fn enforces_lengths(&self) -> bool {
        true
    }

    /// Whether a column that is declared so would turn some text of a type into a number.
    fn turns_text_into_numbers(&self, ty: Type, declared: &str) -> bool {
        let _ = (ty, declared);
        false
    }

    /// Whether one load writes at a time, whatever it loads: then tables of ours are made
    /// within its transaction, and what is rolled back leaves nothing.
    fn has_one_writer(&self) -> bool {
        false
    }

    /// Whether making and dropping a table is part of the transaction.
    fn has_transactional_ddl(&self) -> bool {
        true
    }

    /// Whether a column that is the whole key and is declared so is numbered by the
    /// database itself, in place of null.
    fn numbers_key(&self, declared: &str) -> bool {
        let _ = declared;
        false
    }
}

/// A kind of database's SQL.
pub type Dialect = &'static dyn SqlDialect;

/// What a column of the ledger holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Holds {
    /// At most so many characters.
    Short(u32),
    /// Any text.
    Long,
    /// A number.
    Count,
    /// A moment in UTC, to the millisecond.
    Moment,
    /// Bytes.
    Bytes,
}

/// The clauses of a merge. `s` is the staging table, `t` the one that its rows
/// are merged into.
pub trait MergeDialect: fmt::Debug + Sync {
    /// A key's column of both tables is the same.
    fn same_key(&self, column: &str) -> String {
        format!("t.{column} = s.{column}")
    }

    /// A column of both tables differs, where null is a value like another and letters of
    /// different case are different. `as_text` says that it is text, or can only be compared as
    /// text.
    fn differs(&self, column: &str, as_text: bool) -> String;

    /// Updates the rows that differ.
    fn update(&self, merge: &MergeParts<'_>) -> String {
        let sets = merge.sets("");
        let (table, stage) = (&merge.table, &merge.stage);
        let differ = format!("{} AND ({})", merge.keys, merge.differs);
        format!("UPDATE {table} AS t SET {sets} FROM {stage} AS s WHERE {differ}")
    }

    /// Inserts the rows whose key is not there.
    fn insert(&self, merge: &MergeParts<'_>) -> String {
        format!(
            "INSERT INTO {} ({}) SELECT {} {}",
            merge.table,
            merge.columns.join(", "),
            merge.from_stage(),
            merge.absent()
        )
    }

    /// Empties the staging table.
    fn clear(&self, stage: &str) -> String {
        format!("DELETE FROM {stage}")
    }

    /// Whether a trigger may pass over a row without an error.
    fn triggers_may_skip(&self) -> bool {
        true
    }
}

/// What the statements of a merge are made of; all names are quoted.
#[derive(Debug)]
pub struct MergeParts<'m> {
    /// The table that rows are merged into.
    pub table: &'m str,
    /// The staging table.
    pub stage: &'m str,
    /// All columns.
    pub columns: &'m [String],
    /// Those that are not in the key.
    pub others: &'m [String],
    /// The first column of the key.
    pub first_key: &'m str,
    /// The condition that the keys are the same.
    pub keys: &'m str,
    /// The condition that other columns differ.
    pub differs: &'m str,
}

impl MergeParts<'_> {
    /// `a = s.a, b = s.b`, with `left` before each column that is set.
    pub fn sets(&self, left: &str) -> String {
        let set = |column: &String| format!("{left}{column} = s.{column}");
        self.others.iter().map(set).collect::<Vec<_>>().join(", ")
    }

    /// `s.a, s.b`
    pub fn from_stage(&self) -> String {
        let column = |column: &String| format!("s.{column}");
        self.columns
            .iter()
            .map(column)
            .collect::<Vec<_>>()
            .join(", ")
    }

    /// The rows whose key is not there, as the end of a query.
    pub fn absent(&self) -> String {
        format!(
            "FROM {} s WHERE NOT EXISTS (SELECT 1 FROM {} t WHERE {})",
            self.stage, self.table, self.keys
        )
    }
}
