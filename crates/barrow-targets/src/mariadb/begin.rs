//! Making tables ready, before rows are sent.

use mysql::prelude::Queryable;

use super::DIALECT;
use super::connect::MariaDb;
use super::describe::Described;
use super::encode::Field;
use super::send::Loader;
use super::types::Wire;
use crate::error::Error;
use crate::merge::Statements;
use crate::record_table::RecordTable;
use crate::servers::load::{ServerSession, cannot_send};
use crate::servers::send::named;
use crate::session::Swap;

/// What sends a part's rows.
pub fn loader(
    part: &RecordTable,
    found: &Described,
    destination: &str,
    merge: Option<Statements>,
) -> Result<Loader, Error> {
    let named = named(part, &found.table);
    let mut targets = Vec::new();
    let mut sets = Vec::new();
    let mut takes_bytes = true;
    for (place, column) in part.columns.iter().enumerate() {
        let declared = found.declared(&column.name);
        let wire = declared.and_then(|d| d.wire(column.ty));
        let wire = wire.ok_or_else(|| cannot_send(column, found))?;
        let quoted = DIALECT.quoted(&named.columns[place].name);
        match wire {
            Wire::Hex(_) => {
                targets.push(format!("@barrow{place}"));
                sets.push(format!("{quoted} = UNHEX(@barrow{place})"));
            }
            _ => {
                takes_bytes &= declared.is_some_and(|d| d.takes_bytes());
                targets.push(quoted);
            }
        }
    }
    let set = match sets.is_empty() {
        true => String::new(),
        false => format!(" SET {}", sets.join(", ")),
    };
    // All that is sent is UTF-8. A server that is told so looks at each character to see
    // how long it is, which takes 6 % more of its time (medians of 8 pairs).
    let charset = if takes_bytes { "binary" } else { "utf8mb4" };
    Ok(Loader {
        load: format!(
            "LOAD DATA LOCAL INFILE 'barrow' INTO TABLE {destination} CHARACTER SET {charset} \
             FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' ({}){set}",
            targets.join(", ")
        ),
        merge,
    })
}

/// Makes the table where rows are staged before they are merged.
pub fn make_stage(
    session: &mut MariaDb,
    part: &RecordTable,
    stage: &str,
    table: &str,
) -> Result<(), Error> {
    let quote = |name: &String| DIALECT.quoted(name);
    let keys: Vec<String> = part.key.iter().map(quote).collect();
    let columns: Vec<String> = part.columns.iter().map(|c| quote(&c.name)).collect();
    let sql = format!(
        "CREATE OR REPLACE TEMPORARY TABLE {stage} (UNIQUE KEY ({})) ENGINE=InnoDB \
         AS SELECT {} FROM {table} LIMIT 0",
        keys.join(", "),
        columns.join(", ")
    );
    session.run(&sql, "making room for rows to merge")
}

/// How a part's columns are sent.
///
/// # Errors
/// One cannot be.
pub fn fields(part: &RecordTable, found: &Described) -> Result<Vec<Field>, Error> {
    let fields = part.columns.iter().map(|column| {
        let declared = found.declared(&column.name);
        let wire = declared.and_then(|declared| Some((declared, declared.wire(column.ty)?)));
        wire.map(|(declared, wire)| Field::new(column.ty, wire, declared))
            .ok_or_else(|| cannot_send(column, found))
    });
    fields.collect()
}

/// Puts the tables that were made beside others into their places, all in one statement,
/// which the server does as a whole or not at all.
pub fn put_in_place(session: &mut MariaDb, swaps: &[Swap]) -> Result<(), Error> {
    let doing = "putting the new table into the old one's place";
    if swaps.is_empty() {
        return Ok(());
    }
    let named = |swap: &Swap| {
        let names = [&swap.table, &swap.beside, &swap.old];
        names.map(|name| DIALECT.table(name))
    };
    for swap in swaps {
        let [_, _, old] = named(swap);
        session.run(&format!("DROP TABLE IF EXISTS {old}"), doing)?;
    }
    let renames = swaps.iter().map(|swap| {
        let [name, beside, old] = named(swap);
        format!("{name} TO {old}, {beside} TO {name}")
    });
    let renames: Vec<String> = renames.collect();
    session.run(&format!("RENAME TABLE {}", renames.join(", ")), doing)?;
    // The load is done. An old table that stays, since the connection is lost right now,
    // is dropped by the next load that replaces it.
    for swap in swaps {
        let [_, _, old] = named(swap);
        let _ = session.conn.query_drop(format!("DROP TABLE {old}"));
    }
    Ok(())
}
