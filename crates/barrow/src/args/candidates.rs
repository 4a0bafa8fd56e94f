//! What may stand at an argument, for the shells that complete it: keys of the spec, columns,
//! tables, runs. It is looked for in what is typed so far, in files alone: no server is asked.

use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

use barrow_core::escape::escape_for_display;
use barrow_core::reason_help::CODES;
use barrow_core::spec::keys;
use barrow_core::types::TYPE_MEANINGS;
use barrow_run::ledger::Filter;
use barrow_run::spec_file::environment;
use barrow_run::spec_file::settings::Settings;
use barrow_run::{Error, Ledger, Overrides, Spec};
use barrow_targets::Url;
use clap_complete::{ArgValueCandidates, CompletionCandidate, PathCompleter};

use super::words::DATABASE;

/// How many runs are proposed.
const RUNS: u64 = 50;

/// Specs, which are TOML files.
pub fn specs() -> clap_complete::ArgValueCompleter {
    let is_spec = |path: &Path| path.is_dir() || path.extension().is_some_and(|e| e == "toml");
    clap_complete::ArgValueCompleter::new(PathCompleter::any().filter(is_spec))
}

/// Files of any kind.
pub fn files() -> clap_complete::ArgValueCompleter {
    clap_complete::ArgValueCompleter::new(PathCompleter::any())
}

/// What `barrow help` knows: keys, sections, types and codes.
pub fn meanings() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        let keys = keys::all().map(|key| one(key.name, &key.plain_meaning()));
        let codes = CODES.iter().map(|code| one(code.code.word(), code.meaning));
        let types = TYPE_MEANINGS.iter().map(|(name, meaning)| {
            let word = name.split('(').next().unwrap_or(name);
            one(word, meaning)
        });
        let topics = ["types", "codes", "keys"].map(|topic| one(topic, "all of them"));
        keys.chain(codes).chain(types).chain(topics).collect()
    })
}

/// The columns of the spec that is named.
pub fn columns() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        let plan = spec_of(&words()).and_then(|spec| spec.plan_of_look().ok());
        let types = plan.into_iter().flat_map(|plan| plan.record_types);
        let columns = types.flat_map(|of_type| of_type.columns);
        let fit = columns.filter(|column| can_be_typed(&column.name));
        fit.map(|c| one(c.name, &c.ty.to_string())).collect()
    })
}

/// The tables of the database that is meant, where it is a file.
pub fn tables() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        let url = database(&words()).filter(|url| url.file().is_some_and(Path::exists));
        let tables = url.and_then(|url| barrow_query::tables_of(&url).ok());
        let fit = tables
            .into_iter()
            .flatten()
            .filter(|name| can_be_typed(name));
        fit.map(CompletionCandidate::new).collect()
    })
}

/// The runs in the ledger of the database that is meant, where it is a file.
pub fn runs() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        let url = database(&words()).filter(|url| url.file().is_some_and(Path::exists));
        let runs = url.and_then(|url| ledger(url).ok()).into_iter().flatten();
        runs.collect()
    })
}

/// The runs whose rejects are kept in the folder that is meant.
pub fn rejected_runs() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        let said = value_of(&words(), "--rejects").map(PathBuf::from);
        let settings = || Settings::of(Path::new("")).ok()?.rejects();
        let folder = said.or_else(settings).unwrap_or_else(|| "rejects".into());
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        let is_run = |path: &PathBuf| path.join("reasons.jsonl").exists();
        let runs = entries.map(|entry| entry.path()).filter(is_run);
        runs.filter_map(|path| Some(CompletionCandidate::new(path.file_name()?)))
            .collect()
    })
}

fn ledger(url: Url) -> Result<impl Iterator<Item = CompletionCandidate>, Error> {
    let filter = Filter {
        limit: RUNS,
        ..Filter::default()
    };
    let found = Ledger::open(url)?.runs(&filter)?;
    let newest_first = found.runs.into_iter().enumerate();
    Ok(newest_first.map(|(place, run)| {
        let what = format!("{} {} {}", run.started_at, run.table, run.outcome.word());
        one(run.run, &what).display_order(Some(place))
    }))
}

/// The words of the command line that is typed: the shell puts them after two dashes.
fn words() -> Vec<OsString> {
    let after = std::env::args_os().skip_while(|word| word != "--");
    after.skip(1).collect()
}

/// What follows an option.
fn value_of<'w>(words: &'w [OsString], option: &str) -> Option<&'w OsStr> {
    let place = words.iter().position(|word| word == option)?;
    words.get(place + 1).map(OsString::as_os_str)
}

/// The first spec among words.
fn spec_of(words: &[OsString]) -> Option<Spec> {
    let mut paths = words.iter().map(Path::new);
    let path = paths.find(|path| path.extension().is_some_and(|e| e == "toml"))?;
    Spec::open(path, &Overrides::default()).ok()
}

/// The database that a command would go to.
fn database(words: &[OsString]) -> Option<Url> {
    let of_words = value_of(words, "--database").map(|word| word.to_string_lossy().into_owned());
    if let Some(said) = of_words.or_else(|| environment(DATABASE)) {
        return Url::parse(&said, Path::new(""), environment).ok();
    }
    match spec_of(words) {
        Some(spec) => spec.url().ok(),
        None => Settings::of(Path::new("")).ok()?.database().ok()?,
    }
}

/// Names that hold control characters are not printed to a terminal.
fn can_be_typed(name: &str) -> bool {
    !name.chars().any(char::is_control)
}

fn one(word: impl Into<OsString>, meaning: &str) -> CompletionCandidate {
    let shown = escape_for_display(meaning.as_bytes()).to_string();
    CompletionCandidate::new(word).help(Some(shown.into()))
}
