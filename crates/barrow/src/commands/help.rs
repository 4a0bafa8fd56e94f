//! `barrow help`: what a command, a key of the spec or the code of a reject means.

use std::process::ExitCode;

use barrow_core::reason_help::of_code;
use barrow_core::spec::keys;
use barrow_core::types::TYPE_MEANINGS;
use barrow_run::Error;
use clap::CommandFactory;

use super::help_files::{completion, man_pages};
use crate::args::{self, Args};
use crate::view::{help as view, printed};

/// Says what a word means, or prints what editors and shells read.
pub fn run(args: &args::Help) -> Result<ExitCode, Error> {
    let text = match args {
        args::Help { schema: true, .. } => {
            serde_json::to_string_pretty(&keys::schema()).unwrap_or_default() + "\n"
        }
        args::Help { tables: true, .. } => view::tables(),
        args::Help {
            completion: Some(shell),
            ..
        } => completion(*shell)?,
        args::Help {
            man: Some(folder), ..
        } => {
            man_pages(folder)?;
            return Ok(ExitCode::SUCCESS);
        }
        args::Help { words, .. } => of_words(words)?,
    };
    printed(|out| out.write_all(text.as_bytes()))?;
    Ok(ExitCode::SUCCESS)
}

/// What a word means: a command, a key, a section, a type or a code.
fn of_words(words: &[String]) -> Result<String, Error> {
    let mut program = Args::command();
    let word = words.join(" ");
    if word.is_empty() {
        return Ok(program.render_long_help().ansi().to_string() + &view::topics());
    }
    program.build();
    if let Some(command) = program.find_subcommand_mut(&word) {
        return Ok(command.render_long_help().ansi().to_string());
    }
    let plain = word.trim_matches(['[', ']']);
    let section = keys::of_section(plain);
    if !section.is_empty() {
        return Ok(view::section(&section));
    }
    let found = keys::find(&word);
    if !found.is_empty() {
        return Ok(view::keys(&found));
    }
    // A word of the trade for it.
    if let Some(key) = keys::meant(&word) {
        return Ok(format!(
            "{word} is {key} here:\n\n{}",
            view::keys(&keys::find(&key))
        ));
    }
    let of_type = |(name, _): &&(&str, &str)| name.split('(').next() == word.split('(').next();
    match (plain, of_code(plain), TYPE_MEANINGS.iter().find(of_type)) {
        ("types", _, _) => Ok(view::types()),
        ("codes", _, _) => Ok(view::codes()),
        ("keys", _, _) => Ok(view::all_keys()),
        (_, Some(code), _) => Ok(view::code(code)),
        (_, None, Some(ty)) => Ok(view::one_type(ty)),
        (_, None, None) => Err(view::unknown(&word)),
    }
}
