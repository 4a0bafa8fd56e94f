//! Connects to a MariaDB or MySQL server.

use std::io::Write;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use barrow_core::escape::escape_for_display;
use mysql::prelude::Queryable;
use mysql::{Conn, DriverError, LocalInfileHandler, OptsBuilder, SslOpts};

use super::errors::{explained, unreachable};
use crate::encoded::lines::Bytes;
use crate::error::Error;
use crate::servers::Server;
use crate::servers::load::Made;

/// How long to wait for an answer when connecting.
const PATIENCE: Duration = Duration::from_secs(15);

/// The parameters that an address may have.
const KNOWN: [&str; 7] = [
    "host", "port", "user", "password", "socket", "ssl-mode", "ssl-ca",
];

/// What a session is set to at its start:
/// - strict mode, so that no value is cut or changed; zero is a value like another; notes
///   count as warnings, so that none is missed;
/// - moments in time are those of UTC, and a null in a `timestamp` stays null;
/// - the wait for a lock has a limit;
/// - whatever the server's own settings are, a query gives all of its rows, a commit ends its
///   transaction and begins none, and keys are checked.
const SESSION: [&str; 9] = [
    "SET NAMES utf8mb4",
    "SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,\
     ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_VALUE_ON_ZERO,NO_ENGINE_SUBSTITUTION'",
    "SET SESSION sql_notes = 1",
    "SET SESSION max_error_count = 200",
    "SET SESSION time_zone = '+00:00'",
    "SET SESSION innodb_lock_wait_timeout = 15, lock_wait_timeout = 15",
    "SET SESSION sql_select_limit = 18446744073709551615, sql_big_selects = 1",
    "SET SESSION autocommit = 1, completion_type = 0, sql_safe_updates = 0",
    "SET SESSION foreign_key_checks = 1, unique_checks = 1",
];

/// A session with a MariaDB or MySQL server.
pub struct MariaDb {
    pub(super) conn: Conn,
    /// The lines that the server is about to ask for.
    pub(super) outgoing: Arc<Mutex<Vec<Bytes>>>,
    pub(super) is_open: bool,
    /// Whether the transaction that is open is that of several loads.
    pub(super) is_together: bool,
    /// Tables that the load has made and that hold nothing yet: the server has committed
    /// them already.
    pub(super) made: Vec<Made>,
}

impl MariaDb {
    /// Connects to the server.
    ///
    /// # Errors
    /// It cannot be reached, or refuses the connection.
    pub fn open(server: &Server) -> Result<MariaDb, Error> {
        let mut conn = connect(server)?;
        let outgoing = Arc::new(Mutex::new(Vec::<Bytes>::new()));
        let lines = outgoing.clone();
        // Only what lies ready is ever sent, and once, whatever file the server asks for.
        let handler = LocalInfileHandler::new(move |_, stream| match lines.lock() {
            Ok(mut lines) => std::mem::take(&mut *lines)
                .iter()
                .try_for_each(|bytes| stream.write_all(bytes)),
            Err(_) => Err(std::io::Error::other("the rows are not ready")),
        });
        conn.set_local_infile_handler(Some(handler));
        Ok(MariaDb {
            conn,
            outgoing,
            is_open: false,
            is_together: false,
            made: Vec::new(),
        })
    }
}

/// Connects.
///
/// # Errors
/// The server cannot be reached, or refuses the connection.
fn connect(server: &Server) -> Result<Conn, Error> {
    server.has_only(&KNOWN)?;
    let mode = server
        .parameter("ssl-mode")
        .unwrap_or_else(|| "preferred".into());
    let ca = server.parameter("ssl-ca");
    let by_socket = server.parameter("socket").is_some();
    let ssl = match mode.to_ascii_lowercase().as_str() {
        _ if by_socket => None,
        "disabled" => None,
        "preferred" | "required" => Some(
            SslOpts::default()
                .with_danger_accept_invalid_certs(true)
                .with_danger_skip_domain_validation(true),
        ),
        "verify_ca" => Some(SslOpts::default().with_danger_skip_domain_validation(true)),
        "verify_identity" => Some(SslOpts::default()),
        _ => {
            return Err(Error::spec(format!(
                "ssl-mode={} is not known",
                escape_for_display(mode.as_bytes())
            ))
            .advice("it is one of disabled, preferred, required, verify_ca and verify_identity"));
        }
    };
    let ssl = ssl.map(|ssl| match ca {
        Some(path) => ssl.with_root_cert_path(Some(std::path::PathBuf::from(path))),
        None => ssl,
    });
    let connected = match Conn::new(options(server, ssl)) {
        Err(mysql::Error::DriverError(DriverError::TlsNotSupported))
            if mode.eq_ignore_ascii_case("preferred") =>
        {
            Conn::new(options(server, None))
        }
        other => other,
    };
    let mut conn = connected.map_err(|e| unreachable(&e, server))?;
    for sql in SESSION {
        conn.query_drop(sql)
            .map_err(|e| explained(&e, "connecting"))?;
    }
    // Older servers know it as theirs alone, and there it is on by default.
    let _ = conn.query_drop("SET SESSION explicit_defaults_for_timestamp = 1");
    Ok(conn)
}

fn options(server: &Server, ssl: Option<SslOpts>) -> OptsBuilder {
    let password = server.password().or_else(|| {
        let found = std::env::var("MYSQL_PWD").ok();
        found.filter(|password| !password.is_empty())
    });
    if let Some(password) = &password {
        crate::secret::learn_secret(password);
    }
    OptsBuilder::new()
        .ip_or_hostname(Some(server.host().unwrap_or_else(|| "localhost".into())))
        .tcp_port(server.port().unwrap_or(3306))
        .socket(server.parameter("socket"))
        // Never another way than the address says.
        .prefer_socket(server.parameter("socket").is_some())
        .user(server.user().or_else(|| std::env::var("USER").ok()))
        .pass(password)
        .db_name(Some(server.database()))
        .tcp_connect_timeout(Some(PATIENCE))
        .ssl_opts(ssl)
}
