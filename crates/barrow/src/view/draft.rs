//! What a draft says, and a comparison.

use std::io::{self, Write};
use std::path::Path;

use barrow_core::draft::{Draft, Remark};
use barrow_core::escape::{escape_for_display, visible_path};
use barrow_run::Error;
use barrow_run::draft::Comparison;
use barrow_run::words::counted;

use super::ended;

/// Says what was not plain, numbered, each with the key that would change it.
pub fn remarks(remarks: &[&Remark]) {
    if remarks.is_empty() {
        return;
    }
    anstream::eprintln!("{} to look at:", counted(remarks.len() as u64, "remark"));
    for (number, remark) in remarks.iter().enumerate() {
        let column = remark.column.as_ref();
        let about = column.map_or(String::new(), |name| {
            format!("{}: ", escape_for_display(name.as_bytes()))
        });
        anstream::eprintln!("{:>3}  {about}{}", number + 1, remark.says);
        if let Some(key) = &remark.key {
            anstream::eprintln!("     to change it: {key}");
        }
    }
}

/// Says that a spec was written, and what comes next.
pub fn written(output: &Path, drafted: &Draft, schema: Option<&Path>) -> Result<(), Error> {
    let shown = visible_path(output);
    let mut said = format!(
        "{shown}: {} from {}",
        counted(drafted.columns.len() as u64, "column"),
        counted(drafted.records, "record")
    );
    if drafted.misshapen.0 > 0 {
        let misshapen = counted(drafted.misshapen.0, "record");
        said += &format!(", {misshapen} of the wrong shape");
    }
    let remarks = drafted.remarks().count() as u64;
    if remarks > 0 {
        let remarks = counted(remarks, "remark");
        said += &format!(", {remarks} to look at, marked with !");
    }
    if let Some(schema) = schema {
        said += &format!("\n{}", made(schema));
    }
    ended(writeln!(io::stdout(), "{said}\nnext: barrow load {shown}"))
}

/// Says that the schema was written.
pub fn made(schema: &Path) -> String {
    let shown = visible_path(schema);
    format!("{shown}: written, for editors that complete and check specs by it")
}

/// Says how files differ from a spec.
pub fn comparison(found: &Comparison, updates: bool) -> Result<(), Error> {
    let (drift, spec) = (&found.drift, &found.spec);
    let mut said = match (drift.is_none(), drift.was_read) {
        (true, _) => format!(
            "{spec} reads all {} as they are",
            counted(found.records, "record")
        ),
        (false, true) => format!("{spec} and the files differ:"),
        (false, false) => format!("{spec} and the files differ, so no record was read by it:"),
    };
    for line in drift.words() {
        said += &format!("\n  {line}");
    }
    said += &match (updates, found.was_changed) {
        (false, _) => String::new(),
        (true, false) => "\nnothing was changed in it".to_string(),
        (true, true) => format!("\n{spec} was changed; next: barrow check {spec}"),
    };
    ended(writeln!(io::stdout(), "{said}"))
}
