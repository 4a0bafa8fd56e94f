//! SQL over files, in place: each record type of a spec is a table, and nothing is loaded.
//!
//! The SQL is that of the SQLite which is in the program. It asks for rows through virtual
//! tables ([`files`]), which read the files as a load does, and no more of them than the query
//! needs. Sums, averages and comparisons of decimals are exact ([`exact`]).
//!
//! ```
//! use barrow_query::{Query, Value};
//! use barrow_run::{Overrides, Spec};
//!
//! let folder = tempfile::tempdir()?;
//! let at = |name: &str| folder.path().join(name);
//! std::fs::write(at("prices.csv"), "crop,price\nkale,0.10\nleek,0.20\n")?;
//! std::fs::write(
//!     at("prices.spec.toml"),
//!     "[source]\nfiles = [\"prices.csv\"]\n\
//!      [columns]\ncrop = \"varchar(20)\"\nprice = \"decimal(8,2)\"\n",
//! )?;
//! let spec = Spec::open(&at("prices.spec.toml"), &Overrides::default())?;
//! let answer = Query::new("SELECT sum(price) FROM prices").spec(spec, &[], None)?.open()?;
//! let mut rows = Vec::new();
//! answer.rows(&mut |row| {
//!     rows.push(row.to_vec());
//!     true
//! })?;
//! assert_eq!(rows, [[Value::Real(0.3)]]);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod aggregates;
mod answer;
mod attached;
mod document;
pub mod exact;
pub mod files;
mod guard;
mod rejects;
pub mod relations;
mod report;
mod request;
mod shared;
mod tables;

pub use rusqlite::types::Value;

pub use answer::{Answer, Column};
pub use attached::tables_of;
pub use document::write_row;
pub use report::{QueryReport, TableReport};
pub use request::Query;
