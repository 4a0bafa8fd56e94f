//! Arguments of what is asked of runs and of the ledger, and of help.

use std::path::PathBuf;

use super::words::DATABASE;
use super::{Command, Report, candidates};

impl Command {
    /// Whether the database is that of the environment, which is worth a word.
    pub fn goes_by_environment(&self) -> bool {
        let said = match self {
            Command::Load(load) if !load.common.manner.quiet => &load.common.database,
            Command::Check(check) if !check.common.manner.quiet => &check.common.database,
            Command::Ddl(ddl) if ddl.dialect.is_none() => &ddl.database,
            Command::Export(export) if !export.manner.quiet => &export.database,
            Command::Mend(mend) if !mend.quiet => &mend.database,
            Command::Status(status) => &status.database,
            Command::Undo(undo) if !undo.quiet && undo.spec.is_none() => &undo.database,
            Command::Ledger(ledger) if ledger.spec.is_none() => &ledger.database,
            _ => return false,
        };
        said.is_none() && std::env::var_os(DATABASE).is_some()
    }
}

/// `barrow mend`
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Correct the records in the folder of the run's rejects first, or delete those that you give up. Those that are still wrong stay there, with new reasons."
)]
pub struct Mend {
    /// The run, as the load named it, or the folder of its rejects
    #[arg(add = candidates::rejected_runs())]
    pub run: String,
    /// The database, if it is not the one that the run loaded into
    #[arg(long, value_name = "URL")]
    pub database: Option<String>,
    /// The folder that has a folder of rejects for each run; by default that of barrow.toml, or rejects
    #[arg(long, value_name = "FOLDER")]
    pub rejects: Option<PathBuf>,
    /// Say what would come of it, and load nothing
    #[arg(long)]
    pub check: bool,
    /// How many seconds to wait for a lock that another session holds
    #[arg(long, value_name = "SECONDS", default_value_t = 15, value_parser = clap::value_parser!(u32).range(1..))]
    pub lock_wait: u32,
    /// How the result is written
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub report: Report,
    /// Print only the result
    #[arg(short, long)]
    pub quiet: bool,
}

/// `barrow undo`
#[derive(Debug, clap::Args)]
#[command(
    after_help = "The rows are found by the column that [target] run_column names, and go in one \
transaction with what the ledger says of the run: its files count as new again, its rejects are closed, and \
runs that mended them go with it. Merged rows cannot be told from earlier rows, and stay."
)]
pub struct Undo {
    /// The run, or the first characters of its id
    #[arg(add = candidates::runs())]
    pub run: String,
    /// The database; that of the spec, where one is given
    #[arg(long, value_name = "URL")]
    pub database: Option<String>,
    /// A spec whose database is meant
    #[arg(long, value_name = "SPEC", conflicts_with = "database", add = candidates::specs())]
    pub spec: Option<PathBuf>,
    /// Say what would come of it, and change nothing
    #[arg(long)]
    pub check: bool,
    /// Only make the ledger forget the run: its rows stay, and its files count as new
    #[arg(long)]
    pub forget: bool,
    /// Let rows of other tables go along, where their foreign keys say so
    #[arg(long, conflicts_with = "forget")]
    pub cascade: bool,
    /// How many seconds to wait for a lock that another session holds
    #[arg(long, value_name = "SECONDS", default_value_t = 15, value_parser = clap::value_parser!(u32).range(1..))]
    pub lock_wait: u32,
    /// How the result is written
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub report: Report,
    /// Print only the result
    #[arg(short, long)]
    pub quiet: bool,
}

/// `barrow ledger`
#[derive(Debug, clap::Args)]
pub struct Ledger {
    /// A run to show in full, or the first characters of its id
    #[arg(add = candidates::runs())]
    pub run: Option<String>,
    /// The database; that of the spec, where one is given
    #[arg(long, value_name = "URL")]
    pub database: Option<String>,
    /// A spec whose database is meant
    #[arg(long, value_name = "SPEC", conflicts_with = "database", add = candidates::specs())]
    pub spec: Option<PathBuf>,
    /// Only runs into this table
    #[arg(long, value_name = "NAME", conflicts_with = "run", add = candidates::tables())]
    pub table: Option<String>,
    /// Only runs that began at this time or later, in UTC: 2031-04-03, or "2031-04-03 08:05"
    #[arg(long, value_name = "TIME", conflicts_with = "run")]
    pub since: Option<String>,
    /// Only runs whose rows are not in the table, or not all
    #[arg(long, conflicts_with = "run")]
    pub failed: bool,
    /// Show at most this many runs
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub limit: u64,
    /// How the result is written
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub report: Report,
}

/// `barrow status`
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Several specs are shown one after the other. A file that is elsewhere is known by \
its address, size and version, without being read; a file of this machine that looks like one that \
was loaded is read, to be sure."
)]
pub struct Status {
    /// The specs
    #[arg(required = true, add = candidates::specs())]
    pub specs: Vec<PathBuf>,
    /// A file, glob or address to look at, instead of the spec's; may be said again
    #[arg(long = "file", value_name = "FILE")]
    pub files: Vec<String>,
    /// The database, where the ledger is
    #[arg(long, value_name = "URL")]
    pub database: Option<String>,
    /// The table; by default the spec's
    #[arg(long, value_name = "NAME", add = candidates::tables())]
    pub table: Option<String>,
    /// How the result is written
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub report: Report,
}

/// `barrow help`
#[derive(Debug, clap::Args)]
#[command(
    after_help = "A KEY is written as in the spec, with its section or without: null_values, \
values.null_values, [source]. A CODE is that of a reject: too-precise. Also: types, codes, keys."
)]
pub struct Help {
    /// A command, a key, a section, a type or a code
    #[arg(value_name = "COMMAND, KEY or CODE", add = candidates::meanings())]
    pub words: Vec<String>,
    /// Print a JSON Schema of the spec, by which editors complete and check it
    #[arg(long)]
    pub schema: bool,
    /// Print what a shell completes by
    #[arg(long, value_name = "SHELL", conflicts_with = "schema")]
    pub completion: Option<clap_complete::Shell>,
    /// Write manual pages into a folder
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["schema", "completion"])]
    pub man: Option<PathBuf>,
    /// Print the tables of the documents
    #[arg(long, hide = true)]
    pub tables: bool,
}
