//! Why records were rejected, and what was repaired.

use super::super::cut;
use super::MOST_KINDS;
use barrow_core::counts::ReasonKind;
use barrow_core::escape::escape_for_display;
use barrow_core::reason::Code;
use barrow_core::repair::Repair;
use barrow_run::report::Summary;
use barrow_run::words::{counted, number};
use owo_colors::OwoColorize;
use std::io::{self, Write};

pub(super) fn repairs(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    if s.tally.repairs.all() == 0 {
        return Ok(());
    }
    writeln!(out, "  {}", "what was repaired".bold())?;
    let column = |r: &Repair| escape_for_display(r.column.as_deref().unwrap_or("").as_bytes());
    let widest = |width: &dyn Fn(&Repair) -> usize| s.tally.repairs.iter().map(width).max();
    let columns = widest(&|r| column(r).chars().count()).unwrap_or(0);
    let whats = widest(&|r| r.what.to_string().chars().count()).unwrap_or(0);
    let lines = widest(&|r| number(r.line).len()).unwrap_or(0);
    for repair in s.tally.repairs.iter() {
        let file = match s.tally.files.len() {
            0 | 1 => String::new(),
            _ => format!("{} ", repair.file),
        };
        writeln!(
            out,
            "  {:>6}  {:columns$}  {:whats$}   first: {file}line {:>lines$}",
            number(repair.count),
            column(repair),
            repair.what.to_string(),
            number(repair.line)
        )?;
    }
    writeln!(out)
}

pub(super) fn reasons(s: &Summary, out: &mut dyn Write) -> io::Result<()> {
    let reason_kinds = s.tally.reason_kinds();
    if reason_kinds.is_empty() {
        return Ok(());
    }
    writeln!(
        out,
        "  {}",
        if s.rehearsal { "why" } else { "why rejected" }.bold()
    )?;
    let shown = &reason_kinds[..reason_kinds.len().min(MOST_KINDS)];
    kinds(shown, s.tally.files.len() > 1, out)?;
    if reason_kinds.len() > shown.len() {
        let more = reason_kinds.len() - shown.len();
        writeln!(
            out,
            "          and {} more, in reasons.jsonl",
            counted(more as u64, "kind")
        )?;
    }
    writeln!(out)
}

/// A line for each kind of reason; `several` files are told apart.
pub fn kinds(shown: &[&ReasonKind], several: bool, out: &mut dyn Write) -> io::Result<()> {
    let column = |k: &ReasonKind| escape_for_display(k.column.as_deref().unwrap_or("").as_bytes());
    let columns = shown
        .iter()
        .map(|k| column(k).chars().count())
        .max()
        .unwrap_or(0);
    let says = shown
        .iter()
        .map(|k| k.says.chars().count())
        .max()
        .unwrap_or(0)
        .min(60);
    let lines = shown
        .iter()
        .map(|k| number(k.line).len())
        .max()
        .unwrap_or(0);
    for kind in shown {
        let file = if several {
            format!("{} ", kind.file)
        } else {
            String::new()
        };
        let value = kind.value.as_deref().map(|v| match kind.column {
            // The values of a check stand for themselves.
            None if kind.code == Code::CheckFailed => format!("  {}", cut(v, 72)),
            // What the database says of the row alone.
            _ if matches!(kind.code, Code::DuplicateKey | Code::Refused) => {
                format!("  {}", cut(v, 60))
            }
            _ => format!("  \"{}\"", cut(v, 30)),
        });
        writeln!(
            out,
            "  {:>6}  {:columns$}  {:says$}   first: {file}line {:>lines$}{}",
            number(kind.count),
            column(kind),
            kind.says,
            number(kind.line),
            value.unwrap_or_default()
        )?;
    }
    Ok(())
}
