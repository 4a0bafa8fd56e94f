//! What is to be loaded, and where.

use barrow_core::escape::escape_for_display;
use barrow_core::reason::Code;
use barrow_core::words::Mode;

use crate::ddl;
use crate::dialect::Dialect;
use crate::error::Error;
use crate::record_table::{Column, RecordTable};
use crate::shadow_table::shadow_table;

/// What is to be loaded, and where.
#[derive(Debug, Clone)]
pub struct Job {
    /// The kinds of rows, each with its table.
    pub parts: Vec<RecordTable>,
    /// What becomes of the rows that the table has.
    pub mode: Mode,
    /// Whether a table is emptied by the server's own TRUNCATE.
    pub truncates: bool,
    /// Whether rows of other tables may go along with those that are deleted.
    pub may_cascade: bool,
    /// Whether the tables were emptied already: another load of the same transaction did.
    pub is_emptied: bool,
    /// Whether a missing table is made.
    pub create: bool,
    /// What sets the tables beside others apart from those of any other load.
    pub tag: String,
}

impl Job {
    /// The tables, each once, in the order of the parts.
    pub fn tables(&self) -> Vec<&str> {
        let mut tables: Vec<&str> = Vec::new();
        for part in &self.parts {
            if !tables.contains(&part.table.as_str()) {
                tables.push(&part.table);
            }
        }
        tables
    }

    /// The job for a database whose names are case-insensitive: tables whose names differ only in
    /// case are the same.
    pub fn folded(mut self) -> Job {
        let mut seen: Vec<String> = Vec::new();
        for part in &mut self.parts {
            match seen
                .iter()
                .find(|name| name.eq_ignore_ascii_case(&part.table))
            {
                Some(name) => part.table.clone_from(name),
                None => seen.push(part.table.clone()),
            }
        }
        self
    }

    /// What sets a load's tables beside others apart: new each time.
    pub fn new_tag() -> String {
        format!("{:08x}", fastrand::u32(..))
    }

    /// The name of the table that is loaded beside one, to take its place.
    pub fn beside(&self, table: &str) -> String {
        shadow_table(table, &format!("_barrow_{}", self.tag))
    }

    /// Whether a table that is there is made anew all the same.
    pub(crate) fn makes_anew(&self) -> bool {
        self.mode == Mode::Replace
    }

    /// The parts that go to a table.
    pub fn parts_of(&self, table: &str) -> impl Iterator<Item = &RecordTable> {
        let is_of = move |part: &&RecordTable| part.table == table;
        self.parts.iter().filter(is_of)
    }

    /// CREATE TABLE for a table that is made for all of its parts.
    ///
    /// # Errors
    /// Two parts give a column two types.
    pub fn create_table(&self, table: &str, dialect: Dialect) -> Result<String, Error> {
        self.create_table_as(table, table, dialect)
    }

    /// The same for a table that is made under another name at first.
    ///
    /// # Errors
    /// Two parts give a column two types.
    pub fn create_table_as(
        &self,
        table: &str,
        name: &str,
        dialect: Dialect,
    ) -> Result<String, Error> {
        let columns = self.columns_of(table)?;
        if let Some(longest) = dialect.longest_name() {
            let own = table.rsplit('.').next().unwrap_or(table);
            let names = std::iter::once(own).chain(columns.iter().map(|c| c.name.as_str()));
            if let Some(long) = names.into_iter().find(|name| !longest.takes(name)) {
                return Err(Error::spec(format!(
                    "the name {} is too long: {} takes names of {longest} at the most",
                    escape_for_display(long.as_bytes()),
                    dialect.name()
                ))
                .advice("give it a shorter name in the spec"));
            }
        }
        // Kinds that share a table each have keys of their own, if any.
        let mut parts = self.parts_of(table);
        let (key, references) = match (parts.next(), parts.next()) {
            (Some(part), None) => (part.key.as_slice(), part.references.as_slice()),
            _ => (&[][..], &[][..]),
        };
        Ok(ddl::create_table(dialect, name, &columns, key, references))
    }

    /// The columns of a table that is made for all of its parts. A column may be
    /// null unless every part requires it.
    ///
    /// # Errors
    /// Two parts give a column two types.
    pub fn columns_of(&self, table: &str) -> Result<Vec<Column>, Error> {
        let mut columns: Vec<Column> = Vec::new();
        let parts: Vec<&RecordTable> = self.parts_of(table).collect();
        for column in parts.iter().flat_map(|part| &part.columns) {
            let same = |c: &&Column| c.name.eq_ignore_ascii_case(&column.name);
            match columns.iter().find(same) {
                None => {
                    let has =
                        |part: &&&RecordTable| part.columns.iter().any(|c| same(&c) && c.required);
                    columns.push(Column {
                        required: parts.iter().filter(has).count() == parts.len(),
                        ..column.clone()
                    });
                }
                Some(other) if other.ty == column.ty => {}
                Some(other) => {
                    return Err(Error::spec(format!(
                        "two record types go to the table {}, and its column {} is {} in one and {} \
                         in the other",
                        escape_for_display(table.as_bytes()),
                        escape_for_display(column.name.as_bytes()),
                        other.ty,
                        column.ty
                    ))
                    .advice("give the column one type, or the record types two tables"));
                }
            }
        }
        Ok(columns)
    }
}

/// A row that the table would not take.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// Which of the batch's parts the row is of.
    pub part: usize,
    /// The row in that part.
    pub row: u32,
    /// [`Code::DuplicateKey`] or [`Code::Refused`].
    pub code: Code,
    /// The column it is about, where the database says so.
    pub column: Option<String>,
    /// The database's own words, the same for all rows that it refuses for one reason.
    pub words: String,
    /// What it says of this row alone.
    pub detail: Option<String>,
}

#[cfg(test)]
mod tests {
    use barrow_core::types::Type;

    use super::*;

    fn part(number: usize, table: &str, columns: &[(&str, Type, bool)]) -> RecordTable {
        let column = |(name, ty, required): &(&str, Type, bool)| Column {
            name: (*name).into(),
            ty: *ty,
            required: *required,
            inexact_as_text: false,
            one_of: Vec::new(),
        };
        RecordTable {
            number,
            table: table.into(),
            columns: columns.iter().map(column).collect(),
            key: Vec::new(),
            run_column: None,
            references: Vec::new(),
        }
    }

    #[test]
    fn a_table_for_two_kinds_has_the_columns_of_both() {
        let mut job = Job {
            parts: vec![
                part(
                    0,
                    "sales",
                    &[("id", Type::BigInt, true), ("price", Type::Integer, true)],
                ),
                part(
                    1,
                    "Sales",
                    &[("ID", Type::BigInt, true), ("back", Type::Text, true)],
                ),
                part(2, "stalls", &[("id", Type::Text, false)]),
            ],
            mode: Mode::Append,
            truncates: false,
            is_emptied: false,
            may_cascade: false,
            create: true,
            tag: Job::new_tag(),
        };
        assert_eq!(job.tables(), ["sales", "Sales", "stalls"]);
        job = job.folded();
        assert_eq!(job.tables(), ["sales", "stalls"]);
        let columns = job.columns_of("sales").unwrap();
        let found: Vec<_> = columns
            .iter()
            .map(|c| (c.name.as_str(), c.required))
            .collect();
        assert_eq!(found, [("id", true), ("price", false), ("back", false)]);
        job.parts[1].columns[0].ty = Type::Text;
        assert!(job.columns_of("sales").is_err());
    }
}
