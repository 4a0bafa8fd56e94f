//! What `barrow help` prints of keys, types and codes.

use std::fmt::Write;

use barrow_core::escape::escape_for_display;
use barrow_core::nearest::nearest;
use barrow_core::reason_help::{CODES, CodeHelp};
use barrow_core::spec::keys::{self, Key};
use barrow_core::types::TYPE_MEANINGS;
use barrow_run::Error;
use clap::CommandFactory;
use owo_colors::OwoColorize;

use crate::args::Args;

/// A line is at most so long.
const WIDTH: usize = 92;

/// What else there is help on.
pub fn topics() -> String {
    "\nMore: barrow help COMMAND, KEY (null_values, values.null_values), SECTION ([source]), CODE \
     (too-precise),\ntypes, codes or keys; --schema prints a JSON Schema of the spec for editors, \
     --completion SHELL what a\nshell completes by, --man FOLDER writes manual pages.\n"
        .to_string()
}

/// Keys in full.
pub fn keys(keys: &[&Key]) -> String {
    keys.iter()
        .map(|key| key_in_full(key))
        .collect::<Vec<_>>()
        .join("\n")
}

fn key_in_full(key: &Key) -> String {
    let mut out = String::new();
    let title = format!("{} {}", key.section, key.name);
    let _ = writeln!(out, "{}\n", title.bold());
    out += &folded(&key.plain_meaning(), 2);
    let _ = writeln!(
        out,
        "\n  takes    {}",
        folded(&key.takes.in_words(), 11).trim()
    );
    let _ = writeln!(out, "  default  {}", key.default.replace('`', ""));
    let also = keys::other_words(key);
    if !also.is_empty() {
        let _ = writeln!(out, "  also     {}, in other tools", also.join(", "));
    }
    if key.stands_on_columns() {
        let _ = writeln!(out, "  may be set on one column, too");
    }
    let _ = writeln!(out);
    for line in key.example_in_place().lines() {
        let _ = writeln!(out, "  {}", line.dimmed());
    }
    out
}

/// The keys of a section, a line each.
pub fn section(keys: &[&'static Key]) -> String {
    let title = keys.first().map_or("", |key| key.section);
    format!(
        "{}\n\n{}\nbarrow help KEY says more of one.\n",
        title.bold(),
        lines(keys)
    )
}

/// All keys, section by section.
pub fn all_keys() -> String {
    let mut out = String::new();
    let mut sections: Vec<&str> = Vec::new();
    for key in keys::all() {
        if !sections.contains(&key.section) {
            sections.push(key.section);
        }
    }
    for name in sections {
        let _ = writeln!(out, "{}\n{}", name.bold(), lines(&keys::of_section(name)));
    }
    out + "barrow help KEY says more of one.\n"
}

fn lines(keys: &[&'static Key]) -> String {
    let rows = keys.iter().map(|key| (key.name, key.plain_meaning()));
    listed(&rows.collect::<Vec<_>>())
}

/// The types.
pub fn types() -> String {
    let rows: Vec<(&str, String)> = TYPE_MEANINGS
        .iter()
        .map(|(name, meaning)| (*name, (*meaning).to_string()))
        .collect();
    format!("{}\n\n{}", "Types of columns".bold(), listed(&rows))
}

/// One type.
pub fn one_type((name, meaning): &(&str, &str)) -> String {
    format!(
        "{}\n\n  {meaning}\n\nbarrow help types lists all of them.\n",
        name.bold()
    )
}

/// The codes of rejects.
pub fn codes() -> String {
    let rows: Vec<(&str, String)> = CODES
        .iter()
        .map(|help| (help.code.word(), help.meaning.to_string()))
        .collect();
    format!("{}\n\n{}", "Codes of rejects".bold(), listed(&rows))
}

/// One code, and the keys that would have it otherwise.
pub fn code(help: &CodeHelp) -> String {
    let mut out = format!("{}\n\n{}", help.code.word().bold(), folded(help.meaning, 2));
    if !help.keys.is_empty() {
        out += "\n  keys that may change it (barrow help KEY):\n";
        for key in help.keys {
            let _ = writeln!(out, "    {key}");
        }
    }
    out
}

/// The tables of the documents, by their sections.
pub fn tables() -> String {
    let mut out = String::new();
    let mut last = "";
    for key in keys::all().filter(|key| std::mem::replace(&mut last, key.section) != key.section) {
        let _ = writeln!(out, "## {}\n\n{}", key.section, keys::table(key.section));
    }
    out
}

/// Names with what they mean, cut after its first sentence.
fn listed(rows: &[(&str, String)]) -> String {
    let width = rows.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
    let mut out = String::new();
    for (name, meaning) in rows {
        let room = WIDTH.saturating_sub(width + 5);
        let first = meaning.split_inclusive(". ").next().unwrap_or("").trim();
        let cut: String = match first.chars().count() > room {
            true => first.chars().take(room - 1).chain(['…']).collect(),
            false => first.to_string(),
        };
        let _ = writeln!(out, "  {name:width$}   {cut}");
    }
    out
}

/// Text in lines, each after so many spaces.
fn folded(text: &str, indent: usize) -> String {
    let mut out = String::new();
    let mut line = String::new();
    for word in text.split_whitespace() {
        if !line.is_empty() && indent + line.chars().count() + 1 + word.chars().count() > WIDTH {
            let _ = writeln!(out, "{:indent$}{line}", "");
            line.clear();
        }
        if !line.is_empty() {
            line.push(' ');
        }
        line += word;
    }
    let _ = writeln!(out, "{:indent$}{line}", "");
    out
}

/// No such word: the nearest.
pub fn unknown(word: &str) -> Error {
    let shown = escape_for_display(word.as_bytes());
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
