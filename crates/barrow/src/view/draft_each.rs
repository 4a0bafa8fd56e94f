//! What the drafts of many files say: a line for each spec.

use std::io::{self, Write};
use std::path::Path;

use barrow_core::escape::{escape_for_display, visible_path};
use barrow_run::Error;
use barrow_run::draft::each::Drafts;
use barrow_run::draft::related::Related;
use barrow_run::words::{counted, number};
use owo_colors::OwoColorize;

use super::draft::made;
use super::printed;

/// Prints it.
pub fn print(
    drafts: &Drafts,
    related: &[Related],
    folder: &Path,
    schema: Option<&Path>,
    quiet: bool,
) -> Result<(), Error> {
    for (file, error) in &drafts.failed {
        anstream::eprintln!("{}: no spec: {}", file.red(), error.message());
    }
    match quiet {
        true => Ok(()),
        false => printed(|out| write(drafts, related, folder, schema, out)),
    }
}

fn write(
    drafts: &Drafts,
    related: &[Related],
    folder: &Path,
    schema: Option<&Path>,
    out: &mut dyn Write,
) -> io::Result<()> {
    let shown = |text: &str| escape_for_display(text.as_bytes());
    let mut rows = vec![["spec", "files", "records", "key", "refers to"].map(String::from)];
    for (kind, related) in drafts.kinds.iter().zip(related) {
        let name = kind
            .path
            .file_name()
            .map(Path::new)
            .unwrap_or(Path::new(""));
        let refers = related
            .references
            .iter()
            .map(|foreign| shown(&foreign.reference.table));
        rows.push([
            visible_path(name),
            number(kind.files.len() as u64),
            number(kind.drafted.records),
            related
                .key
                .iter()
                .map(|name| shown(name))
                .collect::<Vec<_>>()
                .join(", "),
            refers.collect::<Vec<_>>().join(", "),
        ]);
    }
    let width = |place: usize| {
        rows.iter()
            .map(|row| row[place].chars().count())
            .max()
            .unwrap_or(0)
    };
    let widths: Vec<usize> = (0..5).map(width).collect();
    for (number, [spec, files, records, key, refers]) in rows.iter().enumerate() {
        let [a, b, c, d, _] = widths[..] else {
            continue;
        };
        let line = format!("  {spec:a$}   {files:>b$}   {records:>c$}   {key:d$}   {refers}");
        let line = line.trim_end();
        match number {
            0 => writeln!(out, "{}", line.bold())?,
            _ => writeln!(out, "{line}")?,
        }
    }
    let keys: u64 = related
        .iter()
        .map(|related| related.references.len() as u64)
        .sum();
    let remarks: u64 = drafts
        .kinds
        .iter()
        .map(|kind| kind.drafted.remarks().count() as u64)
        .sum();
    let notes: u64 = related
        .iter()
        .map(|related| related.notes.len() as u64)
        .sum();
    writeln!(
        out,
        "\n{} in {}, into {}; {}, which hold for every record",
        counted(drafts.kinds.len() as u64, "spec"),
        visible_path(folder),
        shown(&drafts.database),
        counted(keys, "foreign key")
    )?;
    if remarks > 0 {
        writeln!(
            out,
            "{} to look at, marked with ! in the specs",
            counted(remarks, "remark")
        )?;
    }
    if notes > 0 {
        writeln!(
            out,
            "{} on foreign keys that may be, at the end of the specs",
            counted(notes, "note")
        )?;
    }
    if let Some(schema) = schema {
        writeln!(out, "{}", made(schema))?;
    }
    let pattern = folder.join("*.spec.toml");
    writeln!(out, "next: barrow load {}", visible_path(&pattern))
}
