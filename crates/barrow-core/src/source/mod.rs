//! Where the bytes come from: files, their packing, their encoding.

pub mod charset;
pub mod content;
pub mod detect;
pub mod dos;
pub mod ebcdic;
pub mod files;
pub mod open;
pub mod packing;
pub mod transcode;

pub use charset::Charset;
pub use content::{Content, Outline};
pub use files::{SourceFile, find};
pub use packing::Packing;
