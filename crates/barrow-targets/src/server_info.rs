//! What a database says of itself, and of what we may do there.

use barrow_core::escape::escape_for_display;
use barrow_core::words::Mode;

use crate::dialect::Dialect;
use crate::job::Job;

/// A database as it answers.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ServerInfo {
    /// What it is, and its version.
    pub server: String,
    /// Who we are to it; none where it knows no users.
    pub user: Option<String>,
    /// Whether the line to it is encrypted; none where there is no line.
    pub encrypted: Option<bool>,
    /// What keeps rows from being sent at all, with what to do.
    pub hindrance: Option<String>,
    /// Each table of the load.
    pub tables: Vec<Privileges>,
    /// The tables of the ledger, where a load would write one.
    pub ledger: Vec<Privileges>,
}

impl ServerInfo {
    /// Whether the ledger is there already.
    pub fn has_ledger(&self) -> bool {
        self.ledger.iter().all(|rights| rights.is_there)
    }
}

/// What we may do with a table.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Privileges {
    /// Its name.
    pub table: String,
    /// Whether it is there.
    pub is_there: bool,
    /// Read its rows.
    pub select: bool,
    /// Insert rows.
    pub insert: bool,
    /// Change rows.
    pub update: bool,
    /// Take rows out.
    pub delete: bool,
    /// Make tables beside it.
    pub create: bool,
}

impl Privileges {
    /// Everything may be done, as in a file of our own.
    pub fn all(table: &str, is_there: bool) -> Privileges {
        Privileges {
            table: table.to_string(),
            is_there,
            select: true,
            insert: true,
            update: true,
            delete: true,
            create: true,
        }
    }

    /// The rights in words; none where there are none.
    pub fn words(&self) -> String {
        let mut words = Vec::new();
        for (may, word) in [
            (self.select && self.is_there, "read"),
            (self.insert && self.is_there, "insert"),
            (self.update && self.is_there, "update"),
            (self.delete && self.is_there, "delete"),
            (self.create, "make tables"),
        ] {
            if may {
                words.push(word);
            }
        }
        match words.is_empty() {
            true => "none".into(),
            false => words.join(", "),
        }
    }
}

/// What a load would lack, each with what to do about it.
pub fn missing(server_info: &ServerInfo, job: &Job, dialect: Dialect) -> Vec<String> {
    let mut missing: Vec<String> = server_info.hindrance.iter().cloned().collect();
    for rights in &server_info.tables {
        let table = escape_for_display(rights.table.as_bytes());
        let quoted = dialect.table(&rights.table);
        let user = server_info.user.as_deref().unwrap_or("the user");
        if !rights.is_there && !job.create && job.mode != Mode::Replace {
            missing.push(format!(
                "there is no table {table}: say [target] create = true, or make it by barrow ddl"
            ));
        }
        let makes = !rights.is_there || job.mode == Mode::Replace;
        if makes && !rights.create {
            missing.push(format!(
                "{user} may not make the table {table}: let its owner make it by barrow ddl, or grant CREATE"
            ));
        }
        if makes {
            continue;
        }
        let mut lacks = Vec::new();
        for (may, needed, word) in [
            (rights.select, true, "SELECT"),
            (rights.insert, true, "INSERT"),
            (rights.update, job.mode == Mode::Merge, "UPDATE"),
            (rights.delete, job.mode == Mode::Truncate, "DELETE"),
        ] {
            if needed && !may {
                lacks.push(word);
            }
        }
        if !lacks.is_empty() {
            missing.push(format!(
                "{user} lacks rights on the table {table}: GRANT {} ON {quoted} TO …",
                lacks.join(", ")
            ));
        }
    }
    missing.extend(ledger_lacks(server_info));
    missing
}

/// What the ledger would lack, which a load makes or writes before its rows.
fn ledger_lacks(server_info: &ServerInfo) -> Option<String> {
    let user = server_info.user.as_deref().unwrap_or("the user");
    let without = "or do without a ledger: [target] ledger = false";
    let may_not =
        |may: fn(&Privileges) -> bool| server_info.ledger.iter().any(|rights| !may(rights));
    let names: Vec<&str> = server_info
        .ledger
        .iter()
        .map(|r| r.table.as_str())
        .collect();
    let names = names.join(", ");
    match server_info.has_ledger() {
        true if may_not(|r| r.select && r.insert && r.update) => Some(format!(
            "{user} lacks rights on the ledger: GRANT SELECT, INSERT, UPDATE ON {names} TO …; {without}"
        )),
        false if may_not(|r| r.is_there || r.create) => Some(format!(
            "{user} may not make the ledger ({names}): let the database's owner load once, or \
             grant CREATE; {without}"
        )),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn job(mode: Mode, create: bool) -> Job {
        Job {
            parts: Vec::new(),
            mode,
            truncates: false,
            is_emptied: false,
            may_cascade: false,
            create,
            tag: String::new(),
        }
    }

    fn server_info(rights: Privileges) -> ServerInfo {
        ServerInfo {
            tables: vec![rights],
            ..ServerInfo::default()
        }
    }

    #[test]
    fn what_a_mode_needs_is_asked_for() {
        let mut rights = Privileges::all("d", true);
        rights.update = false;
        let found = |mode, create, rights: &Privileges| {
            missing(
                &server_info(rights.clone()),
                &job(mode, create),
                crate::postgres::DIALECT,
            )
        };
        assert_eq!(found(Mode::Append, false, &rights), [""; 0]);
        let lacks = found(Mode::Merge, false, &rights);
        assert!(
            lacks[0].ends_with("GRANT UPDATE ON \"d\" TO …"),
            "{lacks:?}"
        );
        rights.is_there = false;
        assert_eq!(found(Mode::Append, false, &rights).len(), 1);
        assert_eq!(found(Mode::Append, true, &rights), [""; 0]);
        rights.create = false;
        assert_eq!(found(Mode::Append, true, &rights).len(), 1);
        assert_eq!(Privileges::default().words(), "none");
    }

    #[test]
    fn the_ledger_s_rights_are_asked_for_too() {
        let of = |ledger: Vec<Privileges>| {
            let server_info = ServerInfo {
                ledger,
                ..server_info(Privileges::all("d", true))
            };
            missing(
                &server_info,
                &job(Mode::Append, false),
                crate::postgres::DIALECT,
            )
        };
        let there = |name: &str| Privileges::all(name, true);
        assert_eq!(of(Vec::new()), [""; 0]);
        assert_eq!(of(vec![there("runs"), there("files")]), [""; 0]);
        let only_read = Privileges {
            insert: false,
            ..there("files")
        };
        let lacks = of(vec![there("runs"), only_read]);
        assert!(lacks[0].contains("UPDATE ON runs, files TO"), "{lacks:?}");
        let absent = |create| Privileges {
            create,
            ..Privileges::all("files", false)
        };
        assert_eq!(of(vec![there("runs"), absent(true)]), [""; 0]);
        let lacks = of(vec![there("runs"), absent(false)]);
        assert!(lacks[0].contains("may not make the ledger"), "{lacks:?}");
    }
}
