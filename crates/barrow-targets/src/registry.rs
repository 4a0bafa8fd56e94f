//! The databases that there are: the one place that names them all.

use crate::dialect::Dialect;
use crate::error::Error;
use crate::foresight::Foresight;
use crate::job::Job;
use crate::place::Place;
use crate::session::Session;
use crate::{mariadb, postgres, sqlite};

/// Opens a database. A file that is missing is made only with the flag.
type Open = fn(&Place, bool) -> Result<Box<dyn Session>, Error>;

/// A kind of database.
#[derive(Debug)]
pub struct Kind {
    /// What its addresses start with.
    pub schemes: &'static [&'static str],
    /// Its name where people choose a kind of database.
    pub word: &'static str,
    /// Its SQL.
    pub dialect: Dialect,
    /// Whether it is a file, and not a server.
    pub is_file: bool,
    /// Opens one. A file that is missing is made only with the flag.
    pub open: Open,
    /// What finds the rows that the tables of one that is still to be made would refuse.
    pub foresight_of_new: fn(&Job) -> Result<Foresight, Error>,
}

/// All kinds of databases.
pub static KINDS: [Kind; 3] = [
    Kind {
        schemes: &["sqlite"],
        word: "sqlite",
        dialect: sqlite::DIALECT,
        is_file: true,
        open: |place, create| match place {
            Place::File(path) => Ok(Box::new(sqlite::Sqlite::open(path, create)?)),
            Place::Server(_) => Err(misplaced()),
        },
        foresight_of_new: |job| sqlite::foresight(job, |_| Ok(None)),
    },
    Kind {
        schemes: &["postgres", "postgresql"],
        word: "postgres",
        dialect: postgres::DIALECT,
        is_file: false,
        open: |place, _| match place {
            Place::Server(server) => Ok(Box::new(postgres::Postgres::open(server)?)),
            Place::File(_) => Err(misplaced()),
        },
        foresight_of_new: |_| Ok(Foresight::default()),
    },
    Kind {
        schemes: &["mysql", "mariadb"],
        word: "mariadb",
        dialect: mariadb::DIALECT,
        is_file: false,
        open: |place, _| match place {
            Place::Server(server) => Ok(Box::new(mariadb::MariaDb::open(server)?)),
            Place::File(_) => Err(misplaced()),
        },
        foresight_of_new: |_| Ok(Foresight::default()),
    },
];

fn misplaced() -> Error {
    Error::new("the address belongs to another kind of database; please report this")
}

/// The SQL of the kind of database that has this word or scheme.
pub fn dialect(word: &str) -> Option<Dialect> {
    let is_it = |kind: &&Kind| kind.word == word || kind.schemes.contains(&word);
    let found = KINDS.iter().find(is_it);
    found.map(|kind| kind.dialect)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_has_schemes_and_a_word_of_its_own() {
        let mut schemes: Vec<&str> = KINDS
            .iter()
            .flat_map(|kind| kind.schemes)
            .copied()
            .collect();
        let mut words: Vec<&str> = KINDS.iter().map(|kind| kind.word).collect();
        for all in [&mut schemes, &mut words] {
            let count = all.len();
            all.sort_unstable();
            all.dedup();
            assert_eq!(all.len(), count);
        }
        assert!(dialect("postgres").is_some() && dialect("oddbase").is_none());
    }
}
