//! Shows why something could not be done, on standard error.

use barrow_core::escape::{visible_path, visible_short};
use barrow_core::problem::Problem;
use barrow_core::spec::SpecTexts;
use barrow_run::words::counted;
use barrow_run::{Error, ErrorKind};
use barrow_targets::secret;
use miette::{
    GraphicalReportHandler, GraphicalTheme, LabeledSpan, MietteDiagnostic, Report, Severity,
};
use owo_colors::{OwoColorize, Style};

use super::json;
use super::snippet::Source;

/// How many problems of a spec are shown; one slip may be everywhere.
const MOST: usize = 50;
/// How many characters of a problem's words are shown.
const LONGEST: usize = 2_000;

/// Shows an error.
pub fn show(error: &Error) {
    if error.kind() == ErrorKind::OutputClosed {
        return;
    }
    if let Some(wrong) = error.wrong_spec() {
        return spec(&wrong.texts, &wrong.problems);
    }
    let message = secret::hide_in_message(error.message());
    anstream::eprintln!("{} {message}", "error:".red().bold());
    if let Some(advice) = error.advice() {
        anstream::eprintln!("{} {}", "what to do:".bold(), secret::hide(advice));
    }
}

/// Prints an error as a JSON document, where a report was to be printed: on standard error
/// where standard output has rows.
pub fn print_json(error: &Error, has_rows: bool) {
    if error.kind() == ErrorKind::OutputClosed {
        return;
    }
    // Where that fails, there is nobody left to tell.
    let _ = match has_rows {
        true => json::write(error, &mut std::io::stderr().lock()),
        false => json::print(error),
    };
}

/// What is allowed in a spec, and odd.
pub fn odd(texts: &SpecTexts, oddities: &[Problem]) {
    drawn(texts, oddities, Severity::Warning);
}

/// All problems of a spec, each with its line and a caret.
fn spec(texts: &SpecTexts, problems: &[Problem]) {
    drawn(texts, problems, Severity::Error);
    anstream::eprintln!("{}", counted(problems.len() as u64, "problem").bold());
}

fn drawn(texts: &SpecTexts, problems: &[Problem], severity: Severity) {
    let mut theme = GraphicalTheme::unicode();
    // Colors that are read on a light and on a dark ground.
    theme.styles.link = Style::new().bold();
    theme.styles.highlights = vec![Style::new().red()];
    theme.styles.help = Style::new().bold();
    let handler = GraphicalReportHandler::new_themed(theme)
        .with_links(false)
        .with_context_lines(1);
    let paths = texts.paths().enumerate();
    let sources = paths.map(|(part, path)| Source::new(&visible_path(path), texts.text(part)));
    let sources: Vec<Source<'_>> = sources.collect();
    for problem in problems.iter().take(MOST) {
        let (part, place) = texts.place(&problem.span);
        let snippet = sources[part].around(&place);
        let (start, length) = (snippet.place.start, snippet.place.len());
        let label = Some(said(&problem.label));
        let mut shown = MietteDiagnostic::new(said(&problem.message))
            .with_severity(severity)
            .with_label(LabeledSpan::new(label, start, length));
        if let Some(help) = &problem.help {
            shown = shown.with_help(said(help));
        }
        let report = Report::new(shown).with_source_code(snippet);
        let mut out = String::new();
        // It writes into text of ours, which takes everything.
        let _ = handler.render_report(&mut out, report.as_ref());
        anstream::eprintln!("{out}");
    }
    if problems.len() > MOST {
        let more = counted((problems.len() - MOST) as u64, "problem");
        anstream::eprintln!("and {more} more\n");
    }
}

/// Words that may repeat what a spec says, which are long or hold a secret.
fn said(words: &str) -> String {
    visible_short(secret::hide(words).as_bytes(), LONGEST)
}
