//! SQL for the tables of a spec.

use barrow_core::escape::escape_for_display;
use barrow_targets::{Dialect, Job, ddl};

use crate::error::Error;
use crate::spec_file::Spec;

/// The CREATE TABLE statements for a spec's tables, in the SQL of `dialect`, or of the
/// database that is named.
///
/// # Errors
/// No database is named and no dialect given; the database has no such type.
pub fn create_tables(spec: &Spec, dialect: Option<Dialect>) -> Result<String, Error> {
    let job = spec.job()?;
    let dialect = match dialect {
        Some(dialect) => dialect,
        None if spec.names_database() => spec.url()?.dialect(),
        None => {
            let words = barrow_targets::registry::KINDS.iter().map(|kind| kind.word);
            let options: Vec<String> = words.map(|word| format!("--for {word}")).collect();
            let (last, others) = options.split_last().map_or(("", &[][..]), |(l, o)| (l, o));
            return Err(Error::request(
                "no database is named",
                format!("say {} or {last}", others.join(", ")),
            ));
        }
    };
    let tables = job.tables();
    let statements = tables.iter().map(|table| {
        let sql = job.create_table(table, dialect)?;
        Ok(format!("{sql};\n"))
    });
    statements.collect()
}

/// The statements that would make each table fit; what has none is a comment.
///
/// # Errors
/// No database is named, or it cannot be asked.
pub fn alterations(spec: &Spec) -> Result<String, Error> {
    let url = spec.url()?;
    let job = spec.job_in(&url)?;
    let mut session = url.open(false)?;
    let mut sql = String::new();
    for name in job.tables() {
        let shown = escape_for_display(name.as_bytes());
        match session.describe(name)? {
            Some(table) => sql += &alterations_of(&job, name, &table, url.dialect()),
            None => {
                let create = job.create_table(name, url.dialect())?;
                sql += &format!("-- there is no table {shown}\n{create};\n");
            }
        }
    }
    Ok(sql)
}

fn alterations_of(
    job: &Job,
    name: &str,
    table: &barrow_targets::Table,
    dialect: Dialect,
) -> String {
    let parts = job.parts_of(name);
    let all: Vec<_> = parts
        .flat_map(|part| ddl::alter(dialect, part, table))
        .collect();
    if all.is_empty() {
        return format!(
            "-- the table {} fits as it is\n",
            escape_for_display(name.as_bytes())
        );
    }
    let each = all.into_iter().map(|alteration| {
        let statement = match alteration.sql {
            Some(statement) => format!("{statement};\n"),
            None => "-- this kind of database cannot change a column; make the table again\n"
                .to_string(),
        };
        format!("-- {}\n{statement}", alteration.why)
    });
    each.collect()
}
