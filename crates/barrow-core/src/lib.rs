//! The heart of Barrow: from the bytes of a flat file to typed rows and rejects.
//!
//! No terminal, no command line, no database. Data flows one way:
//!
//! ```text
//! files → bytes → blocks → records → fields → values → batches → sink
//! ```
//!
//! A program that counts the good records of a file, and says what is wrong with the others:
//!
//! ```
//! use barrow_core::pipeline::{Encoded, Options, Sink, run};
//! use barrow_core::source::SourceFile;
//! use barrow_core::spec::read_plan;
//!
//! #[derive(Default)]
//! struct Counter {
//!     good: usize,
//!     wrong: Vec<String>,
//! }
//!
//! impl Sink for Counter {
//!     type Encoded = ();
//!     type Error = std::convert::Infallible;
//!
//!     fn take(&mut self, batch: &mut Encoded<()>) -> Result<(), Self::Error> {
//!         self.good += batch.good();
//!         for reject in &batch.rejects {
//!             let says = reject.reasons.iter().map(|reason| &*reason.says);
//!             self.wrong.push(format!("line {}: {}", reject.line, says.collect::<String>()));
//!         }
//!         Ok(())
//!     }
//! }
//!
//! let folder = tempfile::tempdir()?;
//! let path = folder.path().join("prices.csv");
//! std::fs::write(&path, "crop,price\nkale,2.40\nleek,dear\n")?;
//! let plan = read_plan("[columns]\ncrop = \"text\"\nprice = \"decimal(8,2)\"\n").unwrap();
//! let mut counter = Counter::default();
//! run(&plan, vec![SourceFile::local(path)], Options::default(), &|_| {}, &mut counter).unwrap();
//! assert_eq!(counter.good, 1);
//! assert_eq!(counter.wrong, ["line 3: not a number: decimal(8,2) was expected"]);
//! # Ok::<(), std::io::Error>(())
//! ```

pub mod column_stats;
pub mod columns;
pub mod conditions;
pub mod counts;
pub mod draft;
pub mod duplicates;
pub mod error;
pub mod escape;
pub mod export;
pub mod format;
pub mod inspect;
pub mod nearest;
pub mod pipeline;
pub mod plan;
pub mod pool;
pub mod problem;
pub mod reason;
pub mod reason_help;
pub mod records;
pub mod rejects;
pub mod repair;
pub mod source;
pub mod spec;
pub mod types;
pub mod utf8;
pub mod values;
pub mod words;

pub use error::Error;
