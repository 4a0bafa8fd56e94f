//! Shows which files are waiting.

use std::fmt::Write as _;
use std::io::{self, Write};

use barrow_core::escape::escape_for_display;
use barrow_run::Error;
use barrow_run::status::{FileStatus, State, StatusReport};
use barrow_run::words::{counted, number};
use indicatif::HumanBytes;
use jiff::Timestamp;
use owo_colors::OwoColorize;

use super::printed;

/// Prints what is known of the files of each spec.
pub fn print(reports: &[StatusReport]) -> Result<(), Error> {
    printed(|out| {
        for (number, report) in reports.iter().enumerate() {
            if number > 0 {
                writeln!(out)?;
            }
            one(report, out)?;
        }
        Ok(())
    })
}

fn one(report: &StatusReport, out: &mut dyn Write) -> io::Result<()> {
    let tables: Vec<String> = report
        .tables
        .iter()
        .map(|table| escape_for_display(table.as_bytes()))
        .collect();
    let (spec, tables) = (report.spec.bold(), tables.join(", "));
    writeln!(
        out,
        "{spec} → {}, table {}\n",
        report.database,
        tables.bold()
    )?;
    let names: Vec<&str> = report.files.iter().map(|file| file.file.as_str()).collect();
    let width = names
        .iter()
        .map(|name| name.chars().count())
        .max()
        .unwrap_or(0);
    writeln!(
        out,
        "  {}",
        format!(
            "{:width$}   {:>10}   {:16}   state",
            "file", "size", "written (UTC)"
        )
        .dimmed()
    )?;
    let mut line = String::new();
    for file in &report.files {
        let size = file
            .size
            .map_or("?".into(), |size| HumanBytes(size).to_string());
        let modified = file.modified.and_then(|at| Timestamp::try_from(at).ok());
        let modified = modified.map_or(String::new(), |at| {
            at.strftime("%Y-%m-%d %H:%M").to_string()
        });
        let name = &file.file;
        // Whole lines: what is filled up goes out letter by letter, which of ten thousand files
        // was a tenth of all instructions.
        line.clear();
        let _ = writeln!(
            line,
            "  {name:width$}   {size:>10}   {modified:16}   {}",
            state(file)
        );
        out.write_all(line.as_bytes())?;
    }
    writeln!(out, "\n  {}", totals(report))?;
    if let Some(mode) = report.mode {
        writeln!(
            out,
            "  a load loads all of them, whatever is in the table: mode = \"{mode}\""
        )?;
    }
    Ok(())
}

fn state(file: &FileStatus) -> String {
    let run = file.run.as_deref().unwrap_or_default();
    let when = file.when.as_deref().unwrap_or_default();
    let word = file.state.word();
    let mut words = match &file.state {
        State::New => word.bold().to_string(),
        State::Loaded => format!("{} in run {run} on {when}", word.green()),
        State::Changed => format!("{} since run {run} on {when}", word.yellow()),
        State::InProgress => format!("{}: another load has it", word.yellow()),
        State::Interrupted => format!(
            "{} in run {run}, with {} in the table: a load goes on there",
            word.yellow(),
            counted(file.loaded, "row")
        ),
        State::SameAs(other) => format!("{word} as {other}"),
    };
    if file.open_rejects > 0 {
        let open = format!("{} open", counted(file.open_rejects, "reject"));
        words += &format!(", {} (barrow mend {run})", open.yellow());
    }
    if file.given_up > 0 {
        words += &format!(", {} given up", counted(file.given_up, "reject"));
    }
    words
}

/// `5 files, 14.2 KiB: 2 new (3.1 KiB), 3 loaded`.
fn totals(report: &StatusReport) -> String {
    let size = |files: &[&FileStatus]| -> u64 { files.iter().filter_map(|file| file.size).sum() };
    let all: Vec<&FileStatus> = report.files.iter().collect();
    let words = [
        "new",
        "changed",
        "interrupted",
        "in progress",
        "loaded",
        "same content",
    ];
    let parts: Vec<String> = words
        .into_iter()
        .filter_map(|word| {
            let of: Vec<&FileStatus> = all
                .iter()
                .copied()
                .filter(|file| file.state.word() == word)
                .collect();
            let count = number(of.len() as u64);
            (!of.is_empty()).then(|| format!("{count} {word} ({})", HumanBytes(size(&of))))
        })
        .collect();
    let count = counted(all.len() as u64, "file");
    format!("{count}, {}: {}", HumanBytes(size(&all)), parts.join(", "))
}
