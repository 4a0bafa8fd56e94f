//! PostgreSQL's SQL.

use barrow_core::types::Type;

use crate::dialect::{Dialect, Holds, LongestName, MergeDialect, MergeParts, SqlDialect};

/// PostgreSQL 15 and later.
pub const DIALECT: Dialect = &Postgres;

/// PostgreSQL 15 and later.
#[derive(Debug)]
struct Postgres;

impl SqlDialect for Postgres {
    fn name(&self) -> &'static str {
        "PostgreSQL"
    }

    /// NAMEDATALEN less one ("Lexical Structure"): what is longer is cut without an error.
    fn longest_name(&self) -> Option<LongestName> {
        Some(LongestName::Bytes(63))
    }

    /// The catalog's pg_constraint; a constraint of a partition is that of its table.
    fn foreign_keys_to(&self) -> &'static str {
        "SELECT c.oid::text, n.nspname || '.' || t.relname, a.attname::text, b.attname::text, \
         CASE c.confdeltype WHEN 'c' THEN 'CASCADE' WHEN 'n' THEN 'SET NULL' \
         WHEN 'd' THEN 'SET DEFAULT' ELSE 'NO ACTION' END \
         FROM pg_constraint c JOIN pg_class t ON t.oid = c.conrelid \
         JOIN pg_namespace n ON n.oid = t.relnamespace \
         CROSS JOIN LATERAL unnest(c.conkey, c.confkey) WITH ORDINALITY k (own, named, place) \
         JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = k.own \
         JOIN pg_attribute b ON b.attrelid = c.confrelid AND b.attnum = k.named \
         WHERE c.contype = 'f' AND c.conparentid = 0 \
         AND c.confrelid = to_regclass(CAST(? AS text)) ORDER BY c.oid, k.place"
    }

    fn name_to_look_for(&self, table: &str) -> String {
        self.table(table)
    }

    fn type_word(&self, ty: Type) -> String {
        match ty {
            Type::Decimal { precision, scale } => format!("numeric({precision},{scale})"),
            Type::Double => "double precision".into(),
            // Not jsonb, which forgets spaces, the order of keys and keys that come twice.
            Type::Json => "json".into(),
            Type::Bytes => "bytea".into(),
            ty => ty.to_string(),
        }
    }

    /// Values are numbered. A `?` within quotes is text.
    fn marked(&self, sql: &str) -> String {
        let mut out = String::with_capacity(sql.len() + 16);
        let (mut quote, mut number) = (None, 0);
        for c in sql.chars() {
            match (c, quote) {
                ('\'' | '"', None) => quote = Some(c),
                (c, Some(open)) if c == open => quote = None,
                ('?', None) => {
                    number += 1;
                    out += &format!("${number}");
                    continue;
                }
                _ => {}
            }
            out.push(c);
        }
        out
    }

    fn ledger_type(&self, holds: Holds) -> String {
        match holds {
            Holds::Short(n) => format!("varchar({n})"),
            Holds::Long => "text".into(),
            Holds::Count => "bigint".into(),
            Holds::Moment => "timestamp(3)".into(),
            Holds::Bytes => "bytea".into(),
        }
    }

    fn moment_mark(&self) -> &'static str {
        "CAST(CAST(? AS text) AS timestamp)"
    }

    fn moment_text(&self, column: &str) -> String {
        format!("to_char({column}, 'YYYY-MM-DD HH24:MI:SS.MS')")
    }

    fn place_in(&self, text: &str) -> String {
        format!("STRPOS({text}, CAST(? AS text))")
    }

    /// Text has no room for NUL.
    fn holdable(&self, text: &str) -> String {
        text.replace('\0', "\u{2400}")
    }

    fn change_type(&self, table: &str, column: &str, word: &str, _: bool) -> Option<String> {
        Some(format!(
            "ALTER TABLE {table} ALTER COLUMN {column} TYPE {word}"
        ))
    }

    fn allow_null(&self, table: &str, column: &str, _: &str) -> Option<String> {
        Some(format!(
            "ALTER TABLE {table} ALTER COLUMN {column} DROP NOT NULL"
        ))
    }

    fn merge(&self) -> &'static dyn MergeDialect {
        &Postgres
    }
}

impl MergeDialect for Postgres {
    fn differs(&self, column: &str, as_text: bool) -> String {
        match as_text {
            true => format!(
                "t.{column}::text COLLATE \"C\" IS DISTINCT FROM s.{column}::text COLLATE \"C\""
            ),
            false => format!("t.{column} IS DISTINCT FROM s.{column}"),
        }
    }

    /// As COPY does, also where the table numbers its rows itself.
    fn insert(&self, merge: &MergeParts<'_>) -> String {
        format!(
            "INSERT INTO {} ({}) OVERRIDING SYSTEM VALUE SELECT {} {}",
            merge.table,
            merge.columns.join(", "),
            merge.from_stage(),
            merge.absent()
        )
    }

    fn clear(&self, stage: &str) -> String {
        format!("TRUNCATE {stage}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect_tests::columns_of_types;

    #[test]
    fn names_and_words_cannot_leave_their_quotes() {
        assert_eq!(DIALECT.literal("it's\\"), "'it''s\\'");
        assert_eq!(DIALECT.table("market.prices"), "\"market\".\"prices\"");
    }

    #[test]
    fn marks_are_numbered_outside_of_quotes() {
        let sql = "SELECT '?''?' FROM \"a?\" WHERE b = ? AND c IN (?, ?)";
        assert_eq!(
            DIALECT.marked(sql),
            "SELECT '?''?' FROM \"a?\" WHERE b = $1 AND c IN ($2, $3)"
        );
    }

    #[test]
    fn every_type_has_its_word() {
        columns_of_types(
            DIALECT,
            &[
                ("decimal(8,2)", "numeric(8,2)"),
                ("decimal(38,2)", "numeric(38,2)"),
                ("double", "double precision"),
                ("integer", "integer"),
                ("text", "text"),
                ("varchar(20000)", "varchar(20000)"),
                ("char(300)", "char(300)"),
                ("timestamp", "timestamp"),
                ("timestamptz", "timestamptz"),
                ("bytes", "bytea"),
                ("uuid", "uuid"),
                ("boolean", "boolean"),
            ],
        );
    }
}
