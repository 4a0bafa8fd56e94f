//! `barrow load`: reads files by a spec and loads them.

use std::process::ExitCode;
use std::time::Duration;

use barrow_run::words::counted;
use barrow_run::{Error, Load, Overrides, Spec};

use super::load_together;
use crate::args;
use crate::exit;
use crate::view::progress::Progress;
use crate::view::{shared, summary};

/// Loads, and says what came of it.
pub fn run(args: &args::Load) -> Result<ExitCode, Error> {
    let common = &args.common;
    let (specs, files) = args::specs(&args.spec, &args.files);
    if specs.len() > 1 {
        return load_together::run(args, &specs, &files);
    }
    let spec = Spec::open(&args.spec, &overrides(args))?;
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
    let code = exit::of_load(&summary);
    if !is_quiet(common, code, summary.rejected()) {
        summary::print(&summary, common.report)?;
    }
    Ok(code)
}

/// Says how many remarks of a draft nobody has taken out of the spec.
pub(super) fn mention_remarks(spec: &Spec, is_quiet: bool) {
    let count = spec.remarks();
    if count > 0 && !is_quiet {
        anstream::eprintln!(
            "{} still has {} of its draft, marked with !",
            spec.name(),
            counted(count, "remark")
        );
    }
}

/// Whether nothing is said: it is asked for, and all is in the table.
pub(super) fn is_quiet(common: &args::Common, code: ExitCode, rejected: u64) -> bool {
    let is_text = common.report == args::Report::Text;
    common.quiet && is_text && code == ExitCode::SUCCESS && rejected == 0
}

/// What the command line says over the spec.
pub(super) fn overrides(args: &args::Load) -> Overrides {
    Overrides {
        mode: args.mode.map(Into::into),
        max_rejects: args.max_rejects,
        ..args.common.overrides()
    }
}

fn share(load: Load<'_>, spec: &Spec, args: &args::Load) -> Result<ExitCode, Error> {
    let (found, ended) = load.share();
    if ended.is_ok() || !found.loads.is_empty() {
        shared::print(spec, &found, args.common.report)?;
    }
    ended?;
    Ok(exit::of_loads(&found.loads))
}
