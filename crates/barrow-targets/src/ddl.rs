//! SQL that is written from names and types: CREATE TABLE and ALTER TABLE.

use barrow_core::escape::escape_for_display;
use barrow_core::plan::Reference;
use barrow_core::types::Type;

use crate::dialect::Dialect;
use crate::fit::{Fit, fit};
use crate::record_table::{Column, RecordTable};
use crate::table::{Table, TableColumn, is_text_decimal};

/// CREATE TABLE for these columns, without a semicolon. `key` names the columns of
/// the primary key, and `references` are its foreign keys.
pub fn create_table(
    dialect: Dialect,
    table: &str,
    columns: &[Column],
    key: &[String],
    references: &[Reference],
) -> String {
    let mut lines: Vec<String> = columns
        .iter()
        .map(|column| format!("  {}", declared(dialect, column, key)))
        .collect();
    if !key.is_empty() {
        let names: Vec<String> = key.iter().map(|name| dialect.quoted(name)).collect();
        lines.push(format!("  PRIMARY KEY ({})", names.join(", ")));
    }
    for reference in references {
        let quoted = |names: &[String]| {
            let names: Vec<String> = names.iter().map(|name| dialect.quoted(name)).collect();
            names.join(", ")
        };
        lines.push(format!(
            "  FOREIGN KEY ({}) REFERENCES {} ({})",
            quoted(&reference.columns),
            dialect.table(&reference.table),
            quoted(&reference.to)
        ));
    }
    format!(
        "CREATE TABLE {} (\n{}\n){}",
        dialect.table(table),
        lines.join(",\n"),
        dialect.table_options()
    )
}

/// A column as CREATE TABLE declares it.
fn declared(dialect: Dialect, column: &Column, key: &[String]) -> String {
    let name = dialect.quoted(&column.name);
    let in_key = key.iter().any(|k| k.eq_ignore_ascii_case(&column.name));
    let mut line = format!("{name} {}", dialect.column_type(column));
    if column.required || in_key {
        line += " NOT NULL";
    }
    if !column.one_of.is_empty() {
        let word = |text: &String| match column.ty {
            ty if ty.is_number() => text.clone(),
            Type::Boolean => text.to_uppercase(),
            _ => dialect.literal(text),
        };
        let words: Vec<String> = column.one_of.iter().map(word).collect();
        line += &format!(" CHECK ({name} IN ({}))", words.join(", "));
    }
    line
}

/// One change that would make a table fit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alteration {
    /// Why, in one plain line.
    pub why: String,
    /// The statement without a semicolon; none where the database has none for it.
    pub sql: Option<String>,
}

/// What would make an existing table fit a kind of rows.
pub fn alter(dialect: Dialect, part: &RecordTable, table: &Table) -> Vec<Alteration> {
    let name = dialect.table(&part.table);
    let mut alterations = Vec::new();
    for column in &part.columns {
        let word = dialect.column_type(column);
        let quoted = dialect.quoted(&column.name);
        match table.column(&column.name) {
            None => alterations.push(Alteration {
                why: format!(
                    "{}: the table has no such column",
                    escape_for_display(column.name.as_bytes())
                ),
                sql: Some(format!("ALTER TABLE {name} ADD COLUMN {quoted} {word}")),
            }),
            Some(found) => match fit(column, found) {
                Fit::Fits => {
                    alterations.extend(of_older_form(dialect, &name, column, found, table))
                }
                Fit::Narrow(why) | Fit::Other(why) => {
                    let quoted = dialect.quoted(&found.name);
                    let sql = dialect.change_type(&name, &quoted, &word, found.required);
                    alterations.push(Alteration {
                        why: format!("{}: {why}", escape_for_display(column.name.as_bytes())),
                        sql,
                    });
                }
            },
        }
    }
    for column in table.columns.iter().filter(|c| c.required) {
        if part
            .columns
            .iter()
            .any(|c| c.name.eq_ignore_ascii_case(&column.name))
        {
            continue;
        }
        let quoted = dialect.quoted(&column.name);
        let sql = dialect.allow_null(&name, &quoted, &column.declared);
        alterations.push(Alteration {
            why: format!(
                "{}: the table requires it, and the spec does not load it",
                escape_for_display(column.name.as_bytes())
            ),
            sql,
        });
    }
    alterations
}

/// What brings a column of an earlier version into the form of today: moments with a Z, zeros
/// at the end of a fraction, decimals that are text.
fn of_older_form(
    dialect: Dialect,
    table: &str,
    column: &Column,
    found: &TableColumn,
    described: &Table,
) -> Option<Alteration> {
    let shown = escape_for_display(found.name.as_bytes());
    let quoted = dialect.quoted(&found.name);
    if described.older_times.contains(&found.name) {
        let bare = format!("rtrim({quoted}, 'Z')");
        return Some(Alteration {
            why: format!(
                "{shown}: times as an earlier version wrote them, which sort wrongly as text"
            ),
            sql: Some(format!(
                "UPDATE {table} SET {quoted} = CASE WHEN instr({quoted}, '.') > 0 \
                 THEN rtrim(rtrim({bare}, '0'), '.') ELSE {bare} END WHERE {quoted} IS NOT NULL"
            )),
        });
    }
    let is_text = is_text_decimal(found);
    (is_text && !column.inexact_as_text).then(|| Alteration {
        why: format!(
            "{shown}: decimals as text, which SQL compares as text; make the table anew by mode = \
             \"replace\", or say when_inexact = \"text\""
        ),
        sql: None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn column(name: &str, ty: &str, required: bool, one_of: &[&str]) -> Column {
        Column {
            name: name.into(),
            ty: Type::parse(ty).unwrap(),
            required,
            inexact_as_text: false,
            one_of: one_of.iter().map(|w| (*w).to_string()).collect(),
        }
    }

    #[test]
    fn a_table_has_its_key_and_its_words() {
        let columns = [
            column("id", "bigint", false, &[]),
            column("grade", "char(1)", true, &["A", "it's"]),
            column("crates", "integer", false, &["1", "2"]),
        ];
        let to_stalls = Reference {
            columns: vec!["crates".into()],
            table: "s.stalls".into(),
            to: vec!["no\"".into()],
        };
        let sql = create_table(
            crate::postgres::DIALECT,
            "s.t",
            &columns,
            &["id".into()],
            &[to_stalls],
        );
        assert_eq!(
            sql,
            "CREATE TABLE \"s\".\"t\" (\n  \"id\" bigint NOT NULL,\n  \"grade\" char(1) NOT NULL \
             CHECK (\"grade\" IN ('A', 'it''s')),\n  \"crates\" integer CHECK (\"crates\" IN (1, 2)),\n  \
             PRIMARY KEY (\"id\"),\n  FOREIGN KEY (\"crates\") REFERENCES \"s\".\"stalls\" (\"no\"\"\")\n)"
        );
    }

    #[test]
    fn an_existing_table_is_made_to_fit() {
        let found = |name: &str, declared: &str, required| TableColumn {
            name: name.into(),
            declared: declared.into(),
            ty: Type::parse(declared).ok(),
            required,
            generated: false,
            not_null: required,
            numbered: false,
        };
        let table = Table {
            own_parents: Vec::new(),
            older_times: Vec::new(),
            unique: Vec::new(),
            columns: vec![
                found("id", "integer", true),
                found("note", "varchar(10)", false),
                found("clerk", "varchar(10)", true),
            ],
            triggers: false,
        };
        let part = RecordTable {
            number: 0,
            table: "t".into(),
            columns: vec![
                column("id", "bigint", true, &[]),
                column("note", "varchar(10)", false, &[]),
                column("new", "date", false, &[]),
            ],
            key: Vec::new(),
            run_column: None,
            references: Vec::new(),
        };
        let sql = |dialect| -> Vec<Option<String>> {
            alter(dialect, &part, &table)
                .into_iter()
                .map(|a| a.sql)
                .collect()
        };
        assert_eq!(
            sql(crate::postgres::DIALECT),
            [
                Some("ALTER TABLE \"t\" ALTER COLUMN \"id\" TYPE bigint".into()),
                Some("ALTER TABLE \"t\" ADD COLUMN \"new\" date".into()),
                Some("ALTER TABLE \"t\" ALTER COLUMN \"clerk\" DROP NOT NULL".into()),
            ]
        );
        assert_eq!(
            sql(crate::mariadb::DIALECT)[0].as_deref(),
            Some("ALTER TABLE `t` MODIFY COLUMN `id` bigint NOT NULL")
        );
        assert_eq!(sql(crate::sqlite::DIALECT).iter().flatten().count(), 1);
    }
}
