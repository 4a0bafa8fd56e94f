//! What a load says when it is done.

mod causes;
mod counts;

pub use self::causes::kinds;
use self::causes::{reasons, repairs};
use self::counts::counts;
use std::io::{self, Write};

use barrow_core::escape::escape_for_display;
use owo_colors::OwoColorize;

use barrow_run::Error;
use barrow_run::report::{Outcome, Skipped, Summary};
use barrow_run::words::{counted, number};

use super::{json, printed, time};
use crate::args::Report;

/// At most so many kinds of reasons are listed.
const MOST_KINDS: usize = 20;

/// Prints it.
pub fn print(summary: &Summary, report: Report) -> Result<(), Error> {
    match report {
        Report::Json => json::print(summary),
        Report::Text => printed(|out| write(summary, out)),
    }
}

/// Writes it for people, part by part.
pub fn write(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    if is_nothing_to_tell(s) {
        let (files, them) = match s.skipped.len() {
            1 => ("the file is".to_string(), "it"),
            many => (format!("all {} files are", number(many as u64)), "them"),
        };
        return writeln!(
            out,
            "{} → {}: nothing is new: {files} already loaded; --again loads {them} anyway",
            s.spec.bold(),
            s.into
        );
    }
    let tables: Vec<String> = s
        .tables
        .iter()
        .map(|t| escape_for_display(t.name.as_bytes()))
        .collect();
    match tables.len() {
        0 => writeln!(out, "{}, {}\n", s.spec.bold(), s.into)?,
        count => {
            let word = if count == 1 { "table" } else { "tables" };
            let tables = tables.join(", ");
            writeln!(
                out,
                "{} → {}, {word} {}\n",
                s.spec.bold(),
                s.into,
                tables.bold()
            )?;
        }
    }
    files(s, out)?;
    if s.nothing_new {
        return nothing_new(s, out);
    }
    counts(s, out)?;
    news(s, out)?;
    if s.rehearsal {
        mended(s, out)?;
        for remark in &s.remarks {
            writeln!(out, "  {remark}")?;
        }
        return would(s, out);
    }
    mended(s, out)?;
    next(s, out)?;
    disposed(s, out)?;
    if s.no_ledger {
        writeln!(
            out,
            "  {}",
            "without a ledger: a later load will not know that these files are loaded".dimmed()
        )?;
    }
    for made in &s.made {
        writeln!(out, "  {made}")?;
    }
    let width = s
        .tables
        .iter()
        .map(|t| t.name.chars().count())
        .max()
        .unwrap_or(0);
    for table in &s.tables {
        let name = match s.tables.len() {
            1 => "table:".to_string(),
            _ => format!(
                "{:<1$}",
                format!("{}:", escape_for_display(table.name.as_bytes())),
                width + 1
            ),
        };
        writeln!(
            out,
            "  {name} {} before, {} after",
            counted(table.before, "row"),
            number(table.after)
        )?;
    }
    Ok(())
}

/// What was not as it was in the files: repaired, rejected, there twice, unlike its totals.
pub fn news(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    repairs(s, out)?;
    reasons(s, out)?;
    twice(s, out)?;
    differences(s, out)?;
    rejected_files(s, out)
}

/// All files were loaded before.
/// Whether a load found nothing new, and each file is in the table as it is.
fn is_nothing_to_tell(s: &Summary) -> bool {
    let is_plain = |file: &Skipped| file.run.is_some() && file.open.is_none();
    s.nothing_new && !s.rehearsal && s.disposed.is_empty() && s.skipped.iter().all(is_plain)
}

fn nothing_new(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    disposed(s, out)?;
    let again = match s.rehearsal {
        true => {
            "nothing is new: a load would leave the table as it is; --again reads a file anyway"
        }
        false => "nothing is new, and the table is as it was; --again loads a file anyway",
    };
    writeln!(out, "  {again}")
}

/// Files that were taken back whole.
fn rejected_files(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    if s.rejected_files.is_empty() {
        return Ok(());
    }
    writeln!(
        out,
        "  {}",
        match s.rehearsal {
            true => "files that would be skipped whole",
            false => "files that were skipped whole",
        }
        .red()
        .bold()
    )?;
    for left in &s.rejected_files {
        let why = match left.differs {
            true => "its totals differ from what was found".to_string(),
            false => format!(
                "{} of {}, more than the limit of {}",
                counted(left.rejected, "reject"),
                counted(left.records, "record"),
                s.tolerance
            ),
        };
        writeln!(out, "    {}   {why}", left.file)?;
    }
    writeln!(out)
}

/// What became of the rejects of an earlier run.
fn mended(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    let Some(m) = &s.mended else { return Ok(()) };
    let (would, is) = match s.rehearsal {
        true => ("would be ", "would still be"),
        false => ("", "are still"),
    };
    writeln!(
        out,
        "  of the {} of run {}: {} {would}mended, {} {is} open, {} {would}given up",
        counted(m.open_before, "open reject"),
        m.run,
        number(m.mended).green().bold(),
        number(m.still_open),
        number(m.given_up)
    )
}

/// What was done with the files afterwards.
pub fn disposed(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    for one in &s.disposed {
        let words = match one.failed {
            true => one.words.red().to_string(),
            false => one.words.clone(),
        };
        writeln!(out, "  {} {words}", one.file)?;
    }
    Ok(())
}

/// Keys that come twice in the files.
fn twice(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    for twice in &s.twice {
        let key: Vec<String> = twice
            .key
            .iter()
            .map(|k| escape_for_display(k.as_bytes()))
            .collect();
        writeln!(
            out,
            "  {} of {} again; first: line {}, which has the key of line {}\n",
            counted(twice.count, "record").bold(),
            format!("the same {}", key.join(", ")).bold(),
            number(twice.first.0),
            number(twice.first.1)
        )?;
    }
    Ok(())
}

/// What a load would come to.
fn would(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    if let Some(folder) = s.folder() {
        writeln!(out, "  what would be rejected is in {folder}/")?;
    }
    let words = match s.outcome {
        _ if s.stops => "nothing was loaded, and a load would stop".into(),
        _ if s.mended.is_some() => "nothing was loaded".into(),
        Outcome::Kept if !s.rejected_files.is_empty() => {
            "nothing was loaded; a load would commit the files that are not skipped".into()
        }
        Outcome::Kept if s.rejected() == 0 => {
            "nothing was loaded; a load would commit all of it".into()
        }
        Outcome::Kept => format!(
            "nothing was loaded; a load would commit it, within the limit of {}",
            s.tolerance
        ),
        Outcome::BeyondTolerance { .. } => format!(
            "nothing was loaded, and a load would commit nothing, unless with --max-rejects {}",
            s.rejected()
        ),
        Outcome::TotalsDiffer { .. } | Outcome::WithOthers { .. } => {
            "nothing was loaded, and a load would commit nothing".into()
        }
    };
    writeln!(out, "  {words}")
}

/// Totals that a file states and that differ from what was found.
fn differences(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    if s.tally.differences.is_empty() {
        return Ok(());
    }
    writeln!(
        out,
        "  {}",
        "totals that differ, so nothing is committed".red().bold()
    )?;
    let several = s.tally.files.len() > 1;
    for d in &s.tally.differences {
        let file = if several {
            format!("{} ", d.file)
        } else {
            String::new()
        };
        writeln!(
            out,
            "    {}: {} stated ({file}{}), {} found",
            escape_for_display(d.of.as_bytes()),
            in_groups(&d.stated).bold(),
            d.place,
            in_groups(&d.found).bold()
        )?;
    }
    writeln!(out)
}

/// A whole number or decimal with its digits in groups; anything else as it is.
fn in_groups(text: &str) -> String {
    let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
    match whole.parse::<u64>() {
        Ok(n) if fraction.is_empty() => number(n),
        Ok(n) => format!("{}.{fraction}", number(n)),
        Err(_) => text.to_string(),
    }
}

fn files(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    let names = s.tally.files.iter().map(|f| &f.name);
    let names = names.chain(s.skipped.iter().map(|f| &f.file));
    let width = names.map(|n| n.chars().count()).max().unwrap_or(0);
    if let Some(words) = &s.resumed_from {
        writeln!(out, "  {} {words}\n", "note:".yellow())?;
    }
    for file in &s.skipped {
        let words = match &file.run {
            Some(run) => {
                let open = file.open.map_or(String::new(), |(open, has_changed)| {
                    let changed = if has_changed {
                        ", and the spec has changed since"
                    } else {
                        ""
                    };
                    format!(
                        "; {} {} open{changed}: barrow mend {run}",
                        counted(open, "reject"),
                        if open == 1 { "is" } else { "are" }
                    )
                });
                format!("already loaded, in run {run} on {}{open}", file.when)
            }
            None => format!("the same content as {}", file.when),
        };
        writeln!(out, "  {:width$}   {}", file.file, words.dimmed())?;
    }
    let numbers: Vec<String> = s
        .tally
        .files
        .iter()
        .map(|f| number(f.all_records()))
        .collect();
    let digits = numbers.iter().map(String::len).max().unwrap_or(0);
    for (index, file) in s.tally.files.iter().enumerate() {
        let took = s.times.get(index).map(|t| time(*t)).unwrap_or_default();
        writeln!(
            out,
            "  {:width$}   {:>digits$} {:7}   {took}",
            file.name,
            numbers[index],
            if file.all_records() == 1 {
                "record"
            } else {
                "records"
            },
        )?;
        for note in &file.notes {
            writeln!(out, "    {} {note}", "note:".yellow())?;
        }
    }
    writeln!(out)
}

/// Where the rejects are, and what to do about them.
pub fn next(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    let Some(folder) = s.folder() else {
        return Ok(());
    };
    match s.outcome {
        Outcome::Kept if s.mended.is_some() => writeln!(
            out,
            "  kept in {folder}/ · correct them there, then mend again"
        ),
        Outcome::Kept if s.can_mend => writeln!(
            out,
            "  kept in {folder}/ · correct them there, then: barrow mend {}",
            s.mend_words()
        ),
        Outcome::Kept => writeln!(
            out,
            "  kept in {folder}/ · correct them there, then give that file to the same command"
        ),
        Outcome::TotalsDiffer { .. } => writeln!(
            out,
            "  kept in {folder}/ · is the file whole? ask for it again, or correct it"
        ),
        Outcome::WithOthers { .. } if s.can_mend && s.can_be_replayed => writeln!(
            out,
            "  kept in {folder}/ · correct them there; barrow mend {} loads these files with them",
            s.mend_words()
        ),
        Outcome::WithOthers { .. } => writeln!(out, "  kept in {folder}/"),
        Outcome::BeyondTolerance { .. } if s.mended.is_some() => writeln!(
            out,
            "  they are as they were in the folder that was mended · correct them there, then mend again"
        ),
        Outcome::BeyondTolerance { .. } if s.can_mend && s.can_be_replayed => writeln!(
            out,
            "  kept in {folder}/ · correct them there, then: barrow mend {}\n  or allow them: --max-rejects {}",
            s.mend_words(),
            s.rejected()
        ),
        Outcome::BeyondTolerance { .. } => writeln!(
            out,
            "  kept in {folder}/ · correct the file, or allow them: --max-rejects {}",
            s.rejected()
        ),
    }?;
    if s.untold > 0 {
        writeln!(
            out,
            "  reasons.jsonl there lacks {}, which {} counted here ([rejects] keep)",
            counted(s.untold, "reason"),
            if s.untold == 1 { "is" } else { "are" }
        )?;
    }
    Ok(())
}
