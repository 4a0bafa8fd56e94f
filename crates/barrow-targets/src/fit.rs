//! Whether the rows' columns fit the table, found out before a record is read.

use barrow_core::escape::escape_for_display;
use barrow_core::nearest::nearest;
use barrow_core::types::Type;

use crate::error::Error;
use crate::record_table::{Column, RecordTable};
use crate::table::{Table, TableColumn};

/// How a column of the rows fits one of the table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fit {
    /// Every value does.
    Fits,
    /// Not every value may.
    Narrow(String),
    /// They are of different sorts.
    Other(String),
}

/// How a column of the rows fits the table's. A column whose type says nothing to a
/// spec takes what the database lets it take.
pub fn fit(column: &Column, found: &TableColumn) -> Fit {
    let Some(table) = found.ty else {
        return Fit::Fits;
    };
    if table == column.ty {
        return Fit::Fits;
    }
    let narrow = |what: String| Fit::Narrow(format!("{what} into {table}"));
    let spec = column.ty;
    if is_wider(table, spec) {
        return Fit::Fits;
    }
    match (needs(spec), holds(table)) {
        (Some((whole, scale)), Some((holds, most))) if scale <= most && whole <= holds => {
            return Fit::Fits;
        }
        (Some(_), Some(_)) => return narrow(spec.to_string()),
        _ => {}
    }
    match (characters(spec), characters(table)) {
        (Some(most), Some(holds)) if most <= holds => return Fit::Fits,
        (Some(u32::MAX), Some(_)) => return narrow("text of any length".into()),
        (Some(most), Some(_)) => return narrow(format!("{most} characters")),
        _ => {}
    }
    // A word for moments that know no zone, and hold those of UTC.
    if spec == Type::TimestampTz && found.declared.to_ascii_lowercase().starts_with("datetime") {
        return Fit::Fits;
    }
    let other = || Fit::Other(format!("{spec} into {table}"));
    match (spec, table) {
        (Type::Real, Type::Double) | (Type::Date, Type::Timestamp) => Fit::Fits,
        (Type::Double, Type::Real) => narrow(spec.to_string()),
        (Type::Timestamp, Type::Date) => narrow(spec.to_string()),
        // Any value may be written as text.
        (_, Type::Text) => Fit::Fits,
        (_, Type::Char(_) | Type::VarChar(_)) => narrow(spec.to_string()),
        (Type::Json | Type::Uuid, _) if characters(table).is_some() => Fit::Fits,
        _ => other(),
    }
}

/// Whether both are whole, and the first holds all of the second.
fn is_wider(table: Type, spec: Type) -> bool {
    matches!(
        (table, spec),
        (Type::Integer | Type::BigInt, Type::SmallInt) | (Type::BigInt, Type::Integer)
    )
}

/// How many digits a number may have before its mark and after it.
fn needs(ty: Type) -> Option<(u32, u32)> {
    match ty {
        Type::SmallInt => Some((5, 0)),
        Type::Integer => Some((10, 0)),
        Type::BigInt => Some((19, 0)),
        _ => holds(ty),
    }
}

/// The digits before the decimal point, and after it, that any number of the type has room for.
fn holds(ty: Type) -> Option<(u32, u32)> {
    match ty {
        Type::SmallInt => Some((4, 0)),
        Type::Integer => Some((9, 0)),
        Type::BigInt => Some((18, 0)),
        Type::Decimal { precision, scale } => {
            Some((u32::from(precision - scale), u32::from(scale)))
        }
        _ => None,
    }
}

/// The most characters that a text has.
fn characters(ty: Type) -> Option<u32> {
    match ty {
        Type::Char(n) | Type::VarChar(n) => Some(n),
        Type::Text => Some(u32::MAX),
        _ => None,
    }
}

/// Compares the columns of a kind of rows with the table's.
///
/// # Errors
/// Everything that would keep the rows out, in one error.
pub fn check(part: &RecordTable, table: &Table) -> Result<(), Error> {
    let mut troubles: Vec<String> = Vec::new();
    for column in &part.columns {
        troubles.extend(trouble(column, table));
    }
    for column in table.columns.iter().filter(|c| c.required) {
        if !part
            .columns
            .iter()
            .any(|c| c.name.eq_ignore_ascii_case(&column.name))
        {
            troubles.push(format!(
                "{}: the table requires it and has no default, and the spec does not load it",
                escape_for_display(column.name.as_bytes())
            ));
        }
    }
    if troubles.is_empty() {
        return Ok(());
    }
    let names: Vec<_> = table
        .columns
        .iter()
        .map(|c| escape_for_display(c.name.as_bytes()))
        .collect();
    Err(Error::spec(format!(
        "the table {} does not fit the spec\n  {}\n  the table's columns: {}",
        escape_for_display(part.table.as_bytes()),
        troubles.join("\n  "),
        names.join(", ")
    )))
}

fn trouble(column: &Column, table: &Table) -> Option<String> {
    let name = escape_for_display(column.name.as_bytes());
    match table.column(&column.name) {
        Some(found) if found.generated => Some(format!(
            "{name}: the table computes it itself; say load = false"
        )),
        Some(_) => None,
        None => {
            let near = nearest(&column.name, table.columns.iter().map(|c| c.name.as_str()));
            let near =
                near.map(|n| format!("; the nearest is {}", escape_for_display(n.as_bytes())));
            Some(format!(
                "{name}: the table has no such column{}",
                near.unwrap_or_default()
            ))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_fit_or_are_told() {
        let of = |ty: &str| Type::parse(ty).unwrap();
        let found = |spec: &str, table: &str| {
            let column = Column {
                name: "a".into(),
                ty: of(spec),
                required: false,
                inexact_as_text: false,
                one_of: Vec::new(),
            };
            let table = TableColumn {
                name: "a".into(),
                declared: table.into(),
                ty: Some(of(table)),
                required: false,
                generated: false,
                numbered: false,
                not_null: false,
            };
            fit(&column, &table)
        };
        for (spec, table) in [
            ("integer", "bigint"),
            ("integer", "decimal(12,2)"),
            ("decimal(8,2)", "decimal(10,3)"),
            ("varchar(10)", "varchar(10)"),
            ("char(3)", "text"),
            ("date", "text"),
            ("date", "timestamp"),
        ] {
            assert_eq!(found(spec, table), Fit::Fits, "{spec} {table}");
        }
        let narrow = |text: &str| Fit::Narrow(text.into());
        assert_eq!(
            found("varchar(40)", "varchar(20)"),
            narrow("40 characters into varchar(20)")
        );
        assert_eq!(
            found("text", "char(2)"),
            narrow("text of any length into char(2)")
        );
        assert_eq!(found("bigint", "integer"), narrow("bigint into integer"));
        assert_eq!(
            found("decimal(8,2)", "decimal(8,1)"),
            narrow("decimal(8,2) into decimal(8,1)")
        );
        assert_eq!(
            found("decimal(8,2)", "integer"),
            narrow("decimal(8,2) into integer")
        );
        assert_eq!(
            found("decimal(10,0)", "integer"),
            narrow("decimal(10,0) into integer")
        );
        assert_eq!(found("decimal(9,0)", "integer"), Fit::Fits);
        assert_eq!(
            found("date", "integer"),
            Fit::Other("date into integer".into())
        );
    }
}
