//! What can go wrong below the program, in the words that people read.

use std::path::PathBuf;

/// A column that a file's header does not give.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unbound {
    /// The spec's column.
    pub column: String,
    /// What is wrong, in one plain line.
    pub trouble: String,
}

/// A failure of a file. Nothing of a load is kept where one happens.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// A file could not be opened or read.
    #[error("{file}: {source}")]
    Read {
        /// The file as people named it.
        file: String,
        /// What the system said.
        source: std::io::Error,
    },
    /// A file could not be written.
    #[error("cannot write {}: {source}", path.display())]
    Write {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// A path names no file, or a pattern matches none.
    #[error("{0}")]
    NoFile(String),
    /// The file ends before its preamble, header or trailer is complete.
    #[error("{file} ends before its {part}: {trouble}")]
    TooShort {
        /// The file as people named it.
        file: String,
        /// Which part is not whole.
        part: &'static str,
        /// What there is instead.
        trouble: String,
    },
    /// The header does not have the spec's columns.
    #[error("{}", header_words(file, unbound, header))]
    Header {
        /// The file as people named it.
        file: String,
        /// Every column that was not found.
        unbound: Vec<Unbound>,
        /// The header's names, made visible.
        header: Vec<String>,
    },
    /// The preamble and header are longer than anything that could be one.
    #[error(
        "{file}: no end of the header in its first {bytes} bytes; are the record end and the quote \
         those of the file?"
    )]
    EndlessHeader {
        /// The file as people named it.
        file: String,
        /// How far was looked.
        bytes: usize,
    },
    /// A part of the program failed where it never should.
    #[error("a worker failed: {0}; nothing was kept, please report this with the spec")]
    Worker(String),
}

fn header_words(file: &str, unbound: &[Unbound], header: &[String]) -> String {
    let lines: Vec<String> = unbound
        .iter()
        .map(|u| format!("  {}: {}", u.column, u.trouble))
        .collect();
    format!(
        "the header of {file} does not have every column of the spec\n{}\n  the header's names: {}",
        lines.join("\n"),
        header.join(", ")
    )
}
