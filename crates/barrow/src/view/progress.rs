//! A progress bar, where standard error is a terminal.

use std::io::IsTerminal;

use barrow_core::source::SourceFile;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use super::number;

/// How far a run has got.
pub struct Progress(Option<ProgressBar>);

impl Progress {
    /// For these files; nothing is shown where nobody looks.
    pub fn new(files: &[SourceFile], quiet: bool) -> Progress {
        if quiet || !std::io::stderr().is_terminal() {
            return Progress(None);
        }
        let sizes: Option<Vec<u64>> = files.iter().map(|file| file.size()).collect();
        let template = match sizes {
            Some(_) => {
                "{bytes} of {total_bytes} {wide_bar:.green/dim} {msg} records, {bytes_per_sec}, {eta} left"
            }
            None => "{spinner} {bytes}, {msg} records, {bytes_per_sec}",
        };
        let bar = ProgressBar::with_draw_target(
            sizes.map(|sizes| sizes.iter().sum()),
            ProgressDrawTarget::stderr_with_hz(10),
        );
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style.progress_chars("━╸─"));
        }
        Progress(Some(bar))
    }

    /// For rows of which nobody knows how many there are.
    pub fn of_rows(quiet: bool) -> Progress {
        if quiet || !std::io::stderr().is_terminal() {
            return Progress(None);
        }
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr_with_hz(10));
        if let Ok(style) =
            ProgressStyle::with_template("{spinner} {bytes}, {msg} rows, {bytes_per_sec}")
        {
            bar.set_style(style);
        }
        Progress(Some(bar))
    }

    /// So many more bytes are done, and so many records in all.
    pub fn advance(&self, bytes: u64, records: u64) {
        if let Some(bar) = &self.0 {
            bar.inc(bytes);
            bar.set_message(number(records));
        }
    }

    /// Takes the bar away.
    pub fn end(&self) {
        if let Some(bar) = &self.0 {
            bar.finish_and_clear();
        }
    }
}
