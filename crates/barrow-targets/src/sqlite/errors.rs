//! SQLite's failures in plain words, with what to do.

use rusqlite::ffi::ErrorCode;

use crate::error::{Error, ErrorKind};

/// A failure that is not a row's fault.
pub fn explained(error: &rusqlite::Error, doing: &str) -> Error {
    let message = format!("{doing}: {error}");
    match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => Error::new(format!(
            "{doing}: the database is locked by another program"
        ))
        .kind(ErrorKind::Locked)
        .advice("close what is writing to it, then run this again; nothing was changed"),
        Some(ErrorCode::ConstraintViolation) => Error::new(message).kind(ErrorKind::Duplicate),
        Some(ErrorCode::DiskFull) => Error::new(format!("{doing}: the disk is full"))
            .advice("make room, then run this again; nothing of this load was committed"),
        Some(ErrorCode::NotADatabase) => {
            Error::new(format!("{doing}: the file is not a SQLite database"))
                .advice("is it the right path? the file was not touched")
        }
        Some(ErrorCode::ReadOnly | ErrorCode::PermissionDenied | ErrorCode::CannotOpen) => {
            Error::new(message).advice("may you write to the file, and to its folder?")
        }
        Some(ErrorCode::SystemIoFailure) => Error::new(message)
            .advice("is the disk full, or gone? nothing of this load was committed"),
        Some(ErrorCode::DatabaseCorrupt) => {
            Error::new(message).advice("the database file is damaged; restore it from a copy")
        }
        _ => Error::new(message),
    }
}
