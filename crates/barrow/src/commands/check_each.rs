//! `barrow check` with several specs.

use std::path::PathBuf;
use std::process::ExitCode;

use barrow_run::report::{FORMAT, error_document};
use barrow_run::{Error, ErrorKind};
use serde_json::json;

use super::check_one::one;
use crate::args::{self, Report};
use crate::view::{failure, json};
use crate::{exit, log};

/// Checks several specs. One that cannot be checked does not keep the others from it.
pub(super) fn run(args: &args::Check, specs: &[PathBuf]) -> Result<ExitCode, Error> {
    let mut first_bad = ExitCode::SUCCESS;
    let mut documents = Vec::new();
    for spec in specs {
        let (code, document) = one(args, spec, &[]).or_else(|error| {
            if error.kind() == ErrorKind::OutputClosed {
                return Err(error);
            }
            log::failed(&error);
            let document =
                (args.common.manner.report == Report::Json).then(|| error_document(&error));
            if document.is_none() {
                failure::show(&error);
            }
            Ok((exit::of_error(&error), document))
        })?;
        if first_bad == ExitCode::SUCCESS {
            first_bad = code;
        }
        documents.extend(document);
    }
    if args.common.manner.report == Report::Json {
        json::print(&json!({ "format": FORMAT, "kind": "checks", "checks": documents }))?;
    }
    Ok(first_bad)
}
