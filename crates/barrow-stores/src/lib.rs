//! Files that are elsewhere: in object stores and on the web, read as if they were here.
//!
//! [`Stores`] finds them by their addresses and gives each as a
//! [`Source`](barrow_core::source::Source). Nothing below this crate knows of a network.
//!
//! ```no_run
//! use barrow_core::source::Elsewhere;
//! use barrow_stores::Stores;
//!
//! let stores = Stores::from_environment();
//! for file in stores.find("s3://market/out/sales-*.psv")? {
//!     println!("{} {:?}", file.name(), file.size());
//! }
//! # Ok::<(), barrow_core::Error>(())
//! ```

mod address;
mod connect;
mod fault;
mod listing;
mod object;
mod patience;
mod profile;
mod ranges;
mod runtime;
mod settings;
mod stores;
mod transport;
mod upload;
mod web;

pub use address::{Address, Scheme, for_a_spec};
pub use fault::Fault;
pub use stores::Stores;
pub use upload::Upload;
