//! `barrow query`: asks files in place.

use std::path::Path;
use std::process::ExitCode;

use barrow_query::{Answer, Query, QueryReport};
use barrow_run::{Error, Overrides};

use super::spec::open;
use crate::args::{self, Report};
use crate::exit;
use crate::view::progress::Progress;
use crate::view::query as view;

/// Asks, and shows the rows or writes them.
pub fn run(args: &args::Query) -> Result<ExitCode, Error> {
    let answer = asked(args)?;
    let report = match args.writes() {
        true => written(args, answer)?,
        false if args.manner.report == Report::Json => Some(view::print_json(&answer, args.limit)?),
        false => Some(view::print(&answer, args.limit, args.manner.quiet)?),
    };
    // None where whoever read the rows has had enough.
    Ok(match report.is_none_or(|report| report.is_within()) {
        true => ExitCode::SUCCESS,
        false => ExitCode::from(exit::BEYOND_LIMIT),
    })
}

/// Each spec with the files after it; files before any spec are drafted.
fn asked(args: &args::Query) -> Result<Answer, Error> {
    let (sql, words) = args.words.split_last().ok_or_else(no_words)?;
    let is_spec = |word: &String| Path::new(word).extension().is_some_and(|e| e == "toml");
    if words.is_empty() || is_spec(sql) || Path::new(sql).is_file() {
        return Err(no_words());
    }
    let mut query = Query::new(sql).threads(args.manner.threads());
    let mut names = args.names.iter().map(String::as_str);
    let first = words.iter().position(is_spec).unwrap_or(words.len());
    if first > 0 {
        query = query.drafted(&words[..first], names.next())?;
    }
    let mut rest = &words[first..];
    while let Some((spec, files)) = rest.split_first() {
        let end = files.iter().position(is_spec).unwrap_or(files.len());
        let opened = open(
            Path::new(spec),
            &Overrides::default(),
            args.manner.is_silent(),
        )?;
        query = query.spec(opened, &files[..end], names.next())?;
        rest = &files[end..];
    }
    if let Some(name) = names.next() {
        return Err(Error::request(
            format!("--as {name} is for no spec: there are more names than specs"),
            "say --as once for each spec, in their order",
        ));
    }
    query.with(args.with.clone()).open()
}

fn no_words() -> Error {
    Error::request(
        "a query needs a spec or a file, and then the SQL",
        "such as barrow query orders.spec.toml \"SELECT count(*) FROM orders\"",
    )
}

fn written(args: &args::Query, answer: Answer) -> Result<Option<QueryReport>, Error> {
    let open = |path| open(path, &Overrides::default(), args.manner.is_silent());
    let format = args.to.as_deref().map(open).transpose()?;
    let mut progress = Progress::of_rows(args.manner.quiet);
    let exported = answer.export(format, args.out.request(), Some(&mut progress))?;
    let Some((exported, report)) = exported else {
        return Ok(None);
    };
    view::written(&exported, &report, &args.manner)?;
    Ok(Some(report))
}
