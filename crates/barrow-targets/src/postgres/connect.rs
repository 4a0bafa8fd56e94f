//! Connects to a PostgreSQL server.
//!
//! The address is the one of "Connection URIs" in the server's manual (section 34.1.1.2),
//! and a password that it lacks is taken from PGPASSWORD or the password file (34.16).

use std::collections::HashMap;
use std::time::Duration;

use postgres::config::SslMode;
use postgres::{Client, Config};
use tokio_postgres_rustls::MakeRustlsConnect;

use super::errors::{explained, unreachable};
use crate::error::Error;
use crate::servers::Server;
use crate::servers::tls::{self, Trust};

/// How long to wait for an answer when connecting.
const PATIENCE: Duration = Duration::from_secs(15);

/// Where a server's socket usually is.
const SOCKET: &str = "/var/run/postgresql";

/// The parameters that an address may have.
const KNOWN: [&str; 9] = [
    "host",
    "port",
    "user",
    "password",
    "sslmode",
    "sslrootcert",
    "application_name",
    "connect_timeout",
    "options",
];

/// A session with a PostgreSQL server.
pub struct Postgres {
    pub(super) client: Client,
    pub(super) server: Server,
    pub(super) is_open: bool,
    /// Whether the transaction that is open is that of several loads.
    pub(super) is_together: bool,
    /// Whether the server broke off what it was sent.
    pub(super) is_broken_off: bool,
    /// Where the ledger's tables are, as far as that was asked for.
    pub(super) ledger: HashMap<String, String>,
}

impl Postgres {
    /// Connects to the server.
    ///
    /// # Errors
    /// It cannot be reached, or refuses the connection.
    pub fn open(server: &Server) -> Result<Postgres, Error> {
        Ok(Postgres {
            client: connect(server)?,
            server: server.clone(),
            is_open: false,
            is_together: false,
            is_broken_off: false,
            ledger: HashMap::new(),
        })
    }
}

/// Connects.
///
/// # Errors
/// The server cannot be reached, or refuses the connection.
pub fn connect(server: &Server) -> Result<Client, Error> {
    let environment = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
    server.has_only(&KNOWN)?;
    let mut config = Config::new();
    let host = server.host().unwrap_or_else(|| SOCKET.into());
    let port = server.port().unwrap_or(5432);
    let user = server
        .user()
        .or_else(|| environment("PGUSER"))
        .or_else(|| environment("USER"))
        .unwrap_or_else(|| "postgres".into());
    let database = server.database();
    config.host(&host).port(port).user(&user).dbname(&database);
    config.application_name(
        server
            .parameter("application_name")
            .as_deref()
            .unwrap_or("barrow"),
    );
    if let Some(options) = server.parameter("options") {
        config.options(&options);
    }
    let password = server
        .password()
        .or_else(|| environment("PGPASSWORD"))
        .or_else(|| super::passfile::password(&host, port, &database, &user));
    if let Some(password) = password {
        crate::secret::learn_secret(&password);
        config.password(password);
    }
    let patience = server
        .parameter("connect_timeout")
        .and_then(|s| s.parse().ok());
    config.connect_timeout(patience.map_or(PATIENCE, Duration::from_secs));
    let mode = server
        .parameter("sslmode")
        .or_else(|| environment("PGSSLMODE"));
    let roots = server.parameter("sslrootcert");
    let (mode, trust) = match ssl(mode.as_deref().unwrap_or("prefer"))? {
        // Who names an authority wants it asked ("SSL Support", table 34.1, `require`).
        (SslMode::Require, Trust::Anyone) if roots.is_some() => (SslMode::Require, Trust::Signed),
        other => other,
    };
    // A line that stays plain has the same connector, which is not asked: with another, all that
    // is generic over it would be compiled twice.
    let (mode, trust, roots) = match host.starts_with('/') || mode == SslMode::Disable {
        true => (SslMode::Disable, Trust::Anyone, None),
        false => (mode, trust, roots),
    };
    let connector = MakeRustlsConnect::new(tls::config(trust, roots.as_deref())?);
    let connected = config.ssl_mode(mode).connect(connector);
    let mut client = connected.map_err(|e| unreachable(&e, server))?;
    prepare(&mut client)?;
    Ok(client)
}

/// What `sslmode` means ("SSL Support", table 34.1).
fn ssl(mode: &str) -> Result<(SslMode, Trust), Error> {
    Ok(match mode {
        "disable" => (SslMode::Disable, Trust::Anyone),
        "allow" | "prefer" => (SslMode::Prefer, Trust::Anyone),
        "require" => (SslMode::Require, Trust::Anyone),
        "verify-ca" => (SslMode::Require, Trust::Signed),
        "verify-full" => (SslMode::Require, Trust::SignedForHost),
        other => {
            return Err(Error::spec(format!(
                "sslmode={} is not known",
                barrow_core::escape::escape_for_display(other.as_bytes())
            ))
            .advice("it is one of disable, prefer, require, verify-ca and verify-full"));
        }
    })
}

/// What values look like, whatever the settings of the server, the database or the role are:
/// numbers with all of their digits, dates in the order of ISO 8601, and text in quotes as the
/// standard has it.
const FORMS: &str = "SET extra_float_digits = 3; SET bytea_output = 'hex'; \
    SET DateStyle = 'ISO, YMD'; SET IntervalStyle = 'postgres'; \
    SET standard_conforming_strings = on";

/// A lock is waited for so long and no longer, and a slow file does not end the
/// connection.
fn prepare(client: &mut Client) -> Result<(), Error> {
    let lock: String = client
        .query_one("SELECT current_setting('lock_timeout')", &[])
        .map_err(|e| explained(&e, "connecting"))?
        .get(0);
    if lock == "0" {
        client
            .batch_execute("SET lock_timeout = '15s'")
            .map_err(|e| explained(&e, "connecting"))?;
    }
    client
        .batch_execute(FORMS)
        .map_err(|e| explained(&e, "connecting"))?;
    client
        .batch_execute("SET idle_in_transaction_session_timeout = 0")
        .map_err(|e| explained(&e, "connecting"))
}
