//! Asks PostgreSQL for its version, and what we may do there.

use postgres::Client;

use crate::error::Error;
use crate::postgres::DIALECT;
use crate::postgres::errors::explained;
use crate::server_info::{Privileges, ServerInfo};

const RIGHTS: &str = "
SELECT t.oid IS NOT NULL,
       COALESCE(has_table_privilege(t.oid, 'SELECT'), false),
       COALESCE(has_table_privilege(t.oid, 'INSERT') OR has_any_column_privilege(t.oid, 'INSERT'), false),
       COALESCE(has_table_privilege(t.oid, 'UPDATE') OR has_any_column_privilege(t.oid, 'UPDATE'), false),
       COALESCE(has_table_privilege(t.oid, 'DELETE'), false),
       COALESCE(has_schema_privilege(n.oid, 'CREATE'), false)
  FROM (SELECT to_regclass($1)::oid AS oid) t
  LEFT JOIN pg_class c ON c.oid = t.oid
  LEFT JOIN pg_namespace n
    ON n.oid = COALESCE(c.relnamespace, to_regnamespace(COALESCE($2, quote_ident(current_schema()))))";

/// What the server says of itself and of `tables`.
pub fn server_info(client: &mut Client, tables: &[&str]) -> Result<ServerInfo, Error> {
    let asking = |e: postgres::Error| explained(&e, "asking the server about itself");
    let row = client
        .query_one(
            "SELECT current_setting('server_version'), current_user::text, \
             (SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid())",
            &[],
        )
        .map_err(asking)?;
    let mut server_info = ServerInfo {
        server: format!("PostgreSQL {}", row.get::<_, String>(0)),
        user: Some(row.get(1)),
        encrypted: row.get(2),
        ..ServerInfo::default()
    };
    for name in tables {
        let quoted = DIALECT.table(name);
        let schema = name
            .split_once('.')
            .map(|(schema, _)| DIALECT.quoted(schema));
        let row = client
            .query_one(RIGHTS, &[&quoted, &schema])
            .map_err(asking)?;
        server_info.tables.push(Privileges {
            table: (*name).to_string(),
            is_there: row.get(0),
            select: row.get(1),
            insert: row.get(2),
            update: row.get(3),
            delete: row.get(4),
            create: row.get(5),
        });
    }
    Ok(server_info)
}
