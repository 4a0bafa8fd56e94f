//! `barrow demo`: lays out the demo market and runs the tour on it.

use std::fs;
use std::path::Path;
use std::process::{Command, ExitCode, Stdio};

use barrow_core::visible::visible;
use owo_colors::OwoColorize;

use crate::args::Demo;
use crate::failure::Failure;

/// The demo's files, inside the program.
const FILES: &[(&str, &[u8])] = &[
    ("stalls.csv", include_bytes!("../../../../demo/stalls.csv")),
    (
        "stalls.spec.toml",
        include_bytes!("../../../../demo/stalls.spec.toml"),
    ),
    (
        "deliveries-w14.psv",
        include_bytes!("../../../../demo/deliveries-w14.psv"),
    ),
    (
        "deliveries-w15.psv",
        include_bytes!("../../../../demo/deliveries-w15.psv"),
    ),
    (
        "deliveries.spec.toml",
        include_bytes!("../../../../demo/deliveries.spec.toml"),
    ),
    ("faults.csv", include_bytes!("../../../../demo/faults.csv")),
    (
        "faults.spec.toml",
        include_bytes!("../../../../demo/faults.spec.toml"),
    ),
    (
        "slips.spec.toml",
        include_bytes!("../../../../demo/slips.spec.toml"),
    ),
];

/// One step of the tour: what it shows, and the arguments.
struct Step(&'static str, &'static [&'static str]);

const TOUR: &[Step] = &[
    Step(
        "A small file with a header; everything else is as usual.",
        &["load", "stalls.spec.toml"],
    ),
    Step(
        "Two weeks of deliveries: titles above the header, a total line below, pipes.",
        &["load", "deliveries.spec.toml"],
    ),
    Step(
        "A spec with slips in it: all of them are told at once.",
        &["load", "slips.spec.toml"],
    ),
    Step(
        "A file with one of every fault: all are told, and nothing is kept.",
        &["load", "faults.spec.toml"],
    ),
    Step(
        "With a tolerance the good records are loaded, and the rest is kept beside.",
        &["load", "faults.spec.toml", "--tolerance", "20"],
    ),
];

/// Where the table of the faulty file is made, with a key, so that a row is refused.
const KEYED: &str = "sqlite:market.db";

/// Lays it out and runs the tour.
pub fn run(args: &Demo) -> Result<ExitCode, Failure> {
    lay_out(&args.folder)?;
    let shown = visible(args.folder.as_os_str().as_encoded_bytes());
    anstream::println!("The Tansy Lane produce market is laid out in {shown}\n");
    for (number, Step(about, arguments)) in TOUR.iter().enumerate() {
        if number == 3 {
            make_keyed_table(&args.folder)?;
        }
        let heading = format!("{}. {about}", number + 1);
        anstream::println!("{}", heading.cyan());
        anstream::println!("{}\n", format!("$ barrow {}", arguments.join(" ")).bold());
        step(&args.folder, arguments)?;
        anstream::println!();
    }
    anstream::println!("To go on by hand: cd {shown}, and any of the commands above.");
    Ok(ExitCode::SUCCESS)
}

fn lay_out(folder: &Path) -> Result<(), Failure> {
    let shown = || visible(folder.as_os_str().as_encoded_bytes());
    let holds_something = fs::read_dir(folder).is_ok_and(|mut files| files.next().is_some());
    if holds_something {
        return Err(Failure::wrong(
            format!("{} is there already, and not empty", shown()),
            "name a new folder: barrow demo FOLDER",
        ));
    }
    let failed = |e| Failure::not_done(format!("{}: {e}", shown()));
    fs::create_dir_all(folder).map_err(failed)?;
    for (name, bytes) in FILES {
        fs::write(folder.join(name), bytes).map_err(failed)?;
    }
    Ok(())
}

fn make_keyed_table(folder: &Path) -> Result<(), Failure> {
    let url = barrow_targets::Url::parse(KEYED, folder, |_| None)?;
    barrow_targets::run_script(
        &url,
        "CREATE TABLE late_deliveries (
           delivery_id BIGINT PRIMARY KEY, grower VARCHAR(40), placed_on DATE,
           weight_kg DECIMAL(6,2), organic BOOLEAN, grade CHAR(1));",
    )?;
    Ok(())
}

/// Runs one command as a person would, so that what is shown is what they see.
fn step(folder: &Path, arguments: &[&str]) -> Result<(), Failure> {
    let failed = |e| Failure::not_done(format!("running the tour: {e}"));
    let program = std::env::current_exe().map_err(failed)?;
    let color = match anstream::AutoStream::choice(&std::io::stdout()) {
        anstream::ColorChoice::Never => "never",
        _ => "always",
    };
    let output = Command::new(program)
        .args(arguments)
        .args(["--color", color])
        .current_dir(folder)
        .stdin(Stdio::null())
        .output()
        .map_err(failed)?;
    anstream::print!("{}", String::from_utf8_lossy(&output.stdout));
    // In the tour both go where people read, in one order.
    anstream::print!("{}", String::from_utf8_lossy(&output.stderr));
    match output.status.code() {
        Some(0) => {}
        Some(code) => anstream::println!("\n  exit code {code}"),
        None => return Err(Failure::not_done("a command of the tour was killed")),
    }
    Ok(())
}
