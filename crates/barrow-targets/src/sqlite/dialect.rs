//! SQLite's SQL.

use barrow_core::types::Type;

use super::types::turns_into_numbers;
use crate::dialect::{Dialect, Holds, MergeDialect, SqlDialect};
use crate::record_table::Column;

/// SQLite 3.
pub const DIALECT: Dialect = &Sqlite;

/// SQLite 3.
#[derive(Debug)]
struct Sqlite;

impl SqlDialect for Sqlite {
    fn name(&self) -> &'static str {
        "SQLite"
    }

    /// SQLite has no decimals. Up to 15 digits a floating point number gives every decimal
    /// back as it was, and whole ones are numbers of 64 bits; whatever else comes is rejected,
    /// or makes the column text.
    fn column_type(&self, column: &Column) -> String {
        match column.ty {
            Type::Decimal { precision, scale } if precision > 15 && column.inexact_as_text => {
                format!("DECIMAL_TEXT({precision},{scale})")
            }
            ty => self.type_word(ty),
        }
    }

    fn type_word(&self, ty: Type) -> String {
        match ty {
            Type::Json => "JSON_TEXT".into(),
            Type::Uuid => "UUID_TEXT".into(),
            Type::Bytes => "BLOB".into(),
            ty => ty.to_string().to_uppercase(),
        }
    }

    fn foreign_keys_to(&self) -> &'static str {
        "SELECT CAST(k.id AS TEXT), m.name, k.\"from\", \
         COALESCE(k.\"to\", (SELECT i.name FROM pragma_table_info(k.\"table\") i WHERE i.pk = k.seq + 1)), \
         k.on_delete FROM sqlite_master m, pragma_foreign_key_list(m.name) k \
         WHERE m.type = 'table' AND k.\"table\" = ? COLLATE NOCASE ORDER BY m.name, k.id, k.seq"
    }

    /// A point is part of a name.
    fn table(&self, name: &str) -> String {
        self.quoted(name)
    }

    fn ledger_type(&self, holds: Holds) -> String {
        match holds {
            Holds::Short(_) | Holds::Long | Holds::Moment => "TEXT",
            Holds::Count => "INTEGER",
            Holds::Bytes => "BLOB",
        }
        .into()
    }

    fn place_in(&self, text: &str) -> String {
        format!("INSTR({text}, ?)")
    }

    fn change_type(&self, _: &str, _: &str, _: &str, _: bool) -> Option<String> {
        None
    }

    fn allow_null(&self, _: &str, _: &str, _: &str) -> Option<String> {
        None
    }

    fn merge(&self) -> &'static dyn MergeDialect {
        &Sqlite
    }

    fn folds_table_names(&self) -> bool {
        true
    }

    fn turns_text_into_numbers(&self, ty: Type, declared: &str) -> bool {
        turns_into_numbers(ty, declared)
    }

    fn enforces_lengths(&self) -> bool {
        false
    }

    fn has_one_writer(&self) -> bool {
        true
    }

    /// An INTEGER PRIMARY KEY is the row's number ("CREATE TABLE", ROWIDs).
    fn numbers_key(&self, declared: &str) -> bool {
        declared.eq_ignore_ascii_case("integer")
    }
}

impl MergeDialect for Sqlite {
    /// With a plus SQLite goes through the rows that came, and looks for each in the table;
    /// without, it may go through the whole table for each batch.
    fn same_key(&self, column: &str) -> String {
        format!("t.{column} = +s.{column}")
    }

    fn differs(&self, column: &str, _: bool) -> String {
        format!("t.{column} COLLATE BINARY IS NOT s.{column}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect_tests::{columns_of_types, hostile_name};

    #[test]
    fn names_cannot_leave_their_quotes() {
        let quoted = "\"a\"\"; DROP TABLE `x`; --\"";
        assert_eq!(DIALECT.quoted(hostile_name()), quoted);
        // SQLite has no schemas: the dot is part of the name.
        let table = DIALECT.table("market.prices");
        assert_eq!(table, "\"market.prices\"");
    }

    #[test]
    fn every_type_has_its_word() {
        columns_of_types(
            DIALECT,
            &[
                ("decimal(8,2)", "DECIMAL(8,2)"),
                ("decimal(38,2)", "DECIMAL(38,2)"),
                ("double", "DOUBLE"),
                ("integer", "INTEGER"),
                ("text", "TEXT"),
                ("varchar(20000)", "VARCHAR(20000)"),
                ("char(300)", "CHAR(300)"),
                ("timestamp", "TIMESTAMP"),
                ("timestamptz", "TIMESTAMPTZ"),
                ("bytes", "BLOB"),
                ("uuid", "UUID_TEXT"),
                ("boolean", "BOOLEAN"),
            ],
        );
    }
}
