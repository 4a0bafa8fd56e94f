//! The three kinds of database, each with a place of its own for one test.

use std::cell::RefCell;
use std::sync::atomic::{AtomicU32, Ordering};

use mysql::prelude::Queryable;
use postgres::{NoTls, SimpleQueryMessage};
use rusqlite::types::Value;

use crate::market::{Market, Said, said};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    Sqlite,
    Postgres,
    MariaDb,
}

/// An empty database, and a folder to load from.
pub struct Database {
    pub kind: Kind,
    pub market: Market,
    name: String,
    session: RefCell<Session>,
}

/// A session of its own, to look at the tables with.
enum Session {
    Sqlite,
    Postgres(Box<postgres::Client>),
    MariaDb(Box<mysql::Conn>),
}

static NEXT: AtomicU32 = AtomicU32::new(0);

/// Where a server is; `scripts/test` starts it.
pub fn server(name: &str) -> String {
    std::env::var(name).unwrap_or_else(|_| {
        panic!("{name} is not set: run scripts/test, which starts the servers and sets it")
    })
}

/// An address with another database.
pub fn with_database(address: &str, name: &str) -> String {
    address.replacen("/barrow?", &format!("/{name}?"), 1)
}

fn postgres_session(address: &str) -> postgres::Client {
    postgres::Client::connect(address, NoTls).expect("the PostgreSQL of the tests answers")
}

fn mariadb_session(address: &str) -> mysql::Conn {
    let plain = address.split('?').next().unwrap_or_default();
    let options = mysql::Opts::from_url(plain).expect("an address");
    let options = mysql::OptsBuilder::from_opts(options).prefer_socket(false);
    mysql::Conn::new(options).expect("the MariaDB of the tests answers")
}

impl Database {
    pub fn new(kind: Kind, files: &[(&str, &[u8])]) -> Database {
        let number = NEXT.fetch_add(1, Ordering::Relaxed);
        let name = format!("t_{}_{number}", std::process::id());
        let session = match kind {
            Kind::Sqlite => Session::Sqlite,
            Kind::Postgres => {
                let address = server("BARROW_TEST_POSTGRES");
                let mut admin = postgres_session(&address);
                admin
                    .batch_execute(&format!("CREATE DATABASE {name}"))
                    .expect("a database");
                Session::Postgres(Box::new(postgres_session(&with_database(&address, &name))))
            }
            Kind::MariaDb => {
                let address = server("BARROW_TEST_MARIADB");
                let mut admin = mariadb_session(&address);
                admin
                    .query_drop(format!("CREATE DATABASE {name} CHARACTER SET utf8mb4"))
                    .expect("a database");
                Session::MariaDb(Box::new(mariadb_session(&with_database(&address, &name))))
            }
        };
        Database {
            kind,
            market: Market::with(files),
            name,
            session: RefCell::new(session),
        }
    }

    /// The database's address.
    pub fn url(&self) -> String {
        match self.kind {
            Kind::Sqlite => "sqlite:m.db".into(),
            Kind::Postgres => with_database(&server("BARROW_TEST_POSTGRES"), &self.name),
            Kind::MariaDb => with_database(&server("BARROW_TEST_MARIADB"), &self.name),
        }
    }

    /// What differs between the kinds.
    pub fn each<T>(&self, sqlite: T, postgres: T, mariadb: T) -> T {
        match self.kind {
            Kind::Sqlite => sqlite,
            Kind::Postgres => postgres,
            Kind::MariaDb => mariadb,
        }
    }

    /// Runs the program against the database.
    pub fn run(&self, words: &str) -> Said {
        said(self.command(words))
    }

    pub fn command(&self, words: &str) -> std::process::Command {
        let mut command = self.market.command(words);
        command.arg("--database").arg(self.url());
        command
    }

    /// Runs SQL statements, one after the other.
    pub fn sql(&self, statements: &[&str]) {
        for sql in statements {
            match &mut *self.session.borrow_mut() {
                Session::Sqlite => self.market.sql(sql),
                Session::Postgres(client) => client.batch_execute(sql).expect(sql),
                Session::MariaDb(conn) => conn.query_drop(sql).expect(sql),
            }
        }
    }

    /// The rows of a query as text, with a stroke between two cells and `~` for null.
    pub fn rows(&self, sql: &str) -> Vec<String> {
        let rows: Vec<Vec<Option<String>>> = match &mut *self.session.borrow_mut() {
            Session::Sqlite => self.market.cells(sql).into_iter().map(sqlite_row).collect(),
            Session::Postgres(client) => client
                .simple_query(sql)
                .expect(sql)
                .into_iter()
                .filter_map(|message| match message {
                    SimpleQueryMessage::Row(row) => Some(
                        (0..row.len())
                            .map(|i| row.get(i).map(str::to_string))
                            .collect(),
                    ),
                    _ => None,
                })
                .collect(),
            Session::MariaDb(conn) => conn
                .query::<mysql::Row, _>(sql)
                .expect(sql)
                .into_iter()
                .map(|row| row.unwrap().into_iter().map(mariadb_cell).collect())
                .collect(),
        };
        let shown = |cell: Option<String>| cell.unwrap_or_else(|| "~".into());
        rows.into_iter()
            .map(|row| row.into_iter().map(shown).collect::<Vec<_>>().join("|"))
            .collect()
    }

    /// The first number of a query.
    pub fn count(&self, sql: &str) -> u64 {
        self.rows(sql)[0].parse().expect(sql)
    }

    /// The records and codes of `reasons.jsonl`, in its order.
    pub fn reasons(&self) -> Vec<(u64, String)> {
        let text = self
            .market
            .read(&format!("{}/reasons.jsonl", self.market.rejects()));
        let lines = String::from_utf8(text).expect("UTF-8");
        let reason = |line: &str| {
            let reason: serde_json::Value = serde_json::from_str(line).expect("JSON");
            (
                reason["record"].as_u64().expect("a record"),
                reason["code"].as_str().expect("a code").to_string(),
            )
        };
        lines.lines().map(reason).collect()
    }
}

fn sqlite_row(row: Vec<Value>) -> Vec<Option<String>> {
    let cell = |value| match value {
        Value::Null => None,
        Value::Integer(n) => Some(n.to_string()),
        Value::Real(n) => Some(n.to_string()),
        Value::Text(text) => Some(text),
        Value::Blob(bytes) => Some(bytes.iter().map(|b| format!("{b:02x}")).collect()),
    };
    row.into_iter().map(cell).collect()
}

fn mariadb_cell(value: mysql::Value) -> Option<String> {
    match value {
        mysql::Value::NULL => None,
        mysql::Value::Bytes(bytes) => Some(String::from_utf8_lossy(&bytes).into_owned()),
        other => Some(other.as_sql(true)),
    }
}

impl Drop for Database {
    fn drop(&mut self) {
        let name = &self.name;
        match std::mem::replace(self.session.get_mut(), Session::Sqlite) {
            Session::Sqlite => {}
            Session::Postgres(client) => {
                drop(client);
                let mut admin = postgres_session(&server("BARROW_TEST_POSTGRES"));
                let _ = admin.batch_execute(&format!("DROP DATABASE {name} WITH (FORCE)"));
            }
            Session::MariaDb(mut conn) => {
                let _ = conn.query_drop(format!("DROP DATABASE {name}"));
            }
        }
    }
}

/// Waits until no other session is at work on the database.
pub fn wait_until_free(d: &Database) {
    let busy = match d.kind {
        Kind::Sqlite => return,
        Kind::Postgres => {
            "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
        }
        Kind::MariaDb => {
            "SELECT count(*) FROM information_schema.processlist WHERE db = database() AND id <> connection_id()"
        }
    };
    for _ in 0..500 {
        if d.count(busy) == 0 {
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    panic!("a session stays");
}

/// Makes each case a test on each kind of database.
macro_rules! on_every_database {
    ($($case:ident),* $(,)?) => {
        mod sqlite { $(#[test] fn $case() { super::$case(super::Kind::Sqlite); })* }
        mod postgres { $(#[test] fn $case() { super::$case(super::Kind::Postgres); })* }
        mod mariadb { $(#[test] fn $case() { super::$case(super::Kind::MariaDb); })* }
    };
}
pub(crate) use on_every_database;
