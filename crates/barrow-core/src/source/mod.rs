//! Where the bytes come from: files, their packing, their encoding.

pub mod archive;
pub mod charset;
pub mod coding;
pub mod compression;
pub mod content;
pub mod detect;
pub mod dos;
pub mod ebcdic;
mod file;
pub mod files;
mod local;
mod names;
pub mod open;
mod place;
mod standard_input;
pub mod transcode;
pub mod tree_hash;

pub use charset::Charset;
pub use compression::Compression;
pub use content::{Content, Fingerprint};
pub use file::SourceFile;
pub use files::{Elsewhere, Nowhere, find};
pub use place::Source;
