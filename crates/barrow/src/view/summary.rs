//! What a load says when it is done.

use std::io::{self, Write};
use std::path::PathBuf;
use std::time::Duration;

use barrow_core::keys::Twice;
use barrow_core::records::block::LeftOut;
use barrow_core::rejects::Code;
use barrow_core::spec::plan::Tolerance;
use barrow_core::tally::{ReasonKind, Repair, Tally};
use barrow_core::visible::visible;
use barrow_targets::Merged;
use owo_colors::OwoColorize;
use serde_json::{Value, json};

use super::{counted, cut, ended, number, time};
use crate::failure::Failure;
use crate::loading::afterwards::Disposed;
use crate::loading::reasons::grouped;

/// At most so many kinds of reasons are listed.
const MOST_KINDS: usize = 20;

/// What came of a load.
#[derive(Debug, Default)]
pub struct Summary {
    pub spec: String,
    pub into: String,
    pub tables: Vec<TableRows>,
    pub run: String,
    /// Whether nothing was loaded, and this is what a load would do.
    pub rehearsal: bool,
    /// Whether a load would stop before it reads.
    pub stops: bool,
    /// Keys that come twice.
    pub twice: Vec<TwiceSeen>,
    pub outcome: Outcome,
    pub tolerance: Tolerance,
    pub tally: Tally,
    /// What became of the loaded rows, where they are merged.
    pub merged: Option<Merged>,
    pub rejects: Option<PathBuf>,
    /// Whether they can be mended.
    pub can_mend: bool,
    /// Whether the load is in no ledger.
    pub no_ledger: bool,
    /// Files that are in the table already.
    pub skipped: Vec<Skipped>,
    /// Whether that is all of them.
    pub nothing_new: bool,
    /// That an interrupted run went on, and where.
    pub went_on: Option<String>,
    /// Files that were taken back, for they are beyond their tolerance.
    pub left_whole: Vec<LeftWhole>,
    /// What was done with the files afterwards.
    pub disposed: Vec<Disposed>,
    /// What became of the rejects of an earlier run.
    pub mended: Option<Mended>,
    /// How long each file took.
    pub times: Vec<Duration>,
    pub elapsed: Duration,
}

/// A file that is in the table already.
#[derive(Debug, Clone)]
pub struct Skipped {
    pub file: String,
    pub path: Option<PathBuf>,
    /// The run that loaded it; none where another file of this load has its content.
    pub run: Option<String>,
    /// When that was, or which file.
    pub when: String,
    pub has_rejects: bool,
}

/// A file that was taken back whole.
#[derive(Debug, Clone)]
pub struct LeftWhole {
    pub file: String,
    pub rejected: u64,
    pub records: u64,
    /// Whether its totals differ from what it states.
    pub differs: bool,
    /// The file of its rejects.
    pub kept_in: Option<String>,
}

/// What became of the rejects of an earlier run.
#[derive(Debug, Clone)]
pub struct Mended {
    pub run: String,
    /// How many were still to be corrected before.
    pub open_before: u64,
    pub mended: u64,
    pub still_open: u64,
    pub given_up: u64,
}

/// Keys of one kind of record that come twice.
#[derive(Debug)]
pub struct TwiceSeen {
    pub key: Vec<String>,
    pub count: u64,
    /// The first that is found again: its line, and the line before with the same key.
    pub first: (u64, u64),
}

impl TwiceSeen {
    pub fn new(key: Vec<String>) -> TwiceSeen {
        TwiceSeen {
            key,
            count: 0,
            first: (0, 0),
        }
    }

    pub fn note(&mut self, found: &Twice) {
        if self.count == 0 || found.again.line < self.first.0 {
            self.first = (found.again.line, found.first.line);
        }
        self.count += 1;
    }
}

/// A table, and how many rows it had and has.
#[derive(Debug)]
pub struct TableRows {
    pub name: String,
    pub before: u64,
    pub after: u64,
}

/// Whether the rows stay.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Outcome {
    /// They do.
    #[default]
    Kept,
    /// There were too many rejects, and so many good rows were undone.
    BeyondTolerance { not_kept: u64 },
    /// A file is not what it says of itself, and so many good rows were undone.
    TotalsDiffer { not_kept: u64 },
}

impl Summary {
    /// Good rows of a load that was undone.
    fn undone(&self) -> u64 {
        match self.outcome {
            Outcome::Kept => 0,
            Outcome::BeyondTolerance { not_kept } | Outcome::TotalsDiffer { not_kept } => not_kept,
        }
    }

    fn not_kept(&self) -> u64 {
        self.undone() + self.tally.not_kept()
    }

    /// Whether the rows stay.
    pub fn is_kept(&self) -> bool {
        self.outcome == Outcome::Kept
    }

    /// Records that are rows now.
    pub fn loaded(&self) -> u64 {
        self.tally.loaded() - self.undone() - self.come_twice()
    }

    /// Records that are not.
    pub fn rejected(&self) -> u64 {
        self.tally.rejected() + self.come_twice()
    }

    fn come_twice(&self) -> u64 {
        self.twice.iter().map(|twice| twice.count).sum()
    }

    /// Whether something was not as it was in the files: rejected, changed or noted.
    pub fn has_news(&self) -> bool {
        self.rejected() > 0
            || self.tally.repairs.all() > 0
            || !self.tally.differences.is_empty()
            || self.tally.files.iter().any(|file| !file.notes.is_empty())
    }

    /// Writes it for people.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn write_text(&self, out: &mut impl Write) -> io::Result<()> {
        text(self, out)
    }

    /// Whether there are no more rejects than may be.
    pub fn is_within(&self) -> bool {
        self.tolerance.allows(self.rejected(), self.tally.records())
    }

    /// What `barrow mend` is told: the run, or the folder where it would not look.
    fn mend_words(&self) -> String {
        let usual = std::path::Path::new("rejects").join(&self.run);
        match &self.rejects {
            Some(folder) if *folder != usual => self.folder().unwrap_or_default(),
            _ => self.run.clone(),
        }
    }

    fn folder(&self) -> Option<String> {
        self.rejects
            .as_ref()
            .map(|f| visible(f.as_os_str().as_encoded_bytes()))
    }
}

/// Writes the summary for people.
pub fn print_text(summary: &Summary) -> Result<(), Failure> {
    ended(text(summary, &mut anstream::stdout().lock()))
}

/// Writes the summary as one JSON document.
pub fn print_json(summary: &Summary) -> Result<(), Failure> {
    write_json(&document(summary))
}

/// The same with one more key.
pub fn print_json_with(summary: &Summary, key: &str, value: Value) -> Result<(), Failure> {
    let mut document = document(summary);
    document[key] = value;
    write_json(&document)
}

fn write_json(document: &Value) -> Result<(), Failure> {
    let mut out = io::stdout().lock();
    ended(
        serde_json::to_writer_pretty(&mut out, document)
            .map_err(io::Error::from)
            .and_then(|()| writeln!(out)),
    )
}

fn text(s: &Summary, out: &mut impl Write) -> io::Result<()> {
    let tables: Vec<String> = s
        .tables
        .iter()
        .map(|t| visible(t.name.as_bytes()))
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
    repairs(s, out)?;
    reasons(s, out)?;
    twice(s, out)?;
    differences(s, out)?;
    if s.rehearsal {
        mended(s, out)?;
        return would(s, out);
    }
    left_whole(s, out)?;
    mended(s, out)?;
    next(s, out)?;
    disposed(s, out)?;
    if s.no_ledger {
        writeln!(
            out,
            "  {}",
            "without a ledger: nobody will know that these files are loaded".dimmed()
        )?;
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
                format!("{}:", visible(table.name.as_bytes())),
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

/// All files were loaded before.
fn nothing_new(s: &Summary, out: &mut impl Write) -> io::Result<()> {
    disposed(s, out)?;
    writeln!(
        out,
        "  nothing is new, and the table is as it was; --again loads a file all the same"
    )
}

/// Files that were taken back whole.
fn left_whole(s: &Summary, out: &mut impl Write) -> io::Result<()> {
    if s.left_whole.is_empty() {
        return Ok(());
    }
    writeln!(out, "  {}", "files that were left out whole".red().bold())?;
    for left in &s.left_whole {
        let why = match left.differs {
            true => "its totals differ from what was found".to_string(),
            false => format!(
                "{} of {}, more than the tolerance of {}",
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
fn mended(s: &Summary, out: &mut impl Write) -> io::Result<()> {
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
fn disposed(s: &Summary, out: &mut impl Write) -> io::Result<()> {
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
fn twice(s: &Summary, out: &mut impl Write) -> io::Result<()> {
    for twice in &s.twice {
        let key: Vec<String> = twice.key.iter().map(|k| visible(k.as_bytes())).collect();
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
fn would(s: &Summary, out: &mut impl Write) -> io::Result<()> {
    if let Some(folder) = s.folder() {
        writeln!(out, "  what would be rejected is in {folder}/")?;
    }
    let words = match s.outcome {
        _ if s.stops => "nothing was loaded, and a load would stop before it reads".into(),
        _ if s.mended.is_some() => "nothing was loaded".into(),
        Outcome::Kept if s.rejected() == 0 => {
            "nothing was loaded; a load would keep all of it".into()
        }
        Outcome::Kept => format!(
            "nothing was loaded; a load would keep it, within the tolerance of {}",
            s.tolerance
        ),
        Outcome::BeyondTolerance { .. } => format!(
            "nothing was loaded, and a load would keep nothing, unless with --tolerance {}",
            s.rejected()
        ),
        Outcome::TotalsDiffer { .. } => "nothing was loaded, and a load would keep nothing".into(),
    };
    writeln!(out, "  {words}")
}

/// Totals that a file states and that differ from what was found.
fn differences(s: &Summary, out: &mut impl Write) -> io::Result<()> {
    if s.tally.differences.is_empty() {
        return Ok(());
    }
    writeln!(
        out,
        "  {}",
        "totals that differ, so nothing is kept".red().bold()
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
            visible(d.of.as_bytes()),
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

fn files(s: &Summary, out: &mut impl Write) -> io::Result<()> {
    let names = s.tally.files.iter().map(|f| &f.name);
    let names = names.chain(s.skipped.iter().map(|f| &f.file));
    let width = names.map(|n| n.chars().count()).max().unwrap_or(0);
    if let Some(words) = &s.went_on {
        writeln!(out, "  {} {words}\n", "note:".yellow())?;
    }
    for file in &s.skipped {
        let words = match &file.run {
            Some(run) => format!("loaded already, in run {run} on {}", file.when),
            None => format!("the same content as {}", file.when),
        };
        writeln!(out, "  {:width$}   {}", file.file, words.dimmed())?;
    }
    let numbers: Vec<String> = s.tally.files.iter().map(|f| number(f.records)).collect();
    let digits = numbers.iter().map(String::len).max().unwrap_or(0);
    for (index, file) in s.tally.files.iter().enumerate() {
        let took = s.times.get(index).map(|t| time(*t)).unwrap_or_default();
        writeln!(
            out,
            "  {:width$}   {:>digits$} {:7}   {took}",
            file.name,
            numbers[index],
            if file.records == 1 {
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

fn merged_words(merged: &Merged) -> String {
    format!(
        "{} new, {} changed, {} the same",
        number(merged.new),
        number(merged.changed),
        number(merged.same)
    )
}

fn counts(s: &Summary, out: &mut impl Write) -> io::Result<()> {
    let rejected = s.rejected();
    let left_out = s.tally.left_out();
    let mut lines = vec![("read", s.tally.read(), String::new())];
    let (loaded, rejects, repairs) = match s.rehearsal {
        true => ("would load", "would reject", "would repair"),
        false => ("loaded", "rejected", "repaired"),
    };
    let merged = s.merged.filter(|_| s.outcome == Outcome::Kept);
    lines.push((
        loaded,
        s.loaded(),
        merged.as_ref().map(merged_words).unwrap_or_default(),
    ));
    if (s.outcome != Outcome::Kept || s.not_kept() > 0) && !s.rehearsal {
        let of = match s.outcome {
            Outcome::Kept => "good records of files that were left out whole",
            _ => "good records of a load that was undone",
        };
        lines.push(("not kept", s.not_kept(), of.into()));
    }
    lines.push((rejects, rejected, verdict(s)));
    lines.push(("left out", left_out.all(), left_out_words(&left_out)));
    if s.tally.repairs.all() > 0 {
        lines.push((repairs, s.tally.repairs.all(), String::new()));
    }
    let digits = lines
        .iter()
        .map(|(_, n, _)| number(*n).len())
        .max()
        .unwrap_or(0);
    for (word, n, remark) in lines {
        let shown = format!("{:>digits$}", number(n));
        let shown = match word {
            "rejected" | "would reject" if n > 0 => shown.red().bold().to_string(),
            "loaded" | "would load" if n > 0 => shown.green().bold().to_string(),
            _ => shown,
        };
        let width = if s.rehearsal { 14 } else { 10 };
        let line = format!("  {word:<width$}{shown}   {remark}");
        writeln!(out, "{}", line.trim_end())?;
    }
    writeln!(out)
}

fn verdict(s: &Summary) -> String {
    match (s.outcome, s.rejected()) {
        (Outcome::Kept, 0) => String::new(),
        _ if s.mended.is_some() => String::new(),
        (Outcome::Kept, _) if !s.left_whole.is_empty() => String::new(),
        (Outcome::Kept, _) => format!("within the tolerance of {}", s.tolerance),
        (Outcome::BeyondTolerance { .. }, _) => {
            format!("more than the tolerance of {}", s.tolerance)
        }
        (Outcome::TotalsDiffer { .. }, _) => String::new(),
    }
}

fn left_out_words(left_out: &LeftOut) -> String {
    let parts = [
        (left_out.preamble, "preamble"),
        (left_out.header, "header"),
        (left_out.trailer, "trailer"),
        (left_out.comments, "comment"),
        (left_out.blank, "blank"),
        (left_out.unmet, "by keep_if"),
        (left_out.other_kinds, "of kinds not loaded"),
    ];
    let parts: Vec<String> = parts
        .iter()
        .filter(|(n, _)| *n > 0)
        .map(|(n, what)| format!("{} {what}", number(*n)))
        .collect();
    parts.join(", ")
}

fn repairs(s: &Summary, out: &mut impl Write) -> io::Result<()> {
    if s.tally.repairs.all() == 0 {
        return Ok(());
    }
    writeln!(out, "  {}", "what was repaired".bold())?;
    let column = |r: &Repair| visible(r.column.as_deref().unwrap_or("").as_bytes());
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

fn reasons(s: &Summary, out: &mut impl Write) -> io::Result<()> {
    let kinds = s.tally.kinds();
    if kinds.is_empty() {
        return Ok(());
    }
    writeln!(
        out,
        "  {}",
        if s.rehearsal { "why" } else { "why rejected" }.bold()
    )?;
    let shown = &kinds[..kinds.len().min(MOST_KINDS)];
    let column = |k: &ReasonKind| visible(k.column.as_deref().unwrap_or("").as_bytes());
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
    let several = s.tally.files.len() > 1;
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
    if kinds.len() > shown.len() {
        let more = kinds.len() - shown.len();
        writeln!(
            out,
            "          and {} more, in reasons.jsonl",
            counted(more as u64, "kind")
        )?;
    }
    writeln!(out)
}

fn next(s: &Summary, out: &mut impl Write) -> io::Result<()> {
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
        Outcome::BeyondTolerance { .. } => writeln!(
            out,
            "  kept in {folder}/ · correct the file, or allow them: --tolerance {}",
            s.rejected()
        ),
    }
}

/// The summary as a JSON document.
pub fn document(s: &Summary) -> Value {
    let left_out = |l: &LeftOut| {
        json!({
            "preamble": l.preamble, "header": l.header, "trailer": l.trailer,
            "comments": l.comments, "blank": l.blank, "by_keep_if": l.unmet,
            "of_kinds_not_loaded": l.other_kinds, "all": l.all(),
        })
    };
    let files: Vec<Value> = s.tally.files.iter().enumerate().map(|(index, file)| json!({
        "file": file.name, "bytes": file.bytes, "records": file.records,
        "good": file.loaded + file.not_kept, "rejected": file.rejected, "left_out": left_out(&file.left_out),
        "notes": file.notes, "seconds": s.times.get(index).map(Duration::as_secs_f64),
    })).collect();
    let reasons = grouped(&s.tally);
    let repairs: Vec<Value> = s
        .tally
        .repairs
        .iter()
        .map(|repair| {
            json!({
                "what": repair.what.to_string(), "column": repair.column, "count": repair.count,
                "first": { "file": repair.file, "line": repair.line },
            })
        })
        .collect();
    let twice: Vec<Value> = s
        .twice
        .iter()
        .map(|t| json!({ "key": t.key, "count": t.count, "first": { "line": t.first.0, "same_as_line": t.first.1 } }))
        .collect();
    let tables: Vec<Value> = s
        .tables
        .iter()
        .map(|t| json!({ "table": t.name, "rows_before": t.before, "rows_after": t.after }))
        .collect();
    let differences: Vec<Value> = s
        .tally
        .differences
        .iter()
        .map(|d| {
            json!({
                "file": d.file, "of": d.of, "place": d.place,
                "stated": d.stated, "found": d.found,
            })
        })
        .collect();
    json!({
        "run": s.run, "spec": s.spec, "into": s.into, "tables": tables,
        "outcome": match s.outcome {
            Outcome::Kept => "kept",
            Outcome::BeyondTolerance { .. } => "beyond tolerance",
            Outcome::TotalsDiffer { .. } => "totals differ",
        },
        "tolerance": s.tolerance.to_string(),
        "read": s.tally.read(), "records": s.tally.records(), "loaded": s.loaded(),
        "merged": s.merged.filter(|_| s.outcome == Outcome::Kept).map(|m| {
            json!({ "new": m.new, "changed": m.changed, "same": m.same })
        }),
        "not_kept": s.not_kept(), "rejected": s.rejected(), "rehearsal": s.rehearsal,
        "keys_twice": twice,
        "left_out": left_out(&s.tally.left_out()),
        "repaired": s.tally.repairs.all(), "repairs": repairs, "reasons": reasons,
        "rejects": s.folder(), "files": files,
        "skipped": s.skipped.iter().map(|f| json!({
            "file": f.file, "run": f.run,
            "when": f.run.is_some().then_some(&f.when),
            "same_as": f.run.is_none().then_some(&f.when),
        })).collect::<Vec<_>>(),
        "went_on": s.went_on,
        "left_out_whole": s.left_whole.iter().map(|f| json!({
            "file": f.file, "rejected": f.rejected, "records": f.records, "totals_differ": f.differs,
        })).collect::<Vec<_>>(),
        "afterwards": s.disposed.iter().map(|d| json!({
            "file": d.file, "says": d.words, "failed": d.failed,
        })).collect::<Vec<_>>(),
        "mended": s.mended.as_ref().map(|m| json!({
            "run": m.run, "open_before": m.open_before, "mended": m.mended,
            "still_open": m.still_open, "given_up": m.given_up,
        })),
        "totals_that_differ": differences, "seconds": s.elapsed.as_secs_f64(),
    })
}
