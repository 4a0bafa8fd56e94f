//! `barrow help`: what a command, a key of the spec or the code of a reject means.

use std::io::Write;
use std::path::Path;
use std::process::ExitCode;

use barrow_core::nearest::nearest;
use barrow_core::reason_help::{CODES, of_code};
use barrow_core::spec::keys;
use barrow_core::types::TYPE_MEANINGS;
use barrow_run::Error;
use clap::CommandFactory;

use crate::args::{self, Args};
use crate::view::{ended, help as view};

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
        } => completion(*shell),
        args::Help {
            man: Some(folder), ..
        } => {
            man_pages(folder)?;
            return Ok(ExitCode::SUCCESS);
        }
        args::Help { words, .. } => of_words(words)?,
    };
    ended(anstream::stdout().lock().write_all(text.as_bytes()))?;
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
    let section = keys::of_section(plain);
    if !section.is_empty() {
        return Ok(view::section(&section));
    }
    let of_type = |(name, _): &&(&str, &str)| name.split('(').next() == word.split('(').next();
    match (plain, of_code(plain), TYPE_MEANINGS.iter().find(of_type)) {
        ("types", _, _) => Ok(view::types()),
        ("codes", _, _) => Ok(view::codes()),
        ("keys", _, _) => Ok(view::all_keys()),
        (_, Some(code), _) => Ok(view::code(code)),
        (_, None, Some(ty)) => Ok(view::one_type(ty)),
        (_, None, None) => Err(unknown(&word)),
    }
}

/// No such word: the nearest.
fn unknown(word: &str) -> Error {
    let shown = barrow_core::escape::escape_for_display(word.as_bytes());
    let commands = Args::command();
    let names = commands.get_subcommands().map(clap::Command::get_name);
    let keys = keys::all().map(|key| key.name);
    let codes = CODES.iter().map(|help| help.code.word());
    let all = names.chain(keys).chain(codes);
    let near = || nearest(word, all).map(|near| format!("did you mean {near}?"));
    let usual = || "barrow help keys, types or codes lists them".to_string();
    Error::request(
        format!("{shown} is no command, key, type or code"),
        near().unwrap_or_else(usual),
    )
}

fn completion(shell: clap_complete::Shell) -> String {
    let mut out = Vec::new();
    clap_complete::generate(shell, &mut Args::command(), "barrow", &mut out);
    String::from_utf8_lossy(&out).into_owned()
}

/// A page for the program and for each command.
fn man_pages(folder: &Path) -> Result<(), Error> {
    std::fs::create_dir_all(folder).map_err(|e| Error::file(folder, &e))?;
    clap_mangen::generate_to(Args::command(), folder).map_err(|e| Error::file(folder, &e))
}
