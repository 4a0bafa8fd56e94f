//! How results are told, and where rows are written to.

use std::path::{Path, PathBuf};

use barrow_run::export::Out as OutRequest;
use barrow_run::export::files::Destination;
use barrow_run::export::output::Parting;

use super::{Report, candidates};

/// How a command works, and what it says.
#[derive(Debug, clap::Args)]
pub struct Manner {
    /// How the result is written
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub report: Report,
    /// How many threads work on values; by default as many as suit the machine
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    pub threads: Option<u16>,
    /// Print only what is wrong, and what was asked for
    #[arg(short, long)]
    pub quiet: bool,
}

impl Manner {
    /// Whether nothing is said beside the result.
    pub fn is_silent(&self) -> bool {
        self.quiet || self.report == Report::Json
    }

    /// How many threads work on values, where it is said.
    pub fn threads(&self) -> Option<usize> {
        self.threads.map(usize::from)
    }
}

/// Where records are written to.
#[derive(Debug, clap::Args)]
pub struct Out {
    /// The file; - is standard output, as it is where none is named
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Write over a file that is there
    #[arg(long)]
    pub overwrite: bool,
    /// Start a new file after this many rows
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub split_rows: Option<u64>,
    /// Start a new file before it has this many bytes, such as 100MB
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub split_size: Option<u64>,
    /// A file for each value of this column
    #[arg(long, value_name = "COLUMN", add = candidates::columns())]
    pub split_by: Option<String>,
    /// Write the files' names to this file, one a line, as @LIST reads them
    #[arg(long, value_name = "FILE")]
    pub list: Option<PathBuf>,
}

impl Out {
    /// Whether anything is said of files that are written.
    pub fn is_asked_for(&self) -> bool {
        let is_parted = self.split_rows.is_some() || self.split_size.is_some();
        let has_names = self.split_by.is_some() || self.list.is_some();
        self.output.is_some() || self.overwrite || is_parted || has_names
    }

    /// Whether rows go to standard output.
    pub fn is_stdout(&self) -> bool {
        self.output
            .as_deref()
            .is_none_or(|path| path == Path::new("-"))
    }

    /// The same as a request.
    pub fn request(&self) -> OutRequest {
        OutRequest {
            destination: match &self.output {
                Some(path) if !self.is_stdout() => Destination::Path(path.clone()),
                _ => Destination::Stdout,
            },
            overwrites: self.overwrite,
            parting: Parting {
                rows: self.split_rows,
                size: self.split_size,
                by: self.split_by.clone(),
            },
            list: self.list.clone(),
        }
    }
}

fn size(text: &str) -> Result<u64, String> {
    let bytes = barrow_core::spec::bytes_of(text).filter(|bytes| *bytes > 0);
    bytes.ok_or_else(|| format!("{text} is not a size such as 100MB or 64 KiB"))
}
