//! Starts the store for anybody: `cargo run -p barrow-test-stores -- FOLDER`.

use std::io::Write;
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use barrow_test_stores::{Faults, Keys, Options, Server};
use clap::Parser;

/// A small object store and web server, in memory, for trying out. The folders in FOLDER are
/// its buckets.
#[derive(Parser)]
struct Args {
    /// The folder whose folders are buckets.
    folder: PathBuf,
    /// The address to listen at.
    #[arg(long, default_value = "127.0.0.1")]
    ip: std::net::IpAddr,
    /// The port.
    #[arg(long, default_value_t = 9410)]
    port: u16,
    /// Let everybody in, signed or not.
    #[arg(long)]
    open: bool,
    /// Answer so many milliseconds late.
    #[arg(long, default_value_t = 0)]
    delay: u64,
    /// Fail so many of a thousand requests for content.
    #[arg(long, default_value_t = 0)]
    faults: u32,
    /// Among the failures, let objects change while they are read.
    #[arg(long)]
    changes: bool,
    /// What chance begins from.
    #[arg(long, default_value_t = 0)]
    seed: u64,
}

fn main() -> ExitCode {
    let args = Args::parse();
    let keys = Keys::default();
    let server = Server::start(Options {
        ip: args.ip,
        port: args.port,
        keys: (!args.open).then(|| keys.clone()),
        folder: Some(args.folder),
        faults: Faults {
            delay: Duration::from_millis(args.delay),
            per_thousand: args.faults,
            changes: args.changes,
            seed: args.seed,
            ..Faults::default()
        },
    });
    let server = match server {
        Ok(server) => server,
        Err(error) => {
            eprintln!("the store cannot start: {error}");
            return ExitCode::FAILURE;
        }
    };
    let mut said = format!(
        "The store is at {0}. In another terminal:\n  export AWS_ENDPOINT_URL={0} AWS_ALLOW_HTTP=true\n",
        server.address()
    );
    if !args.open {
        said += &format!(
            "  export AWS_ACCESS_KEY_ID={} AWS_SECRET_ACCESS_KEY={} AWS_REGION={}\n",
            keys.id, keys.secret, keys.region
        );
    }
    said += &format!(
        "or, for az:// addresses:\n  export AZURE_STORAGE_ENDPOINT={} AZURE_ALLOW_HTTP=true \
         AZURE_STORAGE_ACCOUNT_NAME={}\n  export {}\n",
        server.address(),
        keys.id,
        match args.open {
            true => "AZURE_SKIP_SIGNATURE=true".into(),
            false => format!("AZURE_STORAGE_ACCOUNT_KEY={}", keys.as_base64()),
        }
    );
    said += "It stops with Ctrl-C, and forgets what was written to it.\n";
    // Whoever started it may have read enough with the first line.
    let _ = std::io::stdout().write_all(said.as_bytes());
    loop {
        std::thread::park();
    }
}
