//! `barrow check`: what a load would do, without loading.

use std::process::ExitCode;

use barrow_run::Error;

use super::check_each;
use super::check_one::one;
use crate::args;
use crate::view::json;

/// Checks, and says what a load would do.
pub fn run(args: &args::Check) -> Result<ExitCode, Error> {
    let (specs, files) = args::specs(&args.spec, &args.files);
    if specs.len() == 1 {
        let (code, document) = one(args, &args.spec, &args.files)?;
        document.iter().try_for_each(json::print)?;
        return Ok(code);
    }
    if !files.is_empty() || args.common.table.is_some() {
        return Err(Error::request(
            "several specs are checked one after the other, each by its own files and table",
            "leave the files and --table out, or check one spec at a time",
        ));
    }
    check_each::run(args, &specs)
}
