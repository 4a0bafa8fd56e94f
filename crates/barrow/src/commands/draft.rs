//! `barrow draft`: proposes a spec from the whole of the files.

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;
use std::process::ExitCode;

use barrow_core::draft::{self, Draft as Drafted, Remark, Wanted};
use barrow_core::flow;
use barrow_core::source::{self, SourceFile};
use barrow_core::visible::{visible, visible_path};
use barrow_core::words::WhenNewColumn;

use barrow_targets::{Url, secret};

use super::beside;
use super::drift::{self, Drift};
use super::job::Spec;
use crate::args::{Draft, Report};
use crate::failure::{Failure, NOT_ALIKE};
use crate::view::progress::Progress;
use crate::view::{counted, ended};

/// Drafts, and writes the spec, or compares the files with one.
pub fn run(args: &Draft) -> Result<ExitCode, Failure> {
    if let Some(path) = args.compare.as_ref().or(args.update.as_ref()) {
        return against(args, path);
    }
    if let Some(output) = &args.output
        && output.exists()
    {
        return Err(Failure::wrong(
            format!("{} is there already", visible_path(output)),
            "name a new file with -o; a spec is never written over",
        ));
    }
    if let Some(into) = &args.database {
        keeps_no_password(into)?;
    }
    let files = source::find(&args.files, Path::new(""))?;
    let names: Vec<String> = files
        .iter()
        .map(|file| file.file_name().to_string_lossy().into_owned())
        .collect();
    let table = args.table.clone();
    let table = table.unwrap_or_else(|| draft::table_name(&names));
    let folder = folder(args);
    let into = match &args.database {
        Some(url) => beside::database(url, folder)?,
        None => format!("sqlite:{}.db", beside::file_name(&table)),
    };
    let wanted = Wanted {
        files: beside::files(&args.files, folder)?,
        into: Some(into),
        table,
        tight: args.tight,
        lines: args.lines,
        compares: false,
    };
    let drafted = drafted(args, &files, &wanted)?;
    if !args.quiet {
        say(&drafted.remarks().collect::<Vec<_>>());
    }
    write(args, &drafted)?;
    Ok(ExitCode::SUCCESS)
}

/// The folder that the spec will be in.
fn folder(args: &Draft) -> &Path {
    let folder = args.output.as_ref().and_then(|output| output.parent());
    folder.unwrap_or(Path::new(""))
}

/// Says what was not plain, numbered, each with the key that would change it.
fn say(remarks: &[&Remark]) {
    if remarks.is_empty() {
        return;
    }
    anstream::eprintln!("{} to look at:", counted(remarks.len() as u64, "remark"));
    for (number, remark) in remarks.iter().enumerate() {
        let column = remark.column.as_ref();
        let about = column.map_or(String::new(), |name| {
            format!("{}: ", visible(name.as_bytes()))
        });
        anstream::eprintln!("{:>3}  {about}{}", number + 1, remark.says);
        if let Some(key) = &remark.key {
            anstream::eprintln!("     to change it: {key}");
        }
    }
}

/// A spec is read by others: a password does not belong into it.
fn keeps_no_password(into: &str) -> Result<(), Failure> {
    // What has names of the environment in it is no secret yet.
    Url::parse(into, Path::new(""), |_| Some("x".into()))?;
    if !secret::is_in(into) {
        return Ok(());
    }
    Err(Failure::wrong(
        "the address has a password, and a spec would keep it for all to read",
        "leave it out, and put it into PGPASSWORD or MYSQL_PWD",
    ))
}

fn options(args: &Draft) -> flow::Options {
    let usual = flow::Options::default();
    flow::Options {
        threads: args.threads.map_or(usual.threads, usize::from),
        ..usual
    }
}

/// Reads all of the files.
fn drafted(args: &Draft, files: &[SourceFile], wanted: &Wanted) -> Result<Drafted, Failure> {
    if files.iter().any(|file| !file.is_repeatable()) {
        return Err(Failure::wrong(
            "a draft reads its files more than once, and standard input can be read only once",
            "write it to a file first",
        ));
    }
    let progress = Progress::new(files, args.quiet);
    let drafted = draft::draft(files, wanted, options(args), &mut |bytes, records| {
        progress.advance(bytes, records);
    });
    progress.end();
    Ok(drafted?)
}

/// Says how the files differ from a spec, and changes it where that is asked for.
fn against(args: &Draft, path: &Path) -> Result<ExitCode, Failure> {
    let mut spec = Spec::read(path, None, None)?;
    // What is new in the files is what is looked for.
    spec.plan.records.when_new_column = WhenNewColumn::Ignore;
    let files = spec.files(&args.files)?;
    // Types as they are: room is the spec's own affair.
    let wanted = Wanted {
        tight: true,
        compares: true,
        ..Wanted::default()
    };
    let drafted = drafted(args, &files, &wanted)?;
    let drift = Drift::find(&spec, &files, &drafted, options(args))?;
    let name = spec.name();
    let mut changed = false;
    if args.update.is_some() {
        let text = drift::updated(&spec.text, path, &drift)?;
        changed = text != spec.text;
        if changed {
            replace(path, &text)?;
        }
    }
    if args.report == Report::Json {
        let document = drift::document(&drift, &name, drafted.records, changed);
        ended(writeln!(io::stdout(), "{document:#}"))?;
    } else {
        let mut said = drift::told(&drift, &name, drafted.records);
        for line in drift.words() {
            said += &format!("\n  {line}");
        }
        said += &match (args.update.is_some(), changed) {
            (false, _) => String::new(),
            (true, false) => "\nnothing was changed in it".to_string(),
            (true, true) => format!("\n{name} was changed; next: barrow check {name}"),
        };
        ended(writeln!(io::stdout(), "{said}"))?;
    }
    Ok(match args.update.is_none() && !drift.is_none() {
        true => ExitCode::from(NOT_ALIKE),
        false => ExitCode::SUCCESS,
    })
}

/// Puts a spec's new text in its place, whole or not at all.
fn replace(path: &Path, text: &str) -> Result<(), Failure> {
    let shown = visible_path(path);
    let failed = |e: io::Error| Failure::not_done(format!("{shown}: {e}"));
    let written = super::spec_file::put_in_place(path, text, true);
    written.map_err(failed)
}

fn write(args: &Draft, drafted: &Drafted) -> Result<(), Failure> {
    let Some(output) = &args.output else {
        return ended(io::stdout().write_all(drafted.text.as_bytes()));
    };
    let shown = visible_path(output);
    let failed = |e: io::Error| Failure::not_done(format!("{shown}: {e}"));
    // Made anew, so that a file that came meanwhile is not written over.
    let mut file = File::options()
        .write(true)
        .create_new(true)
        .open(output)
        .map_err(failed)?;
    file.write_all(drafted.text.as_bytes()).map_err(failed)?;
    let mut said = format!(
        "{shown}: {} from {}",
        counted(drafted.columns.len() as u64, "column"),
        counted(drafted.records, "record")
    );
    if drafted.misshapen.0 > 0 {
        said += &format!(
            ", {} of the wrong shape",
            counted(drafted.misshapen.0, "record")
        );
    }
    match drafted.remarks().count() as u64 {
        0 => {}
        remarks => said += &format!(", {} to look at, marked with !", counted(remarks, "remark")),
    }
    ended(writeln!(io::stdout(), "{said}\nnext: barrow load {shown}"))
}
