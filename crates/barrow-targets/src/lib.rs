//! The databases that rows go into and come out of, each behind the same traits.
//!
//! A [`Session`] is opened by its address. It describes tables, runs SQL, and begins a
//! [`Load`], which has the session to itself until it ends:
//!
//! ```
//! use barrow_core::types::Type;
//! use barrow_core::words::Mode;
//! use barrow_targets::{Column, Job, RecordTable, Url};
//!
//! let folder = tempfile::tempdir()?;
//! let url = Url::parse("sqlite:market.db", folder.path(), |_| None)?;
//! let mut session = url.open(true)?;
//! let price = Column {
//!     name: "price".into(),
//!     ty: Type::parse("decimal(8,2)")?,
//!     required: true,
//!     inexact_as_text: false,
//!     one_of: Vec::new(),
//! };
//! let job = Job {
//!     parts: vec![RecordTable {
//!         number: 0,
//!         table: "prices".into(),
//!         columns: vec![price],
//!         key: Vec::new(),
//!         run_column: None,
//!         references: Vec::new(),
//!     }],
//!     mode: Mode::Append,
//!     truncates: false,
//!     is_emptied: false,
//!     may_cascade: false,
//!     create: true,
//!     tag: Job::new_tag(),
//! };
//! let load = session.begin(&job).map_err(|not_begun| not_begun.error)?;
//! let (session, rows) = load.finish();
//! assert_eq!(rows?, [0]);
//! assert!(session.describe("prices")?.is_some());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! A new database is a folder with a [`Session`], a [`SqlDialect`](dialect::SqlDialect) and
//! what both need, and a line in [`registry`]. For a server, [`servers::load`] has the load.

pub mod cascade;
pub mod ddl;
mod decimal_scaling;
pub mod dialect;
#[cfg(test)]
mod dialect_tests;
pub mod encoded;
pub mod error;
pub mod fit;
pub mod foresight;
pub mod isolate;
pub mod job;
pub mod ledger;
pub mod mariadb;
pub mod merge;
mod merge_key;
pub mod order;
pub mod place;
pub mod postgres;
pub mod query;
pub mod query_rows;
pub mod record_table;
pub mod registry;
pub mod secret;
pub mod server_info;
pub mod servers;
pub mod session;
mod shadow_table;
pub mod sql;
pub mod sqlite;
pub mod table;
pub mod url;

pub use dialect::Dialect;
pub use encoded::{EncodedBatch, EncodedPart, Encoder};
pub use error::{Error, ErrorKind};
pub use foresight::Foresight;
pub use job::{Job, Refusal};
pub use merge::Merged;
pub use query::{Query, Select};
pub use query_rows::RawRows;
pub use record_table::{Column, RecordTable};
pub use server_info::{Privileges, ServerInfo};
pub use session::{
    BatchSource, Batching, Decoder, Ended, Load, Loads, NotBegun, OpenQuery, Rows, Session, Swap,
};
pub use sql::Value;
pub use table::{Table, TableColumn};
pub use url::Url;
