//! MariaDB's SQL, and MySQL's.

use barrow_core::types::Type;

use crate::dialect::{Dialect, Holds, LongestName, MergeDialect, MergeParts, SqlDialect};

/// MariaDB 10.11 and later, and MySQL 8.
pub const DIALECT: Dialect = &MariaDb;

/// MariaDB 10.11 and later, and MySQL 8.
#[derive(Debug)]
struct MariaDb;

/// The longest `char`, in characters ("CHAR", MariaDB Knowledge Base).
const LONGEST_CHAR: u32 = 255;

/// The longest `varchar` in utf8mb4: 65,535 bytes ("VARCHAR").
const LONGEST_VARCHAR: u32 = 16_383;

impl SqlDialect for MariaDb {
    fn name(&self) -> &'static str {
        "MariaDB"
    }

    /// "Identifier Names".
    fn longest_name(&self) -> Option<LongestName> {
        Some(LongestName::Characters(64))
    }

    fn foreign_keys_to(&self) -> &'static str {
        "SELECT k.CONSTRAINT_NAME, CONCAT(k.TABLE_SCHEMA, '.', k.TABLE_NAME), k.COLUMN_NAME, \
         k.REFERENCED_COLUMN_NAME, r.DELETE_RULE \
         FROM information_schema.KEY_COLUMN_USAGE k \
         JOIN information_schema.REFERENTIAL_CONSTRAINTS r \
         ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME \
         AND r.TABLE_NAME = k.TABLE_NAME \
         WHERE CONCAT(k.REFERENCED_TABLE_SCHEMA, '.', k.REFERENCED_TABLE_NAME) = \
         IF(LOCATE('.', ?) > 0, ?, CONCAT(DATABASE(), '.', ?)) \
         ORDER BY k.TABLE_SCHEMA, k.TABLE_NAME, k.CONSTRAINT_NAME, k.ORDINAL_POSITION"
    }

    fn type_word(&self, ty: Type) -> String {
        match ty {
            Type::Integer => "int".into(),
            Type::Real => "float".into(),
            Type::Char(n) if n > LONGEST_CHAR => self.type_word(Type::VarChar(n)),
            Type::VarChar(n) if n > LONGEST_VARCHAR => "longtext".into(),
            Type::Text => "longtext".into(),
            Type::Time => "time(6)".into(),
            Type::Timestamp | Type::TimestampTz => "datetime(6)".into(),
            Type::Bytes => "longblob".into(),
            ty => ty.to_string(),
        }
    }

    /// Its quotes are backticks.
    fn quoted(&self, name: &str) -> String {
        format!("`{}`", name.replace('`', "``"))
    }

    /// A backslash is an escape unless the server is told otherwise.
    fn literal(&self, text: &str) -> String {
        format!("'{}'", text.replace('\'', "''").replace('\\', "\\\\"))
    }

    /// The server may keep tables by another engine, one that cannot roll a load back.
    fn table_options(&self) -> &'static str {
        " ENGINE=InnoDB"
    }

    fn ledger_table_options(&self) -> &'static str {
        " ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
    }

    fn ledger_type(&self, holds: Holds) -> String {
        match holds {
            Holds::Short(n) => format!("varchar({n})"),
            Holds::Long => "longtext".into(),
            Holds::Count => "bigint".into(),
            Holds::Moment => "datetime(3)".into(),
            Holds::Bytes => "longblob".into(),
        }
    }

    fn moment_text(&self, column: &str) -> String {
        format!("DATE_FORMAT({column}, '%Y-%m-%d %H:%i:%s.%f')")
    }

    fn place_in(&self, text: &str) -> String {
        format!("LOCATE(?, {text})")
    }

    /// `||` is a logical or.
    fn joined(&self, texts: &[&str]) -> String {
        format!("CONCAT({})", texts.join(", "))
    }

    fn has_create_index_if_missing(&self) -> bool {
        false
    }

    fn change_type(&self, table: &str, column: &str, word: &str, required: bool) -> Option<String> {
        let not_null = if required { " NOT NULL" } else { "" };
        Some(format!(
            "ALTER TABLE {table} MODIFY COLUMN {column} {word}{not_null}"
        ))
    }

    fn allow_null(&self, table: &str, column: &str, declared: &str) -> Option<String> {
        Some(format!(
            "ALTER TABLE {table} MODIFY COLUMN {column} {declared} NULL"
        ))
    }

    fn merge(&self) -> &'static dyn MergeDialect {
        &MariaDb
    }

    fn has_transactional_ddl(&self) -> bool {
        false
    }
}

impl MergeDialect for MariaDb {
    fn differs(&self, column: &str, as_text: bool) -> String {
        match as_text {
            true => format!("NOT (BINARY t.{column} <=> BINARY s.{column})"),
            false => format!("NOT (t.{column} <=> s.{column})"),
        }
    }

    fn update(&self, merge: &MergeParts<'_>) -> String {
        let sets = merge.sets("t.");
        let MergeParts {
            table,
            stage,
            keys,
            differs,
            ..
        } = merge;
        format!("UPDATE {stage} s STRAIGHT_JOIN {table} t ON {keys} SET {sets} WHERE {differs}")
    }

    /// The join goes through the rows that came, and looks for each in the table; by NOT
    /// EXISTS the server reads the whole table for each batch.
    fn insert(&self, merge: &MergeParts<'_>) -> String {
        format!(
            "INSERT INTO {0} ({1}) SELECT {2} FROM {3} s LEFT JOIN {0} t ON {4} WHERE t.{5} IS NULL",
            merge.table,
            merge.columns.join(", "),
            merge.from_stage(),
            merge.stage,
            merge.keys,
            merge.first_key
        )
    }

    /// A trigger can only fail.
    fn triggers_may_skip(&self) -> bool {
        false
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect_tests::{columns_of_types, hostile_name};

    #[test]
    fn names_and_words_cannot_leave_their_quotes() {
        assert_eq!(
            DIALECT.quoted(hostile_name()),
            "`a\"; DROP TABLE ``x``; --`"
        );
        assert_eq!(DIALECT.literal("it's\\"), "'it''s\\\\'");
    }

    #[test]
    fn every_type_has_its_word() {
        columns_of_types(
            DIALECT,
            &[
                ("decimal(8,2)", "decimal(8,2)"),
                ("decimal(38,2)", "decimal(38,2)"),
                ("double", "double"),
                ("integer", "int"),
                ("text", "longtext"),
                ("varchar(20000)", "longtext"),
                ("char(300)", "varchar(300)"),
                ("timestamp", "datetime(6)"),
                ("timestamptz", "datetime(6)"),
                ("bytes", "longblob"),
                ("uuid", "uuid"),
                ("boolean", "boolean"),
            ],
        );
    }
}
