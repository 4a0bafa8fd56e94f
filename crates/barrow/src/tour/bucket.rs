//! The tour's step with a bucket: the small object store of this project, if it is built.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use barrow_run::Error;

/// The program of the store.
const STORE: &str = "barrow-test-stores";

/// A store that runs as long as the step.
pub struct Bucket {
    child: Child,
    /// What a command needs to reach it.
    pub environment: Vec<(&'static str, String)>,
}

impl Bucket {
    /// Starts the store on the demo's files: the bucket `market`. None where it is not built.
    ///
    /// # Errors
    /// It does not start.
    pub fn start(folder: &Path) -> Result<Option<Bucket>, Error> {
        let failed = |e: std::io::Error| Error::failed(format!("the tour's bucket: {e}"));
        let Some(program) = program().filter(|program| program.is_file()) else {
            return Ok(None);
        };
        let files = folder.join("store/market/out");
        fs::create_dir_all(&files).map_err(failed)?;
        for name in ["deliveries-w14.psv", "deliveries-w15.psv"] {
            fs::copy(folder.join(name), files.join(name)).map_err(failed)?;
        }
        let mut child = Command::new(program)
            .arg(folder.join("store"))
            .args(["--port", "0", "--open"])
            .stdout(Stdio::piped())
            .spawn()
            .map_err(failed)?;
        let mut line = String::new();
        if let Some(out) = child.stdout.take() {
            BufReader::new(out).read_line(&mut line).map_err(failed)?;
        }
        let address = line
            .split_whitespace()
            .find(|word| word.starts_with("http"));
        let address = address
            .unwrap_or_default()
            .trim_end_matches('.')
            .to_string();
        Ok(Some(Bucket {
            child,
            environment: vec![
                ("AWS_ENDPOINT_URL", address),
                ("AWS_ALLOW_HTTP", "true".into()),
                ("AWS_SKIP_SIGNATURE", "true".into()),
            ],
        }))
    }
}

impl Drop for Bucket {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The store beside this program.
fn program() -> Option<PathBuf> {
    let own = std::env::current_exe().ok()?;
    let name = format!("{STORE}{}", std::env::consts::EXE_SUFFIX);
    Some(own.with_file_name(name))
}
