//! Reports as JSON documents.

use std::io::{self, BufWriter, Write};

use barrow_run::Error;
use serde::Serialize;

use super::ended;

/// Prints a document.
pub fn print(document: &impl Serialize) -> Result<(), Error> {
    write(document, &mut BufWriter::new(io::stdout().lock()))
}

/// Writes a document.
pub fn write(document: &impl Serialize, out: &mut impl Write) -> Result<(), Error> {
    let written = serde_json::to_writer_pretty(&mut *out, document);
    ended(
        written
            .map_err(io::Error::from)
            .and_then(|()| writeln!(out))
            .and_then(|()| out.flush()),
    )
}
