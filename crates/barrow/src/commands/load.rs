//! `barrow load`: reads files by a spec and loads them.

use std::process::ExitCode;
use std::time::Duration;

use barrow_core::words::{Every, Mode};

use super::job::Spec;
use crate::args::{Load, Report};
use crate::failure::{BEYOND_TOLERANCE, Failure};
use crate::loading::{self, Order};
use crate::view::summary::{self, Outcome, Summary};
use crate::view::{counted, shared};

/// Loads, and says what came of it.
pub fn run(args: &Load) -> Result<ExitCode, Failure> {
    let shared = &args.shared;
    let mut spec = Spec::read(
        &args.spec,
        shared.database.as_deref(),
        shared.table.as_deref(),
    )?;
    apply(args, &mut spec)?;
    let files = spec.files(&args.files)?;
    mention_remarks(&spec, shared.quiet);
    let url = spec.url(shared.database.as_deref())?;
    let order = Order {
        job: spec.job_in(shared.table.as_deref(), url.dialect())?,
        url: &url,
        rejects: match &args.rejects {
            Some(folder) => folder.clone(),
            None => spec.base.join(&spec.plan.rejects.folder),
        },
        again: args.again,
        patience: Duration::from_secs(args.lock_wait.into()),
        shared,
        spec: &spec,
    };
    if args.share {
        return share(args, &order, files);
    }
    let mut loaded = loading::load(&order, files)?;
    loaded.dispose(&order);
    let summary = loaded.summary;
    match shared.report {
        Report::Text => summary::print_text(&summary)?,
        Report::Json => summary::print_json(&summary)?,
    }
    Ok(code(&summary))
}

/// Says how many remarks of a draft nobody has taken out of the spec.
fn mention_remarks(spec: &Spec, is_quiet: bool) {
    let is_remark = |line: &&str| line.trim_start().starts_with("# ! ");
    let count = spec.text.lines().filter(is_remark).count() as u64;
    if count > 0 && !is_quiet {
        anstream::eprintln!(
            "{} still has {} of its draft, marked with !",
            spec.name(),
            counted(count, "remark")
        );
    }
}

fn share(
    args: &Load,
    order: &Order<'_>,
    files: Vec<barrow_core::source::SourceFile>,
) -> Result<ExitCode, Failure> {
    let (found, ended) = loading::share::share(order, files);
    if ended.is_ok() || !found.loads.is_empty() {
        shared::print(order, &found.loads, &found.skipped, args.shared.report)?;
    }
    ended?;
    let unlike = |load: &&Summary| code(load) != ExitCode::SUCCESS;
    Ok(found
        .loads
        .iter()
        .find(unlike)
        .map_or(ExitCode::SUCCESS, code))
}

/// The exit code of a load that was done or undone.
pub fn code(summary: &Summary) -> ExitCode {
    match summary.outcome {
        Outcome::Kept if summary.disposed.iter().any(|d| d.failed) => ExitCode::FAILURE,
        // What is still wrong is what the mend was for.
        Outcome::Kept if summary.mended.as_ref().is_some_and(|m| m.still_open > 0) => {
            ExitCode::from(BEYOND_TOLERANCE)
        }
        Outcome::Kept if summary.left_whole.is_empty() => ExitCode::SUCCESS,
        Outcome::Kept | Outcome::BeyondTolerance { .. } => ExitCode::from(BEYOND_TOLERANCE),
        Outcome::TotalsDiffer { .. } => ExitCode::FAILURE,
    }
}

/// What the command line says wins over the spec.
fn apply(args: &Load, spec: &mut Spec) -> Result<(), Failure> {
    if let Some(mode) = args.mode {
        spec.plan.target.mode = mode.into();
    }
    if let Some(tolerance) = args.max_rejects {
        spec.plan.rejects.tolerance = tolerance;
    }
    if spec.plan.target.mode == Mode::Replace && spec.plan.target.every != Every::All {
        return Err(Failure::wrong(
            "--mode replace swaps the whole table in at once, and the spec commits as it goes",
            "say --mode truncate, or [target] commit_every = \"all\"",
        ));
    }
    Ok(())
}
