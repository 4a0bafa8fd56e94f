//! The tables of a database that is a file, beside those of files.

use std::path::Path;

use barrow_run::Error;
use barrow_run::spec_file::environment;
use barrow_targets::Url;
use rusqlite::{Connection, OpenFlags};

/// Makes the tables of a database known, for reading.
///
/// # Errors
/// It is no file, is not there, or cannot be read.
pub fn attach(connection: &Connection, address: &str) -> Result<(), Error> {
    attach_url(
        connection,
        &Url::parse(address, Path::new(""), environment)?,
    )
}

/// The names of the tables and views of a database that is a file.
///
/// # Errors
/// As [`attach`].
pub fn tables_of(url: &Url) -> Result<Vec<String>, Error> {
    let failed = |error: rusqlite::Error| Error::failed(format!("reading {url}: {error}"));
    let connection = Connection::open_in_memory_with_flags(
        OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_URI,
    );
    let connection = connection.map_err(failed)?;
    attach_url(&connection, url)?;
    let listed = "SELECT name FROM loaded.sqlite_schema WHERE type IN ('table', 'view') \
                  AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name";
    let mut statement = connection.prepare(listed).map_err(failed)?;
    let names = statement.query_map([], |row| row.get(0)).map_err(failed)?;
    names.collect::<Result<_, _>>().map_err(failed)
}

fn attach_url(connection: &Connection, url: &Url) -> Result<(), Error> {
    let Some(path) = url.file() else {
        return Err(Error::request(
            "a query has the tables of a SQLite database beside those of files, and of no other",
            "export the table to a file, or load the files into that database and ask there",
        ));
    };
    if !path.exists() {
        return Err(Error::failed(format!("there is no database {url}")));
    }
    let failed = |error: rusqlite::Error| Error::failed(format!("opening {url}: {error}"));
    let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    let name = format!("file:{}?mode=ro", encoded(&whole.to_string_lossy()));
    connection
        .execute("ATTACH ?1 AS loaded", [&name])
        .map_err(failed)?;
    connection
        .query_row("SELECT count(*) FROM loaded.sqlite_master", [], |_| Ok(()))
        .map_err(failed)
}

/// A path within a URI ("Uniform Resource Identifiers", SQLite's manual, section 3.1).
fn encoded(path: &str) -> String {
    let byte = |byte: u8| match byte {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'.' | b'-' | b'_' => {
            char::from(byte).to_string()
        }
        other => format!("%{other:02X}"),
    };
    path.bytes().map(byte).collect()
}
