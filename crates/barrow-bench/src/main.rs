//! What `scripts/bench` measures the program against: a file of any size from a
//! seed, and bare floors for loading and for reading.

mod floor;
mod make;
mod objects;
mod typed;

use std::path::PathBuf;

use clap::Parser;

/// One measurement. Each prints its seconds.
#[derive(Parser)]
enum Task {
    /// Write a file of so many records, and the spec that reads it.
    Make {
        /// The file; the spec stands beside it.
        file: PathBuf,
        /// How many records.
        #[arg(long)]
        records: u64,
        /// Where the numbers start.
        #[arg(long, default_value_t = 7)]
        seed: u64,
        /// How the records are written.
        #[arg(long, default_value = "plain")]
        form: make::Form,
    },
    /// Count the file's line feeds with SIMD.
    Newlines {
        /// The file.
        file: PathBuf,
    },
    /// Read each line of a file of JSON objects into a struct, in one thread.
    Objects {
        /// The file: the bench file's records, as `barrow convert` writes them.
        file: PathBuf,
    },
    /// Read and type every record by a spec into a sink that only counts.
    Typed {
        /// The spec, which names its file.
        spec: PathBuf,
        /// Threads that type.
        #[arg(long, default_value_t = 2)]
        threads: usize,
    },
    /// Step through a query of a SQLite database, and throw its values away.
    Step {
        /// The database.
        database: PathBuf,
        /// The query.
        query: String,
    },
    /// Insert the spec's rows, already typed and in memory, into SQLite.
    Insert {
        /// The spec, which names its file.
        spec: PathBuf,
        /// The database to make.
        database: PathBuf,
        /// Rows in one statement.
        #[arg(long, default_value_t = 8)]
        rows: usize,
    },
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let seconds = match Task::parse() {
        Task::Make {
            file,
            records,
            seed,
            form,
        } => make::file(&file, records, seed, form)?,
        Task::Newlines { file } => floor::newlines(&file)?,
        Task::Objects { file } => objects::read(&file)?,
        Task::Typed { spec, threads } => typed::count(&spec, threads)?,
        Task::Step { database, query } => floor::step(&database, &query)?,
        Task::Insert {
            spec,
            database,
            rows,
        } => floor::insert(&spec, &database, rows)?,
    };
    println!("{seconds:.6}");
    Ok(())
}
