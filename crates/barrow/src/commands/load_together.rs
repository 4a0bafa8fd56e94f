//! `barrow load` with several specs: one transaction.

use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use barrow_run::load::LoadTogether;
use barrow_run::{Error, Spec, Summary};

use super::load_common::{is_quiet, mention_remarks, overrides};
use super::spec::open;
use crate::args;
use crate::exit;
use crate::view::progress::Progress;
use crate::view::together as view;

/// Loads several specs in one transaction.
pub fn run(args: &args::Load, specs: &[PathBuf], files: &[String]) -> Result<ExitCode, Error> {
    let common = &args.common;
    if !files.is_empty() || args.share || common.table.is_some() {
        return Err(Error::request(
            "several specs are loaded together, each of its own files into its own table",
            "leave the files, --table and --share out, or load one spec at a time",
        ));
    }
    let overrides = overrides(args);
    let opened = specs
        .iter()
        .map(|spec| open(spec, &overrides, common.manner.quiet));
    let opened = opened.collect::<Result<Vec<Spec>, Error>>()?;
    opened
        .iter()
        .for_each(|spec| mention_remarks(spec, common.manner.quiet));
    let mut progress = Progress::new(common.manner.quiet);
    let loaded = LoadTogether::new(&opened)
        .rejects(args.rejects.clone())
        .again(args.again)
        .patience(Duration::from_secs(args.lock_wait.into()))
        .threads(common.manner.threads())
        .observe(&mut progress)
        .run()?;
    let code = exit::of_loads(&loaded.loads);
    let rejected = loaded.loads.iter().map(Summary::rejected).sum();
    if !is_quiet(common, code, rejected) {
        view::print(&loaded, common.manner.report)?;
    }
    Ok(code)
}
