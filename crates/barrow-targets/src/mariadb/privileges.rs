//! Asks MariaDB for its version, and what we may do there.

use mysql::Conn;
use mysql::prelude::Queryable;

use crate::error::Error;
use crate::mariadb::DIALECT;
use crate::mariadb::describe::describe;
use crate::mariadb::errors::explained;
use crate::server_info::{Privileges, ServerInfo};

/// What the server says of itself and of `tables`.
pub fn server_info(conn: &mut Conn, tables: &[&str]) -> Result<ServerInfo, Error> {
    let asking = |e: mysql::Error| explained(&e, "asking the server about itself");
    let found: Option<(String, String, bool)> = conn
        .query_first("SELECT VERSION(), CURRENT_USER(), @@local_infile")
        .map_err(asking)?;
    let (version, user, sends) = found.unwrap_or_default();
    let cipher: Option<(String, String)> = conn
        .query_first("SHOW SESSION STATUS LIKE 'Ssl_cipher'")
        .map_err(asking)?;
    let mut server_info = ServerInfo {
        server: match version.contains("MariaDB") {
            true => format!("MariaDB {}", version.split('-').next().unwrap_or(&version)),
            false => format!("MySQL {version}"),
        },
        encrypted: cipher.map(|(_, cipher)| !cipher.is_empty()),
        hindrance: (!sends).then(|| {
            "the server takes no local data, by which rows are sent: SET GLOBAL local_infile = 1".into()
        }),
        user: Some(user.clone()),
        ..ServerInfo::default()
    };
    for table in tables {
        server_info.tables.push(rights(conn, table)?);
    }
    Ok(server_info)
}

/// What we may do with a table, by whatever was granted to the user or to its roles.
fn rights(conn: &mut Conn, table: &str) -> Result<Privileges, Error> {
    let found = describe(conn, table)?;
    let quoted = DIALECT.table(table);
    let mut rights = Privileges {
        table: table.to_string(),
        create: may(conn, &format!("CREATE TABLE {quoted} (x INT)"))?,
        ..Privileges::default()
    };
    if let Some(found) = found {
        rights.is_there = true;
        rights.select = may(conn, &format!("SELECT 1 FROM {quoted}"))?;
        rights.insert = may(conn, &format!("INSERT INTO {quoted} () VALUES ()"))?;
        rights.delete = may(conn, &format!("DELETE FROM {quoted}"))?;
        let column = found.table.columns.iter().find(|column| !column.generated);
        let column = column.map_or(String::new(), |column| DIALECT.quoted(&column.name));
        rights.update = may(conn, &format!("UPDATE {quoted} SET {column} = {column}"))?;
    }
    Ok(rights)
}

/// Whether we may run a statement, which is made ready and not run: the server looks at
/// the rights then (`ER_TABLEACCESS_DENIED_ERROR` and its like). What else is wrong with
/// it does not matter.
fn may(conn: &mut Conn, sql: &str) -> Result<bool, Error> {
    let asking = |e: mysql::Error| explained(&e, "asking for our rights");
    match conn.prep(sql) {
        Ok(statement) => conn.close(statement).map(|()| true).map_err(asking),
        Err(mysql::Error::MySqlError(error)) => Ok(!DENIED.contains(&error.code)),
        Err(error) => Err(asking(error)),
    }
}

/// Errors that say that a right is missing: on a database, a table, a column, a view.
const DENIED: [u16; 4] = [1044, 1142, 1143, 1345];
