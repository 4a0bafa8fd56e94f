//! `barrow ddl`: prints the CREATE TABLE for a spec, or what would make a table fit.

use std::io::{self, Write};
use std::process::ExitCode;

use barrow_core::visible::visible;
use barrow_targets::{Dialect, Job, Url, ddl};

use super::job::Spec;
use crate::args::Ddl;
use crate::failure::Failure;
use crate::view::ended;

/// Prints SQL.
pub fn run(args: &Ddl) -> Result<ExitCode, Failure> {
    let spec = Spec::read(&args.spec, args.database.as_deref(), args.table.as_deref())?;
    let job = spec.job(args.table.as_deref())?;
    if args.alter {
        let url = spec.url(args.database.as_deref())?;
        ended(io::stdout().write_all(alterations(&job, &url)?.as_bytes()))?;
        return Ok(ExitCode::SUCCESS);
    }
    let dialect = match args.dialect {
        Some(word) => word.into(),
        None => dialect_of(&spec, args)?,
    };
    let mut sql = String::new();
    for table in job.tables() {
        sql += &format!("{};\n", job.create_table(table, dialect)?);
    }
    ended(io::stdout().write_all(sql.as_bytes()))?;
    Ok(ExitCode::SUCCESS)
}

/// The kind of SQL of the database that is named.
fn dialect_of(spec: &Spec, args: &Ddl) -> Result<Dialect, Failure> {
    if args.database.is_none() && spec.plan.target.into.is_none() {
        return Err(Failure::wrong(
            "there is no database to go by",
            "say --for sqlite, --for postgres or --for mariadb",
        ));
    }
    Ok(spec.url(args.database.as_deref())?.dialect())
}

/// The statements that would make each table fit; what has none is a comment.
fn alterations(job: &Job, url: &Url) -> Result<String, Failure> {
    let mut target = url.open(false)?;
    let dialect = url.dialect();
    let mut sql = String::new();
    for name in job.tables() {
        let shown = visible(name.as_bytes());
        let Some(table) = target.describe(name)? else {
            sql += &format!(
                "-- there is no table {shown}\n{};\n",
                job.create_table(name, dialect)?
            );
            continue;
        };
        let parts = job.parts_of(name);
        let all: Vec<_> = parts
            .flat_map(|part| ddl::alter(dialect, part, &table))
            .collect();
        if all.is_empty() {
            sql += &format!("-- the table {shown} fits as it is\n");
        }
        for alteration in all {
            sql += &format!("-- {}\n", alteration.why);
            match alteration.sql {
                Some(statement) => sql += &format!("{statement};\n"),
                None => {
                    sql += "-- this kind of database cannot change a column; make the table anew\n"
                }
            }
        }
    }
    Ok(sql)
}
