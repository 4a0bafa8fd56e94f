//! `barrow load`: reads files by a spec and loads them.

use std::process::ExitCode;
use std::time::Duration;

use barrow_run::{Error, Load, Spec};

use super::load_common::{is_quiet, mention_remarks, overrides};
use super::load_together;
use super::spec::open;
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
    let spec = open(&args.spec, &overrides(args), common.manner.quiet)?;
    mention_remarks(&spec, common.manner.quiet);
    let mut progress = Progress::new(common.manner.quiet);
    let load = Load::new(&spec)
        .files(args.files.clone())
        .rejects(args.rejects.clone())
        .again(args.again)
        .patience(Duration::from_secs(args.lock_wait.into()))
        .threads(common.manner.threads())
        .observe(&mut progress);
    if args.share {
        return share(load, &spec, args);
    }
    let summary = load.run()?;
    let code = exit::of_load(&summary);
    if !is_quiet(common, code, summary.rejected()) {
        summary::print(&summary, common.manner.report)?;
    }
    Ok(code)
}

fn share(load: Load<'_>, spec: &Spec, args: &args::Load) -> Result<ExitCode, Error> {
    let (found, ended) = load.share();
    if ended.is_ok() || !found.loads.is_empty() {
        shared::print(spec, &found, args.common.manner.report)?;
    }
    ended?;
    Ok(exit::of_loads(&found.loads))
}
