//! The floor for records that name their fields: a parser of JSON that knows the types.

use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::time::Instant;

use jiff::civil::{Date, DateTime};
use serde::Deserialize;

/// A record of the bench file.
#[derive(Deserialize)]
#[expect(dead_code, reason = "read, and thrown away")]
struct Delivery {
    delivery_id: i64,
    stall: Option<i32>,
    grower: Option<String>,
    produce: Option<String>,
    note: Option<String>,
    placed_on: Option<Date>,
    weighed_at: Option<DateTime>,
    weight_kg: Option<f64>,
    price: Option<f64>,
    organic: Option<bool>,
}

/// Reads every line into the struct: the seconds that took.
pub fn read(path: &Path) -> Result<f64, Box<dyn std::error::Error>> {
    let clock = Instant::now();
    let mut reader = BufReader::with_capacity(1 << 17, File::open(path)?);
    let mut line = Vec::new();
    let mut sum = 0;
    while reader.read_until(b'\n', &mut line)? > 0 {
        let delivery: Delivery = serde_json::from_slice(&line)?;
        sum ^= delivery.delivery_id;
        line.clear();
    }
    let seconds = clock.elapsed().as_secs_f64();
    eprintln!("{sum}");
    Ok(seconds)
}
