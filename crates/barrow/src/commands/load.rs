//! `barrow load`: reads files by a spec and loads them.

use std::process::ExitCode;
use std::time::Duration;

use barrow_run::words::counted;
use barrow_run::{Error, Load, Overrides, Spec};

use crate::args;
use crate::exit;
use crate::view::progress::Progress;
use crate::view::{shared, summary};

/// Loads, and says what came of it.
pub fn run(args: &args::Load) -> Result<ExitCode, Error> {
    let common = &args.common;
    let overrides = Overrides {
        mode: args.mode.map(Into::into),
        max_rejects: args.max_rejects,
        ..common.overrides()
    };
    let spec = Spec::open(&args.spec, &overrides)?;
    mention_remarks(&spec, common.quiet);
    let mut progress = Progress::new(common.quiet);
    let load = Load::new(&spec)
        .files(args.files.clone())
        .rejects(args.rejects.clone())
        .again(args.again)
        .patience(Duration::from_secs(args.lock_wait.into()))
        .threads(common.threads())
        .observe(&mut progress);
    if args.share {
        return share(load, &spec, args);
    }
    let summary = load.run()?;
    summary::print(&summary, common.report)?;
    Ok(exit::of_load(&summary))
}

/// Says how many remarks of a draft nobody has taken out of the spec.
fn mention_remarks(spec: &Spec, is_quiet: bool) {
    let count = spec.remarks();
    if count > 0 && !is_quiet {
        anstream::eprintln!(
            "{} still has {} of its draft, marked with !",
            spec.name(),
            counted(count, "remark")
        );
    }
}

fn share(load: Load<'_>, spec: &Spec, args: &args::Load) -> Result<ExitCode, Error> {
    let (found, ended) = load.share();
    if ended.is_ok() || !found.loads.is_empty() {
        shared::print(spec, &found, args.common.report)?;
    }
    ended?;
    let mut codes = found.loads.iter().map(exit::of_load);
    Ok(codes
        .find(|code| *code != ExitCode::SUCCESS)
        .unwrap_or(ExitCode::SUCCESS))
}
