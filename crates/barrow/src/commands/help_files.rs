//! What shells complete by, and manual pages: made of the commands' own arguments.

use std::path::Path;

use barrow_run::Error;
use clap::CommandFactory;
use clap_complete::CompleteEnv;
use clap_complete::env::Shells;

use crate::args::Args;

/// The variable of the environment by which a shell asks what may stand next.
const ASKED: &str = "BARROW_COMPLETE";

/// Answers a shell that asks what may stand next, and ends the program then.
pub fn complete_if_asked() {
    CompleteEnv::with_factory(Args::command)
        .var(ASKED)
        .complete();
}

/// What a shell completes by: it asks this program.
///
/// # Errors
/// The shell is none that is known.
pub fn completion(shell: clap_complete::Shell) -> Result<String, Error> {
    let mut out = Vec::new();
    let shells = Shells::builtins();
    let known = shells.completer(&shell.to_string());
    let written =
        known.map(|known| known.write_registration(ASKED, "barrow", "barrow", "barrow", &mut out));
    match written {
        Some(Ok(())) => Ok(String::from_utf8_lossy(&out).into_owned()),
        _ => Err(Error::failed(format!(
            "nothing is known of completing in {shell}"
        ))),
    }
}

/// Writes a manual page for the program and for each command.
///
/// # Errors
/// The folder cannot be written.
pub fn man_pages(folder: &Path) -> Result<(), Error> {
    std::fs::create_dir_all(folder).map_err(|e| Error::file(folder, &e))?;
    clap_mangen::generate_to(Args::command(), folder).map_err(|e| Error::file(folder, &e))
}
