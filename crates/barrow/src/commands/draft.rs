//! `barrow draft`: proposes a spec from the whole of the files.

use std::io::{self, Write};
use std::path::Path;
use std::process::ExitCode;

use barrow_run::draft::schema::Schema;
use barrow_run::{Draft, Error, Overrides};

use super::draft_each;
use super::spec::open;
use crate::args::{self, Report};
use crate::exit;
use crate::view::progress::Progress;
use crate::view::{draft as view, ended, json};

/// Drafts, and writes the spec, or compares the files with one.
pub fn run(args: &args::Draft) -> Result<ExitCode, Error> {
    if let (true, Some(folder)) = (args.each, &args.output) {
        return draft_each::run(args, folder);
    }
    let mut progress = Progress::new(args.quiet);
    let draft = Draft::new(args.files.clone())
        .database(args.database.clone())
        .table(args.table.clone())
        .output(args.output.clone())
        .tight(args.tight)
        .lines(args.lines)
        .threads(args.threads.map(usize::from))
        .observe(&mut progress);
    if let Some(path) = args.compare.as_ref().or(args.update.as_ref()) {
        return against(draft, args, path);
    }
    let schema = args.output.as_deref().map(beside).transpose()?;
    let first_line = schema.as_ref().map(|schema| schema.line.clone());
    let drafted = draft.first_line(first_line.unwrap_or_default()).run()?;
    if !args.quiet {
        view::remarks(&drafted.remarks().collect::<Vec<_>>());
    }
    match &args.output {
        Some(output) => {
            let made = schema.map_or(Ok(None), Schema::write)?;
            view::written(output, &drafted, made.as_deref())?;
            // What it has from elsewhere is named.
            open(output, &Overrides::default(), args.quiet)?;
        }
        None => ended(io::stdout().write_all(drafted.text.as_bytes()))?,
    }
    Ok(ExitCode::SUCCESS)
}

/// The schema for a spec that will be there.
fn beside(output: &Path) -> Result<Schema, Error> {
    Schema::of(output.parent().unwrap_or(Path::new("")))
}

/// Says how the files differ from a spec, and changes it where that is asked for.
fn against(draft: Draft<'_>, args: &args::Draft, path: &Path) -> Result<ExitCode, Error> {
    let is_quiet = args.quiet || args.report == Report::Json;
    let spec = open(path, &Overrides::default(), is_quiet)?;
    let updates = args.update.is_some();
    let comparison = match updates {
        true => draft.update(&spec)?,
        false => draft.compare(&spec)?,
    };
    match args.report {
        Report::Json => json::print(&comparison)?,
        Report::Text => view::comparison(&comparison, updates)?,
    }
    Ok(match updates || comparison.drift.is_none() {
        true => ExitCode::SUCCESS,
        false => ExitCode::from(exit::NOT_ALIKE),
    })
}
