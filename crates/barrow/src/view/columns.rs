//! Shows header, spec and table side by side.

use std::io::{self, Write};

use barrow_run::Error;
use barrow_run::check::column_comparison::{Side, Weight};
use owo_colors::OwoColorize;

use super::{cut, display_width, printed};

/// A name or type is cut after so many characters.
const WIDEST: usize = 34;

/// What stands where a side has nothing.
const NOTHING: &str = "·";

/// Prints each kind's columns.
pub fn print(record_types: &[(String, Vec<Side>)]) -> Result<(), Error> {
    printed(|out| text(record_types, out))
}

fn text(record_types: &[(String, Vec<Side>)], out: &mut dyn Write) -> io::Result<()> {
    for (name, sides) in record_types {
        if record_types.len() > 1 {
            writeln!(out, "{}", format!("record type {name}").bold().underline())?;
        }
        let heads = ["header", "spec", "table"].map(str::to_string);
        let rows: Vec<[String; 3]> = sides.iter().map(cells).collect();
        let widths: [usize; 3] = std::array::from_fn(|c| {
            let all = rows
                .iter()
                .chain([&heads])
                .map(|row| display_width(&row[c]));
            all.max().unwrap_or(0)
        });
        writeln!(out, "  {}", line(&heads, &widths).trim_end().bold())?;
        for (side, row) in sides.iter().zip(&rows) {
            let words = &side.verdict.words;
            let words = match side.verdict.weight {
                Weight::Fine => words.dimmed().to_string(),
                Weight::Odd => words.yellow().to_string(),
                Weight::Bad => words.red().bold().to_string(),
            };
            writeln!(out, "  {}{words}", line(row, &widths))?;
        }
        writeln!(out)?;
    }
    Ok(())
}

fn cells(side: &Side) -> [String; 3] {
    let both = |pair: &Option<(String, String)>| match pair {
        Some((name, ty)) => format!("{} {}", cut(name, WIDEST), cut(ty, WIDEST)),
        None => NOTHING.into(),
    };
    let header = side
        .header
        .as_deref()
        .map_or(NOTHING.into(), |name| cut(name, WIDEST));
    [header, both(&side.spec), both(&side.table)]
}

fn line(row: &[String; 3], widths: &[usize; 3]) -> String {
    let padded = row.iter().zip(widths).map(|(text, width)| {
        let blanks = " ".repeat(width.saturating_sub(display_width(text)) + 3);
        format!("{text}{blanks}")
    });
    padded.collect()
}
