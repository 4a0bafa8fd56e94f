//! SQL that is written from names: quoting and CREATE TABLE.

use crate::Column;

/// A name as SQL's delimited identifier (ISO/IEC 9075-2, 5.2): in double
/// quotes, with those inside doubled.
pub fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// CREATE TABLE for these columns, by the dialect's word for each type.
pub fn create_table(
    table: &str,
    columns: &[Column],
    type_word: impl Fn(&Column) -> String,
) -> String {
    let lines: Vec<String> = columns
        .iter()
        .map(|column| {
            let not_null = if column.required { " NOT NULL" } else { "" };
            format!("  {} {}{not_null}", quoted(&column.name), type_word(column))
        })
        .collect();
    format!("CREATE TABLE {} (\n{}\n)", quoted(table), lines.join(",\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_cannot_leave_their_quotes() {
        assert_eq!(
            quoted("a\"; DROP TABLE x; --"),
            "\"a\"\"; DROP TABLE x; --\""
        );
    }
}
