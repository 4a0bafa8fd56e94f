//! What a load says that shared its files with others.

use std::io::{self, Write};

use owo_colors::OwoColorize;
use serde_json::{Value, json};

use super::summary::{Outcome, Skipped, Summary, document};
use super::{counted, ended, number, time};
use crate::args::Report;
use crate::failure::Failure;
use crate::loading::Order;

/// Prints what this load took of the files, and what others have loaded.
pub fn print(
    order: &Order<'_>,
    loads: &[Summary],
    skipped: &[Skipped],
    report: Report,
) -> Result<(), Failure> {
    match report {
        Report::Text => ended(text(order, loads, skipped, &mut anstream::stdout().lock())),
        Report::Json => {
            let loads: Vec<Value> = loads.iter().map(document).collect();
            let skipped: Vec<Value> = skipped
                .iter()
                .map(|s| json!({ "file": s.file, "run": s.run, "when": s.when }))
                .collect();
            let document = json!({ "loads": loads, "skipped": skipped });
            ended(writeln!(io::stdout(), "{document:#}"))
        }
    }
}

fn text(
    order: &Order<'_>,
    loads: &[Summary],
    skipped: &[Skipped],
    out: &mut impl Write,
) -> io::Result<()> {
    writeln!(
        out,
        "{} → {}, table {}\n",
        order.spec.name().bold(),
        order.url,
        order.job.tables().join(", ").bold()
    )?;
    let names = loads.iter().flat_map(|load| &load.tally.files);
    let width = names.map(|f| f.name.chars().count()).max().unwrap_or(0);
    for load in loads {
        let name = load
            .tally
            .files
            .first()
            .map_or("", |file| file.name.as_str());
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
    let loaded: u64 = loads.iter().map(Summary::loaded).sum();
    writeln!(
        out,
        "\n  this load took {}, with {}; {} are in the table already",
        counted(loads.len() as u64, "file"),
        counted(loaded, "row"),
        counted(skipped.len() as u64, "other file")
    )
}
