//! Shows why a command ended before its end, on standard error.

use std::path::Path;

use barrow_core::spec::Problem;
use barrow_core::visible::visible;
use miette::{
    GraphicalReportHandler, GraphicalTheme, LabeledSpan, MietteDiagnostic, NamedSource, Report,
    Severity,
};
use owo_colors::{OwoColorize, Style};

use super::counted;
use crate::failure::Failure;

/// Shows a failure.
pub fn show(failure: &Failure) {
    match failure {
        Failure::Spec {
            path,
            text,
            problems,
        } => spec(path, text, problems),
        Failure::ReaderGone => {}
        Failure::Wrong { message, advice } | Failure::NotDone { message, advice } => {
            anstream::eprintln!("{} {message}", "error:".red().bold());
            if let Some(advice) = advice {
                anstream::eprintln!("{} {advice}", "what to do:".bold());
            }
        }
    }
}

/// What is legal in a spec, and odd.
pub fn odd(path: &Path, text: &str, oddities: &[Problem]) {
    drawn(path, text, oddities, Severity::Warning);
}

/// All problems of a spec, each with its line and a caret.
fn spec(path: &Path, text: &str, problems: &[Problem]) {
    drawn(path, text, problems, Severity::Error);
    anstream::eprintln!("{}", counted(problems.len() as u64, "problem").bold());
}

fn drawn(path: &Path, text: &str, problems: &[Problem], severity: Severity) {
    let name = visible(path.as_os_str().as_encoded_bytes());
    let mut theme = GraphicalTheme::unicode();
    // Colors that are read on a light and on a dark ground.
    theme.styles.link = Style::new().bold();
    theme.styles.highlights = vec![Style::new().red()];
    theme.styles.help = Style::new().bold();
    let handler = GraphicalReportHandler::new_themed(theme)
        .with_links(false)
        .with_context_lines(1);
    for problem in problems {
        // A place at a line's end would show no line at all.
        let at_end = !text[problem.span.start.min(text.len())..].starts_with(|c| c != '\n');
        let start = problem
            .span
            .start
            .min(text.len())
            .saturating_sub(usize::from(at_end));
        let start = (0..=start)
            .rev()
            .find(|at| text.is_char_boundary(*at))
            .unwrap_or(0);
        let length = problem.span.end.clamp(start, text.len()) - start;
        let mut shown = MietteDiagnostic::new(visible(problem.message.as_bytes()))
            .with_severity(severity)
            .with_label(LabeledSpan::new(Some(problem.label.clone()), start, length));
        if let Some(help) = &problem.help {
            shown = shown.with_help(help.clone());
        }
        let source = NamedSource::new(&name, text.to_string());
        let report = Report::new(shown).with_source_code(source);
        let mut out = String::new();
        // It writes into text of ours, which takes everything.
        let _ = handler.render_report(&mut out, report.as_ref());
        anstream::eprintln!("{out}");
    }
}
