//! A small object store, which speaks the parts of the S3 protocol and of the Blob service's
//! that files are read and written by, and a small web server. For tests, and for trying out what is elsewhere
//! without an account anywhere. It keeps everything in memory, and fails on demand.
//!
//! ```
//! use barrow_test_stores::{Options, Server};
//! let server = Server::start(Options::default()).unwrap();
//! server.put("market", "out/sales-1.psv", "id|price\n1|2.50\n");
//! assert!(server.address().starts_with("http://127.0.0.1:"));
//! ```
//!
//! Sources: Amazon S3 API Reference (API version 2006-03-01); "Authenticating Requests
//! (AWS Signature Version 4)"; Blob service REST API, and "Authorize with Shared Key"; RFC 9110
//! for the web.

mod answer;
mod blobs;
mod faults;
mod objects;
mod s3;
mod server;
mod signature;
mod web;
mod xml;

pub use faults::{Fault, Faults};
pub use objects::Object;
pub use server::{Options, Server};
pub use signature::Keys;
