//! `barrow ledger`: what was loaded, when, from what and with what result.

use std::path::Path;
use std::process::ExitCode;

use barrow_core::visible::visible;
use barrow_targets::ledger::{self, Run, Wanted};
use barrow_targets::{Session, Url};
use jiff::civil::DateTime;

use super::job::{Spec, environment};
use crate::args::Ledger;
use crate::failure::Failure;
use crate::view::ledger as view;

/// Shows runs, or one of them in full.
pub fn run(args: &Ledger) -> Result<ExitCode, Failure> {
    let url = url(args)?;
    let mut target = url.open(false)?;
    let is_there = ledger::is_there(target.as_mut())?;
    match &args.run {
        Some(id) if is_there => one(target.as_mut(), &url, id, args),
        Some(id) => Err(not_there(id, &url)),
        None => {
            let mut runs = match is_there {
                true => ledger::runs(target.as_mut(), &wanted(args)?)?,
                false => Vec::new(),
            };
            let has_more = runs.len() as u64 > args.limit;
            runs.truncate(usize::try_from(args.limit).unwrap_or(usize::MAX));
            let listed = view::Listed {
                url: &url,
                runs: &runs,
                is_there,
                has_more,
            };
            view::print_runs(&listed, args.report)?;
            Ok(ExitCode::SUCCESS)
        }
    }
}

fn url(args: &Ledger) -> Result<Url, Failure> {
    match (&args.database, &args.spec) {
        (Some(into), _) => Ok(Url::parse(into, Path::new(""), environment)?),
        (None, Some(spec)) => Spec::read(spec, None, None)?.url(None),
        (None, None) => Err(Failure::wrong(
            "there is no database to ask",
            "say --database sqlite:market.db, or --spec with a spec that names it",
        )),
    }
}

fn wanted(args: &Ledger) -> Result<Wanted, Failure> {
    let since = match &args.since {
        None => None,
        Some(text) => Some(moment(text)?),
    };
    Ok(Wanted {
        run: None,
        table: args.table.clone(),
        since,
        failed: args.failed,
        going_into: None,
        // One more, to say that there are more.
        limit: Some(args.limit.saturating_add(1)),
    })
}

/// A day or a moment as the ledger writes it.
fn moment(text: &str) -> Result<String, Failure> {
    let day = text
        .parse::<jiff::civil::Date>()
        .map(|day| day.at(0, 0, 0, 0));
    // A day parses as a moment too, and a moment as a day, which would lose its hour.
    let moment = text.parse::<DateTime>().or(day);
    let moment = moment.map_err(|_| {
        Failure::wrong(
            format!("{} is not a time", visible(text.as_bytes())),
            "write it as 2031-04-03, or \"2031-04-03 08:05\", in UTC",
        )
    })?;
    Ok(moment.strftime("%Y-%m-%d %H:%M:%S").to_string())
}

fn not_there(id: &str, url: &Url) -> Failure {
    Failure::wrong(
        format!("there is no run {} in {url}", visible(id.as_bytes())),
        "barrow ledger without a run lists them",
    )
}

/// The run whose id begins so.
pub fn find(target: &mut dyn Session, url: &Url, id: &str) -> Result<Run, Failure> {
    let wanted = Wanted {
        run: Some(id.to_string()),
        ..Wanted::default()
    };
    let mut found = ledger::runs(target, &wanted)?;
    if found.len() > 1 {
        let ids: Vec<&str> = found.iter().map(|run| run.run.as_str()).collect();
        return Err(Failure::wrong(
            format!(
                "{} may be any of these runs: {}",
                visible(id.as_bytes()),
                ids.join(", ")
            ),
            "say more of its id",
        ));
    }
    found.pop().ok_or_else(|| not_there(id, url))
}

fn one(target: &mut dyn Session, url: &Url, id: &str, args: &Ledger) -> Result<ExitCode, Failure> {
    let run = find(target, url, id)?;
    let files = ledger::files_of(target, &run.run)?;
    let mends = ledger::mends_of(target, &run.run)?;
    view::print_run(&run, &files, &mends, args.report)?;
    Ok(ExitCode::SUCCESS)
}
