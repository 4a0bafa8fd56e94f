//! Shows why a command ended before its end, on standard error.

use std::path::Path;

use barrow_core::spec::Problem;
use barrow_core::visible::visible;
use miette::{LabeledSpan, MietteDiagnostic, NamedSource, Report};
use owo_colors::OwoColorize;

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
        Failure::Wrong { message, advice } | Failure::NotDone { message, advice } => {
            anstream::eprintln!("{} {message}", "error:".red().bold());
            if let Some(advice) = advice {
                anstream::eprintln!("{} {advice}", "what to do:".bold());
            }
        }
    }
}

/// All problems of a spec, each with its line and a caret.
fn spec(path: &Path, text: &str, problems: &[Problem]) {
    let name = visible(path.as_os_str().as_encoded_bytes());
    for problem in problems {
        let start = problem.span.start.min(text.len());
        let length = problem.span.end.clamp(start, text.len()) - start;
        let mut shown = MietteDiagnostic::new(visible(problem.message.as_bytes()))
            .with_label(LabeledSpan::new(Some(problem.label.clone()), start, length));
        if let Some(help) = &problem.help {
            shown = shown.with_help(help.clone());
        }
        let source = NamedSource::new(&name, text.to_string());
        anstream::eprintln!("{:?}", Report::new(shown).with_source_code(source));
    }
    anstream::eprintln!("{}", counted(problems.len() as u64, "problem").bold());
}
