//! The floors: the least that any program for the job must do.

use std::convert::Infallible;
use std::error::Error;
use std::fs::File;
use std::io::Read;
use std::path::Path;
use std::time::Instant;

use barrow_core::pipeline::{Batch, Encoded, Sink};
use barrow_core::values::Cell;
use rusqlite::Connection;
use rusqlite::types::{ToSql, ToSqlOutput, ValueRef};

use crate::typed;

/// Counts line feeds, reading as the program does.
pub fn newlines(path: &Path) -> std::io::Result<f64> {
    let clock = Instant::now();
    let mut file = File::open(path)?;
    let mut block = vec![0; 512 << 10];
    let mut lines = 0;
    loop {
        let read = file.read(&mut block)?;
        if read == 0 {
            break;
        }
        lines += memchr::memchr_iter(b'\n', &block[..read]).count();
    }
    let seconds = clock.elapsed().as_secs_f64();
    eprintln!("{lines} lines");
    Ok(seconds)
}

/// A value as SQLite takes it.
enum Value {
    Null,
    Int(i64),
    Float(f64),
    Text(Box<str>),
}

impl ToSql for Value {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self {
            Value::Null => ValueRef::Null,
            Value::Int(n) => ValueRef::Integer(*n),
            Value::Float(n) => ValueRef::Real(*n),
            Value::Text(text) => ValueRef::Text(text.as_bytes()),
        }))
    }
}

/// Keeps every row.
struct Collect {
    scales: Vec<u32>,
    values: Vec<Value>,
}

impl Sink for Collect {
    type Encoded = ();
    type Error = Infallible;

    fn take(&mut self, batch: &mut Encoded<()>) -> Result<(), Infallible> {
        let rows = &batch.parts[0];
        for row in &rows.good {
            for (column, scale) in self.scales.iter().enumerate() {
                let cell = rows.cell(column, *row as usize);
                self.values.push(value(cell, *scale, batch));
            }
        }
        Ok(())
    }
}

fn value(cell: Cell, scale: u32, batch: &Batch) -> Value {
    let text = |text: String| Value::Text(text.into_boxed_str());
    let time = |nanos: u64| {
        let seconds = nanos / 1_000_000_000;
        format!(
            "{:02}:{:02}:{:02}",
            seconds / 3600,
            seconds / 60 % 60,
            seconds % 60
        )
    };
    match cell {
        Cell::Bool(truth) => Value::Int(i64::from(truth)),
        Cell::Int(n) => Value::Int(n),
        Cell::Float(n) => Value::Float(n),
        Cell::Decimal(n) => Value::Float(n as f64 / 10f64.powi(scale as i32)),
        Cell::Date(d) => text(format!("{:04}-{:02}-{:02}", d.year, d.month, d.day)),
        Cell::Time(nanos) => text(time(nanos)),
        Cell::Timestamp(d, nanos) => text(format!(
            "{:04}-{:02}-{:02} {}",
            d.year,
            d.month,
            d.day,
            time(nanos)
        )),
        Cell::Text(piece) => {
            let bytes = piece.of(&batch.block.bytes, &batch.parts[0].store);
            text(String::from_utf8_lossy(bytes).into_owned())
        }
        _ => Value::Null,
    }
}

/// Steps through a query, takes each value, and throws it away.
pub fn step(database: &Path, query: &str) -> Result<f64, Box<dyn Error>> {
    let clock = Instant::now();
    let connection = Connection::open(database)?;
    connection.pragma_update(None, "cache_size", -16_384)?;
    let mut statement = connection.prepare(query)?;
    let width = statement.column_count();
    let mut rows = statement.query([])?;
    let mut count = 0u64;
    while let Some(row) = rows.next()? {
        for column in 0..width {
            std::hint::black_box(row.get_ref(column)?);
        }
        count += 1;
    }
    std::hint::black_box(count);
    Ok(clock.elapsed().as_secs_f64())
}

/// Inserts the spec's rows by prepared statements of `rows` rows each, in one
/// transaction, into a new table. Only the inserting is timed.
pub fn insert(spec: &Path, database: &Path, rows: usize) -> Result<f64, Box<dyn Error>> {
    let plan = typed::plan(spec)?;
    let loaded = || plan.record_types.iter().flat_map(|kind| kind.loaded());
    let scales = loaded().map(|column| match column.ty {
        barrow_core::types::Type::Decimal { scale, .. } => u32::from(scale),
        _ => 0,
    });
    let mut collect = Collect {
        scales: scales.collect(),
        values: Vec::new(),
    };
    typed::flow(spec, 2, &mut collect)?;
    let columns = collect.scales.len();
    let names: Vec<String> = loaded()
        .map(|c| format!("{} {}", c.name, c.ty.to_string().to_uppercase()))
        .collect();
    let clock = Instant::now();
    let connection = Connection::open(database)?;
    connection.pragma_update(None, "cache_size", -16_384)?;
    connection.execute_batch(&format!(
        "BEGIN; CREATE TABLE deliveries ({})",
        names.join(",")
    ))?;
    let row = format!("({})", vec!["?"; columns].join(","));
    let sql = |rows: usize| {
        format!(
            "INSERT INTO deliveries VALUES {}",
            vec![row.clone(); rows].join(",")
        )
    };
    let whole = collect.values.len() / (columns * rows) * (columns * rows);
    let (many, few) = collect.values.split_at(whole);
    for (values, size) in [(many, rows), (few, 1)] {
        let mut statement = connection.prepare(&sql(size))?;
        for chunk in values.chunks_exact(columns * size) {
            for (place, value) in chunk.iter().enumerate() {
                statement.raw_bind_parameter(place + 1, value)?;
            }
            statement.raw_execute()?;
        }
    }
    connection.execute_batch("COMMIT")?;
    Ok(clock.elapsed().as_secs_f64())
}
