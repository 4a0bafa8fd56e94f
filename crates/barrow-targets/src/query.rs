//! What an export asks a database for.

use crate::dialect::Dialect;

/// Rows to export.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Query {
    /// Columns of a table.
    Table(Select),
    /// A query as the user wrote it.
    Sql(String),
}

/// Columns of a table.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Select {
    /// The table, with its schema where it has one.
    pub table: String,
    /// The columns, in order.
    pub columns: Vec<String>,
    /// The condition for a row, as SQL.
    pub condition: Option<String>,
    /// What the rows are sorted by, as SQL.
    pub order: Option<String>,
}

impl Query {
    /// The query as SQL.
    pub fn sql(&self, dialect: Dialect) -> String {
        match self {
            Query::Sql(sql) => sql.clone(),
            Query::Table(select) => select.sql(dialect),
        }
    }
}

impl Select {
    /// Whether it is every row of the table, in whatever order.
    pub fn is_whole_table(&self) -> bool {
        self.condition.is_none() && self.order.is_none()
    }

    fn sql(&self, dialect: Dialect) -> String {
        let names: Vec<String> = self.columns.iter().map(|c| dialect.quoted(c)).collect();
        let mut sql = format!(
            "SELECT {} FROM {}",
            names.join(", "),
            dialect.table(&self.table)
        );
        // A comment at the end of the condition is not to hide the parenthesis.
        if let Some(condition) = &self.condition {
            sql += &format!(" WHERE ({condition}\n)");
        }
        if let Some(order) = &self.order {
            sql += &format!(" ORDER BY {order}");
        }
        sql
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_is_asked_for_by_quoted_names() {
        let query = Query::Table(Select {
            table: "market.prices".into(),
            columns: vec!["id".into(), "a\"b".into()],
            condition: Some("id > 5 -- new ones".into()),
            order: Some("id".into()),
        });
        assert_eq!(
            query.sql(crate::postgres::DIALECT),
            "SELECT \"id\", \"a\"\"b\" FROM \"market\".\"prices\" WHERE (id > 5 -- new ones\n) ORDER BY id"
        );
    }
}
