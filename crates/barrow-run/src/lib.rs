//! Loads, checks, drafts, exports: what the program does, as a library.
//!
//! A request says what is to be done, an [`Observer`] is told what happens on the way, and a
//! report says what came of it. Nothing here prints, ends the program or knows a command
//! line.
//!
//! ```
//! use barrow_run::{Load, Overrides, Spec};
//!
//! let folder = tempfile::tempdir()?;
//! let at = |name: &str| folder.path().join(name);
//! std::fs::write(at("prices.csv"), "crop,price\nkale,2.40\nleek,1.10\n")?;
//! std::fs::write(
//!     at("prices.spec.toml"),
//!     "[source]\nfiles = [\"prices.csv\"]\n\
//!      [columns]\ncrop = \"varchar(20)\"\nprice = \"decimal(8,2)\"\n\
//!      [target]\ndatabase = \"sqlite:market.db\"\ntable = \"prices\"\ncreate = true\n",
//! )?;
//! let spec = Spec::open(&at("prices.spec.toml"), &Overrides::default())?;
//! let report = Load::new(&spec).run()?;
//! assert_eq!(report.loaded(), 2);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod account;
pub mod atomic_file;
pub mod check;
pub mod convert;
pub mod ddl;
pub mod draft;
pub mod error;
pub mod export;
pub mod ledger;
pub mod load;
pub mod mend;
mod named_files;
pub mod observer;
pub mod peek;
mod refusals;
pub mod reject_manifest;
mod rejects_place;
pub mod report;
mod run_id;
mod run_rows;
pub mod spec_file;
pub mod status;
pub mod undo;
pub mod words;

pub use check::Check;
pub use convert::Convert;
pub use draft::Draft;
pub use error::{Error, ErrorKind};
pub use export::Export;
pub use ledger::Ledger;
pub use load::Load;
pub use mend::Mend;
pub use observer::Observer;
pub use peek::Peek;
pub use report::Summary;
pub use spec_file::{Overrides, Spec};
pub use status::Status;
pub use undo::Undo;
