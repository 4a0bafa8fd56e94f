//! Loads the files of a spec, from a program: `cargo run --example embed -- SPEC`.

use std::error::Error;
use std::path::Path;

use barrow_run::{Load, Observer, Overrides, Spec};

/// Says how far it is.
struct Console;

impl Observer for Console {
    fn progress(&mut self, _bytes: u64, records: u64) {
        println!("{records} records so far");
    }
}

pub(crate) fn load(spec: &Path) -> Result<u64, Box<dyn Error>> {
    let spec = Spec::open(spec, &Overrides::default())?;
    let report = Load::new(&spec).observe(&mut Console).run()?;
    println!("{}", serde_json::to_string_pretty(&report)?);
    Ok(report.loaded())
}

fn main() -> Result<(), Box<dyn Error>> {
    let spec = std::env::args().nth(1).ok_or("name a spec")?;
    println!("{} rows are loaded", load(Path::new(&spec))?);
    Ok(())
}
