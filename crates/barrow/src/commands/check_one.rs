//! A check of one spec.

use std::path::Path;
use std::process::ExitCode;

use barrow_run::{Check, Error, Overrides, Spec};
use serde_json::{Value, json};

use super::check_connect;
use crate::args::{self, Report};
use crate::view::progress::Progress;
use crate::view::{check as view, failure};
use crate::{exit, log};

/// Checks one spec: how it ends, and what programs read of it.
pub(super) fn one(
    args: &args::Check,
    spec: &Path,
    files: &[String],
) -> Result<(ExitCode, Option<Value>), Error> {
    let common = &args.common;
    let overrides = Overrides {
        max_rejects: args.max_rejects,
        ..common.overrides()
    };
    let spec = Spec::open(spec, &overrides)?;
    failure::odd(&spec.origin.texts, &spec.plan.oddities);
    let name = spec.name();
    let mut progress = Progress::new(common.manner.quiet);
    let check = Check::new(&spec)
        .files(files.to_vec())
        .rejects(args.rejects.clone())
        .again(args.again)
        .threads(common.manner.threads())
        .observe(&mut progress);
    if args.connect {
        return check_connect::run(check, &name, common.manner.report);
    }
    let report = check.run()?;
    let document = match common.manner.report {
        Report::Json => Some(json!(report)),
        Report::Text => view::print(&report).map(|()| None)?,
    };
    let code = match (&report.stops, &report.summary) {
        (Some(stops), _) => {
            failure::show(stops);
            log::failed(stops);
            exit::of_error(stops)
        }
        (None, Some(summary)) => exit::of_load(summary),
        (None, None) => ExitCode::SUCCESS,
    };
    Ok((code, document))
}
