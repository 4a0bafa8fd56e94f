//! Where a database is.

use std::path::PathBuf;

use crate::servers::Server;

/// Where a database is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// A file.
    File(PathBuf),
    /// A server.
    Server(Server),
}
