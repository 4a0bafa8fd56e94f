//! Asks MariaDB what it is, and what we may do there.

use mysql::Conn;
use mysql::prelude::Queryable;

use super::describe::describe;
use super::words::explained;
use crate::about::{About, Rights};
use crate::error::Error;

/// The rights that were granted to the user itself, on everything, on the database, or
/// on the table. Those of roles are not among them.
const RIGHTS: &str = "
SELECT PRIVILEGE_TYPE FROM information_schema.USER_PRIVILEGES WHERE GRANTEE = ?
UNION SELECT PRIVILEGE_TYPE FROM information_schema.SCHEMA_PRIVILEGES
 WHERE GRANTEE = ? AND COALESCE(?, DATABASE()) LIKE TABLE_SCHEMA
UNION SELECT PRIVILEGE_TYPE FROM information_schema.TABLE_PRIVILEGES
 WHERE GRANTEE = ? AND TABLE_SCHEMA = COALESCE(?, DATABASE()) AND TABLE_NAME = ?";

/// What the server says of itself and of `tables`.
pub fn about(conn: &mut Conn, tables: &[&str]) -> Result<About, Error> {
    let asking = |e: mysql::Error| explained(&e, "asking the server about itself");
    let found: Option<(String, String, bool)> = conn
        .query_first("SELECT VERSION(), CURRENT_USER(), @@local_infile")
        .map_err(asking)?;
    let (version, user, sends) = found.unwrap_or_default();
    let cipher: Option<(String, String)> = conn
        .query_first("SHOW SESSION STATUS LIKE 'Ssl_cipher'")
        .map_err(asking)?;
    let (name, host) = user.split_once('@').unwrap_or((&user, "%"));
    let grantee = format!("'{name}'@'{host}'");
    let mut about = About {
        server: match version.contains("MariaDB") {
            true => format!("MariaDB {}", version.split('-').next().unwrap_or(&version)),
            false => format!("MySQL {version}"),
        },
        encrypted: cipher.map(|(_, cipher)| !cipher.is_empty()),
        hindrance: (!sends).then(|| {
            "the server takes no local data, by which rows are sent: SET GLOBAL local_infile = 1".into()
        }),
        user: Some(user.clone()),
        ..About::default()
    };
    for table in tables {
        let (schema, bare) = match table.split_once('.') {
            Some((schema, bare)) => (Some(schema), bare),
            None => (None, *table),
        };
        let given = (&grantee, &grantee, schema, &grantee, schema, bare);
        let granted: Vec<String> = conn.exec(RIGHTS, given).map_err(asking)?;
        let has = |right: &str| granted.iter().any(|found| found == right);
        about.tables.push(Rights {
            table: (*table).to_string(),
            is_there: describe(conn, table)?.is_some(),
            select: has("SELECT"),
            insert: has("INSERT"),
            update: has("UPDATE"),
            delete: has("DELETE"),
            create: has("CREATE"),
        });
    }
    Ok(about)
}
