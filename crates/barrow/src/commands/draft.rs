//! `barrow draft`: proposes a spec from the whole of the files.

use std::fs::File;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use barrow_core::draft::{self, Draft as Drafted, Into};
use barrow_core::flow;
use barrow_core::source::{self, SourceFile};
use barrow_core::spec::plan::WhenNewColumn;
use barrow_core::visible::visible;

use barrow_targets::{Url, secret};

use super::drift::{self, Drift};
use super::job::Spec;
use crate::args::Draft;
use crate::failure::Failure;
use crate::view::progress::Progress;
use crate::view::{counted, ended};

/// Drafts, and writes the spec, or compares the files with one.
pub fn run(args: &Draft) -> Result<ExitCode, Failure> {
    if let Some(path) = args.like.as_ref().or(args.update.as_ref()) {
        return against(args, path);
    }
    if let Some(output) = &args.output
        && output.exists()
    {
        return Err(Failure::wrong(
            format!(
                "{} is there already",
                visible(output.as_os_str().as_encoded_bytes())
            ),
            "name a new file with -o; a spec is never written over",
        ));
    }
    if let Some(into) = &args.into {
        keeps_no_password(into)?;
    }
    let files = source::find(&args.files, Path::new(""))?;
    let into = Into {
        files: words(args)?,
        into: args.into.clone(),
        table: args.table.clone().unwrap_or_else(|| table(&files)),
    };
    write(args, &drafted(args, &files, &into)?)?;
    Ok(ExitCode::SUCCESS)
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
fn drafted(args: &Draft, files: &[SourceFile], into: &Into) -> Result<Drafted, Failure> {
    if files.contains(&SourceFile::Stdin) {
        return Err(Failure::wrong(
            "a draft reads its files more than once, and standard input can be read only once",
            "write it to a file first",
        ));
    }
    let progress = Progress::new(files, args.quiet);
    let drafted = draft::draft(files, into, options(args), &mut |bytes, records| {
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
    let drafted = drafted(args, &files, &Into::default())?;
    let drift = Drift::find(&spec, &files, &drafted, options(args))?;
    let mut said = drift::told(&drift, &spec.name(), drafted.records);
    for line in drift.words() {
        said += &format!("\n  {line}");
    }
    if args.update.is_some() {
        let text = drift::updated(&spec.text, path, &drift)?;
        if text == spec.text {
            said += "\nnothing was changed in it";
        } else {
            replace(path, &text)?;
            said += &format!(
                "\n{} was changed; next: barrow check {}",
                spec.name(),
                spec.name()
            );
        }
    }
    ended(writeln!(io::stdout(), "{said}"))?;
    Ok(ExitCode::SUCCESS)
}

/// Puts a spec's new text in its place, whole or not at all.
fn replace(path: &Path, text: &str) -> Result<(), Failure> {
    let shown = visible(path.as_os_str().as_encoded_bytes());
    let failed = |e: io::Error| Failure::not_done(format!("{shown}: {e}"));
    let written = super::spec_file::put_in_place(path, text, true);
    written.map_err(failed)
}

/// The files as the spec names them: paths are from its own folder.
fn words(args: &Draft) -> Result<Vec<String>, Failure> {
    let elsewhere = args.output.as_ref().and_then(|output| output.parent());
    if elsewhere.is_none_or(|folder| folder.as_os_str().is_empty()) {
        return Ok(args.files.clone());
    }
    let absolute = |word: &String| {
        let (list, path) = word
            .strip_prefix('@')
            .map_or(("", word.as_str()), |path| ("@", path));
        let path: PathBuf = std::path::absolute(path)
            .map_err(|e| Failure::not_done(format!("{}: {e}", visible(word.as_bytes()))))?;
        Ok(format!("{list}{}", path.to_string_lossy()))
    };
    args.files.iter().map(absolute).collect()
}

/// A table's name from the first file's: `deliveries` from `deliveries-w14.psv`.
fn table(files: &[SourceFile]) -> String {
    let name = files.first().map(SourceFile::file_name).unwrap_or_default();
    let name = name.to_string_lossy().to_lowercase();
    let word: String = name
        .chars()
        .take_while(|c| c.is_alphanumeric() || *c == '_')
        .collect();
    match word.chars().next() {
        Some(c) if c.is_alphabetic() => word,
        _ => format!("t_{word}"),
    }
}

fn write(args: &Draft, drafted: &Drafted) -> Result<(), Failure> {
    let Some(output) = &args.output else {
        return ended(io::stdout().write_all(drafted.text.as_bytes()));
    };
    let shown = visible(output.as_os_str().as_encoded_bytes());
    let failed = |e: io::Error| Failure::not_done(format!("{shown}: {e}"));
    // Made anew, so that a file that came meanwhile is not written over.
    let mut file = File::options()
        .write(true)
        .create_new(true)
        .open(output)
        .map_err(failed)?;
    file.write_all(drafted.text.as_bytes()).map_err(failed)?;
    let remarks: usize = drafted
        .columns
        .iter()
        .map(|column| column.remarks.len())
        .sum();
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
    if remarks > 0 {
        said += &format!(
            ", {} to look at, marked with !",
            counted(remarks as u64, "remark")
        );
    }
    ended(writeln!(io::stdout(), "{said}\nnext: barrow check {shown}"))
}
