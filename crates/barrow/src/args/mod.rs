//! The command line.

mod candidates;
mod out;
mod runs;
mod words;

use std::path::{Path, PathBuf};

use barrow_core::words::Tolerance;
use barrow_run::Overrides;
use clap::{Parser, Subcommand};

pub use self::out::{Manner, Out};
pub use self::runs::{Help, Ledger, Mend, Status, Undo};
pub use self::words::{Color, DATABASE, ModeWord, Report, dialects};

/// Describe a flat file once, then check it, load it and keep what would not load.
#[derive(Debug, Parser)]
#[command(name = "barrow", version, about, disable_help_subcommand = true)]
pub struct Args {
    #[command(subcommand)]
    pub command: Command,
    /// When to use color
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub color: Color,
    /// Add a line to this file for each thing that happens; JSON where its name ends in .jsonl
    #[arg(long, global = true, value_name = "FILE")]
    pub log: Option<PathBuf>,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Load files into a table by a spec
    Load(Load),
    /// Propose a spec from the whole of the files
    Draft(Draft),
    /// Compare the spec, the header and the table, read every record, and load nothing
    Check(Check),
    /// Print the CREATE TABLE for a spec, or what would make a table fit
    Ddl(Ddl),
    /// Show records as the spec reads them, or one line with its neighbours
    Peek(Peek),
    /// Ask files in place, in SQL, without loading them
    Query(Query),
    /// Write a table or a query out as a flat file
    Export(Export),
    /// Write files anew in the format of another spec
    Convert(Convert),
    /// Load the rejects of a run again, once they are corrected
    Mend(Mend),
    /// Show which files are new, loaded, changed or in progress, and load nothing
    Status(Status),
    /// Take a run's rows out of the table again
    Undo(Undo),
    /// Show what was loaded, when, from what and with what result
    Ledger(Ledger),
    /// Say what a command, a key of the spec, a type or the code of a reject means
    Help(Help),
    /// Lay out the demo market and run the whole tour on it
    Demo(Demo),
}

impl Command {
    /// Its name.
    pub fn name(&self) -> &'static str {
        match self {
            Command::Load(_) => "load",
            Command::Draft(_) => "draft",
            Command::Check(_) => "check",
            Command::Ddl(_) => "ddl",
            Command::Peek(_) => "peek",
            Command::Query(_) => "query",
            Command::Export(_) => "export",
            Command::Convert(_) => "convert",
            Command::Mend(_) => "mend",
            Command::Status(_) => "status",
            Command::Undo(_) => "undo",
            Command::Ledger(_) => "ledger",
            Command::Help(_) => "help",
            Command::Demo(_) => "demo",
        }
    }

    /// Whether the result is written as JSON.
    pub fn reports_json(&self) -> bool {
        let report = match self {
            Command::Load(load) => load.common.manner.report,
            Command::Draft(draft) => draft.report,
            Command::Check(check) => check.common.manner.report,
            Command::Peek(peek) => peek.report,
            Command::Export(export) => export.manner.report,
            Command::Query(query) => query.manner.report,
            Command::Convert(convert) => convert.manner.report,
            Command::Mend(mend) => mend.report,
            Command::Ledger(ledger) => ledger.report,
            Command::Undo(undo) => undo.report,
            Command::Status(status) => status.report,
            Command::Ddl(_) | Command::Demo(_) | Command::Help(_) => Report::Text,
        };
        report == Report::Json
    }

    /// Whether standard output gets rows, so that a report goes to standard error.
    pub fn writes_rows(&self) -> bool {
        match self {
            Command::Export(export) => export.out.is_stdout(),
            Command::Query(query) => query.writes() && query.out.is_stdout(),
            Command::Convert(convert) => convert.out.is_stdout(),
            _ => false,
        }
    }
}

/// `barrow load`
#[derive(Debug, clap::Args)]
#[command(
    after_help = "FILE is a path, a glob, - for standard input, or @LIST for a text file that \
names one file a line; or an address (s3://bucket/out/*.psv, gs://, az://, https://), or a member \
of an archive (week.zip/*.csv). Files given here replace the spec's. Several specs (their names end \
in .toml) are loaded in one transaction, all or nothing, tables first that others refer to.\n\nExit \
codes: 0 done, rejects within the limit; 1 it could not be done; 2 the command line or the spec is wrong; 3 more rejects than \
the limit."
)]
pub struct Load {
    /// The spec: a TOML file that describes the format, its columns and its target
    #[arg(add = candidates::specs())]
    pub spec: PathBuf,
    /// The files to load, instead of the spec's; or more specs, which are loaded in the same
    /// transaction
    #[arg(value_name = "FILE or SPEC", add = candidates::files())]
    pub files: Vec<String>,
    #[command(flatten)]
    pub common: Common,
    /// What becomes of the rows that the table has
    #[arg(long, value_name = "MODE")]
    pub mode: Option<ModeWord>,
    /// How many rejects the load may have and still be committed: 50, or 0.5%
    #[arg(long, value_name = "NUMBER", value_parser = Tolerance::parse)]
    pub max_rejects: Option<Tolerance>,
    /// The folder that keeps the rejects, one folder a run
    #[arg(long, value_name = "FOLDER")]
    pub rejects: Option<PathBuf>,
    /// Load files that were loaded into this table before
    #[arg(long)]
    pub again: bool,
    /// How many seconds to wait for a lock that another session holds
    #[arg(long, value_name = "SECONDS", default_value_t = 15, value_parser = clap::value_parser!(u32).range(1..))]
    pub lock_wait: u32,
    /// Share the files with other loads that are given the same ones: each takes the next
    /// that nobody has, and commits file by file
    #[arg(long)]
    pub share: bool,
}

/// The database that is meant: as the command line says, or the environment.
pub fn database(said: Option<&String>) -> Option<String> {
    said.cloned().or_else(|| std::env::var(DATABASE).ok())
}

/// The specs among words of which the first is one; the others are files.
pub fn specs(first: &Path, words: &[String]) -> (Vec<PathBuf>, Vec<String>) {
    let is_spec = |word: &&String| Path::new(word).extension().is_some_and(|e| e == "toml");
    let (specs, files): (Vec<&String>, Vec<&String>) = words.iter().partition(is_spec);
    let more = specs.into_iter().map(PathBuf::from);
    (
        std::iter::once(first.to_path_buf()).chain(more).collect(),
        files.into_iter().cloned().collect(),
    )
}

/// `barrow export`
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Without a spec the file is RFC 4180 in UTF-8 with a header: barrow export --table \
NAME --database URL -o FILE. What is written is read back the same by the same spec; a value of which \
that is not so stops the export, unless the spec says [export] when_unfit = \"reject\"."
)]
pub struct Export {
    /// The spec, whose format is written
    #[arg(required_unless_present_any = ["table", "query"], add = candidates::specs())]
    pub spec: Option<PathBuf>,
    /// The database
    #[arg(long, value_name = "URL")]
    pub database: Option<String>,
    /// The table; by default the spec's
    #[arg(long, value_name = "NAME", conflicts_with = "query", add = candidates::tables())]
    pub table: Option<String>,
    /// A query that reads, instead of a table
    #[arg(long, value_name = "SQL", conflicts_with_all = ["condition", "order_by"])]
    pub query: Option<String>,
    /// Only rows for which this holds
    #[arg(long = "where", value_name = "SQL", id = "condition")]
    pub condition: Option<String>,
    /// The order of the rows
    #[arg(long, value_name = "SQL")]
    pub order_by: Option<String>,
    #[command(flatten)]
    pub out: Out,
    /// Write the spec that reads the file back
    #[arg(long, value_name = "SPEC", conflicts_with = "spec", add = candidates::specs())]
    pub spec_out: Option<PathBuf>,
    #[command(flatten)]
    pub manner: Manner,
}

/// `barrow query`
#[derive(Debug, clap::Args)]
#[command(
    override_usage = "barrow query [OPTIONS] SPEC [FILE]... [SPEC [FILE]...]... SQL\n       \
barrow query [OPTIONS] FILE... SQL",
    after_help = "A spec (its name ends in .toml) is a table by the name of its [target] table, and \
each of its record types is one; files after it are read instead of its own. Without a spec, the \
files are the table `file`, by a draft made for the moment. Beside its columns a record has _file, \
_line and _record. The table `rejects` has what a load would reject: file, line, record, column, \
code, value, reason, spec.\n\nOnly the columns that the query uses are read, and a record is \
rejected for what is wrong with these. Sums and comparisons of decimals are exact. A sort or a join \
that needs much room goes to the folder for temporary files.\n\n  barrow query orders.spec.toml \
\"SELECT crop, sum(price) FROM orders GROUP BY crop\"\n\nExit codes: 0 done; 1 it could not be \
done; 2 the command line, a spec or the SQL is wrong; 3 more rejects than a spec's limit, so the \
answer lacks them."
)]
pub struct Query {
    /// The specs, each with files to read instead of its own; or files alone; last the query in
    /// SQL
    #[arg(required = true, num_args = 1.., value_name = "SPEC or FILE, SQL", add = candidates::files())]
    pub words: Vec<String>,
    /// Another name for the table of a spec; said again, that of the next
    #[arg(long = "as", value_name = "NAME")]
    pub names: Vec<String>,
    /// A SQLite database whose tables the query may have too, as loaded.NAME
    #[arg(long, value_name = "URL")]
    pub with: Option<String>,
    /// Show at most this many rows; by default 100, and all in JSON
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..), conflicts_with_all = ["output", "to"])]
    pub limit: Option<u64>,
    #[command(flatten)]
    pub out: Out,
    /// Write the rows in the format of this spec; by default RFC 4180 in UTF-8
    #[arg(long, value_name = "SPEC", add = candidates::specs())]
    pub to: Option<PathBuf>,
    #[command(flatten)]
    pub manner: Manner,
}

impl Query {
    /// Whether the rows are written in a format of files, and not shown.
    pub fn writes(&self) -> bool {
        self.out.is_asked_for() || self.to.is_some()
    }
}

/// `barrow convert`
#[derive(Debug, clap::Args)]
#[command(
    after_help = "The files are read by SPEC and written by the other one, whose columns are found \
by name. Rejects are kept as by a load."
)]
pub struct Convert {
    /// The spec that reads the files
    #[arg(add = candidates::specs())]
    pub spec: PathBuf,
    /// The files to read, instead of the spec's
    #[arg(value_name = "FILE", add = candidates::files())]
    pub files: Vec<String>,
    /// The spec whose format is written
    #[arg(long, value_name = "SPEC", add = candidates::specs())]
    pub to: PathBuf,
    #[command(flatten)]
    pub out: Out,
    /// How many rejects there may be: 50, or 0.5%
    #[arg(long, value_name = "NUMBER", value_parser = Tolerance::parse)]
    pub max_rejects: Option<Tolerance>,
    /// The folder that keeps the rejects, one folder a run
    #[arg(long, value_name = "FOLDER")]
    pub rejects: Option<PathBuf>,
    #[command(flatten)]
    pub manner: Manner,
}

/// Options that most commands share.
#[derive(Debug, clap::Args)]
pub struct Common {
    /// The database, such as sqlite:market.db
    #[arg(long, value_name = "URL")]
    pub database: Option<String>,
    /// The table
    #[arg(long, value_name = "NAME", add = candidates::tables())]
    pub table: Option<String>,
    #[command(flatten)]
    pub manner: Manner,
}

impl Common {
    /// What overrides the spec.
    pub fn overrides(&self) -> Overrides {
        Overrides {
            database: database(self.database.as_ref()),
            table: self.table.clone(),
            ..Overrides::default()
        }
    }
}

/// `barrow draft`
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Every record of every file is read. What was seen of a column stands above it as \
a comment; one that begins with ! says what was not clear, and how to change it. These remarks \
are printed too, on standard error."
)]
pub struct Draft {
    /// The files: paths, globs, or @LIST; those of the spec with --compare or --update
    #[arg(value_name = "FILE", add = candidates::files(), required_unless_present_any = ["compare", "update"])]
    pub files: Vec<String>,
    /// Compare the files with this spec, and say what has changed: exit code 4 if they differ
    #[arg(long, value_name = "SPEC", conflicts_with_all = ["update", "database", "table", "output"], add = candidates::specs())]
    pub compare: Option<PathBuf>,
    /// Change in this spec what the files contradict, and nothing else
    #[arg(long, value_name = "SPEC", conflicts_with_all = ["database", "table", "output"], add = candidates::specs())]
    pub update: Option<PathBuf>,
    /// The database that the spec loads into; by default sqlite:TABLE.db beside the spec
    #[arg(long, value_name = "URL")]
    pub database: Option<String>,
    /// The table; by default named after the first file
    #[arg(long, value_name = "NAME", add = candidates::tables())]
    pub table: Option<String>,
    /// Draft a spec for each kind of file into the folder of -o, with their keys and foreign keys
    #[arg(long, requires = "output", conflicts_with_all = ["compare", "update", "table", "lines"])]
    pub each: bool,
    /// Take the narrowest types that hold every value, without room for others
    #[arg(long, conflicts_with_all = ["compare", "update"])]
    pub tight: bool,
    /// Take each line as one text, whatever is in it
    #[arg(long, conflicts_with_all = ["compare", "update", "tight"])]
    pub lines: bool,
    /// How to say what --compare or --update found
    #[arg(
        long,
        value_name = "FORM",
        default_value = "text",
        hide_default_value = true
    )]
    pub report: Report,
    /// The spec to write; by default standard output
    #[arg(short, long, value_name = "SPEC")]
    pub output: Option<PathBuf>,
    /// How many threads read values; by default as many as the machine has
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    pub threads: Option<u16>,
    /// Print only the result
    #[arg(short, long)]
    pub quiet: bool,
}

/// `barrow check`
#[derive(Debug, clap::Args)]
#[command(
    after_help = "FILE is a path, a glob, - for standard input, or @LIST for a text file that \
names one file a line. Files given here replace the spec's. Exit codes are those of load."
)]
pub struct Check {
    /// The spec
    #[arg(add = candidates::specs())]
    pub spec: PathBuf,
    /// The files to check, instead of the spec's; or more specs
    #[arg(value_name = "FILE or SPEC", add = candidates::files())]
    pub files: Vec<String>,
    #[command(flatten)]
    pub common: Common,
    /// How many rejects a load may have and still be committed: 50, or 0.5%
    #[arg(long, value_name = "NUMBER", value_parser = Tolerance::parse)]
    pub max_rejects: Option<Tolerance>,
    /// Check files that were loaded into this table before, as load --again would load them
    #[arg(long)]
    pub again: bool,
    /// Only see whether the database answers, and what may be done there
    #[arg(long)]
    pub connect: bool,
    /// Keep what a load would reject, in a folder of its own within this one
    #[arg(long, value_name = "FOLDER")]
    pub rejects: Option<PathBuf>,
}

/// `barrow ddl`
#[derive(Debug, clap::Args)]
pub struct Ddl {
    /// The specs
    #[arg(value_name = "SPEC", required = true, add = candidates::specs())]
    pub specs: Vec<PathBuf>,
    /// The database, whose kind of SQL is printed
    #[arg(long, value_name = "URL")]
    pub database: Option<String>,
    /// The table
    #[arg(long, value_name = "NAME", add = candidates::tables())]
    pub table: Option<String>,
    /// The kind of SQL, where no database is named
    #[arg(long = "for", value_name = "DATABASE", conflicts_with = "database", value_parser = dialects())]
    pub dialect: Option<String>,
    /// Print what would make the table that is there fit
    #[arg(long)]
    pub alter: bool,
}

/// `barrow peek`
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Without a spec, barrow peek FILE shows the raw lines. Control characters, line \
ends and blanks that are no spaces are written out."
)]
pub struct Peek {
    /// The spec (its name ends in .toml), or a file to show as it is
    #[arg(add = candidates::specs())]
    pub spec: PathBuf,
    /// The files to look into, instead of the spec's
    #[arg(value_name = "FILE", add = candidates::files())]
    pub files: Vec<String>,
    /// How many records (or lines) to show
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub records: u64,
    /// The first record (or line) to show
    #[arg(long, value_name = "RECORD", default_value_t = 1, value_parser = clap::value_parser!(u64).range(1..))]
    pub from: u64,
    /// Show this line of the first file, with its neighbours and what is wrong with it
    #[arg(long, value_name = "LINE", value_parser = clap::value_parser!(u64).range(1..))]
    pub at: Option<u64>,
    /// How the result is written
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub report: Report,
}

/// `barrow demo`
#[derive(Debug, clap::Args)]
pub struct Demo {
    /// The folder to lay it out in; a new one
    #[arg(default_value = "tansy-lane")]
    pub folder: PathBuf,
}
