//! A progress bar, where standard error is a terminal, and what people should know at once.

use std::io::IsTerminal;

use barrow_run::Observer;
use barrow_run::words::number;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use owo_colors::OwoColorize;

/// How far a run has got.
pub struct Progress {
    /// Whether nothing is said.
    is_quiet: bool,
    /// What is counted, in the plural.
    things: &'static str,
    bar: Option<ProgressBar>,
}

impl Progress {
    /// For records; nothing is shown where nobody looks.
    pub fn new(is_quiet: bool) -> Progress {
        Progress {
            is_quiet,
            things: "records",
            bar: None,
        }
    }

    /// For rows.
    pub fn of_rows(is_quiet: bool) -> Progress {
        Progress {
            things: "rows",
            ..Progress::new(is_quiet)
        }
    }

    /// Says a line, above the bar where there is one.
    fn say(&self, words: &str) {
        match &self.bar {
            Some(bar) => bar.suspend(|| anstream::eprintln!("{words}")),
            None => anstream::eprintln!("{words}"),
        }
    }
}

impl Observer for Progress {
    fn begin(&mut self, bytes: Option<u64>) {
        if self.is_quiet || !std::io::stderr().is_terminal() {
            return;
        }
        let things = self.things;
        let template = match bytes {
            Some(_) => format!(
                "{{bytes}} of {{total_bytes}} {{wide_bar:.green/dim}} {{msg}} {things}, \
                 {{bytes_per_sec}}, {{eta}} left"
            ),
            None => format!("{{spinner}} {{bytes}}, {{msg}} {things}, {{bytes_per_sec}}"),
        };
        let bar = ProgressBar::with_draw_target(bytes, ProgressDrawTarget::stderr_with_hz(10));
        if let Ok(style) = ProgressStyle::with_template(&template) {
            bar.set_style(style.progress_chars("━╸─"));
        }
        self.bar = Some(bar);
    }

    fn progress(&mut self, bytes: u64, records: u64) {
        if let Some(bar) = &self.bar {
            bar.inc(bytes);
            bar.set_message(number(records));
        }
    }

    fn end(&mut self) {
        if let Some(bar) = self.bar.take() {
            bar.finish_and_clear();
        }
    }

    fn waiting(&mut self, what: &str) {
        if !self.is_quiet {
            self.say(&format!("waiting for {what}"));
        }
    }

    fn warning(&mut self, text: &str) {
        self.say(&format!("{} {text}", "note:".yellow()));
    }
}
