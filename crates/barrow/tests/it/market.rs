//! A folder with a spec, files and a database, and the program run in it.

use std::path::{Path, PathBuf};
use std::process::Command;

use assert_cmd::cargo::CommandCargoExt;
use rusqlite::Connection;
use rusqlite::types::Value;
use serde_json::Value as Json;

/// A temporary folder to work in.
pub struct Market(tempfile::TempDir);

/// What a command said.
pub struct Said {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Said {
    /// The JSON document on standard output.
    pub fn json(&self) -> Json {
        serde_json::from_str(&self.out)
            .unwrap_or_else(|e| panic!("{e}\n{}\n{}", self.out, self.err))
    }
}

impl Market {
    /// A new folder with these files.
    pub fn with(files: &[(&str, &[u8])]) -> Market {
        let market = Market(tempfile::tempdir().expect("a temporary folder"));
        for (name, bytes) in files {
            market.write(name, bytes);
        }
        market
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    pub fn write(&self, name: &str, bytes: &[u8]) {
        let path = self.path(name);
        std::fs::create_dir_all(path.parent().unwrap_or(Path::new("."))).expect("a folder");
        std::fs::write(path, bytes).expect("room for a small file");
    }

    pub fn read(&self, name: &str) -> Vec<u8> {
        std::fs::read(self.path(name)).unwrap_or_else(|e| panic!("{name}: {e}"))
    }

    /// The program with these words as arguments, in the folder.
    pub fn command(&self, words: &str) -> Command {
        let mut command = Command::cargo_bin("barrow").expect("the program is built");
        command
            .args(words.split_whitespace())
            .current_dir(self.0.path());
        command
    }

    /// Runs the program with these words as arguments.
    pub fn run(&self, words: &str) -> Said {
        said(self.command(words))
    }

    /// The folder of the only run that left rejects.
    pub fn rejects(&self) -> String {
        let mut runs = std::fs::read_dir(self.path("rejects")).expect("rejects were kept");
        let run = runs.next().expect("a run").expect("a folder").file_name();
        assert!(runs.next().is_none(), "rejects of one run only");
        format!("rejects/{}", run.to_string_lossy())
    }

    /// Runs SQL in `m.db`.
    pub fn sql(&self, sql: &str) {
        Connection::open(self.path("m.db"))
            .and_then(|c| c.execute_batch(sql))
            .expect(sql);
    }

    /// Every cell of a query on `m.db`, as SQLite stores it.
    pub fn cells(&self, sql: &str) -> Vec<Vec<Value>> {
        let connection = Connection::open(self.path("m.db")).expect("a database");
        let mut statement = connection.prepare(sql).expect(sql);
        let width = statement.column_count();
        let rows = statement.query_map([], |row| (0..width).map(|i| row.get(i)).collect());
        rows.expect(sql).collect::<Result<_, _>>().expect(sql)
    }

    /// The first number of a query on `m.db`.
    pub fn count(&self, sql: &str) -> i64 {
        match self.cells(sql)[0][0] {
            Value::Integer(n) => n,
            ref other => panic!("{sql} gave {other:?}"),
        }
    }
}

/// Runs a command to its end.
pub fn said(mut command: Command) -> Said {
    let output = command.output().expect("the program runs");
    Said {
        code: output.status.code().unwrap_or(-1),
        out: String::from_utf8(output.stdout).expect("UTF-8"),
        err: String::from_utf8(output.stderr).expect("UTF-8"),
    }
}
