//! What a load says that shared its files with others.

use std::io::{self, Write};

use barrow_core::escape::escape_for_display;
use barrow_run::report::{Outcome, Shared, Summary};
use barrow_run::words::{counted, number};
use barrow_run::{Error, Spec};
use owo_colors::OwoColorize;

use super::{json, printed, time};
use crate::args::Report;

/// Prints what this load took of the files, and what others have loaded.
pub fn print(spec: &Spec, shared: &Shared, report: Report) -> Result<(), Error> {
    match report {
        Report::Json => json::print(shared),
        Report::Text => {
            let url = spec.url()?;
            let job = spec.job_in(&url)?;
            let tables: Vec<String> = job
                .tables()
                .iter()
                .map(|t| escape_for_display(t.as_bytes()))
                .collect();
            let heading = format!(
                "{} → {url}, table {}",
                spec.name().bold(),
                tables.join(", ").bold()
            );
            printed(|out| text(&heading, shared, out))
        }
    }
}

fn text(heading: &str, shared: &Shared, out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "{heading}\n")?;
    let names = shared.loads.iter().flat_map(|load| &load.tally.files);
    let width = names.map(|f| f.name.chars().count()).max().unwrap_or(0);
    for load in &shared.loads {
        let file = load.tally.files.first();
        let name = file.map_or("", |file| file.name.as_str());
        let rejected = match (load.rejected(), load.outcome) {
            (0, _) => String::new(),
            (n, Outcome::Kept) => format!(", {} rejected", number(n)),
            (n, _) => format!(", {} rejected: rolled back", number(n)),
        };
        writeln!(
            out,
            "  {name:width$}   {} loaded{rejected}   {}   run {}",
            counted(load.loaded(), "record"),
            time(load.elapsed),
            load.run
        )?;
    }
    let loaded: u64 = shared.loads.iter().map(Summary::loaded).sum();
    writeln!(
        out,
        "\n  this load took {}, with {}; {} are in the table already",
        counted(shared.loads.len() as u64, "file"),
        counted(loaded, "row"),
        counted(shared.skipped.len() as u64, "other file")
    )
}
