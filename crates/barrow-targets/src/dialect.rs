//! How each kind of database writes names, literals and types.

use barrow_core::types::Type;

/// A kind of database.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dialect {
    /// SQLite 3.
    Sqlite,
    /// PostgreSQL 15 and later.
    Postgres,
    /// MariaDB 10.11 and later, and MySQL 8.
    MariaDb,
}

/// The longest `char` of MariaDB, in characters ("CHAR", MariaDB Knowledge Base).
const LONGEST_CHAR: u32 = 255;

/// The longest `varchar` of MariaDB in utf8mb4: 65,535 bytes ("VARCHAR").
const LONGEST_VARCHAR: u32 = 16_383;

impl Dialect {
    /// A name in its quotes, with those inside doubled (ISO/IEC 9075-2, 5.2; MariaDB's
    /// are backticks).
    pub fn quoted(self, name: &str) -> String {
        match self {
            Dialect::MariaDb => format!("`{}`", name.replace('`', "``")),
            Dialect::Sqlite | Dialect::Postgres => format!("\"{}\"", name.replace('"', "\"\"")),
        }
    }

    /// A table's name, with its schema where it has one: `market.prices`. In SQLite
    /// a point is part of the name.
    pub fn table(self, name: &str) -> String {
        match (self, name.split_once('.')) {
            (Dialect::Postgres | Dialect::MariaDb, Some((schema, table))) => {
                format!("{}.{}", self.quoted(schema), self.quoted(table))
            }
            _ => self.quoted(name),
        }
    }

    /// Text as a literal. MariaDB reads a backslash as an escape unless told not to.
    pub fn literal(self, text: &str) -> String {
        let text = text.replace('\'', "''");
        match self {
            Dialect::MariaDb => format!("'{}'", text.replace('\\', "\\\\")),
            Dialect::Sqlite | Dialect::Postgres => format!("'{text}'"),
        }
    }

    /// The type that a column of `ty` is declared with.
    pub fn type_word(self, ty: Type) -> String {
        match self {
            Dialect::Sqlite => sqlite(ty),
            Dialect::Postgres => postgres(ty),
            Dialect::MariaDb => mariadb(ty),
        }
    }
}

/// SQLite has no decimals. Up to 15 digits a floating point number gives every
/// decimal back as it was; a longer one is stored as text, which keeps it exact.
fn sqlite(ty: Type) -> String {
    match ty {
        Type::Decimal { precision, scale } if precision > 15 => {
            format!("DECIMAL_TEXT({precision},{scale})")
        }
        Type::Json => "JSON_TEXT".into(),
        Type::Uuid => "UUID_TEXT".into(),
        Type::Bytes => "BLOB".into(),
        ty => ty.to_string().to_uppercase(),
    }
}

fn postgres(ty: Type) -> String {
    match ty {
        Type::Decimal { precision, scale } => format!("numeric({precision},{scale})"),
        Type::Double => "double precision".into(),
        // Not jsonb, which forgets blanks, the order of keys and keys that come twice.
        Type::Json => "json".into(),
        Type::Bytes => "bytea".into(),
        ty => ty.to_string(),
    }
}

fn mariadb(ty: Type) -> String {
    match ty {
        Type::Integer => "int".into(),
        Type::Real => "float".into(),
        Type::Char(n) if n > LONGEST_CHAR => mariadb(Type::VarChar(n)),
        Type::VarChar(n) if n > LONGEST_VARCHAR => "longtext".into(),
        Type::Text => "longtext".into(),
        Type::Time => "time(6)".into(),
        Type::Timestamp | Type::TimestampTz => "datetime(6)".into(),
        Type::Bytes => "longblob".into(),
        ty => ty.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_words_cannot_leave_their_quotes() {
        let name = "a\"; DROP TABLE `x`; --";
        assert_eq!(
            Dialect::Sqlite.quoted(name),
            "\"a\"\"; DROP TABLE `x`; --\""
        );
        assert_eq!(Dialect::MariaDb.quoted(name), "`a\"; DROP TABLE ``x``; --`");
        assert_eq!(Dialect::Postgres.literal("it's\\"), "'it''s\\'");
        assert_eq!(Dialect::MariaDb.literal("it's\\"), "'it''s\\\\'");
        assert_eq!(
            Dialect::Postgres.table("market.prices"),
            "\"market\".\"prices\""
        );
        assert_eq!(Dialect::Sqlite.table("market.prices"), "\"market.prices\"");
    }

    #[test]
    fn every_type_has_its_word() {
        let cases = [
            (
                "decimal(8,2)",
                "DECIMAL(8,2)",
                "numeric(8,2)",
                "decimal(8,2)",
            ),
            (
                "decimal(38,2)",
                "DECIMAL_TEXT(38,2)",
                "numeric(38,2)",
                "decimal(38,2)",
            ),
            ("double", "DOUBLE", "double precision", "double"),
            ("integer", "INTEGER", "integer", "int"),
            ("text", "TEXT", "text", "longtext"),
            (
                "varchar(20000)",
                "VARCHAR(20000)",
                "varchar(20000)",
                "longtext",
            ),
            ("char(300)", "CHAR(300)", "char(300)", "varchar(300)"),
            ("timestamp", "TIMESTAMP", "timestamp", "datetime(6)"),
            ("timestamptz", "TIMESTAMPTZ", "timestamptz", "datetime(6)"),
            ("bytes", "BLOB", "bytea", "longblob"),
            ("uuid", "UUID_TEXT", "uuid", "uuid"),
            ("boolean", "BOOLEAN", "boolean", "boolean"),
        ];
        for (ty, sqlite, postgres, mariadb) in cases {
            let ty = Type::parse(ty).unwrap();
            assert_eq!(Dialect::Sqlite.type_word(ty), sqlite);
            assert_eq!(Dialect::Postgres.type_word(ty), postgres);
            assert_eq!(Dialect::MariaDb.type_word(ty), mariadb);
        }
    }
}
