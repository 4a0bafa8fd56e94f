//! The tour: the demo market's files, and every command run on them.

mod bucket;
mod files;

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};

use barrow_core::escape::visible_path;
use owo_colors::OwoColorize;

use self::bucket::Bucket;
use self::files::FILES;
use barrow_run::ledger::Filter;
use barrow_run::{Error, Ledger};

/// One step of the tour: what it shows, the arguments, the exit code, and a text that is in
/// what it prints.
struct Step(&'static str, &'static [&'static str], i32, &'static str);

const TOUR: &[Step] = &[
    Step(
        "A file as it is, with line ends and all that is invisible written out.",
        &["peek", "deliveries-w14.psv", "--records", "5"],
        0,
        "delivery_id|Grower name",
    ),
    Step(
        "The same records as a spec reads them: titles above the header, a total below, pipes.",
        &["peek", "deliveries.spec.toml", "--records", "4"],
        0,
        "runner beans",
    ),
    Step(
        "A question to the files, before they are loaded.",
        &[
            "query",
            "deliveries.spec.toml",
            "SELECT produce, count(*) AS loads, sum(weight_kg) AS kg FROM deliveries GROUP BY 1 ORDER BY kg DESC LIMIT 5",
        ],
        0,
        "5 rows",
    ),
    Step(
        "Two weeks of them, loaded.",
        &["load", "deliveries.spec.toml"],
        0,
        "loaded    42",
    ),
    Step(
        "A small file with a header; everything else is as usual.",
        &["load", "stalls.spec.toml"],
        0,
        "loaded    5",
    ),
    Step(
        "A first spec for a file that nobody has described, from the whole of it.",
        &["draft", "growers.csv"],
        0,
        "[columns]",
    ),
    Step(
        "Accented names in windows-1252.",
        &["peek", "growers.spec.toml"],
        0,
        "Zoë Lark",
    ),
    Step(
        "Packed price lists, of which one has its columns in another order.",
        &[
            "load",
            "prices.spec.toml",
            "prices-week2.tsv.gz",
            "prices-week9.tsv.gz",
        ],
        0,
        "loaded    16",
    ),
    Step(
        "A week later, all that is there: what was loaded before is known by its content.",
        &["load", "prices.spec.toml"],
        0,
        "16 rows before, 24 after",
    ),
    Step(
        "An archive is a folder of files, which are read in place.",
        &["load", "fees.spec.toml"],
        0,
        "loaded    10",
    ),
    Step(
        "Records that name their fields: one JSON object a line, three of them with a fault.",
        &["load", "notes.spec.toml"],
        0,
        "within the limit of 5",
    ),
    Step(
        "What is waiting, and what is in the table already.",
        &["status", "prices.spec.toml", "fees.spec.toml"],
        0,
        "3 files, 494 B: 3 loaded",
    ),
    Step(
        "Fixed widths, two record types, weights without a mark, a sign in the last digit.",
        &["peek", "tickets.spec.toml", "--records", "5"],
        0,
        "record type ticket",
    ),
    Step(
        "Each record type goes to its table, and the last line's totals are compared with what was read.",
        &["load", "tickets.spec.toml"],
        0,
        "tickets:       0 rows before, 12 after",
    ),
    Step(
        "Values as people type them: each repair is asked for in the spec, and counted.",
        &["load", "orders.spec.toml"],
        0,
        "repaired  8",
    ),
    Step(
        "A spec with slips in it: all of them are shown at once.",
        &["load", "slips.spec.toml"],
        2,
        "4 problems",
    ),
    Step(
        FAULTY,
        &["check", "faults.spec.toml"],
        3,
        "would reject     11",
    ),
    Step(
        "The same as a load: nothing is committed, since no rejects are allowed unless said.",
        &["load", "faults.spec.toml"],
        3,
        "rolled back   3",
    ),
    Step(
        "One line of it, looked at closely.",
        &["peek", "faults.spec.toml", "--at", "4"],
        0,
        "weight_kg: out of range",
    ),
    Step(
        "With a limit the good records are loaded, and the rest is kept beside.",
        &["load", "faults.spec.toml", "--max-rejects", "20"],
        0,
        "within the limit of 20",
    ),
    Step(MENDED, &["mend", "{run}"], 3, "2 mended, 9 are still open"),
    Step(
        "The way out: the same spec writes the table in the same format, letter by letter.",
        &[
            "export",
            "deliveries.spec.toml",
            "--where",
            "source_file = 'deliveries-w14.psv'",
            "-o",
            "w14-again.psv",
            "--overwrite",
        ],
        0,
        "written   24",
    ),
    Step(
        "Several files at once: a spec for each kind, with its key and what refers to it.",
        &[
            "draft",
            "--each",
            "fair/stalls.csv",
            "fair/crops.csv",
            "fair/bookings.csv",
            "-o",
            "specs",
        ],
        0,
        "2 foreign keys",
    ),
    Step(
        "All of them in one transaction, tables first that others refer to.",
        &[
            "load",
            "specs/bookings.spec.toml",
            "specs/crops.spec.toml",
            "specs/stalls.spec.toml",
        ],
        0,
        "committed",
    ),
    Step(
        "What many specs share is in one of them; this one gets its database from there.",
        &["load", "bookings.spec.toml"],
        0,
        "bookings.spec.toml uses house.spec.toml",
    ),
    Step(
        "A way back: the rows of that run go again, and its file counts as new.",
        &["undo", "{bookings}", "--database", "sqlite:market.db"],
        0,
        "24 rows deleted",
    ),
    Step(
        "What a key of the spec means, or a word of other tools for it; codes and types likewise.",
        &["help", "null_values"],
        0,
        "Values that mean null",
    ),
    Step(
        "What was loaded, when, from what and with what result.",
        &["ledger", "--database", "sqlite:market.db"],
        0,
        "13 runs",
    ),
    Step(
        "And one run in full.",
        &["ledger", "{run}", "--database", "sqlite:market.db"],
        0,
        "2 are mended, 0 given up, 9 still open",
    ),
];

/// The step before which some rejects are corrected.
const MENDED: &str = "A date and a quote are corrected where the rejects are kept, and loaded.";

/// The step before which the faulty file's table is made.
const FAULTY: &str = "A file with one of every fault, checked: header, spec and table side by \
    side, then every record.";

/// Where the table of the faulty file is made, with a key, so that a row is refused.
const KEYED: &str = "sqlite:market.db";

/// Lays it out and runs the tour.
pub fn run(folder: &Path) -> Result<(), Error> {
    lay_out(folder)?;
    let shown = visible_path(folder);
    anstream::println!("The Tansy Lane produce market is laid out in {shown}\n");
    let (mut run, mut bookings) = (String::new(), String::new());
    for (number, Step(about, arguments, code, says)) in TOUR.iter().enumerate() {
        if *about == FAULTY {
            make_keyed_table(folder)?;
        }
        if *about == MENDED {
            run = correct(folder)?;
        }
        if arguments.contains(&"{bookings}") {
            bookings = last_run(folder, "bookings")?;
        }
        let arguments: Vec<&str> = arguments
            .iter()
            .map(|word| match *word {
                "{run}" => run.as_str(),
                "{bookings}" => bookings.as_str(),
                word => word,
            })
            .collect();
        let heading = format!("{}. {about}", number + 1);
        anstream::println!("{}", heading.cyan());
        anstream::println!("{}\n", format!("$ barrow {}", as_typed(&arguments)).bold());
        let step_of = format!("step {}, barrow {}", number + 1, as_typed(&arguments));
        step(folder, &arguments, &[])?.held_to(&step_of, *code, says)?;
        anstream::println!();
    }
    with_a_bucket(folder)?;
    anstream::println!("To go on by hand: cd {shown}, and any of the commands above.");
    Ok(())
}

/// What is loaded from a bucket.
const FROM_A_BUCKET: &[&str] = &[
    "load",
    "deliveries.spec.toml",
    "s3://market/out/deliveries-*.psv",
    "--database",
    "sqlite:bucket.db",
];

/// The same files once more, from an object store, if the project's own is built.
fn with_a_bucket(folder: &Path) -> Result<(), Error> {
    let number = TOUR.len() + 1;
    let Some(bucket) = Bucket::start(folder)? else {
        anstream::println!(
            "A bucket belongs to the tour as well: cargo build --release -p barrow-test-stores makes \
             one, and the tour has a step more.\n"
        );
        return Ok(());
    };
    let heading = format!(
        "{number}. The same files from a bucket: an address is a file name like any other."
    );
    anstream::println!("{}", heading.cyan());
    anstream::println!(
        "{}\n",
        format!("$ barrow {}", as_typed(FROM_A_BUCKET)).bold()
    );
    let step_of = format!("step {number}, barrow {}", as_typed(FROM_A_BUCKET));
    step(folder, FROM_A_BUCKET, &bucket.environment)?.held_to(&step_of, 0, "loaded    42")?;
    anstream::println!();
    Ok(())
}

fn lay_out(folder: &Path) -> Result<(), Error> {
    let shown = || visible_path(folder);
    let holds_something = fs::read_dir(folder).is_ok_and(|mut files| files.next().is_some());
    if holds_something {
        return Err(Error::request(
            format!("{} is there already, and not empty", shown()),
            "name a new folder: barrow demo FOLDER",
        ));
    }
    let failed = |e| Error::failed(format!("{}: {e}", shown()));
    fs::create_dir_all(folder).map_err(failed)?;
    for (name, bytes) in FILES {
        let path = folder.join(name);
        path.parent()
            .map_or(Ok(()), fs::create_dir_all)
            .map_err(failed)?;
        fs::write(path, bytes).map_err(failed)?;
    }
    Ok(())
}

fn make_keyed_table(folder: &Path) -> Result<(), Error> {
    let url = barrow_targets::Url::parse(KEYED, folder, |_| None)?;
    url.open(true)?.script(
        "CREATE TABLE late_deliveries (
           delivery_id BIGINT PRIMARY KEY, grower VARCHAR(40), placed_on DATE,
           weight_kg DECIMAL(6,2), organic BOOLEAN, grade CHAR(1));",
    )?;
    Ok(())
}

/// The run that loaded a table last.
fn last_run(folder: &Path, table: &str) -> Result<String, Error> {
    let url = barrow_targets::Url::parse(KEYED, folder, |_| None)?;
    let filter = Filter {
        table: Some(table.to_string()),
        limit: 1,
        ..Filter::default()
    };
    let runs = Ledger::open(url)?.runs(&filter)?.runs;
    let run = runs.into_iter().next();
    run.map(|run| run.run)
        .ok_or_else(|| Error::failed(format!("the tour's run of {table} is gone")))
}

/// A command's arguments as people type them.
fn as_typed(arguments: &[&str]) -> String {
    let typed = |word: &&str| match word.contains(' ') {
        true => format!("\"{word}\""),
        false => (*word).to_string(),
    };
    let words: Vec<String> = arguments.iter().map(typed).collect();
    words.join(" ")
}

/// Corrects two of the records that the last load kept beside, and returns its run.
fn correct(folder: &Path) -> Result<String, Error> {
    let failed = |e| Error::failed(format!("correcting rejects: {e}"));
    let name = last_run(folder, "late_deliveries")?;
    let run = folder.join("rejects").join(&name);
    let file = run.join("faults.csv");
    let bytes = fs::read(&file).map_err(failed)?;
    let mut corrected = Vec::with_capacity(bytes.len());
    for line in bytes.split_inclusive(|b| *b == b'\n') {
        match std::str::from_utf8(line) {
            Ok(line) => {
                let line = line.replace("2031-02-31", "2031-02-28");
                corrected.extend(line.replace("\"Wren Cottage,", "Wren Cottage,").bytes());
            }
            Err(_) => corrected.extend(line),
        }
    }
    fs::write(&file, corrected).map_err(failed)?;
    Ok(name)
}

/// What a step printed, and its exit code.
struct Shown {
    code: i32,
    text: String,
}

impl Shown {
    /// A step that does not do what its title says is a fault of the tour.
    fn held_to(&self, step: &str, code: i32, says: &str) -> Result<(), Error> {
        let plain = anstream::adapter::strip_str(&self.text).to_string();
        if self.code != code {
            return Err(Error::failed(format!(
                "{step}: its exit code is {}, and {code} was expected",
                self.code
            )));
        }
        match plain.contains(says) {
            true => Ok(()),
            false => Err(Error::failed(format!(
                "{step}: it did not print \"{says}\""
            ))),
        }
    }
}

/// Runs one command as a person would, so that what is shown is what they see.
fn step(folder: &Path, arguments: &[&str], environment: &[(&str, String)]) -> Result<Shown, Error> {
    let failed = |e| Error::failed(format!("running the tour: {e}"));
    let program = std::env::current_exe().map_err(failed)?;
    let color = match anstream::AutoStream::choice(&std::io::stdout()) {
        anstream::ColorChoice::Never => "never",
        _ => "always",
    };
    let output = Command::new(program)
        .args(arguments)
        .args(["--color", color])
        .current_dir(folder)
        .envs(environment.iter().map(|(name, value)| (name, value)))
        .stdin(Stdio::null())
        .output()
        .map_err(failed)?;
    // In the tour both go where people read, in one order.
    let text = [output.stdout, output.stderr].concat();
    let text = String::from_utf8_lossy(&text).into_owned();
    anstream::print!("{text}");
    let code = output.status.code();
    let code = code.ok_or_else(|| Error::failed("a command of the tour was killed"))?;
    if code != 0 {
        anstream::println!("\n  exit code {code}");
    }
    Ok(Shown { code, text })
}
