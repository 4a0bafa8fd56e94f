//! What shells complete by, and manual pages: made of the commands' own arguments.

use std::path::Path;

use barrow_run::Error;
use clap::CommandFactory;

use crate::args::Args;

/// What a shell completes by.
pub fn completion(shell: clap_complete::Shell) -> String {
    let mut out = Vec::new();
    clap_complete::generate(shell, &mut Args::command(), "barrow", &mut out);
    String::from_utf8_lossy(&out).into_owned()
}

/// Writes a manual page for the program and for each command.
///
/// # Errors
/// The folder cannot be written.
pub fn man_pages(folder: &Path) -> Result<(), Error> {
    std::fs::create_dir_all(folder).map_err(|e| Error::file(folder, &e))?;
    clap_mangen::generate_to(Args::command(), folder).map_err(|e| Error::file(folder, &e))
}
